package executor

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"path"

	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
)

// moveByPieces moves a folder where folders cannot be renamed. A folder in the working folder marks
// that it has begun, either way: then both names may be there. Without the mark that is somebody
// else's doing, as it is where folders are renamed.
func (r *Runner) moveByPieces(ctx context.Context, from, to string, halfway func()) error {
	sum := sha256.Sum256([]byte(min(from, to) + "\x00" + max(from, to)))
	mark := path.Join(r.job.Plan.Work, "moving-"+hex.EncodeToString(sum[:8]))
	begun, err := r.Files.Exists(ctx, mark)
	if err != nil {
		return err
	}
	hasFrom, err := r.Files.Exists(ctx, from)
	if err != nil {
		return err
	}
	hasTo, err := r.Files.Exists(ctx, to)
	switch {
	case err != nil:
		return err
	case !hasFrom && hasTo:
		return r.Files.RemoveEmpty(ctx, mark) // it has been done
	case !hasFrom:
		return fault.New(fault.Held, "move", from, "neither it nor %s is there", to)
	case hasTo && !begun:
		return fault.New(fault.Held, "move", from, "%s is there as well", to)
	}
	if err := r.work.need(ctx); err != nil {
		return err
	}
	if err := r.Files.MkdirAll(ctx, mark, hostfs.Attributes{}); err != nil {
		return err
	}
	halfway()
	if err := r.Files.MovePieces(ctx, from, to, halfway); err != nil {
		return err
	}
	return r.Files.RemoveEmpty(ctx, mark)
}

// isFolder reports whether a name is that of a folder; one that is not there is none.
func (r *Runner) isFolder(ctx context.Context, name string) (bool, error) {
	there, err := r.Files.Exists(ctx, name)
	if err != nil || !there {
		return false, err
	}
	info, err := r.Files.Stat(ctx, name)
	return err == nil && info.IsDir(), err
}
