// Package world recognises worlds in file trees and reads what they say of
// themselves.
package world

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode"

	"reshard/internal/core/budget"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// Bounds of the search for worlds.
const (
	deepest     = 12      // folders below the start
	mostVisited = 200_000 // entries
)

// Glance is how much of a file that is left behind goes along with its world, so that whoever takes that
// sees it, too, in bytes: more than any beginning by which files are told apart.
const Glance = 4096

// Found is a world recognised in a tree.
type Found struct {
	Game *game.Profile
	// Root is the world's folder, from the tree's root; "." is the root itself. Of a
	// world that is files it is the folder they stand in.
	Root string
	// Folder is the world's name on disk: its folder's name, or what its files' names
	// share. For a world at the top of an archive it is the name the caller gave.
	Folder string
	// Files are the names of the files that the world is; empty for a folder.
	Files []string
	// Realms maps a realm's name to its folder, nested or split.
	Realms map[string]string
	// Layout is nested, split, mixed or "" (the world has no realms yet).
	Layout string
	// Missing lists what the profile expects and the world lacks.
	Missing []string
	// LeftOut are files that are called as those of the session, and begin otherwise.
	LeftOut []string
	// Wrappers are the folders around the world, outermost first.
	Wrappers []string
}

// Main is the file that {file} stands for: the last by name of those that follow
// the first pattern.
func (f Found) Main() string {
	main := ""
	for _, name := range f.Files {
		if _, pattern, _ := f.Game.World.NameOf(name); pattern == 0 || main == "" {
			main = name
		}
	}
	return main
}

// At is where the world stands, for people: its folder, or its main file.
func (f Found) At() string {
	if len(f.Files) > 0 {
		return path.Join(f.Root, f.Main())
	}
	return f.Root
}

// Search is the outcome of looking for worlds.
type Search struct {
	Worlds []Found
	// Near lists folders that have some but not all of what marks a world.
	Near []Near
	// Top lists names at the start (at most 12), to say what was found instead.
	Top []string
	// Entries counts what was visited.
	Entries int
}

// Near is a folder that almost is a world.
type Near struct {
	Game    string   `json:"game"`
	Folder  string   `json:"folder"`
	Has     []string `json:"has"`
	Missing []string `json:"missing"`
}

// Find looks for worlds at and below start. name is what to call a world that
// stands at the tree's root, where no folder name is on record.
func Find(fsys fs.FS, start, name string, profiles []*game.Profile) (Search, error) {
	s := Search{}
	err := fs.WalkDir(fsys, start, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if p == start {
				return err
			}
			return fs.SkipDir // unreadable below: the rest can still be looked at
		}
		s.Entries++
		if s.Entries > mostVisited {
			return fault.New(fault.TooLarge, "look for worlds in", start, "more than %d files and folders", mostVisited)
		}
		rel := strings.Trim(strings.TrimPrefix(p, start), "/")
		if start == "." {
			rel = p
		}
		if p != start && !strings.Contains(rel, "/") && len(s.Top) < 12 {
			s.Top = append(s.Top, topName(p, d))
		}
		if !d.IsDir() {
			if p == start {
				s.files(fsys, path.Dir(p), path.Base(p), profiles)
			}
			return nil
		}
		if p != start && strings.Count(rel, "/") >= deepest {
			return fs.SkipDir
		}
		if s.folder(fsys, p, name, profiles) {
			return fs.SkipDir
		}
		s.files(fsys, p, "", profiles)
		return nil
	})
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return s, fault.New(fault.NotFound, "look for worlds in", start, "there is no such file or folder")
		}
		return s, fault.Wrap(fault.Internal, "look for worlds in", start, err)
	}
	return s, nil
}

// OwnName reports whether a name is Reshard's own, of what it keeps beside or among worlds: never
// a world.
func OwnName(name string) bool { return name == ".reshard" || strings.HasPrefix(name, ".reshard-") }

