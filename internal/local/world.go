// Package local reads worlds and servers on the computer at hand, without a
// service: for the offline commands, and for the service's own host.
package local

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	_ "reshard/internal/sqlite" // worlds may hold databases

	"reshard/internal/archive"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// World is a world recognised on this computer.
type World struct {
	Path string // as it was asked for
	// Archive says that it was read out of one.
	Archive bool
	Tree    fs.FS
	Found   world.Found
	World   world.Facts
	// Ignored are entries of an archive that belong to no world.
	Ignored []string

	archive *archive.Archive
}

// Close closes the archive, if there is one.
func (w World) Close() {
	if w.archive != nil {
		_ = w.archive.Close() // only read
	}
}

// Open recognises the world in a folder, an archive or a file that is a world.
// A folder is read through its parent, so that realm folders beside it are
// seen, and a file through its folder, for the other files of its session. root
// chooses among several worlds, "" when there is one.
func Open(name, root string, profiles []*game.Profile) (World, error) {
	info, err := os.Stat(name)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return World{}, fault.New(fault.NotFound, "look at", name, "there is no such file or folder").
				With("Check the path; reshard find lists the worlds on this computer.")
		}
		return World{}, fault.Wrap(fault.Refused, "look at", name, err)
	}
	full, err := filepath.Abs(name)
	if err != nil {
		return World{}, fault.Wrap(fault.Internal, "look at", name, err)
	}
	w := World{Path: name}
	start, label := ".", world.Label(filepath.ToSlash(full), profiles)
	switch {
	case world.IsFile(filepath.Base(full), profiles):
		start = filepath.Base(full)
		w.Tree, err = openTree(filepath.Dir(full))
	case info.IsDir():
		w.Tree, start, err = beside(full)
		label = filepath.Base(full)
	default:
		if w.archive, err = archive.Open(full, filepath.Base(full), "", archive.Limits{}); err != nil {
			return w, err
		}
		w.Tree, w.Archive, w.Ignored = w.archive, true, w.archive.Ignored
	}
	if err != nil {
		return w, err
	}
	w.World, w.Found, err = world.Inspect(w.Tree, start, label, root, profiles)
	if err != nil {
		w.Close()
		var e *fault.Error
		if errors.As(err, &e) && e.Code != fault.Invalid {
			e.Path = name
		}
	}
	return w, err
}

// beside gives a folder's parent as a tree, and its path there.
func beside(full string) (tree fs.FS, start string, err error) {
	if full == string(filepath.Separator) {
		tree, err = openTree(full)
		return tree, ".", err
	}
	tree, err = openTree(filepath.Dir(full))
	return tree, filepath.Base(full), err
}
