package plan

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
)

// UndoInput is what an undo is drafted from.
type UndoInput struct {
	Of      Plan  // the plan that was carried out
	ID      int64 // its changeover
	Profile *game.Profile
	State   server.State
	Live    fit.Live
	Server  string
	Work    string
	// Tree is the server's root, to look for what stands there and was set aside.
	Tree fs.FS
	// Documents are the server's settings documents.
	Documents Documents
	Window    Window
	// After holds, by settings file, the hash of its bytes after the changeover.
	After map[string]string
	// Made is the name of the world that the changeover had the server make, "" when
	// it made none.
	Made string
}

// DraftUndo makes the plan that takes a successful changeover back. What was
// placed or made is set aside with all that was played since, what was set aside
// goes back, what was renamed gets its name again, and the settings are as before.
// It works on the plan of an undo too.
func DraftUndo(in UndoInput) (Plan, error) {
	base := Input{
		Fit: fit.Input{Profile: in.Profile, Server: in.State, Live: in.Live, Choices: fit.Choices{}}, Server: in.Server,
		Work: in.Work, Documents: in.Documents, Window: in.Window,
	}
	p := base.begin(Undo)
	p.Worlds, p.Undoes = in.Of.Worlds, in.ID
	out, back, renamed, inner := in.sorted()
	for _, s := range back {
		if !stillThere(in, s) {
			return Plan{}, fault.New(fault.Held, "draft undo of", fmt.Sprint(in.ID),
				"what was set aside is no longer in %s", s.To).
				With("Put the world there again from the library: reshard put WORLD " + in.Server + ".")
		}
	}
	for _, s := range renamed {
		if !stillThere(in, s) {
			return Plan{}, fault.New(fault.Held, "draft undo of", fmt.Sprint(in.ID), "%s is no longer there",
				s.target()).
				With("Somebody has moved or renamed it since. Look at the server's worlds folder.")
		}
	}
	active := in.formerActive()
	former := in.formerWorlds(back)
	leave := in.placedNames(out)
	if err := in.wouldBeMissing(active, former, renamed, leave); err != nil {
		return Plan{}, err
	}
	for _, f := range former {
		p.add(Step{
			Kind:       Sample,
			Dir:        f.Root,
			World:      f.Folder,
			Say:        "Take samples of the former world, to compare after the start.",
			SampleStep: SampleStep{Names: f.Files},
		})
	}
	steps := moves(in.Profile, leave, p.Worlds, path.Join(in.Work, "aside"))
	for i := range steps {
		steps[i].Say = "Set " + steps[i].what() + " aside, with what was played since."
		p.SetAside = append(p.SetAside, steps[i].what())
	}
	for _, s := range slices.Backward(renamed) {
		steps = append(steps, in.renamedBack(s)...)
	}
	for _, s := range back {
		s = s.reversed()
		s.Say = "Bring " + s.target() + " back."
		steps = append(steps, s)
	}
	within, err := in.filesBack(&p, inner)
	if err != nil {
		return Plan{}, err
	}
	steps = append(steps, within...)
	writes, err := in.writesBack(&p)
	if err != nil {
		return Plan{}, err
	}
	// The former active world has stood in its place all the time when nothing moves it.
	if stood := !slices.ContainsFunc(former, func(f world.Found) bool { return f.Folder == active }) &&
		len(renamed) == 0; stood && active != "" {
		if _, there := in.State.World(active); there {
			p.add(base.sample(active, "Take samples of the former world, to compare afterwards."))
		}
	}
	in.assemble(base, &p, steps, writes, active, leave)
	in.expect(base, &p, leave, back, former, active)
	if before := in.Of.Version; before != "" && p.Version != "" && fit.CompareVersions(before, p.Version) != 0 {
		p.Notes = append(p.Notes, updated(before, p.Version, in.Profile))
	}
	if len(p.SetAside) > 0 {
		p.Notes = append(p.Notes, "What was played since is kept in "+path.Join(in.Work,
			"aside")+"; nothing is deleted, and this undo can be undone.")
	} else {
		p.Notes = append(p.Notes, "Nothing is deleted, and this undo can be undone.")
	}
	return p, nil
}

