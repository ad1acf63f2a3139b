package plan

import (
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/settings"
)

// writes makes the settings writes that the fit input asks for, a step a file.
func (in Input) writes(p *Plan) error {
	wants := map[string][]fit.Want{}
	for _, w := range in.Fit.Wants() {
		wants[w.File] = append(wants[w.File], w)
	}
	for _, file := range slices.Sorted(maps.Keys(wants)) {
		var edits []Edit
		for _, w := range wants[file] {
			edits = append(edits, Edit{Key: w.Key, Value: w.To, Was: w.Value, WasSet: w.Found})
		}
		step, diff, err := WriteStep(in.Tree, file, in.Fit.Profile.Server.Settings[wants[file][0].In].Syntax(), edits,
			in.Work)
		if err != nil {
			return err
		}
		p.Diffs = append(p.Diffs, diff)
		p.Steps = append(p.Steps, step)
	}
	return nil
}

// Unwritable tries the writes that a plan would make, and says which cannot be.
func Unwritable(tree fs.FS, in fit.Input) []string {
	var out []string
	for _, w := range in.Wants() {
		edits := []Edit{{Key: w.Key, Value: w.To, Was: w.Value, WasSet: w.Found}}
		if _, err := fs.Stat(tree, w.File); errors.Is(err, fs.ErrNotExist) {
			continue // the sheet tells of missing files in its own words
		}
		if _, _, err := WriteStep(tree, w.File, in.Profile.Server.Settings[w.In].Syntax(), edits, "."); err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

// WriteStep makes the step that edits one settings file, and shows it as a diff.
func WriteStep(tree fs.FS, file string, syntax settings.Syntax, edits []Edit, work string) (Step, Diff, error) {
	data, err := fs.ReadFile(tree, file)
	if err != nil {
		return Step{}, Diff{}, fault.Wrap(fault.BadSettings, "read settings", file, err)
	}
	after, err := Apply(file, syntax, data, edits)
	if err != nil {
		return Step{}, Diff{}, err
	}
	before, err := settings.Parse(file, syntax, data)
	if err != nil {
		return Step{}, Diff{}, err
	}
	changed, err := settings.Parse(file, syntax, after)
	if err != nil {
		return Step{}, Diff{}, err
	}
	keys := make([]string, 0, len(edits))
	for _, e := range edits {
		keys = append(keys, e.Key+"="+e.Value)
	}
	return Step{
		Kind: Write, Switch: true, File: file, Syntax: syntax, Edits: edits,
		Keep: path.Join(work, "settings", file),
		Say:  "Write " + strings.Join(keys, " and ") + " into " + file + "; every other byte stays.",
	}, Diff{File: file, Text: settings.Diff(file, []byte(before.Text()), []byte(changed.Text()))}, nil
}

// Apply makes edits in a settings file's bytes.
func Apply(file string, syntax settings.Syntax, data []byte, edits []Edit) ([]byte, error) {
	doc, err := settings.Parse(file, syntax, data)
	if err != nil {
		return nil, err
	}
	for _, e := range edits {
		if doc, err = doc.Set(e.Key, e.Value); err != nil {
			return nil, err
		}
	}
	return doc.Bytes(), nil
}
