// Package plan turns a fit sheet and choices into steps. A plan is data: it can
// be printed, read, refused and stored, and the executor runs it without
// knowing which kind of changeover it belongs to.
package plan

import (
	"maps"
	"path"
	"slices"
	"strings"

	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
)

// The kinds of step. They are few and combine.
const (
	Stage   = "stage"   // write a copy's files into the working folder and verify them
	Retitle = "retitle" // write another title into a staged world
	Sample  = "sample"  // remember samples of files, to compare after the start
	Stop    = "stop"    // stop the server cleanly
	Move    = "move"    // rename a folder
	Write   = "write"   // edit one settings file
	Start   = "start"   // start the server and wait until it is ready
	Copy    = "copy"    // store a world of a server in the vault
	Tell    = "tell"    // say a line of the profile at the console and wait for its answer
	Wait    = "wait"    // wait for a person
	Prove   = "prove"   // show that the intended world is the one running
)

// StepKinds lists the kinds of step.
func StepKinds() []string {
	return []string{Stage, Retitle, Sample, Stop, Move, Write, Start, Copy, Tell, Wait, Prove}
}

// What a wait step waits for: a person's word, or a concern of the fit sheet (by its
// name) that no longer asks or blocks.
const Word = "word"

// WorkFolder is the folder, beside a server's worlds folder, in which Reshard
// stages worlds and sets them aside.
const WorkFolder = ".reshard"

// Step is one step of a plan: what every step has, and the fields of its own kind, which
// are named after what they are about. All paths are relative to the server's root.
type Step struct {
	Kind string `json:"kind"`
	Say  string `json:"say"`
	// Switch is true for the steps inside the stop window.
	Switch bool `json:"switch"`
	// Server is another server than the plan's that the step works on: stop, start,
	// tell and copy.
	Server string `json:"server,omitempty"`

	// Dir is the folder that is sampled, copied from, or holds a staged world.
	Dir string `json:"dir,omitempty"`
	// World names the world that the step is about. In a move it makes From and To folders,
	// between which all files of the session of that name go: a server adds files to it
	// until it has stopped.
	World string `json:"world,omitempty"`
	// As is the name that a world of files gets on its way, in a stage or a move; ""
	// means its own.
	As string `json:"as,omitempty"`

	StageStep
	RetitleStep
	SampleStep
	MoveStep
	WriteStep
	StartStep
	CopyStep
	TellStep
	WaitStep
}

// StageStep is what a stage step knows.
type StageStep struct {
	// Copy is the copy's id; "" means the one that a copy step before it has made.
	Copy string `json:"copy,omitempty"`
	// Routes say where the copy's files go.
	Routes []Route `json:"routes,omitempty"`
	// Skip are files of the copy, as patterns, that are left behind; Only those, by their paths, of which
	// alone this is about, none: all.
	Skip  []string `json:"skip,omitempty"`
	Only  []string `json:"only,omitempty"`
	Files int      `json:"files,omitempty"`
	Bytes int64    `json:"bytes,omitempty"`
	// BySample: what is staged is compared by a sample, and what an earlier changeover has
	// staged is known by its size and time.
	BySample bool `json:"bySample,omitempty"`
}

// RetitleStep is what a retitle step knows.
type RetitleStep struct {
	// Title is what is written into the staged world World in Dir.
	Title string `json:"title,omitempty"`
}

// SampleStep is what a sample step knows.
type SampleStep struct {
	// Names are the files of the sampled world in Dir; none: all of Dir.
	Names []string `json:"names,omitempty"`
	// Old marks samples of a world that must not come back: the proof of new ground.
	Old bool `json:"old,omitempty"`
}

