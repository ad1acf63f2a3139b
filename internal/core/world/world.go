package world

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"
	"unicode"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// World is what a world says of itself. It is plain data: it is stored with a
// copy, sent through the API and compared by the fit rules.
type Facts struct {
	Game   string `json:"game"`
	Title  string `json:"title"`  // the name players see; "" when it could not be read
	Folder string `json:"folder"` // the name on disk, without an ending
	// Members are the files that the world is; empty for a folder.
	Members []string `json:"members,omitempty"`
	// LeftOut are files that are called as its members, begin otherwise, and are not carried.
	LeftOut []string `json:"leftOut,omitempty"`
	Root    string   `json:"root"`   // where it stood in the tree that was read
	Layout  string   `json:"layout"` // realms: nested, split, mixed or ""
	// Realms are the realms the world has, in order.
	Realms  []string             `json:"realms"`
	Facts   map[string]fact.Fact `json:"facts"`
	Players []Player             `json:"players"`
	// PlayerCount is how many player records there are; Players are the first of them.
	PlayerCount int       `json:"playerCount"`
	Files       int       `json:"files"`
	Bytes       int64     `json:"bytes"`
	LastPlayed  time.Time `json:"lastPlayed"` // from a fact, else the newest file
	Warnings    []string  `json:"warnings"`
	// Overrides are its files that beat a server's settings, Locks those that say
	// that it was open, Missing what a whole world has and it lacks.
	Overrides []string `json:"overrides,omitempty"`
	Locks     []string `json:"locks,omitempty"`
	Missing   []string `json:"missing,omitempty"`
	// Wrappers are the folders around it in what was read, outermost first.
	Wrappers []string `json:"wrappers,omitempty"`
	// Settings are values that belong to the world, by the profile's names of their
	// keys, when it was copied from a server.
	Settings map[string]string `json:"settings,omitempty"`
	// Why says how the world was recognised.
	Why string `json:"why"`
}

// Player is one player record.
type Player struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Host marks the fixed id of who played alone.
	Host bool `json:"host,omitempty"`
	// At is where the player stands; left out where that is not known.
	At *Point `json:"at,omitempty"`
}

// Fact gives a fact by name; an unknown one when the profile has none such.
func (w Facts) Fact(name string) fact.Fact {
	if f, ok := w.Facts[name]; ok {
		return f
	}
	return fact.Fact{Name: name, Why: "the profile does not say where a " + name + " stands"}
}

// mostRecords bounds the rows that are read of a database of players.
const mostRecords = 100_000

// mostPlayersNamed bounds how many records are opened for their names.
const mostPlayersNamed = 500

// Read reads a found world. It opens only what the profile asks for and lists
// the rest. The error is set only when the tree cannot be listed; damage in
// files becomes reasons on facts and warnings.
func Read(fsys fs.FS, f Found) (Facts, error) { return ReadWithin(budget.World(), fsys, f) }

// ReadWithin reads a found world as one of several, whose budget is done with it.
func ReadWithin(b *budget.Budget, fsys fs.FS, f Found) (Facts, error) {
	defer b.Done()
	w := Facts{
		Game: f.Game.ID, Folder: f.Folder, Root: f.Root, Layout: f.Layout,
		Facts: map[string]fact.Fact{}, Players: []Player{}, Realms: []string{}, Warnings: []string{},
		Why: "has " + Marks(f.Game), Members: f.Files, LeftOut: f.LeftOut, Missing: f.Missing, Wrappers: f.Wrappers,
	}
	if len(f.Files) > 0 {
		w.Why = "is called " + Marks(f.Game)
	}
	for name := range f.Realms {
		w.Realms = append(w.Realms, name)
	}
	sort.Strings(w.Realms)
	parts, err := Parts(fsys, f)
	if err != nil {
		return w, err
	}
	for _, e := range parts {
		if e.Dir {
			continue
		}
		w.Files++
		w.Bytes += e.Size
		if e.ModTime.After(w.LastPlayed) {
			w.LastPlayed = e.ModTime
		}
	}
	root, err := fs.Sub(fsys, f.Root)
	if err != nil {
		return w, fault.Wrap(fault.Internal, "open", f.Root, err)
	}
	r := fact.NewReader(root, b)
	r.File, r.Name = f.Main(), f.Folder
	for name, sources := range f.Game.World.Facts {
		w.Facts[name] = r.Read(name, sources)
	}
	w.Title = w.Fact("title").Text
	if _, told := f.Game.World.Facts["title"]; !told {
		w.Title = f.Folder // the game knows no other name
	}
	if lp := w.Fact("last-played"); lp.Known() {
		if t, err := time.Parse(time.RFC3339, lp.Text); err == nil {
			w.LastPlayed = t
		}
	}
	w.LastPlayed = w.LastPlayed.UTC().Truncate(time.Second)
	w.readPlayers(root, r, f.Game)
	w.warn(root, f)
	w.Warnings = append(w.Warnings, elsewhere(f.Folder, parts)...)
	w.bound()
	return w, nil
}

