// Package plan turns a fit sheet and choices into steps. A plan is data: it can
// be printed, read, refused and stored, and the executor runs it without
// knowing which kind of changeover it belongs to.
package plan

import (
	"errors"
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

	Copy   string  `json:"copy,omitempty"`   // stage: the copy's id
	Routes []Route `json:"routes,omitempty"` // stage: where the copy's files go
	// Skip are files of the copy, as patterns, that are left behind.
	Skip  []string `json:"skip,omitempty"`  // stage
	Files int      `json:"files,omitempty"` // stage
	Bytes int64    `json:"bytes,omitempty"` // stage

	From string `json:"from,omitempty"` // move
	To   string `json:"to,omitempty"`   // move

	Dir string `json:"dir,omitempty"` // sample: the folder as it stands then
	// World names the sampled world, and Names its files in Dir; none: all of Dir. In
	// a move it makes From and To folders, between which all files of the session of
	// that name go: a server adds files to it until it has stopped.
	World string   `json:"world,omitempty"`
	Names []string `json:"names,omitempty"`

	File   string          `json:"file,omitempty"`  // write
	Syntax settings.Syntax `json:"syntax,omitzero"` // write
	Edits  []Edit          `json:"edits,omitempty"` // write
	// Keep is where the bytes before the write are kept.
	Keep string `json:"keep,omitempty"`
	// RestoreFrom holds earlier bytes that are put back whole when the file
	// still has the hash IfHash; otherwise only the edits are made.
	RestoreFrom string `json:"restoreFrom,omitempty"`
	IfHash      string `json:"ifHash,omitempty"`
}

// Route says where files of a copy go: those of Part at or below Under ("" is all
// of the part) go to To, whose last name replaces Under's. The longest Under that
// holds a file decides.
type Route struct {
	Part  string `json:"part"`
	Under string `json:"under"`
	To    string `json:"to"`
}

// Target gives where a file of a copy goes; ok is false when no route takes it.
func (s Step) Target(part, file string) (to string, ok bool) {
	best := -1
	for i, r := range s.Routes {
		holds := r.Under == "" || file == r.Under || strings.HasPrefix(file, r.Under+"/")
		if r.Part == part && holds && (best < 0 || len(r.Under) > len(s.Routes[best].Under)) {
			best = i
		}
	}
	if best < 0 {
		return "", false
	}
	r := s.Routes[best]
	return path.Join(r.To, strings.TrimPrefix(file, r.Under)), true
}

// Skipped reports whether a file of a copy is left behind on purpose.
func (s Step) Skipped(part, file string) bool {
	return part == "" && slices.ContainsFunc(s.Skip, func(pattern string) bool { return world.Match(pattern, file) })
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
	// Players is how many player records there must be at least; -1: not compared.
	Players int `json:"players"`
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
	// Worlds is the server's worlds folder, Work the changeover's own working folder.
	Worlds string `json:"worlds"`
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
	state, folder := in.Fit.Server, in.Sheet.Folder
	worlds := state.WorldsFolder
	p := Plan{
		Kind: Put, Server: in.Server, World: in.Fit.World.Title, Folder: folder, Worlds: worlds, Work: in.Work,
		NeedBytes: in.Fit.World.Bytes, Window: in.Window, Fingerprint: state.Fingerprint(),
		SetAside: []string{}, Notes: []string{}, Diffs: []Diff{},
	}
	p.Window.Ours = oursEstimate
	staged := path.Join(in.Work, "staged")
	routes, names := routesFor(in, staged)
	sample := Step{Kind: Sample, Dir: path.Join(staged, folder), World: folder, Say: "Take samples of the staged files, to compare after the start."}
	if len(in.Fit.World.Members) > 0 {
		sample.Dir, sample.Names = staged, names
	}
	p.Steps = append(p.Steps,
		Step{
			Kind: Stage, Copy: in.Copy, Routes: routes, Skip: in.Fit.Left(), Files: in.Fit.World.Files, Bytes: in.Fit.World.Bytes,
			Say: "Write the world's files beside the live world and verify each.",
		}, sample)
	if in.Fit.Live.State == "running" {
		p.Steps = append(p.Steps, Step{Kind: Stop, Switch: true, Say: "Stop the server cleanly. Players are locked out from here."})
	}
	leave := leaving(in, folder)
	out := moves(in.Fit.Profile, leave, worlds, path.Join(in.Work, "aside"))
	for i := range out {
		out[i].Say = "Set " + out[i].what() + " aside."
		p.SetAside = append(p.SetAside, out[i].what())
	}
	placed := moves(in.Fit.Profile, names, staged, worlds)
	for i := range placed {
		placed[i].Say = "Place " + placed[i].target() + "."
	}
	p.Steps = append(append(p.Steps, out...), placed...)
	if err := putWrites(in, &p); err != nil {
		return Plan{}, err
	}
	p.finish()
	p.Expect = expectPut(in, folder, leave)
	p.Notes = append(p.Notes, putNotes(in, leave)...)
	return p, nil
}

