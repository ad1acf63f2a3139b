package plan

import (
	"fmt"
	"slices"

	"reshard/internal/core/fault"
	"reshard/internal/core/server"
)

// The answers that a backup is drafted with.
const (
	// MayStop lets a server that cannot hold its writes be stopped for a moment.
	MayStop = "may-stop"
	// ReadWhole has every file read, also one that is known by its size and time.
	ReadWhole = "read-whole"
	// SafetyCopy, with the answer library, has a changeover copy the world that it replaces into the
	// library first.
	SafetyCopy = "safety-copy"
)

// DraftBackup makes the plan that stores worlds of a server as they stand, while people play: one by
// name, or all that have a name there. The world that runs comes last, so that it is the youngest.
func DraftBackup(in Input, only string) (Plan, error) {
	state := in.Fit.Server
	var names []string
	for _, w := range state.Worlds {
		if w.Folder != state.Active && (only == "" && !w.Autosave || w.Folder == only) {
			names = append(names, w.Folder)
		}
	}
	slices.Sort(names)
	standing := slices.ContainsFunc(state.Worlds, func(w server.Present) bool { return w.Folder == state.Active })
	if standing && (only == "" || only == state.Active) {
		names = append(names, state.Active)
	}
	if len(names) == 0 {
		return Plan{}, fault.New(fault.NotFound, "back up", in.Server, "there is no world on it yet").
			With("Bring one there, reshard put WORLD " + in.Server + ", or start it so that it makes one.")
	}
	p := in.begin(Backup)
	p.Folder, p.World = names[len(names)-1], ""
	if len(names) > 1 {
		p.World = fmt.Sprintf("%d worlds of %s", len(names), in.Server)
	}
	for _, name := range names {
		steps, note := in.copySteps(Source{
			Server: in.Server, Worlds: p.Worlds, Running: in.running() && name == state.Active,
			Live: in.Fit.Choices[MayStop] != "yes",
		}, name)
		for i := range steps {
			steps[i].ReadAll = steps[i].Kind == Copy && in.Fit.Choices[ReadWhole] == "yes"
		}
		p.add(steps...)
		if name == state.Active {
			p.Notes = append(p.Notes, note)
		}
	}
	prove := proveStep()
	prove.Say = "Prove that what was stored reads back."
	p.add(prove)
	if !p.LocksOut() {
		p.Window = Window{}
	}
	p.Expect = Expect{
		Folder:  p.Folder,
		Folders: slices.Clone(state.Folders),
		Players: -1,
		Stored:  true,
		State:   in.Fit.Live.State,
	}
	p.NeedBytes = in.Fit.World.Bytes
	return p, nil
}

// WithSafety puts a copy of the world that a plan replaces before everything else, into the library: while
// people play, as a backup takes it.
func (in Input) WithSafety(p Plan) Plan {
	state := in.Fit.Server
	if in.Live != nil {
		state = *in.Live
	}
	if !slices.ContainsFunc(state.Worlds, func(w server.Present) bool { return w.Folder == state.Active }) {
		p.Notes = append(p.Notes, "There is no world to take a safety copy of.")
		return p
	}
	steps, _ := in.copySteps(Source{Server: in.Server, Worlds: state.WorldsFolder, Running: in.running(), Live: true},
		state.Active)
	for i := range steps {
		steps[i].Safety = steps[i].Kind == Copy
	}
	p.Steps = append(steps, p.Steps...)
	p.Notes = append(p.Notes, "“"+state.Active+
		"” is copied into the library first, as a safety copy that no rule removes.")
	return p
}
