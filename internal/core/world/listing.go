package world

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/filetree"
	"reshard/internal/core/game"
)

// Listed is a file of which the name is known and perhaps the beginning of its content.
type Listed struct {
	Path     string    `json:"path" doc:"from the top of what is listed, with forward slashes"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	// Begin is what of the content is known, from its first byte.
	Begin []byte `json:"begin,omitempty" doc:"what is known of the content, from its first byte, base64"`
}

// Need is what must be known of a file to go on.
type Need struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes" doc:"from its first byte"`
}

// Bounds of what is asked for.
const (
	largestNeeded = 8 << 20 // a file for facts, in bytes
	tileBegin     = 1 << 10 // of a tile for a picture, at first
	mostPictured  = 4_000   // tiles

	largestPictured = 1 << 20 // of a picture's one file, in bytes
)

// Listing is a tree of which names, sizes and dates are known and only some content. It
// notes what else is asked for, so that a sender need not send a world to have it
// recognised.
type Listing struct {
	*filetree.Tree
	mu    sync.Mutex // tiles are read several at a time
	needs map[string]int64
	// first is what is asked for of a file at first; 0: all of it.
	first int64
}

// Bounds of what a listing names, as of an archive.
const (
	longestPath = 1024
	deepestPath = 64 // folders
)

// NewListing makes a tree of files. Paths that are none below a folder, or longer or deeper
// than any archive may have, are left out.
func NewListing(files []Listed) *Listing {
	l := &Listing{Tree: filetree.New(), needs: map[string]int64{}}
	for _, f := range files {
		if f.Size >= 0 && len(f.Path) <= longestPath && strings.Count(f.Path, "/") < deepestPath {
			l.Add(f.Path, filetree.File{
				Size:     f.Size,
				Modified: f.Modified,
				Open:     func() io.Reader { return &listedReader{l: l, f: f} },
			})
		}
	}
	l.Sort()
	return l
}

// Needs gives what was asked for and is not known.
func (l *Listing) Needs() []Need {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []Need{}
	for name, bytes := range l.needs {
		out = append(out, Need{name, bytes})
	}
	slices.SortFunc(out, func(a, b Need) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// errNotSent is what reading gives where the content is not known.
var errNotSent = errors.New("its content has not been sent yet")

var errTooLarge = errors.New("it is too large to be looked into before it is sent")

// listedReader reads what is known of a file.
type listedReader struct {
	l  *Listing
	f  Listed
	at int
}

func (f *listedReader) Read(p []byte) (int, error) {
	if f.at < len(f.f.Begin) {
		n := copy(p, f.f.Begin[f.at:])
		f.at += n
		return n, nil
	}
	if int64(f.at) >= f.f.Size {
		return 0, io.EOF
	}
	need := f.f.Size
	if f.l.first > 0 {
		need = min(need, max(f.l.first, 4*int64(f.at)))
	}
	if need > largestNeeded {
		return 0, &fs.PathError{Op: "read", Path: f.f.Path, Err: errTooLarge}
	}
	f.l.mu.Lock()
	defer f.l.mu.Unlock()
	f.l.needs[f.f.Path] = max(f.l.needs[f.f.Path], need)
	return 0, &fs.PathError{Op: "read", Path: f.f.Path, Err: errNotSent}
}

// LookAtListing looks for worlds in a listing. What is needed to go on is in needs; the
// survey says what is known so far. Worlds are pictured once their facts are known.
func LookAtListing(l *Listing, name string, profiles []*game.Profile,
	now time.Time) (s Survey, grounds map[string]Ground, needs []Need, err error) {
	if s, err = Look(l, ".", name, profiles, now); err != nil {
		return s, nil, nil, err
	}
	if needs = l.Needs(); len(needs) > 0 {
		return s, nil, needs, nil
	}
	grounds = map[string]Ground{}
	for _, w := range s.Worlds {
		p := w.Found.Game.World.Picture
		if p == nil || w.World.Files > mostPictured {
			continue
		}
		l.first = tileBegin
		if one := p.OneFile(); one != "" {
			if info, err := fs.Stat(l, path.Join(w.Found.Root, one)); err != nil || info.Size() > largestPictured {
				continue
			}
			l.first = 0
		}
		if g, err := ReadGround(l, w.Found); err == nil {
			grounds[w.At] = g
		}
	}
	return s, grounds, l.Needs(), nil
}