func (w *Facts) readPlayers(root fs.FS, r *fact.Reader, p *game.Profile) {
	pl := p.World.Players
	if pl == nil {
		return
	}
	defer func() {
		for i := range w.Players {
			w.Players[i].Host = pl.Host != "" && game.SameID(pl.ID, w.Players[i].ID, pl.Host)
		}
	}()
	if pl.Rows != nil && pl.Rows.Query == "" {
		list := r.Read("players", game.Sources{*pl.Rows})
		if !list.Known() {
			w.Warnings = append(w.Warnings, "player records do not read: "+list.Why)
		}
		for _, it := range list.Items {
			w.Players = append(w.Players, Player{ID: it.ID, Name: it.Name})
		}
		return
	}
	if pl.Rows != nil {
		if _, err := fs.Stat(root, pl.Rows.Read); err != nil {
			return // the database appears with the first player
		}
		rows, err := r.Rows(*pl.Rows, mostRecords)
		if err != nil {
			w.Warnings = append(w.Warnings, fmt.Sprintf("player records do not read: %s: %v", pl.Rows.Read, err))
		}
		for _, row := range rows {
			one := Player{ID: row[0], Name: row[len(row)-1]}
			if len(row) == 4 {
				one.At = point(row[1], row[2])
			}
			w.Players = append(w.Players, one)
		}
		return
	}
	before, after, _ := strings.Cut(path.Base(pl.Each), "{id}")
	entries, err := fs.ReadDir(root, path.Dir(pl.Each))
	if err != nil {
		return
	}
	for _, e := range entries {
		id, ok := strings.CutPrefix(e.Name(), before)
		if !ok || e.IsDir() || !strings.HasSuffix(id, after) {
			continue
		}
		one := Player{ID: strings.TrimSuffix(id, after)}
		if pl.Name != nil && len(w.Players) < mostPlayersNamed {
			src := *pl.Name
			src.Read = path.Join(path.Dir(pl.Each), e.Name())
			name := r.Read("name", game.Sources{src})
			one.Name = name.Text
			if !name.Known() {
				w.Warnings = append(w.Warnings, "player record "+one.ID+" does not read: "+name.Why)
			}
			one.At = spot(r, pl.At.In(src.Read))
		}
		w.Players = append(w.Players, one)
	}
}

