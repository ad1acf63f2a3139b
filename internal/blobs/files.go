package blobs

import (
	"bufio"
	"context"
	"errors"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
)

// files is a folder with a file for each blob. An unfinished blob is a file beside its place, with an ending of its
// own; a crash leaves it there, and List gives it as a blob that nobody knows.
type files struct{ dir string }

// Files keeps blobs as files below a folder that is there.
func Files(dir string) (Store, error) {
	info, err := os.Stat(dir)
	if err == nil && !info.IsDir() {
		err = &fs.PathError{Op: "open", Path: dir, Err: errors.New("not a folder")}
	}
	return Store{Driver: files{dir}}, err
}

// at is the file of a blob.
func (f files) at(op, key string) (string, error) {
	name := filepath.FromSlash(key)
	if !filepath.IsLocal(name) {
		return "", &fs.PathError{Op: op, Path: key, Err: fs.ErrInvalid}
	}
	return filepath.Join(f.dir, name), nil
}

// Open implements Driver.
func (f files) Open(_ context.Context, key string, from, n int64) (io.ReadCloser, error) {
	name, err := f.at("open", key)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(name)
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
	name, err := f.at("create", key)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+".*.tmp")
	if err != nil {
		return nil, err
	}
	return &fileWriter{ctx: ctx, file: file, name: name, out: bufio.NewWriterSize(file, 64<<10)}, nil
}

type fileWriter struct {
	ctx  context.Context
	file *os.File
	out  *bufio.Writer
	name string
	done bool
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
	err := errors.Join(context.Cause(w.ctx), w.out.Flush(), w.file.Close())
	if err == nil {
		err = os.Rename(w.file.Name(), w.name)
	}
	if err != nil {
		_ = os.Remove(w.file.Name()) // the first error is the one that tells
	}
	return err
}

// Abort implements Writer.
func (w *fileWriter) Abort() {
	if w.done {
		return
	}
	w.done = true
	_ = w.file.Close()           // it is given up
	_ = os.Remove(w.file.Name()) // else List gives it, and a collection removes it
}

// Stat implements Driver.
func (f files) Stat(_ context.Context, key string) (Info, error) {
	name, err := f.at("stat", key)
	if err != nil {
		return Info{}, err
	}
	info, err := os.Stat(name)
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
		begin, _ := f.at("list", strings.Trim(prefix[:strings.LastIndex(prefix, "/")+1], "/"))
		if begin == "" {
			begin = f.dir
		}
		err := filepath.WalkDir(begin, func(name string, d fs.DirEntry, err error) error {
			if cause := context.Cause(ctx); cause != nil {
				return cause
			}
			if errors.Is(err, fs.ErrNotExist) && name != f.dir { // it went meanwhile
				return nil
			}
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			rel, err := filepath.Rel(f.dir, name)
			key := filepath.ToSlash(rel)
			if err != nil || !strings.HasPrefix(key, prefix) {
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
	name, err := f.at("delete", key)
	if err != nil {
		return err
	}
	return os.Remove(name)
}