// updated says what it means for an undo that the server has another version than before.
func updated(before, now string, p *game.Profile) string {
	note := fmt.Sprintf("The server was at %s when this was done, and is at %s now: the undo brings the world back, "+
		"and not "+
		"the game.", before, now)
	switch rule := p.Server.Accepts; {
	case rule.Version == "any":
	case fit.CompareVersions(now, before) < 0:
		note += fmt.Sprintf(" A server of %s may not open what %s has written.", now, before)
	case rule.Upgrades:
		note += fmt.Sprintf(" %s upgrades the former world when it opens it; the library keeps what was copied before.",
			now)
	}
	return note
}

// wouldBeMissing refuses an undo after which the settings would name a world that is
// not there: at its start the server would make an empty one.
func (in UndoInput) wouldBeMissing(active string, former []world.Found, renamed []Step, leave []string) error {
	back := slices.ContainsFunc(former, func(f world.Found) bool { return f.Folder == active })
	if active == "" || back || len(renamed) > 0 || len(in.State.Named(in.Profile, active)) == 0 {
		return nil
	}
	if !slices.ContainsFunc(in.State.Named(in.Profile, active),
		func(name string) bool { return slices.Contains(leave, name) }) {
		return nil
	}
	return fault.New(fault.WrongState, "draft undo of", fmt.Sprint(in.ID),
		"it placed “%s”, which is the active world now, and there is no other to go back to", active).
		With("Switch to another world first: reshard switch " + in.Server + " WORLD.")
}

// assemble puts the steps in their order: without a stop where neither the active
// world nor the settings are touched, or where the game loads a world while it runs.
func (in UndoInput) assemble(base Input, p *Plan, steps, writes []Step, active string, leave []string) {
	touches := len(writes) > 0 || slices.ContainsFunc(steps, func(s Step) bool {
		own := path.Join(p.Worlds, in.State.Active) + "/"
		return s.directly(s.To, p.Worlds) || strings.HasPrefix(s.To, own) || strings.HasPrefix(s.From, own)
	})
	for _, name := range taken(in.State, in.Profile, in.State.Active) {
		touches = touches || slices.Contains(leave, name)
	}
	loaded := slices.ContainsFunc(in.Of.Steps, func(s Step) bool { return s.Kind == Tell && s.Tell == "load" })
	switch {
	case !touches:
		p.add(steps...)
		prove := proveStep()
		prove.Say = "Prove that it is gone from its place, and that the server goes on as before."
		p.add(prove)
		p.Window = Window{}
	case loaded && base.Fit.CanLoad() && len(steps) == 0:
		p.Window = Window{}
		p.add(writes...)
		if base.Fit.SavesFirst() {
			p.add(Step{
				Kind:     Tell,
				World:    in.State.Active,
				Switch:   true,
				Say:      "Have the server save the world that it leaves.",
				TellStep: TellStep{Tell: "flush"},
			})
		}
		p.add(Step{
			Kind:     Tell,
			World:    active,
			Switch:   true,
			Say:      "Have the running server load " + active + " again. It is not stopped.",
			TellStep: TellStep{Tell: "load", Back: in.State.Active},
		}, proveStep())
	default:
		base.stop(p)
		if now := in.standsAs(active); now != active {
			sample := base.sample(now, "Take samples of the world, to compare after the start.")
			sample.As, sample.Switch = active, true
			p.add(sample)
		}
		p.add(steps...)
		p.add(writes...)
		p.finish()
	}
}

// filesBack takes back that files were brought into a world: they are set aside as they are now, and what
// stood in their places comes back.
func (in UndoInput) filesBack(p *Plan, inner []Step) ([]Step, error) {
	var away, home []Step
	for _, s := range inner {
		if rest, below := strings.CutPrefix(s.To, in.Of.Worlds+"/"); below {
			if _, err := fs.Stat(in.Tree, s.To); err != nil {
				continue // the game, or somebody, has taken it away
			}
			away = append(away, Step{
				Kind: Move, Switch: true, Say: "Set " + rest + " aside, as it is now.",
				MoveStep: MoveStep{From: s.To, To: path.Join(in.Work, "aside", rest)},
			})
			p.SetAside = append(p.SetAside, rest)
			continue
		}
		if !stillThere(in, s) {
			return nil, fault.New(fault.Held, "draft undo of", fmt.Sprint(in.ID),
				"what was set aside is no longer in %s", s.To).
				With("Bring the file back from the library: reshard restore COPY SERVER.")
		}
		s = s.reversed()
		s.Switch, s.Say = true, "Bring "+strings.TrimPrefix(s.To, in.Of.Worlds+"/")+" back."
		home = append(home, s)
	}
	return append(away, home...), nil
}

