package plan

import (
	"slices"

	"reshard/internal/core/life"
)

// copySteps make a copy of a server's world in the library. A game that can hold its
// writes, or writes only when it is told to, goes on running; of another most is
// copied while people play, and the rest in a short stop.
func (in Input) copySteps(src Source, world string) (steps []Step, note string) {
	own := src.Server == in.Server
	of := src.Server
	if own {
		of = ""
	}
	console := in.Fit.Profile.Server.Console
	tell := func(what, say string) Step {
		return Step{Kind: Tell, World: world, Server: of, Say: say, TellStep: TellStep{Tell: what}}
	}
	pass := Step{
		Kind:     Copy,
		Server:   of,
		Dir:      src.Worlds,
		World:    world,
		Say:      "Copy what stands still into the library while people play.",
		CopyStep: CopyStep{Pass: true},
	}
	last := Step{
		Kind:   Copy,
		Server: of,
		Dir:    src.Worlds,
		World:  world,
		Say:    "Copy the world of " + src.Server + " into the library, whole and verified.",
	}
	switch {
	case !src.Running:
		last.Wholeness = WholeStopped
		return []Step{last}, world + " on " + src.Server + " does not run: it is copied as it stands."
	case console.Hold.Say != "":
		last.Wholeness = WholeHeld
		steps = []Step{pass, tell("hold", "Have "+src.Server+" hold its writes. People go on playing.")}
		if console.Flush.Say != "" {
			steps = append(steps, tell("flush", "Have "+src.Server+" write all that it has in memory."))
		}
		return append(steps, last, tell("release",
				"Let "+src.Server+" write again.")), src.Server +
				" goes on running: its writes are held while the last of the world is copied."
	case console.Quiet:
		last.Wholeness = WholeSaved
		return []Step{
			tell("flush", "Have "+src.Server+" save."),
			last,
		}, src.Server + " goes on running: it writes its world only when it is told to."
	}
	if src.Live {
		return []Step{pass, last}, src.Server +
			" goes on running and cannot hold its writes: it is copied until two looks at it agree."
	}
	stop := stopSteps(in.Fit.Profile, world)
	start := startStep()
	start.Again = true
	start.Say = "Start " + src.Server + " again."
	stop[len(stop)-1].Say = "Stop " + src.Server + " cleanly for the last of it."
	start.Server = of
	for i := range stop {
		stop[i].Server, stop[i].Switch = of, own
	}
	start.Switch = own
	last.Switch, last.Wholeness = own, WholeStopped
	return slices.Concat([]Step{
			pass,
		}, stop, []Step{last, start}), src.Server +
			" cannot hold its writes: it is stopped for a moment, after most has been copied."
}

// DraftTakeAway makes the plan that brings a server's world into the library, to be
// taken from there as a folder or an archive.
func DraftTakeAway(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	state, name := in.Fit.Server, in.Fit.World.Folder
	p := in.begin(TakeAway)
	p.Folder = name
	from := Source{Server: in.Server, Worlds: p.Worlds, Running: in.running() && name == state.Active}
	if in.Aside != "" { // nobody plays there
		from.Worlds, from.Running = in.Aside, false
	}
	steps, note := in.copySteps(from, name)
	if in.Aside != "" {
		note = name + " was set aside in " + in.Aside + ": nobody plays there, and it is copied as it is."
	}
	p.add(steps...)
	prove := proveStep()
	prove.Say = "Prove that the copy reads back, and that the server goes on as before."
	p.add(prove)
	if !p.LocksOut() {
		p.Window = Window{}
	}
	p.Expect = in.expect(state.Active, slices.Clone(state.Folders))
	p.Expect.Title, p.Expect.Seed, p.Expect.WorldID, p.Expect.State = "", "", "", in.Fit.Live.State
	p.NeedBytes = in.Fit.World.Bytes
	p.Notes = append(p.Notes, note, "Nothing changes on the server. The copy stays in the library.")
	return p, nil
}

// FromAside reports whether a plan takes a world away that was set aside: it is not the one that has its name in the
// worlds folder.
func (p Plan) FromAside() bool {
	return slices.ContainsFunc(p.Steps, func(s Step) bool {
		return s.Kind == Copy && s.Server == "" && s.Dir != p.Worlds
	})
}

// DraftFirstStart makes the plan that starts a server which has never run, and stops
// it again, so that the files are there which only it makes.
func DraftFirstStart(in Input, then Wish) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	p := in.begin(FirstStart)
	p.World, p.Folder = "", in.Fit.Server.Active
	stop := Step{Kind: Stop, Switch: true, Say: "Stop it again."}
	prove := proveStep()
	prove.Say = "Prove that what a first start makes is there."
	start := startStep()
	start.Say = "Start the server for the first time and wait until it is ready."
	p.add(start, stop, prove)
	p.Expect = Expect{
		Folders: slices.Clone(in.Fit.Server.Folders),
		Players: -1,
		State:   life.Stopped,
		There:   slices.Clone(in.Fit.Server.NotYet),
	}
	p.Then = &then
	p.Notes = append(p.Notes, "What the server makes for itself stays there. After it the fit is looked at again.")
	return p, nil
}