// Direct lists the worlds of a game that stand directly in a folder, in the order
// of their names.
func Direct(fsys fs.FS, dir string, p *game.Profile) ([]Found, error) {
	s := Search{}
	entries, err := fs.ReadDir(fsys, dir)
	if err != nil {
		return nil, err
	}
	if p.World.Shape != game.ShapeFolder {
		s.files(fsys, dir, "", []*game.Profile{p})
		return s.Worlds, nil
	}
	for _, e := range entries {
		if e.IsDir() && !OwnName(e.Name()) {
			s.folder(fsys, path.Join(dir, e.Name()), e.Name(), []*game.Profile{p})
		}
	}
	return s.Worlds, nil
}

func topName(p string, d fs.DirEntry) string {
	if d.IsDir() {
		return path.Base(p) + "/"
	}
	return path.Base(p)
}

func wrappersOf(dir string) []string {
	if dir == "." {
		return nil
	}
	return strings.Split(dir, "/")
}

// folder recognises a world that is a folder.
func (s *Search) folder(fsys fs.FS, dir, name string, profiles []*game.Profile) bool {
	for _, p := range profiles {
		if p.World.Shape != game.ShapeFolder {
			continue
		}
		has, missing := present(fsys, dir, p.World.Recognise.Require)
		if len(missing) > 0 {
			if len(has) > 0 {
				s.Near = append(s.Near, Near{Game: p.ID, Folder: dir, Has: has, Missing: missing})
			}
			continue
		}
		f := Found{Game: p, Root: dir, Folder: path.Base(dir)}
		if dir == "." {
			f.Folder = name
		} else {
			f.Wrappers = wrappersOf(path.Dir(dir))
		}
		_, f.Missing = present(fsys, dir, p.World.Recognise.Expect)
		f.findRealms(fsys)
		s.Worlds = append(s.Worlds, f)
		return true
	}
	return false
}

// files recognises worlds that are files of a folder; only limits it to the world
// that this file is part of.
func (s *Search) files(fsys fs.FS, dir, only string, profiles []*game.Profile) {
	var entries []fs.DirEntry
	for _, p := range profiles {
		if p.World.Shape == game.ShapeFolder {
			continue
		}
		if entries == nil {
			var err error
			if entries, err = fs.ReadDir(fsys, dir); err != nil {
				return
			}
		}
		byName := map[string]int{} // index into s.Worlds, by name
		odd := map[string][]string{}
		for _, e := range entries {
			name, _, ok := p.World.NameOf(e.Name())
			if !ok || !e.Type().IsRegular() {
				continue
			}
			if file := path.Join(dir, e.Name()); !begins(fsys, file, p.World.Recognise.Marks()) {
				odd[name] = append(odd[name], e.Name())
				continue
			}
			at, known := byName[name]
			if known && p.World.Shape == game.ShapeSession {
				s.Worlds[at].Files = append(s.Worlds[at].Files, e.Name())
				continue
			}
			byName[name] = len(s.Worlds)
			s.Worlds = append(s.Worlds, Found{
				Game:     p,
				Root:     dir,
				Folder:   name,
				Files:    []string{e.Name()},
				Wrappers: wrappersOf(dir),
				Realms:   map[string]string{},
			})
		}
		for _, name := range sortedKeys(odd) {
			_, known := byName[name]
			joins := known && p.World.Shape == game.ShapeSession // then the session tells of it
			for _, file := range odd[name] {
				if only == file || only == "" && !joins {
					s.Near = append(
						s.Near, Near{
							Game:    p.ID,
							Folder:  path.Join(dir, file),
							Has:     []string{"the name"},
							Missing: []string{"such beginning as " + beginnings(p) + " (it may be cut short)"},
						})
				}
			}
		}
		for name, at := range byName {
			if p.World.Shape == game.ShapeSession {
				s.Worlds[at].join(odd[name])
			}
		}
	}
	if only != "" {
		s.Worlds = slices.DeleteFunc(s.Worlds, func(f Found) bool { return !slices.Contains(f.Files, only) })
	}
}

