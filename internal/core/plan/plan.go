// Package plan turns a fit sheet and choices into steps. A plan is data: it can
// be printed, read, refused and stored, and the executor runs it without
// knowing which kind of changeover it belongs to.
package plan

import (
	"fmt"
	"io/fs"
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

// The kinds of step. They are few and combine.
const (
	Stage  = "stage"  // write a copy's files into the working folder and verify them
	Sample = "sample" // remember samples of files, to compare after the start
	Stop   = "stop"   // stop the server cleanly
	Move   = "move"   // rename a folder
	Write  = "write"  // edit one settings file
	Start  = "start"  // start the server and wait until it is ready
	Prove  = "prove"  // show that the intended world is the one running
)

// The kinds of changeover.
const (
	Put  = "put"
	Undo = "undo"
)

// WorkFolder is the folder, beside a server's worlds folder, in which Reshard
// stages worlds and sets them aside.
const WorkFolder = ".reshard"

// Step is one step of a plan. Which fields are set depends on Kind. All paths
// are relative to the server's root.
type Step struct {
	Kind string `json:"kind"`
	Say  string `json:"say"`
	// Switch is true for the steps inside the stop window.
	Switch bool `json:"switch"`

	Copy  string            `json:"copy,omitempty"`  // stage: the copy's id
	Parts map[string]string `json:"parts,omitempty"` // stage: part of the copy to folder
	Files int               `json:"files,omitempty"` // stage
	Bytes int64             `json:"bytes,omitempty"` // stage

	From string `json:"from,omitempty"` // move
	To   string `json:"to,omitempty"`   // move

	Dir string `json:"dir,omitempty"` // sample: the folder as it stands then

	File   string `json:"file,omitempty"`   // write
	Format string `json:"format,omitempty"` // write
	Edits  []Edit `json:"edits,omitempty"`  // write
	// Keep is where the bytes before the write are kept.
	Keep string `json:"keep,omitempty"`
	// RestoreFrom holds earlier bytes that are put back whole when the file
	// still has the hash IfHash; otherwise only the edits are made.
	RestoreFrom string `json:"restoreFrom,omitempty"`
	IfHash      string `json:"ifHash,omitempty"`
}

// Edit sets one key of a settings file.
type Edit struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	Was   string `json:"was"`
	// WasSet is false when the key did not stand in the file.
	WasSet bool `json:"wasSet"`
}

// Expect is what the proof compares with.
type Expect struct {
	// Folder is the active world's folder name, Opened the forms in which a log
	// may name it (folder, path from the root, absolute path).
	Folder string   `json:"folder"`
	Opened []string `json:"opened"`
	// Seed and WorldID are compared when they are not empty.
	Seed    string `json:"seed,omitempty"`
	WorldID string `json:"worldId,omitempty"`
	Title   string `json:"title,omitempty"`
	// Folders are the names that may stand in the worlds folder afterwards.
	// Sibling realm folders of these are allowed too.
	Folders []string `json:"folders"`
}

// Diff is a settings change as a unified diff.
type Diff struct {
	File string `json:"file"`
	Text string `json:"text"`
}

// Window is an estimate of the stop window, in milliseconds; -1: not known yet.
type Window struct {
	Stopping int64 `json:"stopping"` // the game's own stopping
	Ours     int64 `json:"ours"`     // renames and settings
	Starting int64 `json:"starting"` // the game's own starting
}

// Plan is what a changeover will do.
type Plan struct {
	Kind   string `json:"kind"`
	Server string `json:"server"`
	// World and Folder name the world that will run.
	World  string `json:"world"`
	Folder string `json:"folder"`
	// Work is the changeover's own working folder.
	Work   string `json:"work"`
	Steps  []Step `json:"steps"`
	Expect Expect `json:"expect"`
	Diffs  []Diff `json:"diffs"`
	// SetAside lists what leaves its place, by path; Notes what a person should
	// know before saying yes.
	SetAside  []string `json:"setAside"`
	Notes     []string `json:"notes"`
	NeedBytes int64    `json:"needBytes"`
	Window    Window   `json:"window"`
	// Fingerprint is the server's state that the plan was made for.
	Fingerprint string `json:"fingerprint"`
	// Undoes is the changeover that an undo takes back.
	Undoes int64 `json:"undoes,omitempty"`
}

// oursEstimate is what the switch itself takes, from the benchmark in
// docs/operations.md: a few renames, journal writes and one settings write.
const oursEstimate = 50

// PutInput is what a put is drafted from.
type PutInput struct {
	Fit    fit.Input
	Sheet  fit.Sheet
	Server string // the server's name
	Copy   string // the copy's id
	// Parts of the copy: "" and the realms that stand beside the world.
	Parts []string
	Work  string
	// Tree is the server's root, to read settings and look for leftovers.
	Tree   fs.FS
	Window Window
}

