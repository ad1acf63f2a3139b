// Package server reads what a game server's files say: its settings with their
// effective values, its version and mods, and the worlds it holds.
package server

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"reshard/internal/core/fact"
	"reshard/internal/core/game"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
)

// State is what a server's files say. It is plain data.
type State struct {
	Game     string             `json:"game"`
	Kind     string             `json:"kind"`
	Realms   string             `json:"realms"` // layout the kind wants: nested or split
	Version  fact.Fact          `json:"version"`
	Mods     fact.Fact          `json:"mods"`
	Settings []Document         `json:"settings"`
	Keys     map[string]Setting `json:"keys"`
	// Active is the folder name that the settings name, "" when none do.
	Active string `json:"active"`
	// Worlds are the worlds below the worlds folder, by folder name.
	Worlds []Present `json:"worlds"`
	// Folders lists every name in the worlds folder, worlds or not, in order.
	Folders []string `json:"folders"`
	// WorldsWhy says why the worlds folder could not be listed; "" when it
	// could, or is not there yet.
	WorldsWhy string `json:"worldsWhy,omitempty"`
}

// Document is one settings file and whether it could be read.
type Document struct {
	Name   string `json:"name"`
	File   string `json:"file"`
	Format string `json:"format"`
	// Hash is the SHA-256 of its bytes, to notice a change; "" if unreadable.
	Hash string `json:"hash"`
	Why  string `json:"why,omitempty"`
}

// Setting is the effective value of one key and where it stands.
type Setting struct {
	Key   string `json:"key"` // as written in the file
	Value string `json:"value"`
	Found bool   `json:"found"`
	In    string `json:"in"` // name of the settings document
	File  string `json:"file"`
	Line  int    `json:"line,omitempty"`
	// Repeats are the lines of other occurrences, which the effective one beats.
	Repeats []int  `json:"repeats,omitempty"`
	Writes  string `json:"writes"` // folder or path
}

// Present is a world on the server.
type Present struct {
	Folder     string    `json:"folder"`
	Title      string    `json:"title"`
	Seed       string    `json:"seed"`
	Layout     string    `json:"layout"`
	WorldID    string    `json:"worldId,omitempty"`
	Siblings   []string  `json:"siblings"` // realm folders beside it
	Bytes      int64     `json:"bytes"`
	LastPlayed time.Time `json:"lastPlayed"`
}

// Read reads a server whose root is the tree's root. Damage in files becomes a
// reason in the state; the error is set only when the root cannot be listed.
func Read(fsys fs.FS, p *game.Profile, kind string) (State, error) {
	s := State{Game: p.ID, Kind: kind, Realms: p.Server.Kinds[kind].Realms, Keys: map[string]Setting{}, Settings: []Document{}, Worlds: []Present{}, Folders: []string{}}
	if _, err := fs.ReadDir(fsys, "."); err != nil {
		return s, err
	}
	r := fact.NewReader(fsys)
	s.Version = r.Read("version", p.Server.Version)
	if len(p.Server.Version) == 0 {
		s.Version.Why = "the profile does not say where the server's version stands"
	}
	s.Mods = r.Read("mods", p.Server.Mods)
	if len(p.Server.Mods) == 0 {
		s.Mods.Why = "the profile does not say where the server's mods stand"
	}
	docs := s.readSettings(fsys, p)
	for name, places := range p.Server.Keys {
		s.Keys[name] = effective(docs, p, places)
	}
	if a := s.Keys[game.KeyActiveWorld]; a.Found {
		s.Active = FolderOf(a)
	}
	s.readWorlds(fsys, p)
	return s, nil
}

func (s *State) readSettings(fsys fs.FS, p *game.Profile) map[string]*settings.Document {
	docs := map[string]*settings.Document{}
	names := make([]string, 0, len(p.Server.Settings))
	for name := range p.Server.Settings {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		doc := p.Server.Settings[name]
		d := Document{Name: name, File: doc.File, Format: doc.Format}
		data, err := fs.ReadFile(fsys, doc.File)
		if err == nil {
			d.Hash = Hash(data)
			docs[name], err = settings.Parse(doc.File, doc.Syntax(), data)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			d.Why = "there is no " + doc.File
		case err != nil:
			d.Why = err.Error()
		}
		s.Settings = append(s.Settings, d)
	}
	return docs
}

