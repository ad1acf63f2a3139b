// Package sketch proposes a first game profile from examples: a world and a
// server's folder. It says of each part how sure it is. What it proposes reads
// through the same language as any profile, so a person goes on from there.
package sketch

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"sort"
	"strings"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
)

// How sure a part is.
const (
	Sure   = "sure"   // it was found, and nothing else fits
	Likely = "likely" // it was found, and other things fit as well
	Guess  = "guess"  // nothing was found: a person must fill it in
)

// Part is one part of the proposal.
type Part struct {
	Key  string `json:"key"`  // where it stands in the profile, such as world.facts.seed
	Text string `json:"text"` // what is proposed
	Sure string `json:"sure"` // sure, likely or guess
	Why  string `json:"why"`
}

// Input is what a sketch is made from. Each tree may be nil.
type Input struct {
	ID string // of the game; a proposal is made from the folder names when empty
	// World is a tree and the path of one world in it: a folder or a file.
	World     fs.FS
	WorldPath string
	// Server is the tree of a server's root.
	Server fs.FS
	// Roots are the absolute paths of the server's root, which settings may name.
	Roots []string
}

// Proposal is a first profile.
type Proposal struct {
	Profile string `json:"profile"` // the document, with its doubts as comments
	Parts   []Part `json:"parts"`
	// Complaints are what the lint says of it; a person must settle these.
	Complaints []game.Complaint `json:"complaints"`
}

// drawing is a proposal in the making.
type drawing struct {
	in     Input
	budget *budget.Budget
	parts  []Part
	// What was found, as the profile writes it.
	shape, files, begins string
	require, expect      []string
	locks                []string
	join                 string // where the port stands
	facts                map[string]string
	worldsFolder         string
	names                []string // of worlds on the server
	ending               string   // of a world that is a file
	settings             []document
	keys                 map[string][]string
	console              map[string]string
	logFile              string
	version              string
}

func (d *drawing) note(key, text, sure, why string) {
	d.parts = append(d.parts, Part{key, text, sure, why})
}

// Draw makes the proposal. The error is set only when an example cannot be read
// at all.
func Draw(in Input) (Proposal, error) {
	d := &drawing{
		in:      in,
		budget:  budget.Request(),
		facts:   map[string]string{},
		keys:    map[string][]string{},
		console: map[string]string{},
	}
	if in.World != nil {
		if err := d.world(); err != nil {
			return Proposal{}, err
		}
	}
	if in.Server != nil {
		if err := d.server(); err != nil {
			return Proposal{}, err
		}
	}
	p := Proposal{Profile: d.document(), Parts: d.parts}
	_, p.Complaints = game.Lint([]byte(p.Profile))
	if p.Complaints == nil {
		p.Complaints = []game.Complaint{}
	}
	return p, nil
}

// world looks at the example: its shape, what marks it, what stands in it.
func (d *drawing) world() error {
	info, err := fs.Stat(d.in.World, d.in.WorldPath)
	if err != nil {
		return err
	}
	parent := path.Dir(d.in.WorldPath)
	siblings, err := fs.ReadDir(d.in.World, parent)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		d.file(siblings, parent)
		return nil
	}
	d.shape = game.ShapeFolder
	d.note("world.shape", "folder", Sure, "the example is a folder")
	d.marks(siblings, parent)
	d.readFacts(d.in.World, d.in.WorldPath, d.in.WorldPath)
	return nil
}

// file sketches a world that is one file.
func (d *drawing) file(siblings []fs.DirEntry, parent string) {
	base := path.Base(d.in.WorldPath)
	d.shape, d.ending = game.ShapeFile, path.Ext(base)
	d.files = `["{name}` + d.ending + `"]`
	d.session(siblings, base)
	same := 0
	var common []byte
	for _, e := range siblings {
		if e.IsDir() || path.Ext(e.Name()) != d.ending {
			continue
		}
		head := first(d.in.World, path.Join(parent, e.Name()), 4)
		if same == 0 {
			common = head
		}
		for len(common) > 0 && !strings.HasPrefix(string(head), string(common)) {
			common = common[:len(common)-1]
		}
		same++
	}
	sure := Likely
	if same > 1 {
		sure = Sure
	}
	why := fmt.Sprintf("the example is a file; %d of its kind stand there", same)
	if d.shape == game.ShapeSession {
		why = "files of one name and different numbers stand there"
	}
	d.note("world.shape", d.shape, sure, why)
	if len(common) >= 3 {
		d.begins = fmt.Sprintf("[hex=%x]", common)
		if printable.Match(common) {
			d.begins = "[" + yamlText(string(common)) + "]"
		}
		d.note("world.recognise.begins", d.begins, sure, "every such file begins so")
	}
	d.readFacts(d.in.World, parent, d.in.WorldPath)
}

