package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// What of a backup comes back.
const (
	WorldOnly    = "world"
	SettingsOnly = "settings"
	Everything   = "all"
	SomeFiles    = "files"
)

// DraftSettingsBack makes the plan that brings a backup's settings back, and nothing else.
func DraftSettingsBack(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	state := in.Fit.Server
	if len(in.Recorded) == 0 {
		return Plan{}, fault.New(fault.WrongState, "restore settings of", in.Server,
			"they stand as the backup has them already").
			With("There is nothing to bring back: reshard restore BACKUP brings its world.")
	}
	p := in.begin(Restore)
	p.Folder, p.World = state.Active, in.Fit.World.Title
	p.add(in.sample(state.Active, "Take samples of the world that runs, to compare after the start."))
	in.stop(&p)
	if err := in.writes(&p); err != nil {
		return Plan{}, err
	}
	if in.running() {
		p.finish()
	} else {
		prove := proveStep()
		prove.Say = "Prove that the settings stand as the backup has them."
		p.add(prove)
		p.Window = Window{}
	}
	p.Expect = in.expect(state.Active, slices.Clone(state.Folders))
	p.Expect.State = in.Fit.Live.State
	in.notes(&p)
	p.Notes = append(p.Notes, "The world stays as it is.")
	return p, nil
}

// DraftFilesBack makes the plan that brings some files of a copy back into the world that stands on the
// server. What stands in their places is set aside.
func DraftFilesBack(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	state, profile := in.Fit.Server, in.Fit.Profile
	if profile.World.Shape != game.ShapeFolder {
		return Plan{}, fault.New(fault.Unsupported, "restore files on", in.Server,
			"a world of this game is no folder of files").
			With("Bring the whole world back: leave --files out.")
	}
	folder := in.Sheet.Folder
	p := in.begin(Restore)
	p.Folder, p.Copy = folder, in.Copy
	staged := path.Join(in.Work, "staged")
	p.add(Step{
		Kind: Stage, Say: "Write the files beside the live world and verify each.",
		StageStep: StageStep{
			Copy: in.Copy, Only: in.Only, Files: len(in.Only), Bytes: in.Fit.World.Bytes,
			Routes: []Route{{To: path.Join(staged, folder)}},
		},
	})
	if folder == state.Active {
		in.stop(&p)
	}
	live := path.Join(p.Worlds, folder)
	standing := in.Fit.World.Members // what of them stands there
	for _, file := range in.Only {
		if slices.Contains(standing, file) {
			aside := path.Join(in.Work, "aside", folder, file)
			p.add(Step{
				Kind: Move, Switch: true, Say: "Set " + file + " aside.",
				MoveStep: MoveStep{From: path.Join(live, file), To: aside},
			})
			p.SetAside = append(p.SetAside, path.Join(folder, file))
		}
		p.add(Step{
			Kind: Move, Switch: true, Say: "Place " + file + " of the backup.",
			MoveStep: MoveStep{From: path.Join(staged, folder, file), To: path.Join(live, file)},
		})
	}
	running := in.running() && folder == state.Active
	if running {
		p.finish()
	} else {
		prove := proveStep()
		prove.Say = "Prove that the files stand there."
		p.add(prove)
		p.Window = Window{}
	}
	p.Expect = in.expect(state.Active, slices.Clone(state.Folders))
	p.Expect.State, p.Expect.Seed, p.Expect.WorldID = in.Fit.Live.State, "", ""
	for _, file := range in.Only {
		p.Expect.There = append(p.Expect.There, path.Join(live, file))
	}
	in.notes(&p)
	p.Notes = append(p.Notes, fmt.Sprintf(
		"Only %s: %s. Parts of a world that belong together may no longer agree: look at "+
			"the world when it runs.", files(len(in.Only)), listed(in.Only)))
	return p, nil
}

func files(n int) string {
	if n == 1 {
		return "1 file comes back"
	}
	return fmt.Sprintf("%d files come back", n)
}

func listed(names []string) string {
	if len(names) > 5 {
		return strings.Join(names[:5], ", ") + " and others"
	}
	return strings.Join(names, ", ")
}