// Hash gives the hexadecimal SHA-256 of a settings file's bytes.
func Hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// effective finds the first place that gives a value. When none does, the
// result names the first place, which is where a value would be written.
func effective(docs map[string]*settings.Document, p *game.Profile, places []game.KeyPlace) Setting {
	var out Setting
	for i, kp := range places {
		one := Setting{Key: kp.Key, In: kp.In, File: p.Server.Settings[kp.In].File, Writes: kp.Writes}
		if i == 0 {
			out = one
		}
		doc := docs[kp.In]
		if doc == nil {
			continue
		}
		all := doc.All(kp.Key)
		if len(all) == 0 {
			continue
		}
		e := all[len(all)-1]
		one.Value, one.Found, one.Line = e.Value, true, e.Line
		for _, other := range all[:len(all)-1] {
			one.Repeats = append(one.Repeats, other.Line)
		}
		return one
	}
	return out
}

// FolderOf gives the folder name that a setting's value means.
func FolderOf(s Setting) string {
	if s.Writes == "path" {
		return path.Base(path.Clean(strings.ReplaceAll(s.Value, `\`, "/")))
	}
	return s.Value
}

// Outside reports whether a setting that names a world by its path points to
// another folder than the one that holds the worlds. roots are the absolute
// paths of the server's root.
func Outside(s Setting, worldsDir string, roots []string) bool {
	if s.Writes != "path" || !s.Found || s.Value == "" {
		return false
	}
	dir := path.Dir(path.Clean(strings.ReplaceAll(s.Value, `\`, "/")))
	worlds := path.Clean(worldsDir)
	if dir == worlds {
		return false
	}
	for _, root := range roots {
		if dir == path.Join(root, worlds) {
			return false
		}
	}
	return true
}

// ValueFor gives what to write so that the setting names a folder.
func ValueFor(s Setting, worldsDir, folder string) string {
	if s.Writes != "path" {
		return folder
	}
	if path.IsAbs(s.Value) { // keep the way the file names it
		return path.Join(path.Dir(s.Value), folder)
	}
	return path.Join(worldsDir, folder)
}

func (s *State) readWorlds(fsys fs.FS, p *game.Profile) {
	dir := path.Clean(p.Server.Worlds)
	entries, err := fs.ReadDir(fsys, dir)
	if errors.Is(err, fs.ErrNotExist) {
		return // before the first start there is no such folder
	}
	if err != nil {
		s.WorldsWhy = err.Error()
		return
	}
	for _, e := range entries {
		if e.IsDir() {
			s.Folders = append(s.Folders, e.Name())
		}
	}
	sort.Strings(s.Folders)
	search, err := world.Find(fsys, dir, path.Base(dir), []*game.Profile{p})
	if err != nil {
		return
	}
	for _, f := range search.Worlds {
		if path.Dir(f.Root) != dir {
			continue // a world inside a folder is not one the server can open
		}
		s.Worlds = append(s.Worlds, present(fsys, f))
	}
	slices.SortFunc(s.Worlds, func(a, b Present) int { return strings.Compare(a.Folder, b.Folder) })
}

func present(fsys fs.FS, f world.Found) Present {
	out := Present{Folder: f.Folder, Layout: f.Layout, Siblings: []string{}}
	w, err := world.Read(fsys, f)
	if err == nil {
		out.Title, out.Seed, out.Bytes, out.LastPlayed = w.Title, w.Fact("seed").Text, w.Bytes, w.LastPlayed
		out.WorldID = w.Fact("world-id").Text
	}
	out.Siblings = Siblings(fsys, f.Game, path.Dir(f.Root), f.Folder)
	return out
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

// World gives the present world of exactly that folder name.
func (s State) World(folder string) (Present, bool) {
	for _, w := range s.Worlds {
		if w.Folder == folder {
			return w, true
		}
	}
	return Present{}, false
}

// Fingerprint changes when anything changes that a plan relies on: the bytes
// of the settings files and the names in the worlds folder.
func (s State) Fingerprint() string {
	h := sha256.New()
	for _, d := range s.Settings {
		fmt.Fprintf(h, "%s\x00%s\x00", d.File, d.Hash)
	}
	for _, f := range s.Folders {
		fmt.Fprintf(h, "%s\x00", f)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}
