package game

import (
	"image/color"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"
)

// KindNames lists the software kinds in order.
func (p *Profile) KindNames() []string {
	names := make([]string, 0, len(p.Server.Kinds))
	for k := range p.Server.Kinds {
		names = append(names, k)
	}
	sort.Strings(names)
	return names
}

// RealmNames lists the realms in order.
func (p *Profile) RealmNames() []string {
	names := make([]string, 0, len(p.World.Realms))
	for k := range p.World.Realms {
		names = append(names, k)
	}
	sort.Strings(names)
	return names
}

// BadRunes gives the characters of a folder name that the game does not
// allow, each once, in order; empty when the name may be used.
func (f FolderName) BadRunes(name string) []rune {
	var bad []rune
	for _, r := range name {
		ok := r != '/' && r != 0 && r != utf8.RuneError
		if ok && f.allowed != nil {
			ok = f.allowed.re.MatchString(string(r))
		}
		if !ok && !strings.ContainsRune(string(bad), r) {
			bad = append(bad, r)
		}
	}
	return bad
}

// Follows reports whether a name follows the whole pattern, if there is one.
func (f FolderName) Follows(name string) bool { return f.whole == nil || f.whole.re.MatchString(name) }

// Usable reports whether the game takes a name.
func (f FolderName) Usable(name string) bool {
	return len(f.BadRunes(name)) == 0 && !f.TooLong(name) && f.Follows(name)
}

// TooLong reports whether a folder name is longer than the game, or any
// common file system (255 bytes), allows.
func (f FolderName) TooLong(name string) bool {
	return len(name) > 255 || (f.Longest > 0 && utf8.RuneCountInString(name) > f.Longest)
}

// Safe proposes a folder name that the game allows, as near to the given one as
// it can be: runs of characters that are not allowed become one hyphen (or
// underscore, or nothing, whichever is allowed), blanks at the ends go, and
// the length is cut. It is only ever a proposal: a person decides.
func (f FolderName) Safe(name string) string {
	filler := ""
	for _, c := range []string{"-", "_"} {
		if len(f.BadRunes(c)) == 0 {
			filler = c
			break
		}
	}
	var b strings.Builder
	gap := false
	for _, r := range strings.TrimSpace(name) {
		if len(f.BadRunes(string(r))) > 0 {
			gap = true
			continue
		}
		if gap && b.Len() > 0 {
			b.WriteString(filler)
		}
		gap = false
		b.WriteRune(r)
	}
	out := strings.Trim(b.String(), " .")
	for f.TooLong(out) {
		_, size := utf8.DecodeLastRuneInString(out)
		out = out[:len(out)-size]
	}
	out = strings.TrimRight(out, " .")
	if out == "" {
		return "world"
	}
	return out
}

// FileName gives a name's file for the first of the world's file patterns; for
// worlds that are folders the name itself.
func (w WorldFormat) FileName(name string) string {
	if w.Shape == ShapeFolder || len(w.Files) == 0 {
		return name
	}
	return strings.ReplaceAll(w.Files[0], "{name}", name)
}

// Autosave reports whether a name in the worlds folder is one that the game writes by itself.
func (w WorldFormat) Autosave(name string) bool {
	return slices.ContainsFunc(w.Autosaves, func(pattern string) bool {
		match, err := path.Match(pattern, name)
		return err == nil && match
	})
}

// NameOf gives the world's name that a file's name holds, with the pattern it
// follows; ok is false when it follows none.
func (w WorldFormat) NameOf(file string) (name string, pattern int, ok bool) {
	for i, p := range w.Files {
		before, after, _ := strings.Cut(p, "{name}")
		rest, found := strings.CutPrefix(file, before)
		if !found {
			continue
		}
		if !strings.Contains(after, "*") {
			if name, found = strings.CutSuffix(rest, after); found && name != "" {
				return name, i, true
			}
			continue
		}
		// The shortest name wins: what * stands for may hold what stands around it.
		for at := 1; at < len(rest); at++ {
			if match, err := path.Match(after, rest[at:]); err == nil && match {
				return rest[:at], i, true
			}
		}
	}
	return "", 0, false
}

// Renamed gives the name of a world's file once the world is called otherwise.
func (w WorldFormat) Renamed(file, name, to string) string {
	before, _, _ := strings.Cut(w.Files[w.patternOf(file)], "{name}")
	return before + to + strings.TrimPrefix(strings.TrimPrefix(file, before), name)
}

func (w WorldFormat) patternOf(file string) int {
	_, i, _ := w.NameOf(file)
	return i
}

// NeverCarried lists the patterns of files that stay behind: locks and others.
func (w WorldFormat) NeverCarried() []string {
	return append(append([]string{}, w.LeaveBehind...), w.Locks...)
}

// Of gives a byte's colour.
func (c Colours) Of(value byte) color.RGBA {
	if len(c.Palette) == 0 {
		return color.RGBA{value, value, value, 255}
	}
	rgb, err := strconv.ParseUint(strings.TrimPrefix(c.Palette[int(value)%len(c.Palette)], "#"), 16, 32)
	if err != nil {
		return color.RGBA{A: 255} // Lint has refused such a palette
	}
	return color.RGBA{uint8(rgb >> 16), uint8(rgb >> 8), uint8(rgb), 255}
}

// Stores gives the places of a system where a person's computer keeps worlds, with
// variables filled in; a * or {account} stays as *. A variable that is not set
// leaves its place out.
func (p *Profile) Stores(system, home string, variable func(string) string) []string {
	var out []string
	for _, text := range p.Store[system] {
		missing := false
		filled := storeVariable.ReplaceAllStringFunc(text, func(v string) string {
			value := variable(strings.Trim(v, "%${}"))
			missing = missing || value == ""
			return strings.ReplaceAll(value, `\`, "/")
		})
		if rest, ok := strings.CutPrefix(filled, "~/"); ok {
			missing = missing || home == ""
			filled = path.Join(strings.ReplaceAll(home, `\`, "/"), rest)
		}
		if !missing {
			out = append(out, strings.ReplaceAll(filled, "{account}", "*"))
		}
	}
	return out
}

var storeVariable = regexp.MustCompile(`%[A-Za-z_][A-Za-z0-9_]*%|\$\{?[A-Z_][A-Z0-9_]*\}?`)
