package executor

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
)

// prepareMove makes the folder that a move brings something into.
func (r *Runner) prepareMove(ctx context.Context, _ int, step plan.Step) error {
	dir := path.Dir(step.To)
	if step.World != "" {
		dir = step.To
	}
	if r.work.below(step.To) {
		if err := r.work.need(ctx); err != nil {
			return err
		}
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
	halfway := sync.OnceFunc(func() { r.trace(n, step, "halfway") })
	if step.World == "" {
		return nil, r.move(ctx, step.From, step.To, halfway)
	}
	return nil, r.moveSession(ctx, step.World, step.NameAfter(), step.From, step.To, halfway)
}

func (r *Runner) moveAllBack(ctx context.Context, n int, step plan.Step) error {
	halfway := sync.OnceFunc(func() { r.trace(n, step, "halfway back") })
	if step.World == "" {
		return r.moveBack(ctx, step, halfway)
	}
	return r.moveSession(ctx, step.NameAfter(), step.World, step.To, step.From, halfway)
}

// move renames, or finds that it has been done: by an earlier life, or by a call whose
// answer was lost. When neither or both names are there, somebody else has been at work,
// and a person must look.
func (r *Runner) move(ctx context.Context, from, to string, halfway func()) error {
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return err
	}
	if !can.RenameFolders {
		folder, err := r.isFolder(ctx, from)
		if err == nil && !folder { // what is not there any more may have been one
			folder, err = r.isFolder(ctx, to)
		}
		if err != nil {
			return err
		}
		if folder {
			return r.moveByPieces(ctx, from, to, halfway)
		}
	}
	if !can.ExactCase && from != to && strings.EqualFold(from, to) {
		return r.moveOver(ctx, from, to)
	}
	err = r.moveOpen(ctx, from, to, !can.ExactCase)
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
		away, err := r.outOfTheWay(ctx, to, from)
		if err != nil {
			return err
		}
		if !away {
			return fault.New(fault.Held, "move", from, "%s is there as well", to)
		}
		return r.Files.Move(ctx, from, to)
	}
	return fault.New(fault.Held, "move", from, "neither it nor %s is there", to)
}

// outOfTheWay sets a world aside that stands where another comes in from elsewhere: a game that somebody has started in
// the gap makes what its settings name and it does not find. away is false for what is no world of the game, for what
// stood there before the switch, or where either could be ours: a person must look.
func (r *Runner) outOfTheWay(ctx context.Context, name, from string) (away bool, err error) {
	worlds := r.job.Plan.Worlds
	if path.Dir(name) != worlds || path.Dir(from) == worlds || r.Profile.World.Shape != game.ShapeFolder {
		return false, nil
	}
	if stray, err := r.isStray(ctx, path.Base(name)); err != nil || !stray {
		return false, err
	}
	files, settled := r.Files.Observe(ctx)
	_, err = world.ByName(files, worlds, path.Base(name), r.Profile)
	if broken := settled(nil); broken != nil || err != nil {
		return false, broken
	}
	return true, r.setStrayAside(ctx, path.Base(name))
}

// openFor is how long a host of Windows' kind is asked again to rename what another program has
// open: one that looks through files lets go of them soon.
const openFor = 30 * time.Second

// moveOpen renames; with patience it asks again while the host refuses.
func (r *Runner) moveOpen(ctx context.Context, from, to string, patience bool) error {
	begun := r.Now()
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		err := r.Files.Move(ctx, from, to)
		if !patience || fault.CodeOf(err) != fault.Refused || r.Now().Sub(begun) > openFor {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}

// moveOver gives a name other capitals where these do not tell names apart: over a third name. A
// crash leaves it under one of the three.
func (r *Runner) moveOver(ctx context.Context, from, to string) error {
	over := path.Join(r.job.Plan.Work, "renamed-"+path.Base(to))
	there, err := r.Files.Exists(ctx, over)
	if err != nil {
		return err
	}
	if !there {
		entries, err := r.Files.List(ctx, path.Dir(to))
		if err != nil {
			return err
		}
		if slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == path.Base(to) }) {
			return nil // it has been done
		}
		if err := r.work.need(ctx); err != nil {
			return err
		}
		if err := r.moveOpen(ctx, from, over, true); err != nil {
			return err
		}
	}
	return r.moveOpen(ctx, over, to, true)
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
		if err := r.move(ctx, path.Join(from, e.Name()), path.Join(to, renamed), halfway); err != nil {
			return err
		}
		halfway()
	}
	return nil
}

func (r *Runner) moveBack(ctx context.Context, step plan.Step, halfway func()) error {
	if step.From != step.To && strings.EqualFold(step.From, step.To) {
		can, err := r.Files.Capabilities(ctx)
		if err != nil {
			return err
		}
		if !can.ExactCase {
			return r.moveOver(ctx, step.To, step.From)
		}
	}
	hasFrom, err := r.Files.Exists(ctx, step.From)
	if err != nil {
		return err
	}
	if hasFrom {
		if hasTo, err := r.Files.Exists(ctx, step.To); err != nil || !hasTo {
			return err // it never happened
		}
		if away, err := r.outOfTheWay(ctx, step.To, step.From); err != nil || away {
			return err // nor then
		}
	}
	return r.move(ctx, step.To, step.From, halfway)
}