// MoveStep is what a move step knows.
type MoveStep struct {
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

// WriteStep is what a write step knows.
type WriteStep struct {
	File   string          `json:"file,omitempty"`
	Syntax settings.Syntax `json:"syntax,omitzero"`
	Edits  []Edit          `json:"edits,omitempty"`
	// Keep is where the bytes before the write are kept.
	Keep string `json:"keep,omitempty"`
	// RestoreFrom holds earlier bytes that are put back whole when the file
	// still has the hash IfHash; otherwise only the edits are made.
	RestoreFrom string `json:"restoreFrom,omitempty"`
	IfHash      string `json:"ifHash,omitempty"`
	// Record is a backup's record in the vault, whose document of that file is written whole; the edits
	// are made in it.
	Record string `json:"record,omitempty"`
}

// StartStep is what a start step knows.
type StartStep struct {
	// Again marks a start that makes a world run once more which ran before: going
	// back leaves it running.
	Again bool `json:"again,omitempty"`
}

// CopyStep is what a copy step knows.
type CopyStep struct {
	// Pass marks a copy that is made while people play, to have less to do later.
	Pass bool `json:"pass,omitempty"`
	// Wholeness says what keeps the world from changing while it is copied: stopped, held or saved.
	// "": nothing does, and passes are made until two looks agree.
	Wholeness Wholeness `json:"wholeness,omitempty"`
	// ReadAll: every file is read, also one that an earlier backup has and that has not changed by
	// its size and time.
	ReadAll bool `json:"readAll,omitempty"`
	// Safety marks the copy of the world that a changeover replaces.
	Safety bool `json:"safety,omitempty"`
}

// Wholeness says how a copy of a world is known to be one state that the world had.
type Wholeness string

// How a copy is known to be one state. All but the last are whole.
const (
	WholeStopped   Wholeness = "stopped"   // nothing ran that could write to it
	WholeHeld      Wholeness = "held"      // the server held its writes
	WholeSaved     Wholeness = "saved"     // the server writes only when it is told to
	WholeStill     Wholeness = "still"     // two looks agreed, and nothing changed in between
	WholeDatabases Wholeness = "databases" // its databases are each of one moment, the files beside them stood still
	NotWhole       Wholeness = "moving"    // files changed while they were copied
)

// Whole reports whether a copy is one state that the world had at some moment.
func (s Wholeness) Whole() bool { return s != "" && s != NotWhole }

// Say says it in a sentence.
func (s Wholeness) Say() string {
	switch s {
	case WholeStopped:
		return "Whole: nothing was running that could write to it."
	case WholeHeld:
		return "Whole: the server held its writes while it was copied."
	case WholeSaved:
		return "Whole: the server had just saved, and writes only when it is told to."
	case WholeStill:
		return "Whole: it was looked at before and after, and nothing had changed in between."
	case WholeDatabases:
		return "Whole as far as can be seen: each database is as it was at one moment, and the files beside them " +
			"stood still; " +
			"two databases may be of moments a little apart."
	case NotWhole:
		return "Not sure to be whole: files changed while they were copied."
	}
	return "It is not known whether it is whole."
}

// TellStep is what a tell step knows.
type TellStep struct {
	// Tell names a line of the profile's console: hold, flush, release, load or save;
	// Back is the world to load again on the way back.
	Tell string `json:"tell,omitempty"`
	Back string `json:"back,omitempty"`
}

// WaitStep is what a wait step knows.
type WaitStep struct {
	// Until is what is waited for: Word, or a concern.
	Until string `json:"until,omitempty"`
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
func (s Step) Target(w game.WorldFormat, part, file string) (to string, ok bool) {
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
	if s.As != "" {
		file = w.Renamed(file, s.World, s.As)
	}
	return path.Join(r.To, strings.TrimPrefix(file, r.Under)), true
}

// Skipped reports whether a file of a copy is left behind on purpose.
func (s Step) Skipped(part, file string) bool {
	if len(s.Only) > 0 && (part != "" || !slices.Contains(s.Only, file)) {
		return true
	}
	return part == "" && slices.ContainsFunc(s.Skip, func(pattern string) bool { return world.Match(pattern, file) })
}

// Edit sets one key of a settings file.
type Edit struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	Was   string `json:"was"`
	// WasSet is false when the key did not stand in the file.
	WasSet bool `json:"wasSet"`
	// Opened says that the value is the world that the running server has opened, in
	// this form (name, file or path): it is known only then.
	Opened string `json:"opened,omitempty"`
	// World says that the key names the active world, in this form (name, file or path): a proof fails when it
	// reads back as another one.
	World string `json:"world,omitempty"`
	// Keeps says that the game never changes the key itself: a proof fails when it reads back different.
	Keeps bool `json:"keeps,omitempty"`
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
	// Fresh says that the world must be a new one, Own that the server names it by
	// itself. SeedText is a seed in words, whose number only the game knows; OldSeed
	// and OldID are those of the world before.
	Fresh    bool   `json:"fresh,omitempty"`
	Own      bool   `json:"own,omitempty"`
	SeedText string `json:"seedText,omitempty"`
	OldSeed  string `json:"oldSeed,omitempty"`
	OldID    string `json:"oldId,omitempty"`
	// Placed names a world that must stand on the server without running there.
	Placed string `json:"placed,omitempty"`
	// State is what the server must be afterwards; "" is running.
	State life.State `json:"state,omitempty"`
	// There are paths that must exist, a folder's with a slash at its end.
	There []string `json:"there,omitempty"`
	// Stored says that the copies are all that is proven: nothing is asked of the server.
	Stored bool `json:"stored,omitempty"`
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
	// Stands is how the server stood that the plan was made for.
	Stands server.Stands `json:"stands"`
	// Version is the server's version at that time; "" is not known.
	Version string `json:"version,omitempty"`
	// Undoes is the changeover that an undo takes back.
	Undoes int64 `json:"undoes,omitempty"`
	// From is the server that a clone is taken from, Copy the copy that is placed.
	From string `json:"from,omitempty"`
	Copy string `json:"copy,omitempty"`
	// Choices are the answers that the plan was made with.
	Choices map[string]string `json:"choices,omitempty"`
	// Then is what a person wanted, when another changeover had to come first.
	Then *Wish `json:"then,omitempty"`
}

// Touches is what the plan touches of the server's own settings and worlds.
func (p Plan) Touches(profile *game.Profile) server.Touched {
	files, names := map[string]bool{}, map[string]bool{}
	add := func(at string) {
		if at == "" || path.Dir(at) != p.Worlds {
			return
		}
		name := path.Base(at)
		names[name] = true
		if of, _, ok := profile.World.NameOf(name); ok && profile.World.Shape != game.ShapeFolder {
			names[of] = true // a session is told by its name
		}
	}
	for _, s := range p.Steps {
		if s.Server != "" && s.Server != p.Server {
			continue
		}
		if s.Kind == Write {
			files[s.File] = true
		}
		add(s.From)
		add(s.To)
		for _, name := range []string{s.World, s.As} {
			if name != "" {
				add(path.Join(p.Worlds, name))
			}
		}
	}
	if p.Expect.Folder != "" {
		add(path.Join(p.Worlds, p.Expect.Folder))
	}
	return server.Touched{Files: slices.Sorted(maps.Keys(files)), Names: slices.Sorted(maps.Keys(names))}
}

// StartsAfter reports whether the plan starts its server after a step, which therefore
// must find it down.
func (p Plan) StartsAfter(n int) bool {
	return slices.ContainsFunc(p.Steps[n+1:], func(s Step) bool { return s.Kind == Start && s.Server == "" })
}

// StopsBefore reports whether the plan stops its server before a step.
func (p Plan) StopsBefore(n int) bool {
	return slices.ContainsFunc(p.Steps[:n], func(s Step) bool { return s.Kind == Stop && s.Server == "" })
}

// LocksOut reports whether players are locked out while the plan is carried out.
func (p Plan) LocksOut() bool {
	return p.Kind != FirstStart &&
		slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Kind == Start && s.Server == "" })
}
