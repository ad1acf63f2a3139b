package executor

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path"
	"strconv"

	"github.com/dustin/go-humanize"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
)

// prepared is a settings write that only has to be put in its place: the bytes that
// stood there, which are kept, and those that are to stand there, which wait beside.
type prepared struct{ kept, after []byte }

// roomForSwitch is what a switch itself may need on the host, in bytes: the temporary
// files of its settings and folders.
const roomForSwitch = 1 << 20

// prepare does everything before the stop that need not be done within it, and looks for
// room once more. What it makes is found again, and made again, by the step itself when
// a crash has lost it.
func (r *Runner) prepare(ctx context.Context) error {
	err := r.patiently(ctx, func(ctx context.Context) error {
		if free := r.Files.Free(ctx, r.job.Plan.Worlds); free >= 0 && free < roomForSwitch {
			return fault.New(fault.NoSpace, "prepare the switch on", r.job.Plan.Server,
				"%s are free, and the switch may need %s",
				humanize.IBytes(uint64(free)), humanize.IBytes(roomForSwitch))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for n, step := range r.job.Plan.Steps {
		if r.job.Steps[n].State == plan.StepDone {
			continue
		}
		r.trace(n, step, "prepare")
		err := r.patiently(ctx, func(ctx context.Context) error { return r.prepareStep(ctx, n, step) })
		if err != nil {
			return fault.Wrap(fault.Internal, "prepare step "+strconv.Itoa(n+1)+" ("+step.Kind+") on",
				r.job.Plan.Server, err)
		}
	}
	return nil
}

func (r *Runner) prepareStep(ctx context.Context, n int, step plan.Step) error {
	switch step.Kind {
	case plan.Move:
		dir := path.Dir(step.To)
		if step.World != "" {
			dir = step.To
		}
		like, err := r.belonging(ctx)
		if err != nil {
			return err
		}
		return r.Files.MkdirAll(ctx, dir, like.dir)
	case plan.Write:
		if isOpened(step) {
			return nil // what is to be written is known only when the server runs
		}
		now, err := r.Files.ReadFile(ctx, step.File, longestSettings)
		if err != nil {
			return err
		}
		return r.prepareWrite(ctx, n, step, now)
	}
	return nil
}

// prepareWrite keeps the bytes that stand in a settings file, under a name that tells a
// later life of the service what stood there, and writes beside it what is to stand
// there.
func (r *Runner) prepareWrite(ctx context.Context, n int, step plan.Step, now []byte) error {
	like, err := r.belonging(ctx)
	if err != nil {
		return err
	}
	if err := r.Files.MkdirAll(ctx, path.Dir(step.Keep), like.dir); err != nil {
		return err
	}
	if err := r.Files.Replace(ctx, step.Keep, now); err != nil {
		return err
	}
	after, err := r.settingsAfter(ctx, step, now)
	if err != nil {
		return err
	}
	if err := r.Files.Prepare(ctx, step.File, after); err != nil {
		return err
	}
	r.prepared[n] = prepared{kept: now, after: after}
	r.trace(n, step, "kept")
	return nil
}

// unprepare removes what waits beside a settings file.
func (r *Runner) unprepare(ctx context.Context, step plan.Step) error {
	if step.Kind != plan.Write {
		return nil
	}
	return r.Files.Forget(ctx, step.File)
}

// write edits a settings file. Mostly it has been prepared, and is a rename; when the
// server has written the file anew on its way down, or a crash came between, it is
// prepared now.
func (r *Runner) write(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	step, opened, err := r.openedEdits(ctx, step)
	if err != nil {
		return nil, err
	}
	p, ready := r.prepared[n]
	if !ready {
		if p, err = r.leftPrepared(ctx, step); err != nil {
			return nil, err
		}
	}
	for again := false; ; again = true {
		now, err := r.Files.ReadFile(ctx, step.File, longestSettings)
		if err != nil {
			return nil, err
		}
		detail := &Detail{Before: server.Hash(p.kept), After: server.Hash(p.after), Opened: opened}
		switch {
		case p.kept != nil && bytes.Equal(now, p.after):
			return detail, r.Files.Forget(ctx, step.File)
		case ready && p.kept != nil && bytes.Equal(now, p.kept):
			return detail, r.Files.Commit(ctx, step.File, p.after)
		case again:
			return nil, fault.New(fault.Changed, "write", step.File, "somebody else has changed it in the meantime")
		}
		if err := r.prepareWrite(ctx, n, step, now); err != nil {
			return nil, err
		}
		p, ready = r.prepared[n], true
	}
}

// leftPrepared is what an earlier life has kept of a settings write; the zero value when
// it had kept nothing yet.
func (r *Runner) leftPrepared(ctx context.Context, step plan.Step) (p prepared, err error) {
	if p.kept, err = r.kept(ctx, step.Keep); err != nil || p.kept == nil {
		return p, err
	}
	p.after, err = r.settingsAfter(ctx, step, p.kept)
	return p, err
}

// kept reads kept bytes; nil when there are none.
func (r *Runner) kept(ctx context.Context, name string) ([]byte, error) {
	data, err := r.Files.ReadFile(ctx, name, longestSettings)
	if errors.Is(err, fs.ErrNotExist) {
		there, err := r.Files.Exists(ctx, name)
		if there {
			err = fault.New(fault.Unreachable, "read", name, "the host says that it is there and that it is not")
		}
		return nil, err
	}
	if data == nil && err == nil {
		data = []byte{}
	}
	return data, err
}

func (r *Runner) settingsAfter(ctx context.Context, step plan.Step, before []byte) ([]byte, error) {
	if step.RestoreFrom != "" && server.Hash(before) == step.IfHash {
		earlier, err := r.kept(ctx, step.RestoreFrom)
		if earlier != nil || err != nil {
			return earlier, err
		}
	}
	return plan.Apply(step.File, step.Syntax, before, step.Edits)
}
