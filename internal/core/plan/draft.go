package plan

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
)

// oursEstimate is what the switch itself takes, from the benchmark in
// docs/operations.md: a few renames, journal writes and one settings write.
const oursEstimate = 50

// Input is what a changeover is drafted from. All drafts are pure: they read and
// change nothing. Their error has code Blocked or NeedsChoice when the sheet is not
// settled.
type Input struct {
	Fit    fit.Input // profile, server, choices, and the world that the changeover is about
	Sheet  fit.Sheet
	Kind   string // put, restore or clone, which have one draft
	Server string // the server's name
	Work   string
	// Documents are the server's settings documents.
	Documents Documents
	Window    Window

	// Copy is the copy that is placed, Parts its parts: "" and the realms that stand
	// beside the world.
	Copy  string
	Parts []string
	// Source is the server that a clone is taken from.
	Source *Source
	// Aside is the folder of what was set aside that a world is taken away from; "": it stands in the worlds folder.
	Aside string
	// Record is a backup's record in the vault, Recorded its settings documents that come back with it;
	// Fit.Server is then what the server would be with them, and Live what it is.
	Record   string
	Recorded Documents
	Live     *server.State
	// Only are the files, by their paths in the world, that alone come back.
	Only []string
}

// Source is a server whose world is copied.
type Source struct {
	Server  string // its name
	Worlds  string // its worlds folder
	Running bool
	// Live: it is never stopped to be copied.
	Live bool
}

func (in Input) begin(kind string) Plan {
	state := in.Fit.Server
	p := Plan{
		Kind: kind, Server: in.Server, World: in.Fit.World.Title, Folder: in.Sheet.Folder, Worlds: state.WorldsFolder,
		Work:   in.Work,
		Window: in.Window, Stands: state.Stands(), SetAside: []string{}, Notes: []string{}, Diffs: []Diff{},
		Choices: in.Fit.Choices,
	}
	if in.Live != nil {
		p.Stands = in.Live.Stands()
	}
	p.Window.Ours = oursEstimate + 2*in.Fit.Live.Renaming(in.Fit.World.Files).Milliseconds()
	p.Version, _ = in.Fit.ServerVersion()
	return p
}

func (in Input) running() bool { return in.Fit.Live.State == life.Running }

func (p *Plan) add(steps ...Step) { p.Steps = append(p.Steps, steps...) }

// stop adds the steps with which the stop window begins.
func (in Input) stop(p *Plan) {
	if in.running() {
		p.add(stopSteps(in.Fit.Profile, in.Fit.Server.Active)...)
	}
}

func stopSteps(profile *game.Profile, active string) []Step {
	say := "Stop the server cleanly. Players are locked out from here."
	if profile.Server.Console.Stop.Loses {
		say = "Have the server save, which it does not do by itself, and stop it. Players are locked out from here."
	}
	return []Step{{Kind: Stop, Switch: true, Say: say}}
}

// finish adds the steps with which every changeover ends that has stopped its server.
func (p *Plan) finish() {
	p.add(startStep(), proveStep())
}

func startStep() Step {
	return Step{Kind: Start, Switch: true, Say: "Start the server and wait until it is ready."}
}

func proveStep() Step {
	return Step{Kind: Prove, Say: "Prove that the intended world is the one running."}
}

// goOver adds the steps that make a world the active one which stands in its place:
// on a game that can load, without a stop.
func (in Input) goOver(p *Plan, name string) error {
	if in.Fit.CanLoad() {
		p.Window = Window{}
		if err := in.writes(p); err != nil {
			return err
		}
		if in.Fit.SavesFirst() {
			p.add(Step{
				Kind:     Tell,
				World:    in.Fit.Server.Active,
				Switch:   true,
				Say:      "Have the server save the world that it leaves.",
				TellStep: TellStep{Tell: "flush"},
			})
		}
		p.add(Step{
			Kind:     Tell,
			World:    name,
			Switch:   true,
			Say:      "Have the running server load " + name + ". It is not stopped; players go over with it.",
			TellStep: TellStep{Tell: "load", Back: in.Fit.Server.Active},
		}, proveStep())
		return nil
	}
	in.stop(p)
	if err := in.writes(p); err != nil {
		return err
	}
	p.finish()
	return nil
}

