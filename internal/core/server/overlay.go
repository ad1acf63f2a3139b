package server

import (
	"bytes"
	"io/fs"
	"path"
	"time"
)

// With gives a server's tree as it would be with other bytes in some of its files, by their paths from the
// root. Files that are not there are not there with it either.
func With(fsys fs.FS, files map[string][]byte) fs.FS { return overlay{fsys, files} }

type overlay struct {
	fs.FS
	files map[string][]byte
}

func (o overlay) Open(name string) (fs.File, error) {
	f, err := o.FS.Open(name)
	data, over := o.files[name]
	if err != nil || !over {
		return f, err
	}
	defer f.Close() //nolint:errcheck // only looked at
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return &overFile{Reader: bytes.NewReader(data), info: overInfo{info, int64(len(data))}}, nil
}

func (o overlay) Stat(name string) (fs.FileInfo, error) {
	info, err := fs.Stat(o.FS, name)
	if data, over := o.files[name]; over && err == nil {
		return overInfo{info, int64(len(data))}, nil
	}
	return info, err
}

func (o overlay) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(o.FS, name) }

type overInfo struct {
	fs.FileInfo
	size int64
}

func (i overInfo) Size() int64        { return i.size }
func (i overInfo) Name() string       { return path.Base(i.FileInfo.Name()) }
func (i overInfo) ModTime() time.Time { return i.FileInfo.ModTime() }

type overFile struct {
	*bytes.Reader
	info overInfo
}

func (f *overFile) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *overFile) Close() error               { return nil }
