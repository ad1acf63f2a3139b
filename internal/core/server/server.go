// Package server reads what a game server's files say: its settings with their
// effective values, its version and mods, and the worlds it holds.
package server

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
)

// Machine is what is known of a server beside its files.
type Machine struct {
	Kind string
	// System is the operating system that the server is made for: linux, macos or
	// windows; "" is linux.
	System string
	// Command is the start command that Reshard holds: program and arguments.
	Command []string
	// Roots are the absolute paths of the server's root on its host.
	Roots []string
}

// State is what a server's files say. It is plain data.
type State struct {
	Game     string             `json:"game"`
	Kind     string             `json:"kind"`
	Realms   string             `json:"realms"` // layout the kind wants: nested or split
	Version  fact.Fact          `json:"version"`
	Mods     fact.Fact          `json:"mods"`
	Settings []Document         `json:"settings"`
	Keys     map[string]Setting `json:"keys"`
	// Active is the name of the world that the settings name, "" when none do.
	Active string `json:"active"`
	// WorldsFolder is where the server keeps worlds, from its root; Redirected says
	// that a setting moves it there.
	WorldsFolder string `json:"worldsFolder"`
	Redirected   bool   `json:"redirected,omitempty"`
	// Worlds are the worlds in the worlds folder, by name on disk.
	Worlds []Present `json:"worlds"`
	// Folders lists the names in the worlds folder that are, or could be taken for,
	// worlds or parts of them, in order: folders, or files of the game's pattern.
	Folders []string `json:"folders"`
	// autosaves are the names there that the game writes by itself.
	autosaves []string
	// WorldsWhy says why the worlds folder could not be listed; "" when it
	// could, or is not there yet.
	WorldsWhy string `json:"worldsWhy,omitempty"`
	// NotYet are the files and folders that a first start makes and that are missing.
	NotYet []string `json:"notYet,omitempty"`
}

// Present is a world on the server. What is told of it beside its names is empty until it
// has been looked at.
type Present struct {
	Folder   string   `json:"folder"`
	Title    string   `json:"title"`
	Seed     string   `json:"seed"`
	Layout   string   `json:"layout"`
	WorldID  string   `json:"worldId,omitempty"`
	Siblings []string `json:"siblings"` // realm folders beside it
	// Members are all names in the worlds folder that the world is made of.
	Members []string `json:"members"`
	// Locks are files that say that something has it open.
	Locks      []string  `json:"locks,omitempty"`
	Bytes      int64     `json:"bytes"`
	LastPlayed time.Time `json:"lastPlayed"`
	// Autosave: the game writes it by itself beside its worlds.
	Autosave bool `json:"autosave,omitempty"`
}

// Read reads a server whose root is the tree's root, and looks at each of its worlds.
// Damage in files becomes a reason in the state; the error is set only when the root cannot
// be listed.
func Read(fsys fs.FS, p *game.Profile, m Machine) (State, error) {
	h, err := ReadHeads(fsys, p, m)
	all := budget.Request()
	for i, f := range h.Found {
		if w, err := world.ReadWithin(all.Part(), fsys, f); err == nil {
			h.State.Worlds[i].Take(w)
		}
	}
	return h.State, err
}

// Heads are what is read of a server without opening a world.
type Heads struct {
	// State's Worlds hold no more than names until a look is taken into them.
	State State
	// Found tells where the worlds stand, in the order of the state's Worlds.
	Found []world.Found
	// Documents are the settings documents that read, by file.
	Documents map[string]*settings.Document
}

// ReadHeads reads what tells a server's state without opening a world: its settings, whole,
// and the names in its worlds folder. Damage in files becomes a reason in the state; the
// error is set only when the root cannot be listed.
func ReadHeads(fsys fs.FS, p *game.Profile, m Machine) (Heads, error) {
	s := State{
		Game: p.ID, Kind: m.Kind, Realms: p.Server.Kinds[m.Kind].Realms, Keys: map[string]Setting{},
		Settings: []Document{}, Worlds: []Present{}, Folders: []string{}, WorldsFolder: path.Clean(p.Server.Worlds),
	}
	if _, err := fs.ReadDir(fsys, "."); err != nil {
		return Heads{State: s}, err
	}
	if m.System == "" {
		m.System = "linux"
	}
	b := budget.World()
	defer b.Done()
	r := fact.NewReader(fsys, b)
	s.Version = r.Read("version", p.Server.Version)
	if len(p.Server.Version) == 0 {
		s.Version.Why = "the profile does not say where the server's version stands"
	}
	s.Mods = r.Read("mods", p.Server.Mods)
	if len(p.Server.Mods) == 0 {
		s.Mods.Why = "the profile does not say where the server's mods stand"
	}
	files, sources := map[string]*settings.Document{}, map[string]source(nil)
	s.Settings, sources = readSettings(fsys, p, m, files)
	choose := reader{fsys: fsys, profile: p, system: m.System}.choose
	for name, places := range p.Server.Keys {
		s.Keys[name] = effective(sources, p, places, choose)
	}
	s.redirect(m.Roots)
	if a := s.Keys[game.KeyActiveWorld]; a.Found || a.Default {
		s.Active = FolderOf(a.Given, p)
	}
	for _, name := range p.Server.FirstStart {
		info, err := fs.Stat(fsys, strings.TrimSuffix(name, "/"))
		if err != nil || info.IsDir() != strings.HasSuffix(name, "/") {
			s.NotYet = append(s.NotYet, name)
		}
	}
	found := s.readWorlds(fsys, p)
	return Heads{State: s, Found: found, Documents: files}, nil
}

