package vault

import (
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// Tree gives a copy's files as a tree to read, each verified as it is read. at gives
// where a file stands in it, from its part and its path there; "" leaves it out.
func (v *Vault) Tree(c Copy, at func(part, name string) string) fs.FS {
	t := tree{v: v, files: map[string]File{}, folders: map[string][]fs.DirEntry{".": nil}}
	for _, f := range c.Files {
		name := at(f.Part, strings.TrimSuffix(f.Path, "/"))
		if name == "" {
			continue
		}
		if f.Dir() {
			t.folder(name)
			continue
		}
		t.folder(path.Dir(name))
		t.files[name] = f
		dir := path.Dir(name)
		t.folders[dir] = append(t.folders[dir], entry{name: path.Base(name), file: f})
	}
	for _, list := range t.folders {
		slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	}
	return t
}

type tree struct {
	v       *Vault
	files   map[string]File
	folders map[string][]fs.DirEntry
}

// folder makes a folder known, and those above it.
func (t tree) folder(name string) {
	if _, known := t.folders[name]; known {
		return
	}
	t.folders[name] = nil
	up := path.Dir(name)
	t.folder(up)
	t.folders[up] = append(t.folders[up], entry{name: path.Base(name), dir: true})
}

// Open gives a file or a folder of the copy.
func (t tree) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	if f, ok := t.files[name]; ok {
		return &openFile{Reader: t.v.Read(f), entry: entry{name: path.Base(name), file: f}}, nil
	}
	if list, ok := t.folders[name]; ok {
		return &openFolder{entry: entry{name: path.Base(name), dir: true}, rest: list}, nil
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// entry is what is told of a file or folder without opening it.
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