// DraftPut makes the plan of a put. It is pure: it reads and changes nothing.
// The error has code Blocked or NeedsChoice when the sheet is not settled.
func DraftPut(in PutInput) (Plan, error) {
	if err := settled(in.Sheet); err != nil {
		return Plan{}, err
	}
	profile, state, folder := in.Fit.Profile, in.Fit.Server, in.Sheet.Folder
	worlds := path.Clean(profile.Server.Worlds)
	p := Plan{
		Kind: Put, Server: in.Server, World: in.Fit.World.Title, Folder: folder, Work: in.Work,
		NeedBytes: in.Fit.World.Bytes, Window: in.Window, Fingerprint: state.Fingerprint(),
		SetAside: []string{}, Notes: []string{}, Diffs: []Diff{},
	}
	p.Window.Ours = oursEstimate
	staged := path.Join(in.Work, "staged")
	parts := map[string]string{}
	for _, part := range in.Parts {
		parts[part] = path.Join(staged, partFolder(profile, part, folder))
	}
	p.Steps = append(p.Steps,
		Step{Kind: Stage, Copy: in.Copy, Parts: parts, Files: in.Fit.World.Files, Bytes: in.Fit.World.Bytes, Say: "Write the world's files beside the live world and verify each."},
		Step{Kind: Sample, Dir: path.Join(staged, folder), Say: "Take samples of the staged files, to compare after the start."})
	if in.Fit.Live.State == "running" {
		p.Steps = append(p.Steps, Step{Kind: Stop, Switch: true, Say: "Stop the server cleanly. Players are locked out from here."})
	}
	leave := leaving(in, worlds, folder)
	for _, name := range leave {
		from := path.Join(worlds, name)
		p.SetAside = append(p.SetAside, from)
		p.Steps = append(p.Steps, Step{Kind: Move, Switch: true, From: from, To: path.Join(in.Work, "aside", name), Say: "Set " + from + " aside."})
	}
	placed := sortedValues(parts)
	for _, from := range placed {
		to := path.Join(worlds, path.Base(from))
		p.Steps = append(p.Steps, Step{Kind: Move, Switch: true, From: from, To: to, Say: "Place " + to + "."})
	}
	writes, err := putWrites(in, &p)
	if err != nil {
		return Plan{}, err
	}
	p.Steps = append(p.Steps, writes...)
	p.finish()
	p.Expect = expectPut(in, worlds, folder, leave)
	p.Notes = append(p.Notes, putNotes(in, leave)...)
	return p, nil
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
		return fault.New(fault.NeedsChoice, "draft", "", "%s", name(rows)).With("Choose one of: " + strings.Join(ways, "   or   "))
	}
	return nil
}

// finish adds the steps with which every changeover ends.
func (p *Plan) finish() {
	p.Steps = append(p.Steps,
		Step{Kind: Start, Switch: true, Say: "Start the server and wait until it is ready."},
		Step{Kind: Prove, Say: "Prove that the intended world is the one running."})
}

func partFolder(profile *game.Profile, part, folder string) string {
	if part == "" {
		return folder
	}
	return profile.World.Realms[part].SplitFor(folder)
}

// leaving lists the names in the worlds folder that must be set aside: the
// active world, the folder that the new one takes, and the sibling realms of
// both, leftovers without a world included.
func leaving(in PutInput, worlds, folder string) []string {
	state := in.Fit.Server
	var out []string
	for _, name := range []string{state.Active, folder} {
		if name == "" {
			continue
		}
		if slices.Contains(state.Folders, name) {
			out = append(out, name)
		}
		out = append(out, server.Siblings(in.Tree, in.Fit.Profile, worlds, name)...)
	}
	sort.Strings(out)
	return slices.Compact(out)
}

func putWrites(in PutInput, p *Plan) ([]Step, error) {
	edits := map[string][]Edit{}
	want := func(key, value string) {
		s := in.Fit.Server.Keys[key]
		if !s.Found || s.Value != value {
			edits[s.In] = append(edits[s.In], Edit{Key: s.Key, Value: value, Was: s.Value, WasSet: s.Found})
		}
	}
	active := in.Fit.Server.Keys[game.KeyActiveWorld]
	want(game.KeyActiveWorld, server.ValueFor(active, in.Fit.Profile.Server.Worlds, in.Sheet.Folder))
	if row, ok := in.Sheet.Row("seed"); ok && row.Verdict == fit.Adjust && in.Fit.World.Fact("seed").Known() {
		want(game.KeySeed, in.Fit.World.Fact("seed").Text)
	}
	var steps []Step
	for _, name := range sortedKeys(edits) {
		doc := in.Fit.Profile.Server.Settings[name]
		step, diff, err := WriteStep(in.Tree, doc, edits[name], in.Work)
		if err != nil {
			return nil, err
		}
		p.Diffs = append(p.Diffs, diff)
		steps = append(steps, step)
	}
	return steps, nil
}

