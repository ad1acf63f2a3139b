package plan

import (
	"slices"

	"reshard/internal/core/fit"
	"reshard/internal/core/game"
)

// DraftSwitch makes the plan that makes another world of the server its active one.
// Where the server always opens one name, the worlds exchange their names.
func DraftSwitch(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	state, name := in.Fit.Server, in.Fit.World.Folder
	p := in.begin(Switch)
	active := state.Keys[game.KeyActiveWorld]
	if !active.Fixed {
		p.add(in.sample(name, "Take samples of the world, to compare afterwards."))
		if err := in.goOver(&p, name); err != nil {
			return Plan{}, err
		}
		p.Expect = in.expect(name, slices.Clone(state.Folders))
	} else {
		in.stop(&p)
		free := fit.FreeName(in.Fit, p.Folder)
		swap := append(in.renames(p.Folder, free), in.renames(name, p.Folder)...)
		for i := range swap {
			swap[i].Say = "Rename " + swap[i].what() + " to " + swap[i].target() + "."
		}
		p.add(swap...)
		sample := in.sample(p.Folder, "Take samples of the world, to compare after the start.")
		sample.Switch = true
		p.add(sample)
		if err := in.writes(&p); err != nil {
			return Plan{}, err
		}
		p.finish()
		p.Expect = in.expect(p.Folder, append(in.left(taken(state, in.Fit.Profile, name)), free, p.Folder))
	}
	p.Notes = append(p.Notes, "“"+state.Active+"” stays on the server. Nothing is set aside.")
	in.notes(&p)
	return p, nil
}

// DraftRename makes the plan that gives the active world another name on disk, with
// its realms and with every setting that names it.
func DraftRename(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	state, from, to := in.Fit.Server, in.Fit.World.Folder, in.Sheet.Folder
	p := in.begin(Rename)
	in.stop(&p)
	// A server may write as it stops, so the samples are taken after that.
	sample := in.sample(from, "Take samples of the world, to compare after the start.")
	sample.Switch, sample.As = true, to
	p.add(sample)
	in.setAside(&p, taken(state, in.Fit.Profile, to), ": it would mix with the world of that name")
	renames := in.renames(from, to)
	for i := range renames {
		renames[i].Say = "Rename " + renames[i].what() + " to " + renames[i].target() + "."
	}
	p.add(renames...)
	if err := in.writes(&p); err != nil {
		return Plan{}, err
	}
	p.finish()
	p.Expect = in.expect(to, in.left(taken(state, in.Fit.Profile, from), to))
	in.notes(&p)
	return p, nil
}