// moves makes the steps that bring names from one folder to another: one each, but
// one for all files of a session.
func moves(profile *game.Profile, names []string, from, to string) []Step {
	var out []Step
	sessions := map[string]bool{}
	for _, name := range names {
		if profile.World.Shape != game.ShapeSession {
			out = append(out, Step{Kind: Move, Switch: true, From: path.Join(from, name), To: path.Join(to, name)})
			continue
		}
		session, _, ok := profile.World.NameOf(name)
		if ok && !sessions[session] {
			sessions[session] = true
			out = append(out, Step{Kind: Move, Switch: true, From: from, To: to, World: session})
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
		return "all files of " + path.Join(s.To, s.World)
	}
	return s.To
}

// into reports whether a move brings something directly into a folder.
func (s Step) into(dir string) bool {
	if s.World != "" {
		return s.To == dir
	}
	return path.Dir(s.To) == dir
}

// routesFor says where the copy's files are staged, and the names that then stand in
// the staging folder. Realms go where the server's kind looks for them, and the
// files of a world that is files get its new name.
func routesFor(in PutInput, staged string) (routes []Route, names []string) {
	profile, w, folder := in.Fit.Profile, in.Fit.World, in.Sheet.Folder
	add := func(part, under, to string) {
		routes = append(routes, Route{Part: part, Under: under, To: path.Join(staged, to)})
		if !strings.Contains(to, "/") {
			names = append(names, to)
		}
	}
	for _, file := range w.Members {
		add("", file, profile.World.Renamed(file, w.Folder, folder))
	}
	if len(w.Members) > 0 {
		sort.Strings(names)
		return routes, names
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
	return routes, names
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

// leaving lists the names in the worlds folder that must be set aside: the
// active world, what the new one's name takes, and the sibling realms of both,
// leftovers without a world included.
func leaving(in PutInput, folder string) []string {
	state := in.Fit.Server
	out := state.Taken(in.Fit.Profile, folder)
	if state.Active != "" {
		out = append(out, state.Taken(in.Fit.Profile, state.Active)...)
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// putWrites adds the settings writes that the fit input asks for, a step a file.
func putWrites(in PutInput, p *Plan) error {
	wants := map[string][]fit.Want{}
	for _, w := range in.Fit.Wants() {
		wants[w.File] = append(wants[w.File], w)
	}
	for _, file := range sortedKeys(wants) {
		var edits []Edit
		for _, w := range wants[file] {
			edits = append(edits, Edit{Key: w.Key, Value: w.To, Was: w.Value, WasSet: w.Found})
		}
		step, diff, err := WriteStep(in.Tree, file, in.Fit.Profile.Server.Settings[wants[file][0].In].Syntax(), edits, in.Work)
		if err != nil {
			return err
		}
		p.Diffs = append(p.Diffs, diff)
		p.Steps = append(p.Steps, step)
	}
	return nil
}

// Unwritable tries the writes that a plan would make, and says which cannot be.
func Unwritable(tree fs.FS, in fit.Input) []string {
	var out []string
	for _, w := range in.Wants() {
		edits := []Edit{{Key: w.Key, Value: w.To, Was: w.Value, WasSet: w.Found}}
		if _, err := fs.Stat(tree, w.File); errors.Is(err, fs.ErrNotExist) {
			continue // the sheet tells of missing files in its own words
		}
		if _, _, err := WriteStep(tree, w.File, in.Profile.Server.Settings[w.In].Syntax(), edits, "."); err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

// WriteStep makes the step that edits one settings file, and shows it as a diff.
func WriteStep(tree fs.FS, file string, syntax settings.Syntax, edits []Edit, work string) (Step, Diff, error) {
	data, err := fs.ReadFile(tree, file)
	if err != nil {
		return Step{}, Diff{}, fault.Wrap(fault.BadSettings, "read settings", file, err)
	}
	after, err := Apply(file, syntax, data, edits)
	if err != nil {
		return Step{}, Diff{}, err
	}
	before, err := settings.Parse(file, syntax, data)
	if err != nil {
		return Step{}, Diff{}, err
	}
	changed, err := settings.Parse(file, syntax, after)
	if err != nil {
		return Step{}, Diff{}, err
	}
	keys := make([]string, 0, len(edits))
	for _, e := range edits {
		keys = append(keys, e.Key+"="+e.Value)
	}
	return Step{
		Kind: Write, Switch: true, File: file, Syntax: syntax, Edits: edits,
		Keep: path.Join(work, "settings", file),
		Say:  "Write " + strings.Join(keys, " and ") + " into " + file + "; every other byte stays.",
	}, Diff{File: file, Text: settings.Diff(file, []byte(before.Text()), []byte(changed.Text()))}, nil
}

// Apply makes edits in a settings file's bytes.
func Apply(file string, syntax settings.Syntax, data []byte, edits []Edit) ([]byte, error) {
	doc, err := settings.Parse(file, syntax, data)
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

func expectPut(in PutInput, folder string, leave []string) Expect {
	profile, w := in.Fit.Profile, in.Fit.World
	worlds := in.Fit.Server.WorldsFolder
	e := Expect{Folder: folder, Opened: openedForms(in.Fit.Live.Roots, worlds, folder, profile), Title: w.Title, Folders: []string{folder}, Players: -1}
	if seed := w.Fact("seed"); seed.Known() {
		e.Seed = seed.Text
	}
	if id := w.Fact("world-id"); id.Known() {
		e.WorldID = id.Text
	}
	if profile.World.Players != nil {
		e.Players = len(w.Players)
		if in.Fit.Choices["players"] == "strip" {
			e.Players = -1
		}
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
		if r.Concern == "version" || r.Concern == "mods" || r.Concern == "realms" {
			notes = append(notes, r.Say+" "+r.Mend)
		}
	}
	if n := len(in.Fit.World.Players); n > 0 && in.Fit.Choices["players"] != "strip" {
		notes = append(notes, fmt.Sprintf("The world brings its %d player records with it as they are.", n))
	}
	if left := in.Fit.Left(); len(left) > 0 {
		notes = append(notes, "Left behind, and kept in the library's copy: "+strings.Join(left, ", ")+".")
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
	worlds := in.Of.Worlds
	p := Plan{
		Kind: Undo, Server: in.Server, Worlds: worlds, Work: in.Work, Undoes: in.ID, Window: in.Window,
		Fingerprint: in.State.Fingerprint(), SetAside: []string{}, Notes: []string{}, Diffs: []Diff{},
	}
	p.Window.Ours = oursEstimate
	var out, back []Step
	for _, s := range in.Of.Steps {
		if s.Kind != Move {
			continue
		}
		if s.into(worlds) {
			out = append(out, s)
		} else {
			back = append(back, s)
		}
	}
	for _, s := range back {
		if !stillThere(in, s) {
			return Plan{}, fault.New(fault.Held, "draft undo of", fmt.Sprint(in.ID), "what was set aside is no longer in %s", s.To).
				With("Put the world there again from the library: reshard put WORLD SERVER.")
		}
	}
	former := formerWorlds(in, back)
	for _, f := range former {
		sample := Step{Kind: Sample, Dir: f.Root, World: f.Folder, Names: f.Files, Say: "Take samples of the former world, to compare after the start."}
		p.Steps = append(p.Steps, sample)
	}
	if in.Running {
		p.Steps = append(p.Steps, Step{Kind: Stop, Switch: true, Say: "Stop the server cleanly. Players are locked out from here."})
	}
	leave := placedNames(in, out, worlds)
	away := moves(in.Profile, leave, worlds, path.Join(in.Work, "aside"))
	for i := range away {
		away[i].Say = "Set " + away[i].what() + " aside, with what was played since."
		p.SetAside = append(p.SetAside, away[i].what())
	}
	p.Steps = append(p.Steps, away...)
	for _, s := range back {
		s.From, s.To = s.To, s.From
		s.Say = "Bring " + s.target() + " back."
		p.Steps = append(p.Steps, s)
	}
	if err := undoWrites(in, &p); err != nil {
		return Plan{}, err
	}
	p.finish()
	p.expectUndo(in, leave, back, former)
	p.Notes = append(p.Notes, "What was played since is kept in "+path.Join(in.Work, "aside")+"; nothing is deleted, and this undo can be undone.")
	return p, nil
}

// stillThere reports whether what a move set aside is there.
func stillThere(in UndoInput, s Step) bool {
	if s.World == "" {
		_, err := fs.Stat(in.Tree, s.To)
		return err == nil
	}
	entries, err := fs.ReadDir(in.Tree, s.To)
	return err == nil && slices.ContainsFunc(entries, func(e fs.DirEntry) bool {
		name, _, ok := in.Profile.World.NameOf(e.Name())
		return ok && name == s.World
	})
}

// placedNames lists what a changeover placed and is still there, with the realms that
// have come beside it since.
func placedNames(in UndoInput, out []Step, worlds string) []string {
	names := map[string]bool{}
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
		for _, sibling := range server.Siblings(in.Tree, in.Profile, worlds, base) {
			names[sibling] = true
		}
	}
	return sortedKeys(names)
}

// formerWorlds recognises the worlds among what was set aside.
func formerWorlds(in UndoInput, back []Step) []world.Found {
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
	for _, dir := range sortedKeys(dirs) {
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

func undoWrites(in UndoInput, p *Plan) error {
	for _, s := range in.Of.Steps {
		if s.Kind != Write {
			continue
		}
		var edits []Edit
		for _, e := range s.Edits {
			edits = append(edits, Edit{Key: e.Key, Value: e.Was, Was: e.Value, WasSet: true})
		}
		step, diff, err := WriteStep(in.Tree, s.File, s.Syntax, edits, in.Work)
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

func (p *Plan) expectUndo(in UndoInput, leave []string, back []Step, former []world.Found) {
	folder := in.State.Active
	active := in.State.Keys[game.KeyActiveWorld]
	for _, s := range p.Steps {
		for _, e := range s.Edits {
			if s.Kind == Write && s.File == active.File && e.Key == active.Key {
				given := active.Given
				given.Value = e.Value
				folder = server.FolderOf(given, in.Profile)
			}
		}
	}
	p.Folder = folder
	p.Expect = Expect{Folder: folder, Opened: openedForms(in.Roots, p.Worlds, folder, in.Profile), Folders: []string{folder}, Players: -1}
	for _, s := range back {
		if s.World == "" {
			p.Expect.Folders = append(p.Expect.Folders, path.Base(s.From))
		}
	}
	for _, f := range former {
		p.Expect.Folders = append(p.Expect.Folders, f.Files...)
		if f.Folder != folder {
			continue
		}
		if w, err := world.Read(in.Tree, f); err == nil {
			p.World, p.Expect.Title = w.Title, w.Title
			p.Expect.Seed, p.Expect.WorldID = w.Fact("seed").Text, w.Fact("world-id").Text
		}
	}
	for _, name := range in.State.Folders {
		if !slices.Contains(leave, name) {
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