// redirect follows a setting that moves the worlds folder.
func (s *State) redirect(roots []string) {
	to, ok := s.Keys[game.KeyWorldsFolder]
	if !ok || !to.Found || to.Value == "" {
		return
	}
	inside, ok := within(to.Value, roots)
	if !ok {
		s.WorldsWhy = to.Where() + " moves it to " + to.Value + ", which is outside of the server's own folder"
		return
	}
	s.Redirected = inside != s.WorldsFolder
	s.WorldsFolder = inside
}

// within gives a path from the root; ok is false when it leads out of it, or is
// the root itself.
func within(value string, roots []string) (string, bool) {
	clean := path.Clean(strings.ReplaceAll(value, `\`, "/"))
	for _, root := range roots {
		if rest, ok := strings.CutPrefix(clean, strings.TrimSuffix(root, "/")+"/"); ok {
			clean = rest
			break
		}
	}
	return clean, fs.ValidPath(clean) && clean != "."
}

// FolderOf gives the name on disk that a setting's value means.
func FolderOf(g Given, p *game.Profile) string {
	value := g.Value
	if g.Writes == "path" {
		value = path.Base(path.Clean(strings.ReplaceAll(value, `\`, "/")))
	}
	if g.Writes == "path" || g.Writes == "file" {
		if name, _, ok := p.World.NameOf(value); ok {
			return name
		}
	}
	return value
}

// Outside reports whether a setting that names a world by its path points to
// another folder than the one that holds the worlds. roots are the absolute
// paths of the server's root.
func Outside(s Setting, worldsFolder string, roots []string) bool {
	if s.Writes != "path" || !s.Found || s.Value == "" {
		return false
	}
	dir := path.Dir(path.Clean(strings.ReplaceAll(s.Value, `\`, "/")))
	if dir == worldsFolder {
		return false
	}
	for _, root := range roots {
		if dir == path.Join(root, worldsFolder) {
			return false
		}
	}
	return true
}

// ValueFor gives what to write so that a source names a world.
func ValueFor(g Given, worldsFolder, folder string, p *game.Profile) string {
	switch g.Writes {
	case "file":
		return p.World.FileName(folder)
	case "path":
		file := p.World.FileName(folder)
		if path.IsAbs(g.Value) { // keep the way the file names it
			return path.Join(path.Dir(g.Value), file)
		}
		return path.Join(worldsFolder, file)
	}
	return folder
}

func (s *State) readWorlds(fsys fs.FS, p *game.Profile) []world.Found {
	if s.WorldsWhy != "" {
		return nil
	}
	entries, err := fs.ReadDir(fsys, s.WorldsFolder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // before the first start there is no such folder
	}
	if err != nil {
		s.WorldsWhy = err.Error()
		return nil
	}
	for _, e := range entries {
		switch {
		case TakesName(p, e, s.Active):
			s.Folders = append(s.Folders, e.Name())
		case TakesName(p, e, e.Name()) || p.World.Shape != game.ShapeFolder && p.World.Autosave(e.Name()) && !e.IsDir():
			s.autosaves = append(s.autosaves, e.Name())
		}
	}
	sort.Strings(s.Folders)
	found, err := world.Direct(fsys, s.WorldsFolder, p)
	if err != nil {
		s.WorldsWhy = err.Error()
		return nil
	}
	slices.SortFunc(found, func(a, b world.Found) int { return strings.Compare(a.Folder, b.Folder) })
	for _, f := range found {
		s.Worlds = append(s.Worlds, s.present(f))
	}
	return found
}

// TakesName reports whether an entry of the worlds folder is a world, or could be
// taken for one by its name: a folder, or a file of the game's pattern. What the game
// writes by itself is none, unless it is the one that is active.
func TakesName(p *game.Profile, e fs.DirEntry, active string) bool {
	if world.OwnName(e.Name()) {
		return false
	}
	if p.World.Shape == game.ShapeFolder {
		return e.IsDir() && (e.Name() == active || !p.World.Autosave(e.Name()))
	}
	name, _, ok := p.World.NameOf(e.Name())
	return ok && !e.IsDir() && (name == active || !p.World.Autosave(e.Name()))
}

// autosave reports whether all of a world's names are such that the game writes by itself.
func (s *State) autosave(f world.Found) bool {
	names := f.Files
	if len(names) == 0 {
		names = []string{f.Folder}
	}
	return f.Folder != s.Active &&
		!slices.ContainsFunc(names, func(n string) bool { return !f.Game.World.Autosave(n) })
}

// present is a world of which only the name is known.
func (s *State) present(f world.Found) Present {
	out := Present{
		Folder: f.Folder, Layout: f.Layout, Siblings: []string{}, Members: f.Files, Autosave: s.autosave(f),
	}
	if len(f.Files) == 0 {
		for _, name := range f.Game.RealmNames() {
			if split := f.Game.World.Realms[name].SplitFor(f.Folder); slices.Contains(s.Folders, split) {
				out.Siblings = append(out.Siblings, split)
			}
		}
		out.Members = append([]string{f.Folder}, out.Siblings...)
	}
	return out
}

// Take takes in what a look at the world has found.
func (w *Present) Take(facts world.Facts) {
	w.Title, w.Seed, w.WorldID = facts.Title, facts.Fact("seed").Text, facts.Fact("world-id").Text
	w.Bytes, w.LastPlayed, w.Locks = facts.Bytes, facts.LastPlayed, facts.Locks
}

// Siblings lists the realm folders that stand beside a world folder of that
// name, whether or not the world folder itself is there (leftovers).
func Siblings(fsys fs.FS, p *game.Profile, dir, folder string) []string {
	out := []string{}
	for _, name := range p.RealmNames() {
		split := p.World.Realms[name].SplitFor(folder)
		if info, err := fs.Stat(fsys, path.Join(dir, split)); err == nil && info.IsDir() {
			out = append(out, split)
		}
	}
	return out
}

// Named lists the names in the worlds folder that are called so: a folder, or
// files, whether or not they are a world.
func (s State) Named(p *game.Profile, folder string) []string {
	var out []string
	for _, name := range slices.Concat(s.Folders, s.autosaves) {
		mine := name == folder
		if p.World.Shape != game.ShapeFolder {
			other, _, ok := p.World.NameOf(name)
			mine = ok && other == folder
		}
		if mine {
			out = append(out, name)
		}
	}
	return out
}

// Taken lists what a world of that name would meet in the worlds folder: what is
// called so, and the realms beside it.
func (s State) Taken(p *game.Profile, folder string) []string {
	out := s.Named(p, folder)
	for _, realm := range p.RealmNames() {
		if split := p.World.Realms[realm].SplitFor(folder); slices.Contains(s.Folders, split) {
			out = append(out, split)
		}
	}
	return out
}

// World gives the present world of exactly that folder name.
func (s State) World(folder string) (Present, bool) {
	for _, w := range s.Worlds {
		if w.Folder == folder {
			return w, true
		}
	}
	return Present{}, false
}

// Stands is what a plan may rely on of a server's files: what each settings file holds, as a hash, what each key
// says, and which names there are in the worlds folder. Play changes none of it.
type Stands struct {
	Files map[string]string `json:"files"`
	Keys  map[string]string `json:"keys"`
	Names []string          `json:"names"`
}

// Stands gives how it stands.
func (s State) Stands() Stands {
	out := Stands{Files: map[string]string{}, Keys: map[string]string{}}
	for _, d := range s.Settings {
		out.Files[d.File] = d.Hash
	}
	for name, k := range s.Keys {
		out.Keys[name] = k.Value
	}
	names := map[string]bool{}
	for _, f := range s.Folders {
		names[f] = true
	}
	for _, w := range s.Worlds {
		if len(w.Siblings) == 0 && !slices.Contains(w.Members, w.Folder) && !w.Autosave {
			// A session gets files while it is played; what counts is that it is there.
			for _, member := range w.Members {
				delete(names, member)
			}
			names[w.Folder] = true
		}
	}
	out.Names = slices.Sorted(maps.Keys(names))
	return out
}

// Hash changes when anything of it changes.
func (s Stands) Hash() string {
	data, _ := json.Marshal(s) // it holds nothing that could not be
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:16])
}

// Touched is what a plan touches of it: settings files, and names in the worlds folder.
type Touched struct {
	Files, Names []string
}

// Changed says what is not as it stood, of that which a plan touches or was made from: the files and names
// that it touches, and what the settings say. "" is nothing.
func (s Stands) Changed(now Stands, by Touched) string {
	if s.Files == nil {
		return "" // an earlier build did not note it: each step looks for itself
	}
	for _, file := range by.Files {
		if s.Files[file] != now.Files[file] {
			return file + " has been written"
		}
	}
	for _, key := range slices.Sorted(maps.Keys(s.Keys)) {
		if s.Keys[key] != now.Keys[key] {
			return "the settings say another " + key + ": " + now.Keys[key] + " instead of " + s.Keys[key]
		}
	}
	for _, name := range by.Names {
		was, is := slices.Contains(s.Names, name), slices.Contains(now.Names, name)
		switch {
		case was && !is:
			return name + " is no longer in the worlds folder"
		case is && !was:
			return name + " has come into the worlds folder"
		}
	}
	return ""
}