// inside reports whether a move brings a file into a world, or takes one out of it.
func (in UndoInput) inside(s Step) bool {
	below := func(name string) bool {
		return strings.HasPrefix(name, in.Of.Worlds+"/") && !strings.HasPrefix(name, in.Of.Work+"/") &&
			path.Dir(name) != in.Of.Worlds
	}
	return s.World == "" && (below(s.To) || below(s.From))
}

// sorted tells the moves of the plan that is undone apart: what was brought in, what
// was taken out, what only got another name, and what went into worlds or out of them.
func (in UndoInput) sorted() (out, back, renamed, inner []Step) {
	for _, s := range in.Of.Steps {
		switch {
		case s.Kind != Move:
		case in.inside(s):
			inner = append(inner, s)
		case s.into(in.Of.Worlds) && s.outOf(in.Of.Worlds):
			renamed = append(renamed, s)
		case s.into(in.Of.Worlds):
			out = append(out, s)
		default:
			back = append(back, s)
		}
	}
	return out, back, renamed, inner
}

// renamedBack takes a rename back. Realms that have come beside the world since go
// with it.
func (in UndoInput) renamedBack(s Step) []Step {
	list := []Step{s.reversed()}
	if s.World == "" {
		from, to := path.Base(s.From), path.Base(s.To)
		for _, realm := range in.Profile.RealmNames() {
			split := in.Profile.World.Realms[realm]
			now := path.Join(in.Of.Worlds, split.SplitFor(to))
			moved := slices.ContainsFunc(in.Of.Steps, func(o Step) bool { return o.Kind == Move && o.To == now })
			if slices.Contains(in.State.Folders, split.SplitFor(to)) && !moved {
				list = append(list, Step{
					Kind:     Move,
					Switch:   true,
					MoveStep: MoveStep{From: now, To: path.Join(in.Of.Worlds, split.SplitFor(from))},
				})
			}
		}
	}
	for i := range list {
		list[i].Say = "Rename " + list[i].what() + " back to " + list[i].target() + "."
	}
	return list
}

// stillThere reports whether what a move has moved is where it put it.
func stillThere(in UndoInput, s Step) bool {
	if s.World == "" {
		_, err := fs.Stat(in.Tree, s.To)
		return err == nil
	}
	entries, err := fs.ReadDir(in.Tree, s.To)
	return err == nil && slices.ContainsFunc(entries, func(e fs.DirEntry) bool {
		name, _, ok := in.Profile.World.NameOf(e.Name())
		return ok && name == s.NameAfter()
	})
}

