package server

import (
	"strings"

	"reshard/internal/core/game"
)

// Identity is what tells one world of a server from another. Seed and WorldID are empty when they are not known.
type Identity struct {
	// Folder is its name on disk.
	Folder  string `json:"folder"`
	Seed    string `json:"seed,omitempty"`
	WorldID string `json:"worldId,omitempty"`
}

// Running is which world a running server has open, as far as its log and its files show.
type Running struct {
	// Opened is the name that its log gives, or in which its lock is; empty: nothing shows it.
	Opened string
	// Named is the world that its settings name; empty: none.
	Named string
	// World is what the open world says of itself. Its folder is empty when it was not read.
	World Identity
	// Gone: no world of the intended name is in the worlds folder.
	Gone bool
}

// Folder is the folder name of the world that is open; empty: nothing shows it.
func (r Running) Folder(p *game.Profile) string {
	if r.Opened == "" {
		return ""
	}
	return FolderOf(Given{Value: strings.TrimSuffix(r.Opened, "/"), Writes: "path"}, p)
}

// Difference says how a running server's world differs from the one that is intended.
type Difference string

// How a running world differs.
const (
	Same Difference = ""
	// OtherOpened: another world is open.
	OtherOpened Difference = "opened"
	// OtherNamed: the settings name another world, and the next start opens it.
	OtherNamed Difference = "named"
	// Removed: the world that is open is no longer in the worlds folder.
	Removed Difference = "removed"
	// OtherContent: a world of the same name is open, with another seed or another id.
	OtherContent Difference = "content"
)

// Differs compares a running server's world with the intended one. Saves that the game makes by itself are not
// another world.
func (i Identity) Differs(r Running, p *game.Profile) Difference {
	other := func(name string) bool {
		return name != "" && name != i.Folder && !p.World.Autosave(name) && !p.World.Autosave(p.World.FileName(name))
	}
	differ := func(a, b string) bool { return a != "" && b != "" && a != b }
	open := r.Folder(p)
	switch {
	case other(open):
		return OtherOpened
	case other(r.Named):
		return OtherNamed
	case r.Gone && open == i.Folder:
		return Removed
	case r.World.Folder == i.Folder && (differ(r.World.WorldID, i.WorldID) || differ(r.World.Seed, i.Seed)):
		return OtherContent
	}
	return Same
}
