// Package place is a file tree on a host. A Place is a concrete type over a
// small Driver: checks, path rules, atomic writes and error words stand here
// once; a driver (local now, SFTP and FTP later) only moves bytes.
package place

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"syscall"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// Driver is what a kind of host must be able to do. Names are valid by
// fs.ValidPath. Musts:
//   - Open, Stat and ReadDir follow no link out of the tree, and report a
//     missing name with an error that errors.Is fs.ErrNotExist.
//   - Create truncates what is there and never follows a link out of the tree.
//   - Rename is one atomic operation and replaces a file of the new name.
//   - Sync makes what was written to a file, or renamed in a folder, survive a
//     power cut, or does nothing where the host cannot.
type Driver interface {
	fs.StatFS
	fs.ReadDirFS
	Create(name string) (io.WriteCloser, error)
	Mkdir(name string) error
	Rename(from, to string) error
	Remove(name string) error
	Chtimes(name string, t time.Time) error
	Sync(name string) error
}

// Optional abilities of a driver.
type (
	// Spacer tells how much is free, in bytes.
	Spacer interface{ Free() (int64, error) }
	// Filesystem tells which file system a name is on, to foresee whether a
	// rename can work.
	Filesystem interface {
		Device(name string) (uint64, error)
	}
	// SyncAller makes everything written so far survive a power cut at once.
	SyncAller interface{ SyncAll() error }
)

// Place is a file tree on a host.
type Place struct {
	driver Driver
	name   string
}

// New makes a place over a driver; name is used in messages.
func New(name string, d Driver) *Place { return &Place{driver: d, name: name} }

// FS gives the read side.
func (p *Place) FS() fs.FS { return p.driver }

func (p *Place) wrap(op, name string, err error) error {
	if err == nil {
		return nil
	}
	code := fault.Internal
	switch {
	case errors.Is(err, fs.ErrNotExist):
		code = fault.NotFound
	case errors.Is(err, fs.ErrExist), errors.Is(err, syscall.ENOTEMPTY):
		code = fault.Exists
	case errors.Is(err, fs.ErrPermission):
		code = fault.Denied
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		code = fault.NoSpace
	case errors.Is(err, syscall.EXDEV):
		code = fault.CrossDevice
	}
	e := &fault.Error{Code: code, Op: op, Path: path.Join(p.name, name), Err: err}
	if code == fault.Denied {
		e.Next = "Give the user that the service runs as the right to read and write there."
	}
	return e
}

func check(op string, names ...string) error {
	for _, n := range names {
		if !fs.ValidPath(n) || strings.ContainsRune(n, 0) {
			return fault.New(fault.Invalid, op, n, "not a path below the root")
		}
	}
	return nil
}

// Exists reports whether a name is there, as a file or a folder.
func (p *Place) Exists(name string) (bool, error) {
	if err := check("look at", name); err != nil {
		return false, err
	}
	_, err := p.driver.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, p.wrap("look at", name, err)
}

// ReadFile reads a whole file of at most limit bytes.
func (p *Place) ReadFile(name string, limit int64) ([]byte, error) {
	if err := check("read", name); err != nil {
		return nil, err
	}
	f, err := p.driver.Open(name)
	if err != nil {
		return nil, p.wrap("read", name, err)
	}
	defer f.Close() //nolint:errcheck // only read
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, fault.New(fault.TooLarge, "read", path.Join(p.name, name), "more than %d bytes", limit)
	}
	return data, p.wrap("read", name, err)
}

// MkdirAll makes a folder and those above it.
func (p *Place) MkdirAll(name string) error {
	if err := check("make folder", name); err != nil || name == "." {
		return err
	}
	info, err := p.driver.Stat(name)
	if err == nil {
		if !info.IsDir() {
			return fault.New(fault.Exists, "make folder", path.Join(p.name, name), "a file of that name is in the way")
		}
		return nil
	}
	if err := p.MkdirAll(path.Dir(name)); err != nil {
		return err
	}
	if err := p.driver.Mkdir(name); err != nil && !errors.Is(err, fs.ErrExist) {
		return p.wrap("make folder", name, err)
	}
	return nil
}

// Write writes a new file from a reader, with its modification time; the folder
// must exist. It is for staging: the file may be left half written on error.
func (p *Place) Write(name string, from io.Reader, modified time.Time) (n int64, err error) {
	if err := check("write", name); err != nil {
		return 0, err
	}
	w, err := p.driver.Create(name)
	if err != nil {
		return 0, p.wrap("write", name, err)
	}
	n, err = io.Copy(w, from)
	if err = errors.Join(err, w.Close()); err != nil {
		return n, p.wrap("write", name, err)
	}
	if !modified.IsZero() {
		err = p.driver.Chtimes(name, modified)
	}
	return n, p.wrap("write", name, err)
}

