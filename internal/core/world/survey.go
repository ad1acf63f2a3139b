package world

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
)

// Sighted is a world that a survey has found, with what it says of itself.
type Sighted struct {
	World Facts  `json:"world"`
	At    string `json:"at" doc:"where it stands, from the top of what was looked at"`
	// Changed is when the newest of its files was written.
	Changed time.Time `json:"changed"`
	// Damaged says what of it does not read; "" when all does.
	Damaged string `json:"damaged,omitempty"`
	// Open says why it seems to be open in the game; "" when it does not.
	Open string `json:"open,omitempty"`
	// Folders are the world's own and those of its realms that stand beside it; of a
	// world that is files there are none.
	Folders []string `json:"folders"`
	Likely  string   `json:"likely,omitempty" doc:"why it is most likely the one that is meant; of one world only"`

	Found Found `json:"-"`
}

// Unfamiliar is a folder or file that stands where worlds do and is none.
type Unfamiliar struct {
	At  string `json:"at"`
	Why string `json:"why"`
}

// Survey is what was found in a tree: worlds, the last played first, and what is none.
type Survey struct {
	Worlds     []Sighted    `json:"worlds"`
	Unfamiliar []Unfamiliar `json:"unfamiliar"`
}

// fresh is how long ago a file must have been written for its world to seem open.
const fresh = 2 * time.Minute

// Look finds all worlds at and below start and reads each. name is what to call a world
// that stands at the tree's root; now tells which files have just been written.
func Look(fsys fs.FS, start, name string, profiles []*game.Profile, now time.Time) (Survey, error) {
	search, err := Find(fsys, start, name, profiles)
	if err != nil {
		return Survey{}, err
	}
	out := Survey{Worlds: []Sighted{}, Unfamiliar: []Unfamiliar{}}
	all := budget.Request()
	for _, f := range search.Worlds {
		out.see(all.Part(), fsys, f, now)
	}
	for _, n := range search.Near {
		out.Unfamiliar = append(out.Unfamiliar,
			Unfamiliar{
				n.Folder,
				"nearly a world of " + n.Game + ": it has " + strings.Join(n.Has, ", ") + " but no " + strings.Join(
					n.Missing, ", "),
			})
	}
	out.order()
	return out, nil
}

// LookInStore looks at what stands directly in a folder where a game keeps its worlds:
// what is no world there is told too.
func LookInStore(fsys fs.FS, dir string, p *game.Profile, now time.Time) (Survey, error) {
	out := Survey{Worlds: []Sighted{}, Unfamiliar: []Unfamiliar{}}
	found, err := Direct(fsys, dir, p)
	if err != nil {
		return out, err
	}
	mine := map[string]bool{}
	all := budget.Request()
	for _, f := range found {
		out.see(all.Part(), fsys, f, now)
		mine[path.Base(f.Root)] = len(f.Files) == 0
		for _, name := range f.Files {
			mine[name] = true
		}
		for _, realm := range f.Realms {
			mine[path.Base(realm)] = true
		}
	}
	entries, err := fs.ReadDir(fsys, dir)
	if err != nil {
		return out, err
	}
	for _, e := range entries {
		at := path.Join(dir, e.Name())
		switch {
		case mine[e.Name()] || strings.HasPrefix(e.Name(), "."):
		case e.IsDir() && p.World.Shape == game.ShapeFolder:
			has, missing := present(fsys, at, p.World.Recognise.Require)
			why := "it has no " + strings.Join(missing, ", ")
			if len(has) > 0 {
				why = "it has " + strings.Join(has, ", ") + " but no " + strings.Join(missing, ", ")
			}
			out.Unfamiliar = append(out.Unfamiliar, Unfamiliar{at, why})
		case !e.IsDir() && p.World.Shape != game.ShapeFolder && IsFile(e.Name(), []*game.Profile{p}):
			out.Unfamiliar = append(out.Unfamiliar,
				Unfamiliar{
					at,
					"it has the name of a world but does not begin with " + beginnings(p) + ": it may be cut short",
				})
		}
	}
	out.order()
	return out, nil
}

func (s *Survey) see(b *budget.Budget, fsys fs.FS, f Found, now time.Time) {
	w, err := ReadWithin(b, fsys, f)
	if err != nil {
		s.Unfamiliar = append(s.Unfamiliar, Unfamiliar{f.At(), err.Error()})
		return
	}
	one := Sighted{World: w, At: f.At(), Found: f, Changed: newest(fsys, f), Damaged: damageOf(w)}
	one.Open = seemsOpen(w, one.Changed, now)
	one.Folders = []string{}
	if len(f.Files) == 0 {
		one.Folders = append(one.Folders, f.Root)
		for _, dir := range f.Realms {
			if !Inside(f.Root, dir) {
				one.Folders = append(one.Folders, dir)
			}
		}
	}
	s.Worlds = append(s.Worlds, one)
}

// SeemsOpen says why a world seems to be open in the game: a lock is there, or its files
// were written just now. It gives "" when it does not.
func SeemsOpen(fsys fs.FS, f Found, w Facts, now time.Time) string {
	return seemsOpen(w, newest(fsys, f), now)
}

func seemsOpen(w Facts, changed, now time.Time) string {
	switch since := now.Sub(changed); {
	case len(w.Locks) > 0:
		return strings.Join(w.Locks, ", ") + " is there"
	case !changed.IsZero() && since >= 0 && since < fresh:
		return fmt.Sprintf("its files were written %d seconds ago", int(since.Seconds()))
	}
	return ""
}

func newest(fsys fs.FS, f Found) (t time.Time) {
	entries, err := Parts(fsys, f)
	if err != nil {
		return t
	}
	for _, e := range entries {
		if !e.Dir && e.ModTime.After(t) {
			t = e.ModTime
		}
	}
	return t
}

// damageOf says what a world lacks of what every one of its game has.
func damageOf(w Facts) string {
	var told []string
	for _, name := range []string{"title", "seed", "version"} {
		if f, ok := w.Facts[name]; ok && !f.Known() && f.Why != "" {
			told = append(told, f.Why)
		}
	}
	told = append(told, w.Missing...)
	told = slices.Compact(told)
	if len(told) == 0 {
		return ""
	}
	if len(w.Missing) == len(told) {
		return "it lacks " + strings.Join(told, ", ")
	}
	return strings.Join(told, "; ")
}

// order puts the last played first, and says which one is most likely meant.
func (s *Survey) order() {
	slices.SortStableFunc(s.Worlds, func(a, b Sighted) int { return b.World.LastPlayed.Compare(a.World.LastPlayed) })
	if i := slices.IndexFunc(s.Worlds, func(w Sighted) bool { return w.Damaged == "" }); i >= 0 && len(s.Worlds) > 1 {
		s.Worlds[i].Likely = "it was played last"
		if i > 0 {
			s.Worlds[i].Likely = "it was played last of those that are whole"
		}
	}
}

// Join takes another survey in.
func (s *Survey) Join(other Survey) {
	for _, w := range other.Worlds {
		w.Likely = ""
		s.Worlds = append(s.Worlds, w)
	}
	for i := range s.Worlds {
		s.Worlds[i].Likely = ""
	}
	s.Unfamiliar = append(s.Unfamiliar, other.Unfamiliar...)
	s.order()
}