// numbered parts a file's name into what a session's files share, and a number.
var numbered = regexp.MustCompile(`^(.+?)([._-])\d+$`)

// session finds out whether the example is one of several files of one name.
func (d *drawing) session(siblings []fs.DirEntry, base string) {
	m := numbered.FindStringSubmatch(strings.TrimSuffix(base, d.ending))
	if m == nil {
		return
	}
	for _, e := range siblings {
		other := numbered.FindStringSubmatch(strings.TrimSuffix(e.Name(), d.ending))
		if other != nil && e.Name() != base && other[1] == m[1] && path.Ext(e.Name()) == d.ending {
			d.shape = game.ShapeSession
			d.files = `["{name}` + m[2] + `*` + d.ending + `"]`
			return
		}
	}
}

// nameOf gives the name of a world that is a file, or one of several.
func (d *drawing) nameOf(file string) string {
	stem := strings.TrimSuffix(path.Base(file), d.ending)
	if m := numbered.FindStringSubmatch(stem); m != nil && d.shape == game.ShapeSession {
		return m[1]
	}
	return stem
}

var (
	printable = regexp.MustCompile(`^[A-Za-z0-9]+$`)
	// passing are files that come and go.
	passing = regexp.MustCompile(`(?i)(lock|\.log|\.tmp|\.bak|\.old|\.png|\.jpe?g|session|autosave)`)
	// heads are names that files often have that say what a world is.
	heads = regexp.MustCompile(`(?i)(world|level|meta|head|heart|info|save|map|main)`)
)

// marks chooses what every world of the kind has.
func (d *drawing) marks(siblings []fs.DirEntry, parent string) {
	entries, err := fs.ReadDir(d.in.World, d.in.WorldPath)
	if err != nil {
		return
	}
	others := 0
	shared := map[string]int{}
	for _, s := range siblings {
		if !s.IsDir() || path.Join(parent, s.Name()) == d.in.WorldPath {
			continue
		}
		here := map[string]bool{}
		inside, _ := fs.ReadDir(d.in.World, path.Join(parent, s.Name())) // an unreadable one counts for nothing
		for _, e := range inside {
			here[e.Name()] = true
		}
		any := false
		for _, e := range entries {
			if here[e.Name()] {
				shared[e.Name()]++
				any = true
			}
		}
		if any {
			others++
		}
	}
	var files, folders, locks []string
	for _, e := range entries {
		switch {
		case passing.MatchString(e.Name()):
			if strings.Contains(strings.ToLower(e.Name()), "lock") {
				locks = append(locks, e.Name())
			}
		case others > 0 && shared[e.Name()] < others:
		case e.IsDir():
			folders = append(folders, e.Name()+"/")
		default:
			files = append(files, e.Name())
		}
	}
	sort.SliceStable(files, func(i, j int) bool { return heads.MatchString(files[i]) && !heads.MatchString(files[j]) })
	sure, why := Likely, "it stands in the example; there is no other world beside it to compare with"
	if others > 0 {
		sure, why = Sure, fmt.Sprintf("it stands in the example and in %d others beside it", others)
	}
	d.require = files[:min(2, len(files))]
	if len(files) == 0 {
		d.require = folders[:min(1, len(folders))]
		folders = folders[min(1, len(folders)):]
	}
	d.expect = folders[:min(3, len(folders))]
	d.note("world.recognise.require", strings.Join(d.require, ", "), sure, why)
	if len(locks) > 0 {
		d.locks = locks
		d.note("world.locks", strings.Join(locks, ", "), Likely, "its name says so")
	}
}

func first(fsys fs.FS, name string, n int) []byte {
	f, err := fsys.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close() //nolint:errcheck // only read
	buf := make([]byte, n)
	got, _ := f.Read(buf) // what came is enough
	return buf[:got]
}
