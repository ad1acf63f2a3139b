package hostfs

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"reshard/internal/core/fault"
)

// MovePieces moves a folder on a host that cannot rename folders: each of its files is renamed to its
// name below the other folder, which may be there in part. Doing it once more after an error, or a
// crash, does what is left. Exists: a file is there in both; nothing is written over. moved is called
// after each of them.
func (p *FS) MovePieces(ctx context.Context, from, to string, moved func()) error {
	if err := check("move", from, to); err != nil {
		return err
	}
	can, err := p.Capabilities(ctx)
	if err != nil {
		return err
	}
	return p.movePieces(ctx, from, to, func(i Info) Attributes { return i.Likeness(can) }, moved)
}

func (p *FS) movePieces(ctx context.Context, from, to string, like func(Info) Attributes, moved func()) error {
	info, err := p.Stat(ctx, from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // all of it has been moved
	}
	if err == nil && !info.IsDir() {
		err = fault.New(fault.Invalid, "move", path.Join(p.name, from), "it is no folder")
	}
	if err != nil {
		return err
	}
	entries, err := p.List(ctx, from)
	if err != nil {
		return err
	}
	if err := p.MkdirAll(ctx, to, like(info)); err != nil {
		return err
	}
	for _, e := range entries {
		was, will := path.Join(from, e.Name()), path.Join(to, e.Name())
		if e.IsDir() {
			err = p.movePieces(ctx, was, will, like, moved)
		} else if err = p.Move(ctx, was, will); errors.Is(err, fs.ErrNotExist) {
			err = nil // another try of it has moved it
		}
		if err != nil {
			return err
		}
		moved()
	}
	return p.RemoveEmpty(ctx, from)
}

// RemoveEmpty removes a folder in which nothing is; one that is not there is left alone. NotEmpty:
// something is in it.
func (p *FS) RemoveEmpty(ctx context.Context, name string) error {
	if err := check("remove", name); err != nil {
		return err
	}
	info, err := p.Stat(ctx, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err == nil && !info.IsDir():
		return fault.New(fault.Invalid, "remove", path.Join(p.name, name), "it is no folder")
	case err != nil:
		return err
	}
	return p.removeIfThere(ctx, "remove", name)
}
