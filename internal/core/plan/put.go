package plan

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"reshard/internal/core/fit"
	"reshard/internal/core/game"
)

// DraftPut makes the plan that brings a world from elsewhere onto a server: a put, a
// restore or a clone.
func DraftPut(in Input) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	folder := in.Sheet.Folder
	p := in.begin(in.Kind)
	p.NeedBytes, p.Copy = in.Fit.World.Bytes, in.Copy
	if in.Source != nil {
		p.From = in.Source.Server
		steps, note := in.copySteps(*in.Source, in.Fit.World.Folder)
		p.add(steps...)
		p.Notes = append(p.Notes, note)
	}
	staged := path.Join(in.Work, "staged")
	stage, names := in.stage(staged)
	sample := Step{
		Kind:  Sample,
		Dir:   path.Join(staged, folder),
		World: folder,
		Say:   "Take samples of the staged files, to compare after the start.",
	}
	if len(in.Fit.World.Members) > 0 {
		sample.Dir, sample.Names = staged, names
	}
	p.add(stage)
	if title := in.Fit.Choices["title"]; title != "" && title != in.Fit.World.Title {
		p.add(Step{
			Kind:        Retitle,
			Dir:         staged,
			World:       folder,
			Say:         "Write the title “" + title + "” into the staged world.",
			RetitleStep: RetitleStep{Title: title},
		})
		p.World = title
	}
	p.add(sample)
	p.add(in.waits()...)
	if in.Fit.Purpose == fit.ForBeside {
		in.placeBeside(&p, names, staged)
		return p, nil
	}
	in.stop(&p)
	leave := taken(in.Fit.Server, in.Fit.Profile, folder, in.Fit.Server.Active)
	in.setAside(&p, leave, "")
	p.add(placing(in.Fit.Profile, names, staged, p.Worlds)...)
	if err := in.writes(&p); err != nil {
		return Plan{}, err
	}
	p.finish()
	p.Expect = in.expect(folder, in.left(leave, folder))
	p.Expect.Players = in.players()
	p.Expect.Title = p.World
	if len(leave) == 0 {
		p.Notes = append(p.Notes, "The server has no world of the active name: nothing is set aside.")
	}
	in.notes(&p)
	in.worldNotes(&p)
	return p, nil
}

// stage is the step that writes the copy beside the live world, and the names that
// then stand in the staging folder. Realms go where the server's kind looks for them,
// and the files of a world that is files get its new name.
func (in Input) stage(staged string) (Step, []string) {
	profile, w, folder := in.Fit.Profile, in.Fit.World, in.Sheet.Folder
	step := Step{
		Kind:      Stage,
		Say:       "Write the world's files beside the live world and verify each.",
		StageStep: StageStep{Copy: in.Copy, Skip: in.Fit.Left(), Files: w.Files, Bytes: w.Bytes},
	}
	if fit.ComparedBySample(in.Fit.Choices["comparison"], in.Fit.Live.Can) {
		step.BySample = true
		step.Say = "Write the world's files beside the live world, and compare a sample."
	}
	var names []string
	add := func(part, under, to string) {
		step.Routes = append(step.Routes, Route{Part: part, Under: under, To: path.Join(staged, to)})
		if !strings.Contains(to, "/") {
			names = append(names, to)
		}
	}
	if len(w.Members) > 0 {
		step.Routes = []Route{{To: staged}}
		step.World, step.As = w.Folder, folder
		for _, file := range w.Members {
			names = append(names, profile.World.Renamed(file, w.Folder, folder))
		}
		sort.Strings(names)
		return step, names
	}
	add("", "", folder)
	for _, name := range w.Realms {
		realm := profile.World.Realms[name]
		beside := slices.Contains(in.Parts, name)
		switch {
		case beside && in.Fit.Server.Realms == "split":
			add(name, "", realm.SplitFor(folder))
		case beside:
			add(name, "", folder+"/"+realm.Nested)
		case in.Fit.Server.Realms == "split":
			add("", realm.Nested, realm.SplitFor(folder))
		}
	}
	sort.Strings(names)
	return step, names
}

// waits are the steps in which a person has something to do before the switch.
func (in Input) waits() []Step {
	var out []Step
	for _, row := range in.Sheet.Rows {
		if row.Chosen == fit.Awaited {
			out = append(out, Step{
				Kind:     Wait,
				Say:      "Wait until this is done: " + strings.Join(row.Todo, " ") + " Reshard sees it by itself.",
				WaitStep: WaitStep{Until: row.Concern},
			})
		}
	}
	if in.Fit.Choices["switch"] == "when-told" {
		out = append(out, Step{
			Kind:     Wait,
			Say:      "Wait for a person's word before the switch: all is staged, and people still play.",
			WaitStep: WaitStep{Until: Word},
		})
	}
	return out
}

// placeBeside places a world that does not become the active one: nobody is locked out.
func (in Input) placeBeside(p *Plan, names []string, staged string) {
	p.add(placing(in.Fit.Profile, names, staged, p.Worlds)...)
	prove := proveStep()
	prove.Say = "Prove that the world stands there whole, and that the server goes on as before."
	p.add(prove)
	p.Window = Window{}
	active := in.Fit.Server.Active
	p.Expect = in.expect(active, in.left(nil, names...))
	p.Expect.Placed, p.Expect.State, p.Expect.Seed, p.Expect.WorldID = in.Sheet.Folder, in.Fit.Live.State, "", ""
	p.Notes = append(p.Notes, "Nobody is locked out, and "+orNo(active)+" stays the active world. reshard switch "+
		in.Server+" "+in.Sheet.Folder+" goes over to the new one.")
	in.worldNotes(p)
}

func orNo(name string) string {
	if name == "" {
		return "what is set"
	}
	return "“" + name + "”"
}

func placing(profile *game.Profile, names []string, staged, worlds string) []Step {
	placed := moves(profile, names, staged, worlds)
	for i := range placed {
		placed[i].Say = "Place " + placed[i].target() + "."
	}
	return placed
}

// players is how many records there must be afterwards.
func (in Input) players() int {
	if in.Fit.Profile.World.Players == nil || in.Fit.Choices["players"] == "strip" {
		return -1
	}
	return in.Fit.World.PlayerTotal()
}

func (in Input) worldNotes(p *Plan) {
	if n := len(in.Fit.World.Players); n > 0 && in.Fit.Choices["players"] != "strip" {
		p.Notes = append(p.Notes, fmt.Sprintf("The world brings its %d player records with it as they are.", n))
	}
	if left := in.Fit.Left(); len(left) > 0 {
		p.Notes = append(p.Notes, "Left behind, and kept in the library's copy: "+strings.Join(left, ", ")+".")
	}
}
