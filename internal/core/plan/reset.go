package plan

import (
	"cmp"
	"maps"
	"path"
	"slices"

	"reshard/internal/core/server"
)

// DraftReset makes the plan that lets a server make a new world: under the old one's
// name, which is set aside, or under another, and the old one stays where it is. The
// seed is written before the start.
func DraftReset(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	folder, state, profile := in.Sheet.Folder, in.Fit.Server, in.Fit.Profile
	p := in.begin(Reset)
	p.World = ""
	_, there := state.World(state.Active)
	if there {
		old := in.sample(state.Active, "Take samples of the old world, to show that the ground is new.")
		old.Old = true
		p.add(old)
	}
	in.stop(&p)
	leave := taken(state, profile, folder) // of another name only what lies about
	in.setAside(&p, leave, "")
	if err := in.writes(&p); err != nil {
		return Plan{}, err
	}
	p.add(startStep())
	own := profile.Server.NewWorld.Named == "own"
	if own {
		in.adopt(&p)
	}
	if profile.Server.NewWorld.Save.Say != "" {
		p.add(Step{
			Kind:     Tell,
			World:    folder,
			Say:      "Have the server write the new world under the name " + folder + ".",
			TellStep: TellStep{Tell: "save"},
		})
	}
	prove := proveStep()
	prove.Say = "Prove that a new world runs: its seed, and that its ground is new."
	p.add(prove)
	seed, number, _, err := in.Fit.NewSeed()
	if err != nil {
		return Plan{}, err
	}
	old := in.Fit.World
	p.Expect = Expect{
		Folder: folder, Opened: openedForms(in.Fit.Live.Roots, p.Worlds, folder, profile), Folders: in.left(leave),
		Players: -1,
		Fresh:   true, Own: own, OldSeed: old.Fact("seed").Text, OldID: old.Fact("world-id").Text,
	}
	if number {
		p.Expect.Seed = seed
	} else {
		p.Expect.SeedText = seed
	}
	if there && folder != state.Active {
		p.Notes = append(p.Notes, "“"+state.Active+"” stays where it is. reshard switch "+
			in.Server+" "+state.Active+
			" goes back to it.")
	}
	in.notes(&p)
	return p, nil
}

// adopt writes the name that the server has found for its new world into every place
// that names the active one, so that the next start opens it.
func (in Input) adopt(p *Plan) {
	byFile := map[string][]server.Given{}
	for _, g := range in.Fit.Naming() {
		byFile[g.File] = append(byFile[g.File], g)
	}
	for _, file := range slices.Sorted(maps.Keys(byFile)) {
		step := Step{
			Kind: Write,
			Say:  "Write the new world's name into " + file + ", as the server tells it.",
			WriteStep: WriteStep{
				File:   file,
				Syntax: in.Fit.Profile.Server.Settings[byFile[file][0].In].Syntax(),
				Keep:   path.Join(in.Work, "settings-adopted", file),
			},
		}
		for _, g := range byFile[file] {
			was := server.ValueFor(g, p.Worlds, p.Folder, in.Fit.Profile)
			step.Edits = append(step.Edits, Edit{
				Key: g.Key, Was: was, WasSet: true, Opened: g.Writes, World: cmp.Or(g.Writes, "name"),
			})
		}
		p.add(step)
	}
}
