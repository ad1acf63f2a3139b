// Package filetree makes trees of files that stand in no file system: of a copy in the
// vault, or of a list that somebody sent.
package filetree

import (
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// File is what is told of a file without opening it.
type File struct {
	Size     int64
	Modified time.Time
	Open     func() io.Reader
}

// Tree is a read-only tree of files, an fs.FS. It must not be changed once it is read.
type Tree struct {
	files   map[string]File
	folders map[string][]fs.DirEntry
}

// New gives a tree that holds nothing.
func New() *Tree { return &Tree{map[string]File{}, map[string][]fs.DirEntry{".": nil}} }

// Add adds a file with the folders above it; false when there is one of that name, or
// the name is none of a file below a folder.
func (t *Tree) Add(name string, f File) bool {
	if _, twice := t.files[name]; twice || !fs.ValidPath(name) || name == "." {
		return false
	}
	dir := path.Dir(name)
	t.Folder(dir)
	t.files[name] = f
	t.folders[dir] = append(t.folders[dir], entry{name: path.Base(name), file: f})
	return true
}

// Folder makes a folder known, and those above it.
func (t *Tree) Folder(name string) {
	if _, known := t.folders[name]; known || !fs.ValidPath(name) {
		return
	}
	t.folders[name] = nil
	up := path.Dir(name)
	t.Folder(up)
	t.folders[up] = append(t.folders[up], entry{name: path.Base(name), dir: true})
}

// Sort puts the entries of all folders into the order of their names; it is called once,
// when all is added.
func (t *Tree) Sort() {
	for _, list := range t.folders {
		slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	}
}

// Open gives a file or a folder.
func (t *Tree) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	if f, ok := t.files[name]; ok {
		return &openFile{Reader: f.Open(), entry: entry{name: path.Base(name), file: f}}, nil
	}
	if list, ok := t.folders[name]; ok {
		return &openFolder{entry: entry{name: path.Base(name), dir: true}, rest: list}, nil
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

type entry struct {
	name string
	dir  bool
	file File
}

func (e entry) Name() string               { return e.name }
func (e entry) IsDir() bool                { return e.dir }
func (e entry) Type() fs.FileMode          { return e.Mode().Type() }
func (e entry) Info() (fs.FileInfo, error) { return e, nil }
func (e entry) Size() int64                { return e.file.Size }
func (e entry) ModTime() time.Time         { return e.file.Modified }
func (e entry) Sys() any                   { return nil }
func (e entry) Mode() fs.FileMode {
	if e.dir {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

type openFile struct {
	io.Reader
	entry entry
}

func (f *openFile) Stat() (fs.FileInfo, error) { return f.entry, nil }
func (f *openFile) Close() error               { return nil }

type openFolder struct {
	entry entry
	rest  []fs.DirEntry
}

func (d *openFolder) Stat() (fs.FileInfo, error) { return d.entry, nil }
func (d *openFolder) Close() error               { return nil }
func (d *openFolder) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: d.entry.name, Err: fs.ErrInvalid}
}

// ReadDir gives the next n entries, or all that are left.
func (d *openFolder) ReadDir(n int) ([]fs.DirEntry, error) {
	if n > 0 && len(d.rest) == 0 {
		return nil, io.EOF
	}
	if n <= 0 || n > len(d.rest) {
		n = len(d.rest)
	}
	out := d.rest[:n]
	d.rest = d.rest[n:]
	return slices.Clone(out), nil
}