// WriteStep makes the step that edits one settings file, and shows it as a diff.
func WriteStep(tree fs.FS, doc game.Settings, edits []Edit, work string) (Step, Diff, error) {
	data, err := fs.ReadFile(tree, doc.File)
	if err != nil {
		return Step{}, Diff{}, fault.Wrap(fault.BadSettings, "read settings", doc.File, err)
	}
	after, err := Apply(doc.File, doc.Format, data, edits)
	if err != nil {
		return Step{}, Diff{}, err
	}
	keys := make([]string, 0, len(edits))
	for _, e := range edits {
		keys = append(keys, e.Key+"="+e.Value)
	}
	return Step{
		Kind: Write, Switch: true, File: doc.File, Format: doc.Format, Edits: edits,
		Keep: path.Join(work, "settings", doc.File),
		Say:  "Write " + strings.Join(keys, " and ") + " into " + doc.File + "; every other byte stays.",
	}, Diff{File: doc.File, Text: settings.Diff(doc.File, data, after)}, nil
}

// Apply makes edits in a settings file's bytes.
func Apply(file, format string, data []byte, edits []Edit) ([]byte, error) {
	doc, err := settings.Parse(file, format, data)
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

func expectPut(in PutInput, worlds, folder string, leave []string) Expect {
	e := Expect{Folder: folder, Opened: openedForms(in.Fit.Live.Roots, worlds, folder), Title: in.Fit.World.Title, Folders: []string{folder}}
	if seed := in.Fit.World.Fact("seed"); seed.Known() {
		e.Seed = seed.Text
	}
	if id := in.Fit.World.Fact("world-id"); id.Known() {
		e.WorldID = id.Text
	}
	for _, name := range in.Fit.Server.Folders {
		if !slices.Contains(leave, name) {
			e.Folders = append(e.Folders, name)
		}
	}
	sort.Strings(e.Folders)
	e.Folders = slices.Compact(e.Folders)
	return e
}

// openedForms are the ways in which a log may name the opened world. A path is
// compared as a whole: the same folder name elsewhere is another world.
func openedForms(roots []string, worlds, folder string) []string {
	forms := []string{folder, path.Join(worlds, folder)}
	for _, root := range roots {
		forms = append(forms, path.Join(root, worlds, folder))
	}
	return forms
}

func putNotes(in PutInput, leave []string) []string {
	var notes []string
	if len(leave) == 0 {
		notes = append(notes, "The server has no world of the active name: nothing is set aside.")
	} else {
		notes = append(notes, "What is set aside stays on the server's disk in "+path.Join(in.Work, "aside")+"; nothing is deleted. reshard undo brings it back.")
	}
	if in.Fit.Live.Players > 0 {
		notes = append(notes, fmt.Sprintf("%d players are joined now and will be disconnected.", in.Fit.Live.Players))
	}
	for _, r := range in.Sheet.With(fit.Adjust) {
		if r.Concern == "version" || r.Concern == "mods" {
			notes = append(notes, r.Say+" "+r.Mend)
		}
	}
	if n := len(in.Fit.World.Players); n > 0 {
		notes = append(notes, fmt.Sprintf("The world brings its %d player records with it as they are.", n))
	}
	return notes
}

// UndoInput is what an undo is drafted from.
type UndoInput struct {
	Of      Plan  // the plan that was carried out
	ID      int64 // its changeover
	Profile *game.Profile
	State   server.State
	Running bool
	Server  string
	Work    string
	Roots   []string // absolute paths of the server's root
	Tree    fs.FS
	Window  Window
	// After holds, by settings file, the hash of its bytes after the changeover.
	After map[string]string
}

// DraftUndo makes the plan that takes a successful changeover back. What was
// placed is set aside with all that was played since, what was set aside goes
// back, and the settings are as before. It works on the plan of an undo too.
func DraftUndo(in UndoInput) (Plan, error) {
	worlds := path.Clean(in.Profile.Server.Worlds)
	p := Plan{
		Kind: Undo, Server: in.Server, Work: in.Work, Undoes: in.ID, Window: in.Window,
		Fingerprint: in.State.Fingerprint(), SetAside: []string{}, Notes: []string{}, Diffs: []Diff{},
	}
	p.Window.Ours = oursEstimate
	var out, back []Step
	for _, s := range in.Of.Steps {
		if s.Kind != Move {
			continue
		}
		if world.Inside(worlds, s.To) {
			out = append(out, s)
		} else {
			back = append(back, s)
		}
	}
	var samples []Step
	for _, s := range back {
		if _, err := fs.Stat(in.Tree, s.To); err != nil {
			return Plan{}, fault.New(fault.Held, "draft undo of", fmt.Sprint(in.ID), "what was set aside is no longer in %s", s.To).
				With("Put the world there again from the library: reshard put WORLD SERVER.")
		}
		if isWorld(in.Tree, in.Profile, s.To) {
			samples = append(samples, Step{Kind: Sample, Dir: s.To, Say: "Take samples of the former world, to compare after the start."})
		}
	}
	p.Steps = append(p.Steps, samples...)
	if in.Running {
		p.Steps = append(p.Steps, Step{Kind: Stop, Switch: true, Say: "Stop the server cleanly. Players are locked out from here."})
	}
	leave := map[string]bool{}
	for _, s := range out {
		leave[path.Base(s.To)] = true
		for _, sibling := range server.Siblings(in.Tree, in.Profile, worlds, path.Base(s.To)) {
			leave[sibling] = true
		}
	}
	for _, name := range sortedKeys(leave) {
		from := path.Join(worlds, name)
		if _, err := fs.Stat(in.Tree, from); err != nil {
			continue // somebody took it away: nothing to set aside
		}
		p.SetAside = append(p.SetAside, from)
		p.Steps = append(p.Steps, Step{Kind: Move, Switch: true, From: from, To: path.Join(in.Work, "aside", name), Say: "Set " + from + " aside, with what was played since."})
	}
	for _, s := range back {
		p.Steps = append(p.Steps, Step{Kind: Move, Switch: true, From: s.To, To: s.From, Say: "Bring " + s.From + " back."})
	}
	if err := undoWrites(in, &p); err != nil {
		return Plan{}, err
	}
	p.finish()
	p.expectUndo(in, worlds, leave, back)
	p.Notes = append(p.Notes, "What was played since is kept in "+path.Join(in.Work, "aside")+"; nothing is deleted, and this undo can be undone.")
	return p, nil
}

func isWorld(tree fs.FS, profile *game.Profile, dir string) bool {
	search, err := world.Find(tree, dir, path.Base(dir), []*game.Profile{profile})
	return err == nil && len(search.Worlds) == 1 && search.Worlds[0].Root == dir
}

func undoWrites(in UndoInput, p *Plan) error {
	for _, s := range in.Of.Steps {
		if s.Kind != Write {
			continue
		}
		var edits []Edit
		for _, e := range s.Edits {
			edits = append(edits, Edit{Key: e.Key, Value: e.Was, Was: e.Value, WasSet: true})
		}
		step, diff, err := WriteStep(in.Tree, game.Settings{File: s.File, Format: s.Syntax}, edits, in.Work)
		if err != nil {
			return err
		}
		step.RestoreFrom, step.IfHash = s.Keep, in.After[s.File]
		step.Say = "Put " + s.File + " back as it was."
		p.Diffs = append(p.Diffs, diff)
		p.Steps = append(p.Steps, step)
	}
	return nil
}

func (p *Plan) expectUndo(in UndoInput, worlds string, leave map[string]bool, back []Step) {
	folder := in.State.Active
	for _, s := range p.Steps {
		if s.Kind == Write {
			for _, e := range s.Edits {
				active := in.State.Keys[game.KeyActiveWorld]
				if e.Key == active.Key {
					active.Value = e.Value
					folder = server.FolderOf(active)
				}
			}
		}
	}
	p.Folder = folder
	p.Expect = Expect{Folder: folder, Opened: openedForms(in.Roots, worlds, folder), Folders: []string{folder}}
	for _, s := range back {
		p.Expect.Folders = append(p.Expect.Folders, path.Base(s.From))
		if path.Base(s.From) != folder {
			continue
		}
		search, err := world.Find(in.Tree, s.To, path.Base(s.To), []*game.Profile{in.Profile})
		if err != nil || len(search.Worlds) == 0 {
			continue
		}
		if w, err := world.Read(in.Tree, search.Worlds[0]); err == nil {
			p.World, p.Expect.Title = w.Title, w.Title
			p.Expect.Seed, p.Expect.WorldID = w.Fact("seed").Text, w.Fact("world-id").Text
		}
	}
	for _, name := range in.State.Folders {
		if !leave[name] {
			p.Expect.Folders = append(p.Expect.Folders, name)
		}
	}
	sort.Strings(p.Expect.Folders)
	p.Expect.Folders = slices.Compact(p.Expect.Folders)
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

func sortedValues(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for _, k := range sortedKeys(m) {
		out = append(out, m[k])
	}
	return out
}