// Replace writes a file's whole content atomically: to a temporary file beside
// it, synced, renamed over it, read back and compared. The temporary file is
// always removed.
func (p *Place) Replace(name string, data []byte) (err error) {
	if err := check("replace", name); err != nil {
		return err
	}
	temp := path.Join(path.Dir(name), ".reshard-new-"+path.Base(name))
	defer func() {
		if err != nil {
			_ = p.driver.Remove(temp) // the first error is the one to tell
		}
	}()
	if _, err := p.Write(temp, bytes.NewReader(data), time.Time{}); err != nil {
		return err
	}
	if d, ok := p.driver.(interface{ Resemble(name, like string) error }); ok {
		if err := d.Resemble(temp, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return p.wrap("replace", name, err)
		}
	}
	if err := p.driver.Sync(temp); err != nil {
		return p.wrap("replace", name, err)
	}
	if err := p.driver.Rename(temp, name); err != nil {
		return p.wrap("replace", name, err)
	}
	if err := p.driver.Sync(path.Dir(name)); err != nil {
		return p.wrap("replace", name, err)
	}
	back, err := p.ReadFile(name, int64(len(data)))
	if err == nil && !bytes.Equal(back, data) {
		err = fault.New(fault.Damaged, "replace", path.Join(p.name, name), "reads back differently from what was written")
	}
	return err
}

// Standing reports whether the place is still what its address names. A driver that
// cannot tell is taken at its word.
func (p *Place) Standing() bool {
	d, ok := p.driver.(interface{ Standing() bool })
	return !ok || d.Standing()
}

// Move renames a file or folder to a name that must not exist yet.
func (p *Place) Move(from, to string) error {
	if err := check("move", from, to); err != nil {
		return err
	}
	there, err := p.Exists(to)
	if err != nil {
		return err
	}
	if there {
		return fault.New(fault.Exists, "move", path.Join(p.name, from), "%s is there already", to)
	}
	if err := p.driver.Rename(from, to); err != nil {
		return p.wrap("move", from, err)
	}
	// Both folders have changed; a power cut must not bring the old state back.
	for _, dir := range []string{path.Dir(from), path.Dir(to)} {
		if err := p.driver.Sync(dir); err != nil {
			return p.wrap("move", from, err)
		}
	}
	return nil
}

// Discard removes a tree that Reshard itself staged, or a working folder that is on
// its way out. It refuses any name outside a working folder's "staged" or one that is
// not called "going-…", so that no world that was ever live can be removed by it
// before it has been renamed so.
func (p *Place) Discard(name string) error {
	if err := check("discard", name); err != nil {
		return err
	}
	parts := strings.Split(name, "/")
	staged := false
	for i, s := range parts {
		if s == plan.WorkFolder {
			staged = staged || (len(parts) > i+2 && parts[i+2] == "staged") || (len(parts) > i+1 && strings.HasPrefix(parts[i+1], "going-"))
		}
	}
	if !staged {
		return fault.New(fault.Internal, "discard", name, "not a staging folder of Reshard, nor one that is going")
	}
	return p.wrap("discard", name, p.remove(name))
}

func (p *Place) remove(name string) error {
	info, err := p.driver.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		entries, err := p.driver.ReadDir(name)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := p.remove(path.Join(name, e.Name())); err != nil {
				return err
			}
		}
	}
	return p.driver.Remove(name)
}

// SyncAll makes everything written so far survive a power cut, where the host can.
func (p *Place) SyncAll() error {
	if s, ok := p.driver.(SyncAller); ok {
		return p.wrap("sync", ".", s.SyncAll())
	}
	return nil
}

// Free tells how many bytes are free, or -1 when the host does not say.
func (p *Place) Free() int64 {
	if s, ok := p.driver.(Spacer); ok {
		if n, err := s.Free(); err == nil {
			return n
		}
	}
	return -1
}

// SameFilesystem reports whether names can be renamed into each other's
// folders. A host that does not say is given the benefit of the doubt: staging
// tries a rename before anything is stopped.
func (p *Place) SameFilesystem(a, b string) bool {
	d, ok := p.driver.(Filesystem)
	if !ok {
		return true
	}
	x, errX := d.Device(a)
	y, errY := d.Device(b)
	return errX != nil || errY != nil || x == y
}

// String gives the place's name.
func (p *Place) String() string { return fmt.Sprintf("place %s", p.name) }