// moves makes the steps that bring names from one folder to another: one each, but
// one for all files of a session.
func moves(profile *game.Profile, names []string, from, to string) []Step {
	var out []Step
	sessions := map[string]bool{}
	for _, name := range names {
		if profile.World.Shape != game.ShapeSession {
			out = append(out, Step{
				Kind:     Move,
				Switch:   true,
				MoveStep: MoveStep{From: path.Join(from, name), To: path.Join(to, name)},
			})
			continue
		}
		session, _, ok := profile.World.NameOf(name)
		if ok && !sessions[session] {
			sessions[session] = true
			out = append(out, Step{Kind: Move, Switch: true, World: session, MoveStep: MoveStep{From: from, To: to}})
		}
	}
	return out
}

// renames makes the steps that give a world in the worlds folder another name, its
// realms beside it included.
func (in Input) renames(from, to string) []Step {
	profile, worlds := in.Fit.Profile, in.Fit.Server.WorldsFolder
	if profile.World.Shape == game.ShapeSession {
		return []Step{{
			Kind:     Move,
			Switch:   true,
			World:    from,
			As:       to,
			MoveStep: MoveStep{From: worlds, To: worlds},
		}}
	}
	var out []Step
	add := func(a, b string) {
		out = append(out, Step{
			Kind:     Move,
			Switch:   true,
			MoveStep: MoveStep{From: path.Join(worlds, a), To: path.Join(worlds, b)},
		})
	}
	for _, name := range in.Fit.Server.Named(profile, from) {
		if profile.World.Shape == game.ShapeFile {
			add(name, profile.World.Renamed(name, from, to))
		} else {
			add(name, to)
		}
	}
	for _, realm := range profile.RealmNames() {
		split := profile.World.Realms[realm]
		if slices.Contains(in.Fit.Server.Folders, split.SplitFor(from)) {
			add(split.SplitFor(from), split.SplitFor(to))
		}
	}
	return out
}

// what names what a move moves, and target what it is afterwards.
func (s Step) what() string {
	if s.World != "" {
		return "all files of " + path.Join(s.From, s.World)
	}
	return s.From
}

func (s Step) target() string {
	if s.World != "" {
		return "all files of " + path.Join(s.To, s.NameAfter())
	}
	return s.To
}

// NameAfter is the name that a world of files has after a step, or that a sampled
// world has when it is compared.
func (s Step) NameAfter() string {
	if s.As != "" {
		return s.As
	}
	return s.World
}

// into reports whether a move brings something directly into a folder, out whether it
// takes something directly out of it.
func (s Step) into(dir string) bool  { return s.directly(s.To, dir) }
func (s Step) outOf(dir string) bool { return s.directly(s.From, dir) }

func (s Step) directly(end, dir string) bool {
	if s.World != "" {
		return end == dir
	}
	return path.Dir(end) == dir
}

// reversed is the move that takes a move back.
func (s Step) reversed() Step {
	s.From, s.To = s.To, s.From
	if s.As != "" {
		s.World, s.As = s.As, s.World
	}
	return s
}

// setAside adds moves out of the worlds folder into the working folder.
func (in Input) setAside(p *Plan, names []string, why string) {
	out := moves(in.Fit.Profile, names, p.Worlds, path.Join(in.Work, "aside"))
	for i := range out {
		out[i].Say = "Set " + out[i].what() + " aside" + why + "."
		p.SetAside = append(p.SetAside, out[i].what())
	}
	p.add(out...)
}

