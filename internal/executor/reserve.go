package executor

import (
	"context"
	"io"
	"math/rand"
	"path"

	"github.com/dustin/go-humanize"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
)

// Room on the server's disk. Whoever else fills it up while a changeover switches must not keep the server down:
// a part is reserved before the stop, and given up for the game's own start and for the way back.
const (
	// roomForSwitch is what must be free right before the stop, in bytes: the temporary files of settings and
	// folders, what is reserved, and the first that a game writes when it starts.
	roomForSwitch = 16 << 20
	// heldBack is how much is reserved; on a host on which each byte takes its time, heldBackFar.
	heldBack    = 4 << 20
	heldBackFar = 64 << 10
)

// What room is reserved for: the game's start, and the way back, for which the start must leave something.
const (
	forStart = "start"
	forBack  = "back"
)

// ballast is the file that reserves room for something.
func (r *Runner) ballast(what string) string { return path.Join(r.job.Plan.Work, hostfs.Reserve, what) }

// enoughRoom looks whether there is room for the switch and the way back.
func (r *Runner) enoughRoom(ctx context.Context) error {
	free := r.Files.Free(ctx, r.job.Plan.Worlds)
	if free < 0 || free >= roomForSwitch {
		return nil
	}
	return fault.New(fault.NoSpace, "prepare the switch on", r.job.Plan.Server,
		"%s are free on the server's disk, and the switch and the way back may need %s",
		humanize.IBytes(uint64(free)), humanize.IBytes(roomForSwitch))
}

// reserve keeps room for the switch and the way back. What is written is not all the same, or a file system that
// compresses would keep none.
func (r *Runner) reserve(ctx context.Context) error {
	if !r.job.Plan.StartsAfter(-1) {
		return nil
	}
	size := r.Reserve
	switch {
	case size > 0:
	case r.Files.Distant():
		size = heldBackFar
	default:
		size = heldBack
	}
	r.released = map[string]bool{}
	if err := r.work.need(ctx); err != nil {
		return err
	}
	if err := r.Files.MkdirAll(ctx, path.Dir(r.ballast(forStart)), hostfs.Attributes{}); err != nil {
		return err
	}
	for _, what := range []string{forStart, forBack} {
		from := io.LimitReader(rand.New(rand.NewSource(1)), size/2)
		if _, err := r.Files.Write(ctx, r.ballast(what), from, hostfs.Attributes{}); err != nil {
			return err
		}
	}
	return nil
}

// release gives up what was reserved for something; "" is all of it.
func (r *Runner) release(ctx context.Context, what string) error {
	if !r.job.Plan.StartsAfter(-1) || r.released[what] {
		return nil
	}
	err := r.Files.Discard(ctx, r.ballast(what))
	if err == nil && r.released == nil {
		r.released = map[string]bool{}
	}
	if err == nil {
		r.released[what] = true
	}
	return err
}

// makeWay gives up, on the way back, what takes room and nobody needs any more: what was reserved, and what was
// staged and no game has opened.
func (r *Runner) makeWay(ctx context.Context) error {
	if err := r.release(ctx, ""); err != nil {
		return err
	}
	if r.switchedBefore() {
		return nil
	}
	for n, step := range r.job.Plan.Steps {
		placed := step.Kind == plan.Move && step.Switch && r.job.Steps[n].State != plan.StepPlanned &&
			r.job.Steps[n].State != plan.StepUndone
		if placed {
			return nil // where it is placed it is moved back first
		}
	}
	for _, step := range r.job.Plan.Steps {
		if step.Kind == plan.Stage {
			return r.unstage(ctx)
		}
	}
	return nil
}