// join adds files that are called as those of a session and begin otherwise: those that its game needs are members
// all the same, the others are left out, and told.
func (f *Found) join(odd []string) {
	is := func(member, file string) bool {
		match, err := path.Match(strings.ReplaceAll(member, "{name}", escaped(f.Folder)), file)
		return err == nil && match
	}
	members := f.Game.World.Recognise.Members
	for _, file := range odd {
		if slices.ContainsFunc(members, func(m string) bool { return is(m, file) }) {
			f.Files = append(f.Files, file)
		} else {
			f.LeftOut = append(f.LeftOut, file)
		}
	}
	slices.Sort(f.Files)
	for _, m := range members {
		if !slices.ContainsFunc(f.Files, func(file string) bool { return is(m, file) }) {
			f.Missing = append(f.Missing, strings.ReplaceAll(m, "{name}", f.Folder))
		}
	}
}

// escaped gives a name as a pattern that only it matches.
func escaped(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(name)
}

// begins reports whether a file begins with one of the marks; without any, each does.
func begins(fsys fs.FS, name string, marks [][]byte) bool {
	if len(marks) == 0 {
		return true
	}
	f, err := fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close() //nolint:errcheck // only read
	longest := 0
	for _, m := range marks {
		longest = max(longest, len(m))
	}
	head := make([]byte, longest)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return false
	}
	return slices.ContainsFunc(marks, func(m []byte) bool { return bytes.HasPrefix(head[:n], m) })
}

func present(fsys fs.FS, dir string, names []string) (has, missing []string) {
	for _, n := range names {
		info, err := fs.Stat(fsys, path.Join(dir, n))
		if err == nil && info.IsDir() == strings.HasSuffix(n, "/") {
			has = append(has, n)
		} else {
			missing = append(missing, n)
		}
	}
	return has, missing
}

func (f *Found) findRealms(fsys fs.FS) {
	f.Realms = map[string]string{}
	layouts := map[string]bool{}
	for name, r := range f.Game.World.Realms {
		if nested := path.Join(f.Root, r.Nested); isDir(fsys, nested) {
			f.Realms[name] = nested
			layouts["nested"] = true
		}
		if f.Root == "." {
			continue // nothing stands beside the root
		}
		if split := path.Join(path.Dir(f.Root), r.SplitFor(f.Folder)); isDir(fsys, split) {
			f.Realms[name] = split
			layouts["split"] = true
		}
	}
	switch {
	case len(layouts) == 2:
		f.Layout = "mixed"
	case layouts["nested"]:
		f.Layout = "nested"
	case layouts["split"]:
		f.Layout = "split"
	}
}

func isDir(fsys fs.FS, name string) bool {
	info, err := fs.Stat(fsys, name)
	return err == nil && info.IsDir()
}

// Only picks one world of a search. root is what a person asked for ("" when
// nothing): the root, its last element, or the folder's name.
func (s Search) Only(what, root string, profiles []*game.Profile) (Found, error) {
	if root != "" {
		for _, w := range s.Worlds {
			if w.At() == strings.Trim(root, "/") || w.Folder == root {
				return w, nil
			}
		}
		return Found{}, fault.New(fault.NotFound, "choose a world in", what, "there is no world at %q; there is %s",
			root, s.roots())
	}
	switch len(s.Worlds) {
	case 1:
		return s.Worlds[0], nil
	case 0:
		return Found{}, s.notAWorld(what, profiles)
	}
	e := fault.New(fault.ManyWorlds, "choose a world in", what, "it holds %d worlds: %s", len(s.Worlds), s.roots())
	for _, w := range s.Worlds {
		e.Options = append(e.Options, w.At())
	}
	return Found{}, e
}

// mostLabelled bounds how many worlds are read to tell a person which is which.
const mostLabelled = 50

