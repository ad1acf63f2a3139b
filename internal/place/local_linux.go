package place

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// local is a folder of this machine. os.Root keeps every name inside it, links
// included.
type local struct {
	root *os.Root
	path string
}

// Local opens a folder of this machine; path must be absolute and exist. Close
// the returned closer when the place is no longer used.
func Local(path string) (*Place, io.Closer, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, nil, (&Place{name: path}).wrap("open", ".", err)
	}
	return New(path, &local{root: root, path: path}), root, nil
}

func (l *local) Open(name string) (fs.File, error)          { return l.root.FS().Open(name) }
func (l *local) Stat(name string) (fs.FileInfo, error)      { return l.root.Lstat(name) }
func (l *local) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(l.root.FS(), name) }
func (l *local) Create(name string) (io.WriteCloser, error) { return l.root.Create(name) }
func (l *local) Mkdir(name string) error                    { return l.root.Mkdir(name, 0o755) }
func (l *local) Rename(from, to string) error               { return l.root.Rename(from, to) }
func (l *local) Remove(name string) error                   { return l.root.Remove(name) }
func (l *local) Chtimes(name string, t time.Time) error     { return l.root.Chtimes(name, t, t) }

// Resemble gives a file the permissions of another, and its owner where that may be
// given: a settings file that is replaced stays readable for whom it was.
func (l *local) Resemble(name, like string) error {
	info, err := l.root.Stat(like)
	if err != nil {
		return err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && (int(st.Uid) != os.Geteuid() || int(st.Gid) != os.Getegid()) {
		_ = l.root.Chown(name, int(st.Uid), int(st.Gid)) // only root may give files away
	}
	return l.root.Chmod(name, info.Mode().Perm())
}

// Standing reports whether the opened folder is still the one at its path: an open
// folder is followed wherever it is moved.
func (l *local) Standing() bool {
	there, err := os.Stat(l.path)
	if err != nil {
		return false
	}
	opened, err := l.root.Stat(".")
	return err == nil && os.SameFile(there, opened)
}

func (l *local) Sync(name string) error {
	f, err := l.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // Sync has told all there is to tell
	return f.Sync()
}

func (l *local) SyncAll() error {
	f, err := l.root.Open(".")
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // Syncfs has told all there is to tell
	return unix.Syncfs(int(f.Fd()))
}

func (l *local) Free() (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(filepath.Clean(l.root.Name()), &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

func (l *local) Device(name string) (uint64, error) {
	info, err := l.root.Stat(name)
	if err != nil {
		return 0, err
	}
	return info.Sys().(*syscall.Stat_t).Dev, nil
}
