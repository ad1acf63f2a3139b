// Package trail remembers what a reader has looked at in a tree, so that it can be told
// later whether reading it again would give anything else: by names, sizes and times,
// without reading a byte.
package trail

import (
	"errors"
	"io"
	"io/fs"
	"slices"
	"sync"
	"time"
)

// Youngest is how old a file's last change must be, at the least, for its size and time
// to vouch for what it holds: a second change in the same moment leaves both as they are.
const Youngest = 2 * time.Second

// mark is what is known of one name: of a file its size and time, of anything that it is
// there, and of what kind it is.
type mark struct {
	there bool
	dir   bool
	size  int64
	time  time.Time
}

func markOf(info fs.FileInfo) mark {
	if info.IsDir() {
		return mark{there: true, dir: true} // what is in it is looked at for itself
	}
	return mark{there: true, size: info.Size(), time: info.ModTime()}
}

// Trail is what was looked at. It is safe for concurrent use.
type Trail struct {
	begun     time.Time
	precision time.Duration

	mu      sync.Mutex
	names   map[string]mark
	folders map[string][]string
	// blind says that something could not be looked at, or told nothing of its time:
	// nothing vouches for what was read.
	blind bool
}

// Follow gives a tree that is read like fsys, and the trail of whoever reads it. begun is
// the moment at which the reading begins, precision the smallest difference of times that
// the tree keeps; zero says that it is not known, and then its times vouch for nothing.
func Follow(fsys fs.FS, begun time.Time, precision time.Duration) (fs.FS, *Trail) {
	t := &Trail{begun: begun, precision: precision, names: map[string]mark{}, folders: map[string][]string{}}
	return tree{fsys, t}, t
}

// Fresh reports whether reading fsys again now would find what was found: the same names,
// and behind each the same size and time. It is false whenever it cannot be told.
func (t *Trail) Fresh(fsys fs.FS) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.vouched() {
		return false
	}
	seen := map[string]mark{} // told by listing the folder that holds it
	for dir, names := range t.folders {
		entries, err := fs.ReadDir(fsys, dir)
		if err != nil ||
			!slices.EqualFunc(entries, names, func(e fs.DirEntry, n string) bool { return e.Name() == n }) {
			return false
		}
		for _, e := range entries {
			name := join(dir, e.Name())
			if _, asked := t.names[name]; !asked {
				continue
			}
			info, err := e.Info()
			if err != nil {
				return false
			}
			seen[name] = markOf(info)
		}
	}
	for name, was := range t.names {
		now, told := seen[name]
		if !told {
			info, err := fs.Stat(fsys, name)
			switch {
			case err == nil:
				now = markOf(info)
			case !errors.Is(err, fs.ErrNotExist):
				return false
			}
		}
		if now.there != was.there || now.dir != was.dir || now.size != was.size || !now.time.Equal(was.time) {
			return false
		}
	}
	return true
}

// vouched reports whether the times that were seen are old enough to say anything.
func (t *Trail) vouched() bool {
	if t.blind || t.precision <= 0 {
		return false
	}
	youngest := t.begun.Add(-max(Youngest, t.precision))
	for _, m := range t.names {
		if m.there && !m.dir && m.time.After(youngest) {
			return false
		}
	}
	return true
}

func (t *Trail) note(name string, info fs.FileInfo, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		t.names[name] = mark{}
	case err != nil:
		t.blind = true
	default:
		t.names[name] = markOf(info)
	}
}

func (t *Trail) noteFolder(name string, entries []fs.DirEntry, err error) {
	if err != nil {
		t.note(name, nil, err)
		return
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.folders[name] = names
}

func join(dir, name string) string {
	if dir == "." {
		return name
	}
	return dir + "/" + name
}

// tree notes what is asked of another one.
type tree struct {
	fs.FS
	trail *Trail
}

func (t tree) Stat(name string) (fs.FileInfo, error) {
	info, err := fs.Stat(t.FS, name)
	t.trail.note(name, info, err)
	return info, err
}

// ReadDir lists a folder. The size and time of an entry count once its Info is asked for.
func (t tree) ReadDir(name string) ([]fs.DirEntry, error) {
	entries, err := fs.ReadDir(t.FS, name)
	t.trail.noteFolder(name, entries, err)
	out := make([]fs.DirEntry, len(entries))
	for i, e := range entries {
		out[i] = entry{e, join(name, e.Name()), t.trail}
	}
	return out, err
}

func (t tree) Open(name string) (fs.File, error) {
	f, err := t.FS.Open(name)
	if err != nil {
		t.trail.note(name, nil, err)
		return nil, err
	}
	info, err := f.Stat()
	t.trail.note(name, info, err)
	if err == nil && info.IsDir() {
		return folder{f, name, t.trail}, nil
	}
	return f, nil
}

// folder is an open folder: listing it by its handle counts as well.
type folder struct {
	fs.File
	name  string
	trail *Trail
}

func (f folder) ReadDir(n int) ([]fs.DirEntry, error) {
	d, ok := f.File.(fs.ReadDirFile)
	if !ok {
		return nil, &fs.PathError{Op: "readdir", Path: f.name, Err: errors.New("not a folder")}
	}
	entries, err := d.ReadDir(n)
	if n > 0 || (err != nil && !errors.Is(err, io.EOF)) {
		f.trail.note(f.name, nil, fs.ErrInvalid) // a part of a list vouches for nothing
		return entries, err
	}
	f.trail.noteFolder(f.name, entries, nil)
	return entries, err
}

type entry struct {
	fs.DirEntry
	name  string
	trail *Trail
}

func (e entry) Info() (fs.FileInfo, error) {
	info, err := e.DirEntry.Info()
	e.trail.note(e.name, info, err)
	return info, err
}

// Len is how many names were looked at.
func (t *Trail) Len() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.names)
}