func (w *Facts) warn(root fs.FS, f Found) {
	// One damaged file leaves many facts unknown: it is told once.
	unread, order := map[string][]string{}, []string{}
	for _, name := range sortedKeys(w.Facts) {
		if ft := w.Facts[name]; !ft.Known() {
			if unread[ft.Why] == nil {
				order = append(order, ft.Why)
			}
			unread[ft.Why] = append(unread[ft.Why], name)
		}
	}
	for _, why := range order {
		names := unread[why]
		verb := "does"
		if len(names) > 1 {
			verb = "do"
		}
		w.Warnings = append(w.Warnings, fmt.Sprintf("%s %s not read: %s", strings.Join(names, ", "), verb, why))
	}
	if len(f.LeftOut) > 0 {
		w.Warnings = append(w.Warnings, "called as its files and beginning otherwise, so left behind: "+
			strings.Join(f.LeftOut, ", "))
	}
	if len(f.Missing) > 0 {
		w.Warnings = append(w.Warnings, "expected but missing: "+strings.Join(f.Missing, ", "))
	}
	for _, pattern := range f.Game.World.Locks {
		found, _ := fs.Glob(root, pattern) // Lint has checked the pattern
		w.Locks = append(w.Locks, found...)
	}
	if len(w.Locks) > 0 {
		w.Warnings = append(w.Warnings, strings.Join(w.Locks,
			", ")+" is there: the world may be open in the game, or was not closed cleanly. It is not carried")
	}
	for _, o := range f.Game.World.Overrides {
		if _, err := fs.Stat(root, o.File); err == nil {
			w.Overrides = append(w.Overrides, o.File)
		}
	}
	if strings.TrimSpace(w.Title) != w.Title {
		w.Warnings = append(w.Warnings, fmt.Sprintf("the title %q begins or ends with a blank", w.Title))
	}
	for _, r := range w.Folder {
		if !unicode.IsPrint(r) {
			w.Warnings = append(
				w.Warnings, fmt.Sprintf("the folder name %+q holds characters that cannot be seen", w.Folder))
			break
		}
	}
	if f.Layout == "mixed" {
		w.Warnings = append(w.Warnings, "realms stand both inside and beside the world: one of the sets may be a "+
			"leftover")
	}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// Entry is one file of a world. Part is "" for the world's own folder or the
// name of a realm that stands beside it; Path is relative to that part.
type Entry struct {
	Part    string
	Path    string
	Source  string // path in the tree
	Size    int64
	ModTime time.Time
	// Dir marks an empty folder; its Path ends in "/".
	Dir bool
}

// Parts lists the files of a world, realm folders beside it included, files to
// leave behind excluded, empty folders included, in the order of part and path.
func Parts(fsys fs.FS, f Found) ([]Entry, error) {
	if len(f.Files) > 0 {
		return fileParts(fsys, f)
	}
	roots := map[string]string{"": f.Root}
	for name, dir := range f.Realms {
		if !Inside(f.Root, dir) {
			roots[name] = dir
		}
	}
	var out []Entry
	for _, part := range sortedKeys(roots) {
		base := roots[part]
		err := fs.WalkDir(fsys, base, func(p string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel := strings.TrimPrefix(p, base+"/")
			if base == "." {
				rel = p
			}
			if d.IsDir() {
				if entries, err := fs.ReadDir(fsys, p); err == nil && len(entries) == 0 && p != base {
					out = append(out, Entry{Part: part, Path: rel + "/", Source: p, Dir: true})
				}
				return nil
			}
			if part == "" && leftBehind(f.Game, rel) {
				return nil
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			if !info.Mode().IsRegular() {
				return notPlain(p, info.Mode())
			}
			out = append(out, Entry{Part: part, Path: rel, Source: p, Size: info.Size(), ModTime: info.ModTime()})
			return nil
		})
		if err != nil {
			return nil, fault.Wrap(fault.Internal, "list world", base, err)
		}
	}
	return out, nil
}

func notPlain(name string, m fs.FileMode) error {
	return fault.New(fault.Invalid, "read world", name, "it is a %s; a world is made of files and folders only",
		kindOf(m)).
		With("Replace it by what it points at, or take it out of the world, and try again.")
}

// fileParts lists the files of a world that is files.
func fileParts(fsys fs.FS, f Found) ([]Entry, error) {
	out := make([]Entry, 0, len(f.Files))
	for _, name := range f.Files {
		p := path.Join(f.Root, name)
		info, err := fs.Stat(fsys, p)
		if err != nil {
			return nil, fault.Wrap(fault.Internal, "list world", p, err)
		}
		if !info.Mode().IsRegular() {
			return nil, notPlain(p, info.Mode())
		}
		out = append(out, Entry{Path: name, Source: p, Size: info.Size(), ModTime: info.ModTime()})
	}
	return out, nil
}

func kindOf(m fs.FileMode) string {
	switch {
	case m&fs.ModeSymlink != 0:
		return "link"
	case m&fs.ModeDevice != 0:
		return "device"
	case m&fs.ModeNamedPipe != 0:
		return "pipe"
	case m&fs.ModeSocket != 0:
		return "socket"
	}
	return "special file"
}

func leftBehind(p *game.Profile, rel string) bool {
	for _, pattern := range p.World.NeverCarried() {
		if Match(pattern, rel) {
			return true
		}
	}
	return false
}

// Inside reports whether dir is root itself or below it.
func Inside(root, dir string) bool {
	return root == "." || dir == root || strings.HasPrefix(dir, root+"/")
}

// Match reports whether a path matches a pattern of path.Match, in which "**" as
// a whole element stands for any number of folders.
func Match(pattern, name string) bool {
	return matchSteps(strings.Split(pattern, "/"), strings.Split(name, "/"))
}

func matchSteps(pattern, name []string) bool {
	for len(pattern) > 0 {
		if pattern[0] == "**" {
			for i := range len(name) + 1 {
				if matchSteps(pattern[1:], name[i:]) {
					return true
				}
			}
			return false
		}
		if len(name) == 0 {
			return false
		}
		if ok, err := path.Match(pattern[0], name[0]); err != nil || !ok {
			return false
		}
		pattern, name = pattern[1:], name[1:]
	}
	return len(name) == 0
}

// Inspect looks for a world in a tree and reads it: the offline use, and the
// first look at an arrival. root chooses among several ("" when there is one).
func Inspect(fsys fs.FS, start, name, root string, profiles []*game.Profile) (Facts, Found, error) {
	search, err := Find(fsys, start, name, profiles)
	if err != nil {
		return Facts{}, Found{}, err
	}
	found, err := search.Only(name, root, profiles)
	if err != nil {
		var many *fault.Error
		if errors.As(err, &many) && many.Code == fault.ManyWorlds {
			search.label(fsys, many)
		}
		return Facts{}, Found{}, err
	}
	w, err := Read(fsys, found)
	if err == nil && len(found.Wrappers) > 0 && start == "." {
		w.Warnings = append(w.Warnings, fmt.Sprintf("the world stands inside other folders (%s): they are not carried",
			path.Join(found.Wrappers...)))
	}
	return w, found, err
}
