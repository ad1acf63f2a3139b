package plan

import (
	"slices"
	"strings"
)

// Holds reports whether what stands in a working folder is what this plan's steps put there: every name in it has a
// step that was begun. names are paths from the folder, to two levels.
func (p Plan) Holds(names []string, steps []StepState) bool {
	var put []string // names that steps put there
	staged, switched, moved := false, false, false
	below := func(name string) {
		if rest, ok := strings.CutPrefix(name, p.Work+"/"); ok {
			put = append(put, rest)
		}
	}
	for n, s := range p.Steps {
		if n >= len(steps) || steps[n] == StepPlanned {
			continue
		}
		switched = switched || s.Switch
		if steps[n] == StepUndone && s.Kind == Move {
			moved = true
			continue // it went back to where it had been
		}
		staged = staged || s.Kind == Stage
		moved = moved || s.Kind == Move
		below(s.From)
		below(s.To)
		below(s.Keep)
	}
	for _, name := range names {
		part, _, inside := strings.Cut(name, "/")
		ok := false
		switch {
		case part == MarkFile, part == "reserve", !inside && (part == "aside" || part == "settings"):
			ok = true // a stage makes the folders of what may come
		case part == "staged":
			ok = staged
		case part == "failed":
			ok = staged && switched
		case part == "strays", part == "before-start":
			ok = switched
		case strings.HasPrefix(part, "moving-"), strings.HasPrefix(part, "renamed-"):
			ok = moved
		}
		if !ok && !slices.ContainsFunc(put, func(by string) bool { return cameBy(name, by) }) {
			return false
		}
	}
	return true
}

// cameBy reports whether a name is one that a step has put somewhere, above it or below it, or what was kept beside it
// on the way back.
func cameBy(name, put string) bool {
	return name == put || strings.HasPrefix(put, name+"/") || strings.HasPrefix(name, put+"/") ||
		strings.HasPrefix(name, put+".taken-back")
}
