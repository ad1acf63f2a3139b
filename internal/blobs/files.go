package blobs

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

// files is a folder with a file for each blob. An unfinished blob is a file beside its place, with an ending of its
// own; a crash leaves it there, and List gives it as a blob that nobody knows.
//
// The folder stays open, so writes reach that folder even if its path is mounted over or unmounted meanwhile. Links
// out of it are not followed.
type files struct {
	root *os.Root
	// durable: a blob is on the disk once it is closed.
	durable bool
}

// Files keeps blobs as files below a folder that is there. Close lets the folder go.
func Files(dir string) (Store, error) { return open(dir, false) }

// DurableFiles is Files of which each blob is on the disk once it is closed, without waiting for what others write to
// the same disk.
func DurableFiles(dir string) (Store, error) { return open(dir, true) }

func open(dir string, durable bool) (Store, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Store{}, err
	}
	return Store{Driver: files{root, durable}}, nil
}

// Close implements io.Closer.
func (f files) Close() error { return f.root.Close() }

// at is the file of a blob.
func at(op, key string) (string, error) {
	name := filepath.FromSlash(key)
	if !filepath.IsLocal(name) {
		return "", &fs.PathError{Op: op, Path: key, Err: fs.ErrInvalid}
	}
	return name, nil
}

// Open implements Driver.
func (f files) Open(_ context.Context, key string, from, n int64) (io.ReadCloser, error) {
	name, err := at("open", key)
	if err != nil {
		return nil, err
	}
	file, err := f.root.Open(name)
	if err != nil || from == 0 && n < 0 {
		return file, err
	}
	if n < 0 {
		_, err = file.Seek(from, io.SeekStart)
		return file, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(file, from, n), file}, nil
}

// Create implements Driver.
func (f files) Create(ctx context.Context, key string) (Writer, error) {
	name, err := at("create", key)
	if err != nil {
		return nil, err
	}
	if err := f.root.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	part := fmt.Sprintf("%s.%08x.tmp", name, rand.Uint32())
	file, err := f.root.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return &fileWriter{
		files: f, ctx: ctx, file: file, part: part, name: name, out: bufio.NewWriterSize(file, 64<<10),
	}, nil
}

type fileWriter struct {
	files
	ctx        context.Context
	file       *os.File
	out        *bufio.Writer
	part, name string
	done       bool
}

func (w *fileWriter) Write(p []byte) (int, error) {
	if err := context.Cause(w.ctx); err != nil {
		return 0, err
	}
	return w.out.Write(p)
}

// Close implements Writer.
func (w *fileWriter) Close() error {
	if w.done {
		return fs.ErrClosed
	}
	w.done = true
	err := errors.Join(context.Cause(w.ctx), w.out.Flush())
	if err == nil && w.durable {
		err = w.file.Sync()
	}
	if err = errors.Join(err, w.file.Close()); err == nil {
		err = w.root.Rename(w.part, w.name)
	}
	if err == nil && w.durable {
		err = w.syncFolders(filepath.Dir(w.name))
	}
	if err != nil {
		_ = w.root.Remove(w.part) // the first error is the one that tells
	}
	return err
}

// syncFolders makes the names of a folder, and of those that it is in, durable.
func (f files) syncFolders(name string) error {
	for {
		d, err := f.root.Open(name)
		if err != nil {
			return err
		}
		if err := errors.Join(d.Sync(), d.Close()); err != nil {
			return err
		}
		if name == "." {
			return nil
		}
		name = filepath.Dir(name)
	}
}

// Abort implements Writer.
func (w *fileWriter) Abort() {
	if w.done {
		return
	}
	w.done = true
	_ = w.file.Close()        // it is given up
	_ = w.root.Remove(w.part) // else List gives it, and a collection removes it
}

// Stat implements Driver.
func (f files) Stat(_ context.Context, key string) (Info, error) {
	name, err := at("stat", key)
	if err != nil {
		return Info{}, err
	}
	info, err := f.root.Stat(name)
	if err != nil {
		return Info{}, err
	}
	if !info.Mode().IsRegular() {
		return Info{}, &fs.PathError{Op: "stat", Path: name, Err: errors.New("not a regular file")}
	}
	return Info{Key: key, Size: info.Size(), Modified: info.ModTime()}, nil
}

// List implements Driver. Only regular files are blobs.
func (f files) List(ctx context.Context, prefix string) iter.Seq2[Info, error] {
	return func(yield func(Info, error) bool) {
		begin, _ := at("list", strings.Trim(prefix[:strings.LastIndex(prefix, "/")+1], "/"))
		if begin == "" {
			begin = "."
		}
		err := fs.WalkDir(f.root.FS(), filepath.ToSlash(begin), func(key string, d fs.DirEntry, err error) error {
			if cause := context.Cause(ctx); cause != nil {
				return cause
			}
			if errors.Is(err, fs.ErrNotExist) && key != "." { // it went meanwhile
				return nil
			}
			if err != nil || !d.Type().IsRegular() || !strings.HasPrefix(key, prefix) {
				return err
			}
			info, err := d.Info()
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err == nil && !yield(Info{Key: key, Size: info.Size(), Modified: info.ModTime()}, nil) {
				return fs.SkipAll
			}
			return err
		})
		if err != nil {
			yield(Info{}, err)
		}
	}
}

// Delete implements Driver.
func (f files) Delete(_ context.Context, key string) error {
	name, err := at("delete", key)
	if err != nil {
		return err
	}
	return f.root.Remove(name)
}
