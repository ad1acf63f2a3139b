package local

import (
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// System is what profiles call the operating system at hand.
func System() string {
	switch runtime.GOOS {
	case "darwin":
		return "macos"
	case "windows":
		return "windows"
	}
	return "linux"
}

// Store is a folder where a game keeps its worlds on this computer.
type Store struct {
	Game   *game.Profile
	Folder string // with the system's own separators; may hold *
}

// Stores lists where games keep their worlds on a computer of that system. variable
// gives the value of an environment variable, "" when it is not set.
func Stores(profiles []*game.Profile, system, home string, variable func(string) string) (out []Store) {
	for _, p := range profiles {
		for _, pattern := range p.Stores(system, filepath.ToSlash(home), variable) {
			out = append(out, Store{p, filepath.FromSlash(path.Dir(pattern))})
		}
	}
	return out
}

// Find looks into stores. The places of what it finds are paths of this computer.
func Find(stores []Store, now time.Time) world.Survey {
	all := world.Survey{Worlds: []world.Sighted{}, Unfamiliar: []world.Unfamiliar{}}
	seen := map[string]bool{}
	for _, s := range stores {
		folders, err := filepath.Glob(s.Folder)
		if err != nil {
			continue // the profile's pattern is no pattern here
		}
		for _, folder := range folders {
			if info, err := os.Stat(folder); err != nil || !info.IsDir() || seen[s.Game.ID+"\x00"+folder] {
				continue
			}
			seen[s.Game.ID+"\x00"+folder] = true
			tree, err := openTree(folder)
			if err != nil {
				continue
			}
			if got, err := world.LookInStore(tree, ".", s.Game, now); err == nil {
				all.Join(within(got, folder))
			}
		}
	}
	return all
}

// FindBelow looks for worlds of any game in a folder and below.
func FindBelow(folder string, profiles []*game.Profile, now time.Time) (world.Survey, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return world.Survey{}, fault.Wrap(fault.Internal, "look at", folder, err)
	}
	info, err := os.Stat(full)
	if err != nil {
		return world.Survey{}, fault.New(fault.NotFound, "look at", folder, "there is no such folder").
			With("Check the path; without one, reshard find looks where games keep their worlds.")
	}
	if !info.IsDir() {
		return world.Survey{}, fault.New(fault.Invalid, "look at", folder, "it is a file").
			With("reshard inspect " + folder + " looks into it.")
	}
	tree, start, err := beside(full)
	if err != nil {
		return world.Survey{}, err
	}
	got, err := world.Look(tree, start, filepath.Base(full), profiles, now)
	if err != nil {
		return got, err
	}
	return within(got, strings.TrimSuffix(full, filepath.FromSlash(start))), nil
}

// within makes places paths of this computer.
func within(s world.Survey, folder string) world.Survey {
	s.Worlds, s.Unfamiliar = slices.Clone(s.Worlds), slices.Clone(s.Unfamiliar)
	for i, w := range s.Worlds {
		s.Worlds[i].At = filepath.Join(folder, filepath.FromSlash(w.At))
	}
	for i, u := range s.Unfamiliar {
		s.Unfamiliar[i].At = filepath.Join(folder, filepath.FromSlash(u.At))
	}
	return s
}
