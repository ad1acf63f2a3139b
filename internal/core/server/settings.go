package server

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
)

// Document is one settings file and whether it could be read.
type Document struct {
	Name   string `json:"name"`
	File   string `json:"file"`
	Format string `json:"format"`
	// Hash is the SHA-256 of its bytes and those of the files it takes in, to notice
	// a change; "" if unreadable.
	Hash string `json:"hash"`
	Why  string `json:"why,omitempty"`
	// Modified is when it was changed last.
	Modified time.Time `json:"modified,omitzero"`
	// Absent says that there is no such file.
	Absent bool `json:"absent,omitempty"`
	// ReadOnly says that nobody may write the file.
	ReadOnly bool `json:"readOnly,omitempty"`
	// Includes are the files that it takes in; Others the files that servers on
	// other systems would read instead, and that are there as well.
	Includes []string `json:"includes,omitempty"`
	Others   []string `json:"others,omitempty"`
}

// Given is a value that one source gives for a key.
type Given struct {
	In    string `json:"in"` // name of the settings document, or command
	File  string `json:"file"`
	Key   string `json:"key"`
	Value string `json:"value"`
	Line  int    `json:"line,omitempty"`
	// Writes says how a world is named there: name, file or path.
	Writes string `json:"writes"`
}

// Held is a value that must hold for a setting to count.
type Held struct {
	Given
	Want  string `json:"want"`
	Found bool   `json:"found"`
}

// OK reports whether the value holds.
func (h Held) OK() bool { return h.Found && h.Value == h.Want }

// Setting is the effective value of one key and where it stands.
type Setting struct {
	Given
	Found bool `json:"found"`
	// Repeats are the lines of other occurrences in the same source, which the
	// effective one beats.
	Repeats []int `json:"repeats,omitempty"`
	// Hides are the values of later sources, which this one beats.
	Hides []Given `json:"hides,omitempty"`
	// With are the values that must hold with it.
	With []Held `json:"with,omitempty"`
	// Default says that no source gives a value and the game takes this one.
	Default bool `json:"default,omitempty"`
	// Fixed says that there is no source that could give another.
	Fixed bool `json:"fixed,omitempty"`
}

// Where names the place for people: file and line.
func (g Given) Where() string {
	switch {
	case g.In == game.InCommand:
		return "the start command, " + g.Key
	case g.Line == 0:
		return g.File
	}
	return fmt.Sprintf("%s line %d, %s", g.File, g.Line, g.Key)
}

// entry is a setting with the file in which it stands.
type entry struct {
	settings.Entry
	file string
}

// source is what can be read of one settings document, includes and all.
type source struct {
	name, file string
	entries    []entry // in the order in which they count
	// files and bytes count what was read for it.
	files, bytes int
}

// Bounds of files that take in files: how deep, and how many for one document.
const (
	deepestInclude = 4
	mostIncludes   = 100
	mostIncluded   = 2 * settings.LongestDocument // in bytes
)

// reader reads all settings documents of a server.
type reader struct {
	fsys    fs.FS
	profile *game.Profile
	system  string
	sources map[string]source
	files   map[string]*settings.Document // by path
}

func readSettings(fsys fs.FS, p *game.Profile, m Machine, files map[string]*settings.Document) (
	[]Document, map[string]source,
) {
	r := reader{fsys: fsys, profile: p, system: m.System, sources: map[string]source{}, files: files}
	docs := []Document{}
	names := make([]string, 0, len(p.Server.Settings))
	for name := range p.Server.Settings {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		docs = append(docs, r.document(name))
	}
	args := source{name: game.InCommand}
	for _, e := range settings.Arguments(m.Command) {
		args.entries = append(args.entries, entry{Entry: e})
	}
	r.sources[game.InCommand] = args
	return docs, r.sources
}

func (r reader) document(name string) Document {
	conf := r.profile.Server.Settings[name]
	d := Document{Name: name, File: r.choose(conf.File), Format: conf.Format}
	for _, system := range game.Systems {
		if other, ok := conf.File[system]; ok && other != d.File && exists(r.fsys, other) {
			d.Others = append(d.Others, other)
		}
	}
	h := sha256.New()
	src := source{name: name, file: d.File}
	err := r.read(d.File, conf, 0, func(data []byte, file string) {
		h.Write(data)
		if file != d.File {
			d.Includes = append(d.Includes, file)
		}
	}, &src)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !exists(r.fsys, d.File):
		d.Why, d.Absent = "there is no "+d.File, true
	case err != nil:
		d.Why = err.Error()
	default:
		d.Hash = hex.EncodeToString(h.Sum(nil))
		r.sources[name] = src
		if info, err := fs.Stat(r.fsys, d.File); err == nil {
			d.ReadOnly = info.Mode().Perm()&0o222 == 0
			d.Modified = info.ModTime()
		}
	}
	return d
}