// label says what each of several worlds is: folders may have names that mean nothing.
func (s Search) label(fsys fs.FS, e *fault.Error) {
	told := make([]string, 0, len(s.Worlds))
	all := budget.Request()
	for i, f := range s.Worlds {
		label := ""
		if i < mostLabelled {
			if w, err := ReadWithin(all.Part(), fsys, f); err == nil {
				label = fmt.Sprintf("“%s”, %s, last played %s", w.Title, w.Game, w.LastPlayed.Format(time.DateOnly))
			}
		}
		e.Labels = append(e.Labels, label)
		if len(told) < 8 {
			told = append(told, fmt.Sprintf("%s (%s)", f.At(), label))
		} else if len(told) == 8 {
			told = append(told, "…")
		}
	}
	e.What = fmt.Sprintf("it holds %d worlds: %s", len(s.Worlds), strings.Join(told, "; "))
}

func (s Search) roots() string {
	names := make([]string, 0, len(s.Worlds))
	for _, w := range s.Worlds {
		names = append(names, w.At())
	}
	sort.Strings(names)
	if len(names) > 8 {
		names = append(names[:8], "…")
	}
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// Label is what to call a world at the top of an archive: the archive's name without
// its ending, where a game's own packed ending counts as one.
func Label(archive string, profiles []*game.Profile) string {
	name := path.Base(archive)
	best := path.Ext(name)
	for _, p := range profiles {
		for _, ending := range p.World.Packed.Endings {
			if len(ending) > len(best) && strings.HasSuffix(strings.ToLower(name), strings.ToLower(ending)) {
				best = name[len(name)-len(ending):]
			}
		}
	}
	if label := strings.TrimSuffix(name, best); label != "" {
		return label
	}
	return name
}

// IsFile reports whether a file's name is that of a world, or of a part of one, in
// a game whose worlds are files.
func IsFile(name string, profiles []*game.Profile) bool {
	return slices.ContainsFunc(profiles, func(p *game.Profile) bool {
		_, _, ok := p.World.NameOf(name)
		return ok && p.World.Shape != game.ShapeFolder
	})
}

// Marks says what marks a game's worlds.
func Marks(p *game.Profile) string {
	if p.World.Shape == game.ShapeFolder {
		return strings.Join(p.World.Recognise.Require, " and ")
	}
	text := strings.Join(p.World.Files, " or ")
	if b := beginnings(p); b != "" {
		text += ", beginning with " + b
	}
	return text
}

// beginnings writes what files begin with; line breaks as in a program.
func beginnings(p *game.Profile) string {
	words := make([]string, 0, len(p.World.Recognise.Begins))
	for _, b := range p.World.Recognise.Begins {
		if strings.ContainsFunc(b, unicode.IsControl) {
			b = strconv.Quote(b)
		}
		words = append(words, b)
	}
	return strings.Join(words, " or ")
}

func (s Search) notAWorld(what string, profiles []*game.Profile) error {
	looked := make([]string, 0, len(profiles))
	for _, p := range profiles {
		looked = append(looked, p.Title+" ("+Marks(p)+")")
	}
	found := "nothing"
	if len(s.Top) > 0 {
		found = strings.Join(s.Top, ", ")
	}
	text := "no world of a known game. Looked for: " + strings.Join(looked, "; ") + ". Found instead: " + found
	for i, n := range s.Near {
		if i == 3 {
			break
		}
		text += ". " + n.Folder + " is nearly a world of " + n.Game + ": it has " + strings.Join(n.Has,
			", ") + " but no " + strings.Join(
			n.Missing, ", ")
	}
	return fault.New(fault.NotAWorld, "recognise", what, "%s", text)
}

// ByName gives the world of exactly that name directly in a folder. The error has code
// NotFound when there is none.
func ByName(fsys fs.FS, dir, name string, p *game.Profile) (Found, error) {
	list, err := Direct(fsys, dir, p)
	if err != nil {
		return Found{}, fault.Wrap(fault.NotFound, "look for worlds in", dir, err)
	}
	i := slices.IndexFunc(list, func(f Found) bool { return f.Folder == name })
	if i < 0 {
		return Found{}, fault.New(fault.NotFound, "find world", path.Join(dir, name), "there is no world of that name")
	}
	return list[i], nil
}
