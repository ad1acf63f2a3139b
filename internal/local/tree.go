package local

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"syscall"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
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
	f, err := t.root.OpenFile(filename.Decode(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
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
	return opened{f, path.Base(name)}, nil
}

// opened is an open file or folder whose names are in UTF-8.
type opened struct {
	*os.File
	name string
}

func (o opened) Stat() (fs.FileInfo, error) {
	info, err := o.File.Stat()
	if err != nil {
		return nil, err
	}
	return named{info, o.name}, nil
}

func (o opened) ReadDir(n int) ([]fs.DirEntry, error) {
	list, err := o.File.ReadDir(n)
	for i, e := range list {
		if name := filename.Encode(e.Name()); name != e.Name() {
			list[i] = entry{e, name}
		}
	}
	return list, err
}

type named struct {
	fs.FileInfo
	name string
}

func (n named) Name() string { return n.name }

type entry struct {
	fs.DirEntry
	name string
}

func (e entry) Name() string { return e.name }

func (e entry) Info() (fs.FileInfo, error) {
	info, err := e.DirEntry.Info()
	if err != nil {
		return nil, err
	}
	return named{info, e.name}, nil
}

func (t inside) Stat(name string) (fs.FileInfo, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrInvalid}
	}
	info, err := t.root.Stat(filename.Decode(name))
	if err != nil {
		return nil, err
	}
	return named{info, path.Base(name)}, nil
}
