package executor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
)

// openedEdits fills in the name of the world that the running server has opened.
func (r *Runner) openedEdits(ctx context.Context, step plan.Step) (plan.Step, string, error) {
	if !isOpened(step) {
		return step, "", nil
	}
	st := r.Control.Status(ctx)
	if err := st.Err("ask for the world of", r.job.Plan.Server); err != nil {
		return step, "", err
	}
	opened := st.Opened
	if opened == "" {
		return step, "", fault.New(fault.NotProven, "write", step.File,
			"the server has not told which world it has made")
	}
	step.Edits = slices.Clone(step.Edits)
	for i, e := range step.Edits {
		if e.Opened != "" {
			step.Edits[i].Value = server.ValueFor(server.Given{Writes: e.Opened, Value: e.Was}, r.job.Plan.Worlds,
				opened, r.Profile)
		}
	}
	return step, opened, nil
}

// isOpened reports whether a write needs to know which world the server has opened.
func isOpened(step plan.Step) bool {
	return slices.ContainsFunc(step.Edits, func(e plan.Edit) bool { return e.Opened != "" })
}

// longestSettings bounds a settings file that is edited, in bytes.
const longestSettings = 4 << 20

// unwrite puts the kept bytes back whole; what stands there now is kept too. A
// file that somebody edited by hand while the server was down keeps that edit:
// only our own keys go back.
func (r *Runner) unwrite(ctx context.Context, _ int, step plan.Step) error {
	kept, err := r.kept(ctx, step.Keep)
	if err != nil || kept == nil {
		return err // nothing was written yet
	}
	if err := r.Files.Mend(ctx, step.File); err != nil {
		return err
	}
	if step, _, err = r.openedEdits(ctx, step); err != nil {
		if fault.Passing(err) {
			return err
		}
		return r.Files.Replace(ctx, step.File, kept) // the server is down: whose name was written cannot be told
	}
	now, err := r.kept(ctx, step.File)
	if err == nil && now == nil {
		if err := r.Files.Replace(ctx, step.File, kept); fault.CodeOf(err) != fault.NoSpace {
			return err
		}
		return r.renameBack(ctx, step)
	}
	if err != nil || bytes.Equal(now, kept) {
		return err
	}
	back := kept
	after, err := r.settingsAfter(ctx, step, kept)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, after) && !r.switchedBefore() && step.Record == "" {
		if back, err = withoutOurs(step, now); err != nil || bytes.Equal(back, now) {
			return err
		}
	}
	if err := r.Files.Replace(ctx, step.Keep+".taken-back", now); err != nil {
		if fault.CodeOf(err) == fault.NoSpace && bytes.Equal(back, kept) {
			return r.renameBack(ctx, step)
		}
		return err
	}
	return r.Files.Replace(ctx, step.File, back)
}

// mostTakenBack is how many earlier tries a way back is looked for a free name beside.
const mostTakenBack = 9

// renameBack puts the kept bytes back where there is no room to write anything. A crash in its midst leaves no
// file in place, and the next try writes it, or comes here again.
func (r *Runner) renameBack(ctx context.Context, step plan.Step) error {
	there, err := r.Files.Exists(ctx, step.File)
	if err != nil {
		return err
	}
	for n := 1; there; n++ {
		err := r.Files.Move(ctx, step.File, fmt.Sprintf("%s.taken-back-%d", step.Keep, n))
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) || n == mostTakenBack {
			return err
		}
	}
	return r.Files.Move(ctx, step.Keep, step.File)
}

// withoutOurs sets those keys back that hold what the step wrote.
func withoutOurs(step plan.Step, now []byte) ([]byte, error) {
	doc, err := settings.Parse(step.File, step.Syntax, now)
	if err != nil {
		return nil, err
	}
	for _, e := range step.Edits {
		if entry, ok := doc.Get(e.Key); ok && entry.Value == e.Value && e.WasSet {
			if doc, err = doc.Set(e.Key, e.Was); err != nil {
				return nil, err
			}
		}
	}
	return doc.Bytes(), nil
}

// prepared is a settings write that only has to be put in its place: the bytes that
// stood there, which are kept, and those that are to stand there, which wait beside.
type prepared struct{ kept, after []byte }

// prepareWriting prepares a settings write whose values are known before the server runs.
func (r *Runner) prepareWriting(ctx context.Context, n int, step plan.Step) error {
	if isOpened(step) {
		return nil
	}
	now, err := r.Files.ReadFile(ctx, step.File, longestSettings)
	if err != nil {
		return err
	}
	return r.prepareWrite(ctx, n, step, now)
}

// prepareWrite keeps the bytes that stand in a settings file, under a name that tells a
// later life of the service what stood there, and writes beside it what is to stand
// there.
func (r *Runner) prepareWrite(ctx context.Context, n int, step plan.Step, now []byte) error {
	like, err := r.belonging(ctx)
	if err != nil {
		return err
	}
	if err := r.work.need(ctx); err != nil {
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
	if err := r.Files.Mend(ctx, step.File); err != nil { // an earlier life may have ended in its midst
		return nil, err
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
	if step.Record != "" {
		recorded, err := r.recorded(ctx, step)
		if err != nil {
			return nil, err
		}
		before = recorded
	}
	return plan.Apply(step.File, step.Syntax, before, step.Edits)
}

// recorded reads a settings document as a backup has it.
func (r *Runner) recorded(ctx context.Context, step plan.Step) ([]byte, error) {
	c, err := r.Vault.Load(ctx, step.Record)
	if err != nil {
		return nil, err
	}
	for _, f := range c.Files {
		if f.Path == keep.RecordSettings+step.File {
			return io.ReadAll(r.Vault.Read(ctx, f))
		}
	}
	return nil, fault.New(fault.NotFound, "read", step.File, "the backup does not have it")
}