// sample remembers samples of a world that stands in the worlds folder.
func (in Input) sample(name, say string) Step {
	worlds := in.Fit.Server.WorldsFolder
	step := Step{Kind: Sample, Dir: path.Join(worlds, name), World: name, Say: say}
	if in.Fit.Profile.World.Shape != game.ShapeFolder {
		step.Dir, step.Names = worlds, in.Fit.Server.Named(in.Fit.Profile, name)
	}
	return step
}

// left lists the names of the worlds folder that stay, and those that are added.
func (in Input) left(leave []string, added ...string) []string {
	out := slices.Clone(added)
	for _, name := range in.Fit.Server.Folders {
		if !slices.Contains(leave, name) {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// expect is what a world says of itself that the proof compares.
func (in Input) expect(folder string, folders []string) Expect {
	w := in.Fit.World
	return Expect{
		Folder: folder, Opened: openedForms(in.Fit.Live.Roots, in.Fit.Server.WorldsFolder, folder, in.Fit.Profile),
		Title: w.Title,
		Seed:  w.Fact("seed").Text, WorldID: w.Fact("world-id").Text, Folders: folders, Players: -1,
	}
}

// openedForms are the ways in which a log may name the opened world. A path is
// compared as a whole: the same folder name elsewhere is another world.
func openedForms(roots []string, worlds, folder string, p *game.Profile) []string {
	var forms []string
	for _, name := range slices.Compact([]string{folder, p.World.FileName(folder)}) {
		forms = append(forms, name, path.Join(worlds, name))
		for _, root := range roots {
			forms = append(forms, path.Join(root, worlds, name))
		}
	}
	return forms
}

func settled(sheet fit.Sheet) error {
	name := func(rows []fit.Row) string {
		titles := make([]string, 0, len(rows))
		for _, r := range rows {
			titles = append(titles, strings.ToLower(r.Title)+": "+r.Say)
		}
		return strings.Join(titles, " / ")
	}
	if rows := sheet.With(fit.Blocks); len(rows) > 0 {
		return fault.New(fault.Blocked, "draft", "", "%s", name(rows)).With(rows[0].Mend)
	}
	if rows := sheet.With(fit.Choose); len(rows) > 0 {
		var ways []string
		for _, o := range rows[0].Options {
			ways = append(ways, "--choose "+o.Choice+"="+o.Answer)
		}
		return fault.New(fault.NeedsChoice, "draft", "", "%s", name(rows)).
			With("Choose one of: " + strings.Join(ways, "   or   "))
	}
	return nil
}

func (in Input) notes(p *Plan) {
	if n := in.Fit.Live.Players; n > 0 && p.LocksOut() {
		p.Notes = append(p.Notes, fmt.Sprintf("%d players are joined now and will be disconnected.", n))
	}
	if len(p.SetAside) > 0 {
		p.Notes = append(p.Notes, "What is set aside stays on the server's disk in "+path.Join(in.Work,
			"aside")+"; nothing is deleted. reshard undo brings it back.")
	}
	for _, l := range in.Fit.Live.Can.Lacks() {
		p.Notes = append(p.Notes, "Not promised on this host, for want of "+l.Name+": "+l.Say)
	}
	if r, ok := in.Sheet.Row("provider"); ok && p.LocksOut() && !r.Idle {
		p.Notes = append(p.Notes, in.Fit.Live.Provider.Title+" does things by itself. "+r.Say)
	}
	for _, r := range in.Sheet.With(fit.Adjust) {
		if r.Concern == "version" || r.Concern == "mods" || r.Concern == "realms" {
			p.Notes = append(p.Notes, r.Say+" "+r.Mend)
		}
	}
}

// taken lists what of the names of some worlds stands in the worlds folder, their
// realms beside them included.
func taken(state server.State, profile *game.Profile, names ...string) []string {
	var out []string
	for _, name := range names {
		if name != "" {
			out = append(out, state.Taken(profile, name)...)
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}