// choose takes the path of the server's system; where only another system's file is
// there (a server that was moved, or runs in a compatibility layer), that one.
func (r reader) choose(paths game.PerSystem) string {
	file := paths.For(r.system)
	if exists(r.fsys, file) {
		return file
	}
	for _, system := range game.Systems {
		if other, ok := paths[system]; ok && exists(r.fsys, other) {
			return other
		}
	}
	return file
}

func exists(fsys fs.FS, name string) bool {
	_, err := fs.Stat(fsys, name)
	return err == nil
}

// read adds a file's entries, and at its place those of each file it takes in.
func (r reader) read(file string, conf game.Settings, depth int, saw func([]byte, string), out *source) error {
	if depth > deepestInclude {
		return fmt.Errorf("%s: files take in each other more than %d deep", file, deepestInclude)
	}
	if out.files++; out.files > mostIncludes {
		return fmt.Errorf("%s: more than %d files are taken in", file, mostIncludes)
	}
	data, err := budget.ReadFile(r.fsys, file, settings.LongestDocument)
	if err != nil {
		return err
	}
	doc, err := settings.Parse(file, conf.Syntax(), data)
	if err == nil {
		err = conf.Include.Fits(len(data))
	}
	if out.bytes += len(data); err == nil && out.bytes > mostIncluded {
		err = fmt.Errorf("%s: with it more than %d bytes are taken in", file, mostIncluded)
	}
	if err != nil {
		return err
	}
	saw(data, file)
	r.files[file] = doc
	includes := map[int]string{}
	if !conf.Include.IsZero() {
		includes = doc.Includes(func(line string) (string, bool) {
			groups, ok := conf.Include.Find(line)
			return groups["value"], ok
		})
	}
	at := 0
	take := func(before int) error {
		for line := at + 1; line < before; line++ {
			if inner, ok := includes[line]; ok {
				inner = path.Join(path.Dir(file), strings.ReplaceAll(inner, `\`, "/"))
				if !fs.ValidPath(inner) {
					return fmt.Errorf("%s line %d takes in %s, outside of the server's folder", file, line, inner)
				}
				if err := r.read(inner, conf, depth+1, saw, out); err != nil {
					return fmt.Errorf("%s line %d takes in %s: %w", file, line, inner, err)
				}
			}
		}
		at = max(at, before-1)
		return nil
	}
	for _, e := range doc.Entries() {
		if err := take(e.Line); err != nil {
			return err
		}
		out.entries = append(out.entries, entry{Entry: e, file: file})
	}
	last := 0
	for line := range includes {
		last = max(last, line)
	}
	return take(last + 1)
}

// Hash gives the hexadecimal SHA-256 of a settings file's bytes.
func Hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// effective finds the first place that gives a value and what it hides. When none
// gives one, the result names the first place that can be written, which is where
// a value would go.
func effective(sources map[string]source, p *game.Profile, places []game.KeyPlace,
	choose func(game.PerSystem) string) Setting {
	var out Setting
	named := false // out names a place
	for _, kp := range places {
		if kp.Default != "" {
			if !out.Found {
				out.Value, out.Default, out.Fixed = kp.Default, true, !named
			}
			continue
		}
		one := Given{Key: kp.Key, In: kp.In, File: choose(p.Server.Settings[kp.In].File), Writes: kp.Writes}
		if !named && kp.In != game.InCommand {
			out.Given, out.With, named = one, companions(sources, p, kp.With, choose), true
		}
		var all []entry
		for _, e := range sources[kp.In].entries {
			if e.Key == kp.Key {
				all = append(all, e)
			}
		}
		if len(all) == 0 {
			continue
		}
		e := all[len(all)-1]
		one.Value, one.Line = e.Value, e.Line
		if e.file != "" {
			one.File = e.file
		}
		if out.Found {
			out.Hides = append(out.Hides, one)
			continue
		}
		out.Given, out.Found, named = one, true, true
		out.With = companions(sources, p, kp.With, choose)
		for _, other := range all[:len(all)-1] {
			out.Repeats = append(out.Repeats, other.Line)
		}
	}
	return out
}

func companions(sources map[string]source, p *game.Profile, with []game.Companion,
	choose func(game.PerSystem) string) []Held {
	var out []Held
	for _, c := range with {
		h := Held{Given: Given{Key: c.Key, In: c.In, File: choose(p.Server.Settings[c.In].File)}, Want: c.Value}
		for _, e := range sources[c.In].entries {
			if e.Key == c.Key {
				h.Value, h.Line, h.File, h.Found = e.Value, e.Line, e.file, true
			}
		}
		out = append(out, h)
	}
	return out
}