// placedNames lists what a changeover placed or had made and is still there, with the
// realms that have come beside it since.
func (in UndoInput) placedNames(out []Step) []string {
	names := map[string]bool{}
	for _, name := range taken(in.State, in.Profile, in.Made) {
		names[name] = true
	}
	for _, s := range out {
		if s.World != "" {
			for _, name := range in.State.Named(in.Profile, s.World) {
				names[name] = true
			}
			continue
		}
		base := path.Base(s.To)
		if _, err := fs.Stat(in.Tree, s.To); err == nil { // else somebody took it away
			names[base] = true
		}
		for _, sibling := range server.Siblings(in.Tree, in.Profile, in.Of.Worlds, base) {
			names[sibling] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// formerWorlds recognises the worlds among what was set aside.
func (in UndoInput) formerWorlds(back []Step) []world.Found {
	dirs := map[string]bool{}
	moved := map[string]bool{}
	for _, s := range back {
		if s.World != "" {
			dirs[s.To], moved[path.Join(s.To, s.World)] = true, true
			continue
		}
		dirs[path.Dir(s.To)] = true
		moved[s.To] = true
	}
	var out []world.Found
	for _, dir := range slices.Sorted(maps.Keys(dirs)) {
		found, err := world.Direct(in.Tree, dir, in.Profile)
		if err != nil {
			continue // the proof goes without samples
		}
		for _, f := range found {
			if moved[f.At()] || moved[path.Join(f.Root, f.Folder)] {
				out = append(out, f)
			}
		}
	}
	return out
}

// writesBack makes the writes that put every settings file back as it was, one a file.
func (in UndoInput) writesBack(p *Plan) ([]Step, error) {
	var files []string
	first := map[string]Step{}
	for _, s := range in.Of.Steps {
		if s.Kind != Write {
			continue
		}
		f, seen := first[s.File]
		if !seen {
			files = append(files, s.File)
			first[s.File] = s
			continue
		}
		for _, e := range s.Edits { // of a key that was written twice the first value goes back
			if !slices.ContainsFunc(f.Edits, func(o Edit) bool { return o.Key == e.Key }) {
				f.Edits = append(slices.Clone(f.Edits), e)
			}
		}
		first[s.File] = f
	}
	var out []Step
	for _, file := range files {
		s := first[file]
		var edits []Edit
		for _, e := range s.Edits {
			edits = append(edits, Edit{
				Key: e.Key, Value: e.Was, Was: e.Value, WasSet: true, World: e.World, Keeps: e.Keeps,
			})
		}
		step, diff, err := in.Documents.write(s.File, s.Syntax, edits, in.Work)
		if err != nil {
			return nil, err
		}
		step.RestoreFrom, step.IfHash = s.Keep, in.After[s.File]
		if s.Record != "" {
			if kept, err := fs.ReadFile(in.Tree, s.Keep); err == nil {
				if doc, err := settings.Parse(file, s.Syntax, kept); err == nil {
					diff.Text = settings.Change{Before: in.Documents[file], After: doc}.Diff()
				}
			}
		}
		step.Say = "Put " + s.File + " back as it was."
		p.Diffs = append(p.Diffs, diff)
		out = append(out, step)
	}
	return out, nil
}

// formerActive is the name that the settings give once they are as before.
func (in UndoInput) formerActive() string {
	active := in.State.Keys[game.KeyActiveWorld]
	for _, s := range in.Of.Steps {
		for _, e := range s.Edits {
			if s.Kind == Write && s.File == active.File && e.Key == active.Key {
				given := active.Given
				given.Value = e.Was
				return server.FolderOf(given, in.Profile) // of two writes the first has what stood there
			}
		}
	}
	return in.State.Active
}

func (in UndoInput) expect(base Input, p *Plan, leave []string, back []Step, former []world.Found, active string) {
	p.Folder = active
	p.Expect = Expect{
		Folder:  active,
		Opened:  openedForms(in.Live.Roots, p.Worlds, active, in.Profile),
		Folders: base.left(leave, active),
		Players: -1,
	}
	if !slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Kind == Start || s.Kind == Tell }) {
		p.Expect.State = in.Live.State
	}
	for _, s := range back {
		if s.World == "" {
			p.Expect.Folders = append(p.Expect.Folders, path.Base(s.From))
		}
	}
	for _, f := range former {
		p.Expect.Folders = append(p.Expect.Folders, f.Files...)
	}
	if i := slices.IndexFunc(former, func(f world.Found) bool { return f.Folder == active }); i >= 0 {
		p.knows(in.Tree, former[i])
	} else if f, err := world.ByName(in.Tree, p.Worlds, in.standsAs(active), in.Profile); err == nil {
		p.knows(in.Tree, f)
	}
	sort.Strings(p.Expect.Folders)
	p.Expect.Folders = slices.Compact(p.Expect.Folders)
}

// standsAs is the name under which a world stands now that will have a name again.
func (in UndoInput) standsAs(name string) string {
	for _, s := range in.Of.Steps {
		if s.Kind != Move || !s.into(in.Of.Worlds) || !s.outOf(in.Of.Worlds) {
			continue
		}
		if s.World == name {
			return s.As
		}
		if s.World == "" && path.Base(s.From) == in.Profile.World.FileName(name) {
			if after, _, ok := in.Profile.World.NameOf(path.Base(s.To)); ok {
				return after
			}
			return path.Base(s.To)
		}
	}
	return name
}

// knows takes title, seed and id from a world for the proof.
func (p *Plan) knows(tree fs.FS, f world.Found) {
	w, err := world.Read(tree, f)
	if err != nil {
		return
	}
	p.World, p.Expect.Title = w.Title, w.Title
	p.Expect.Seed, p.Expect.WorldID = w.Fact("seed").Text, w.Fact("world-id").Text
}
