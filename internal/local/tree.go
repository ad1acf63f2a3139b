package local

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"reshard/internal/core/fault"
)

// inside is a folder of this computer as a tree: a link out of it is not followed, and what
// is neither a folder nor a regular file is not opened. A named pipe would be waited for.
type inside struct{ root *os.Root }

// openTree opens a folder. It is given back when nothing refers to it any more.
func openTree(folder string) (fs.FS, error) {
	root, err := os.OpenRoot(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.NotFound, "look at", folder, "there is no such folder").With("Check the path.")
	}
	if err != nil {
		return nil, fault.Wrap(fault.Refused, "look at", folder, err)
	}
	return inside{root}, nil
}

func (t inside) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	f, err := t.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.IsDir() && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no regular file")}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (t inside) Stat(name string) (fs.FileInfo, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrInvalid}
	}
	return t.root.Stat(name)
}

func (t inside) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(t.root.FS(), name) }
