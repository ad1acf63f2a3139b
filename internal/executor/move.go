package executor

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"sync"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// prepareMove makes the folder that a move brings something into.
func (r *Runner) prepareMove(ctx context.Context, _ int, step plan.Step) error {
	dir := path.Dir(step.To)
	if step.World != "" {
		dir = step.To
	}
	like, err := r.belonging(ctx)
	if err != nil {
		return err
	}
	if err := r.Files.MkdirAll(ctx, dir, like.dir); err != nil || step.World != "" {
		return err
	}
	// What has to be known of the two folders is known then; far away each question counts.
	if _, err := r.Files.Exists(ctx, step.From); err != nil {
		return err
	}
	_, err = r.Files.Exists(ctx, step.To)
	return err
}

// moveAll renames a folder or a file, or all files of a session. After a crash each has
// one of its two names, and the rest is renamed.
func (r *Runner) moveAll(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	if step.World == "" {
		return nil, r.move(ctx, step.From, step.To)
	}
	halfway := sync.OnceFunc(func() { r.trace(n, step, "halfway") })
	return nil, r.moveSession(ctx, step.World, step.NameAfter(), step.From, step.To, halfway)
}

func (r *Runner) moveAllBack(ctx context.Context, n int, step plan.Step) error {
	if step.World == "" {
		return r.moveBack(ctx, step)
	}
	halfway := sync.OnceFunc(func() { r.trace(n, step, "halfway back") })
	return r.moveSession(ctx, step.NameAfter(), step.World, step.To, step.From, halfway)
}

// move renames, or finds that it has been done: by an earlier life, or by a call whose
// answer was lost. When neither or both names are there, somebody else has been at work,
// and a person must look.
func (r *Runner) move(ctx context.Context, from, to string) error {
	err := r.Files.Move(ctx, from, to)
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
		return err
	}
	hasFrom, err := r.Files.Exists(ctx, from)
	if err != nil {
		return err
	}
	hasTo, err := r.Files.Exists(ctx, to)
	if err != nil {
		return err
	}
	switch {
	case hasFrom && !hasTo: // the folder for it is not there
		like, err := r.belonging(ctx)
		if err != nil {
			return err
		}
		if err := r.Files.MkdirAll(ctx, path.Dir(to), like.dir); err != nil {
			return err
		}
		return r.Files.Move(ctx, from, to)
	case !hasFrom && hasTo:
		return nil
	case hasFrom:
		return fault.New(fault.Held, "move", from, "%s is there as well", to)
	}
	return fault.New(fault.Held, "move", from, "neither it nor %s is there", to)
}

// moveSession renames every file of a session that is still in its old place, or has
// its old name. Doing it once more does what is left, so that it can be repeated
// after a crash.
func (r *Runner) moveSession(ctx context.Context, session, as, from, to string, halfway func()) error {
	there, err := r.Files.Exists(ctx, from)
	if err != nil || !there {
		return err // nothing of it was ever there
	}
	entries, err := r.Files.List(ctx, from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if name, _, ok := r.Profile.World.NameOf(e.Name()); !ok || name != session || e.IsDir() {
			continue
		}
		renamed := r.Profile.World.Renamed(e.Name(), session, as)
		if err := r.move(ctx, path.Join(from, e.Name()), path.Join(to, renamed)); err != nil {
			return err
		}
		halfway()
	}
	return nil
}

func (r *Runner) moveBack(ctx context.Context, step plan.Step) error {
	hasFrom, err := r.Files.Exists(ctx, step.From)
	if err != nil {
		return err
	}
	if hasFrom {
		if hasTo, err := r.Files.Exists(ctx, step.To); err != nil || !hasTo {
			return err // it never happened
		}
	}
	return r.move(ctx, step.To, step.From)
}
