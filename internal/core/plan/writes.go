package plan

import (
	"cmp"
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
	for file := range in.Recorded {
		wants[file] = append([]fit.Want{}, wants[file]...)
	}
	for _, file := range slices.Sorted(maps.Keys(wants)) {
		var edits []Edit
		for _, w := range wants[file] {
			e := Edit{Key: w.Key, Value: w.To, Was: w.Value, WasSet: w.Found, Keeps: w.Keeps}
			if w.World {
				e.World = cmp.Or(w.Writes, "name")
			}
			edits = append(edits, e)
		}
		syntax := in.syntax(file)
		if len(wants[file]) > 0 {
			syntax = in.Fit.Profile.Server.Settings[wants[file][0].In].Syntax()
		}
		step, diff, err := in.write(file, syntax, edits)
		if err != nil {
			return err
		}
		p.Diffs = append(p.Diffs, diff)
		p.Steps = append(p.Steps, step)
	}
	return nil
}

// syntax is how a settings file is written.
func (in Input) syntax(file string) settings.Syntax {
	for _, d := range in.Fit.Server.Settings {
		if d.File == file {
			return in.Fit.Profile.Server.Settings[d.Name].Syntax()
		}
	}
	return settings.Syntax{}
}

// write makes the step that writes a settings file: as a backup has it, or as it stands, with edits.
func (in Input) write(file string, syntax settings.Syntax, edits []Edit) (Step, Diff, error) {
	recorded, whole := in.Recorded[file]
	if !whole {
		return in.Documents.write(file, syntax, edits, in.Work)
	}
	step, _, err := in.Recorded.write(file, syntax, edits, in.Work)
	if err != nil {
		return step, Diff{}, err
	}
	change := settings.Change{Before: in.Documents[file], After: recorded}
	for _, e := range edits {
		if change, err = change.Set(e.Key, e.Value); err != nil {
			return step, Diff{}, err
		}
	}
	step.Record = in.Record
	step.Say = "Write " + file + " as the backup has it."
	if len(edits) > 0 {
		step.Say = "Write " + file + " as the backup has it, with what this world needs."
	}
	return step, Diff{File: file, Text: change.Diff()}, nil
}

// Documents are a server's settings documents, by file, as they were read.
type Documents map[string]*settings.Document

// Unwritable tries the writes that a plan would make, and says which cannot be. Documents
// that do not read are left out: the sheet tells of them in its own words. closed says of files
// why their hosts do not let them be replaced.
func (d Documents) Unwritable(in fit.Input, closed map[string]string) []string {
	var out []string
	for _, w := range in.Wants() {
		if why, ok := closed[w.File]; ok {
			if !slices.Contains(out, why) {
				out = append(out, why)
			}
			continue
		}
		if doc, read := d[w.File]; read {
			if _, err := doc.Begin().Set(w.Key, w.To); err != nil {
				out = append(out, err.Error())
			}
		}
	}
	return out
}

// write makes the step that edits one settings file, and shows it as a diff.
func (d Documents) write(file string, syntax settings.Syntax, edits []Edit, work string) (Step, Diff, error) {
	doc, read := d[file]
	if !read {
		return Step{}, Diff{}, fault.New(fault.BadSettings, "read settings", file, "it is not there, or does not read")
	}
	change, keys := doc.Begin(), make([]string, 0, len(edits))
	for _, e := range edits {
		var err error
		if change, err = change.Set(e.Key, e.Value); err != nil {
			return Step{}, Diff{}, err
		}
		keys = append(keys, e.Key+"="+e.Value)
	}
	return Step{
		Kind:      Write,
		Switch:    true,
		Say:       "Write " + strings.Join(keys, " and ") + " into " + file + "; every other byte stays.",
		WriteStep: WriteStep{File: file, Syntax: syntax, Edits: edits, Keep: path.Join(work, "settings", file)},
	}, Diff{File: file, Text: change.Diff()}, nil
}

// Apply makes edits in a settings file's bytes.
func Apply(file string, syntax settings.Syntax, data []byte, edits []Edit) ([]byte, error) {
	doc, err := settings.Parse(file, syntax, data)
	if err != nil {
		return nil, err
	}
	change := doc.Begin()
	for _, e := range edits {
		if change, err = change.Set(e.Key, e.Value); err != nil {
			return nil, err
		}
	}
	return change.After.Bytes(), nil
}
