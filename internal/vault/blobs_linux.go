package vault

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"reshard/internal/blobs"
	"reshard/internal/core/fault"
)

// Files keeps packs as files below a folder, which is made when it is not there.
func Files(dir string) (blobs.Store, error) {
	if _, err := os.Stat(filepath.Join(dir, "chunks")); err == nil {
		return blobs.Store{}, fault.New(fault.Invalid, "open vault", dir,
			"it is of a build before packs, which this one does not read").
			With("Move the service's data folder away and send the worlds again; in the demo: make demo-reset.")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return blobs.Store{}, fault.Wrap(fault.Internal, "open vault", dir, err)
	}
	b, err := blobs.Files(dir)
	if err != nil {
		return blobs.Store{}, fault.Wrap(fault.Internal, "open vault", dir, err)
	}
	b.Sync = func() error { return syncFiles(dir) }
	b.Begin = func(key string) { beginSync(filepath.Join(dir, filepath.FromSlash(key))) }
	return b, nil
}

// beginSync asks the system to write a file out and does not wait for it. It is only a
// head start: what is promised rests on syncFiles.
func beginSync(file string) {
	f, err := os.Open(file)
	if err != nil {
		return
	}
	defer f.Close()                                                       //nolint:errcheck // only read
	_ = unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE) // some file systems have none
}

// syncFiles syncs the file system once for all packs, which is quicker than each.
func syncFiles(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close() //nolint:errcheck // Syncfs has told all there is to tell
	return unix.Syncfs(int(d.Fd()))
}
