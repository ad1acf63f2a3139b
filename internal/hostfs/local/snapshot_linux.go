package local

import (
	"context"
	"io"
	"path/filepath"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/sqlite"
)

// Snapshot implements hostfs.Snapshotter. SQLite opens files by their paths: one that leads out of the
// folder by a link is refused before.
func (f *Files) Snapshot(ctx context.Context, name string) (io.ReadCloser, error) {
	info, err := f.root.Stat(filename.Decode(name)) // refuses what leads out
	if err != nil {
		return nil, class(err)
	}
	if !info.Mode().IsRegular() || info.Size() == 0 {
		return nil, fault.New(fault.Invalid, "take", name, "it is no database")
	}
	out, err := sqlite.Snapshot(ctx, filepath.Join(f.root.Name(), filename.Decode(name)))
	if err != nil {
		return nil, err
	}
	return out, nil
}

var _ hostfs.Snapshotter = (*Files)(nil)
