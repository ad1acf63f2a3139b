package archive

import (
	"io"
	"io/fs"
	"os"
	"time"

	"reshard/internal/core/fault"
)

// OpenFile opens a file that is no archive as a tree that holds just it, under
// the given name.
func OpenFile(file, name string) (*Archive, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, fault.Wrap(fault.NotFound, "open", name, err)
	}
	return &Archive{FS: oneFile{path: file, name: name}, file: f}, nil
}

// oneFile is a tree of one file that is called otherwise on disk.
type oneFile struct{ path, name string }

func (t oneFile) Open(name string) (fs.File, error) {
	f, err := os.Open(t.path)
	if err != nil {
		return nil, err
	}
	switch name {
	case t.name:
		return renamed{f, t.name}, nil
	case ".":
		return &top{File: renamed{f, "."}, tree: t}, nil
	}
	_ = f.Close() // not the file that was asked for
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

type renamed struct {
	*os.File
	name string
}

func (r renamed) Stat() (fs.FileInfo, error) {
	info, err := r.File.Stat()
	return called{info, r.name}, err
}

type called struct {
	fs.FileInfo
	name string
}

func (c called) Name() string { return c.name }

// top is the tree's root.
type top struct {
	fs.File
	tree oneFile
	read bool
}

func (t *top) Stat() (fs.FileInfo, error) { return folderInfo{}, nil }

func (t *top) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: ".", Err: fs.ErrInvalid}
}

func (t *top) ReadDir(n int) ([]fs.DirEntry, error) {
	if t.read {
		if n > 0 {
			return nil, io.EOF
		}
		return nil, nil
	}
	t.read = true
	info, err := os.Stat(t.tree.path)
	if err != nil {
		return nil, err
	}
	return []fs.DirEntry{fs.FileInfoToDirEntry(called{info, t.tree.name})}, nil
}

type folderInfo struct{}

func (folderInfo) Name() string       { return "." }
func (folderInfo) Size() int64        { return 0 }
func (folderInfo) Mode() fs.FileMode  { return fs.ModeDir | 0o755 }
func (folderInfo) ModTime() time.Time { return time.Time{} }
func (folderInfo) IsDir() bool        { return true }
func (folderInfo) Sys() any           { return nil }
