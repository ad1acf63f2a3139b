package executor

import (
	"context"
	"encoding/hex"
	"io"
	"path"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/vault"
)

func copyExactly(to io.Writer, from io.Reader, n int64, buf []byte) error {
	copied, err := io.CopyBuffer(to, io.LimitReader(from, n), buf)
	if err == nil && copied != n {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// stage writes a copy's files into the working folder, reads each back and
// compares it with its address.
func (r *Runner) stage(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	id, err := r.copyOf(step)
	if err != nil {
		return nil, err
	}
	c, err := r.Vault.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	// A half staged world of an earlier try is ours to remove.
	if err := r.unstage(ctx); err != nil {
		return nil, err
	}
	like, err := r.belonging(ctx)
	if err != nil {
		return nil, err
	}
	for _, dir := range []string{"aside", "settings"} {
		if err := r.Files.MkdirAll(ctx, path.Join(r.job.Plan.Work, dir), like.dir); err != nil {
			return nil, err
		}
	}
	if err := r.makeFolders(ctx, c, step, like); err != nil {
		return nil, err
	}
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = c.Bytes, len(c.Files), 0, 0 })
	if err := r.stageFiles(ctx, c, step, like, func() { r.trace(n, step, "halfway") }); err != nil {
		return nil, err
	}
	return nil, r.Files.SyncAll(ctx)
}

func (r *Runner) makeFolders(ctx context.Context, c vault.Copy, step plan.Step, like belonging) error {
	made := map[string]bool{}
	for _, f := range c.Files {
		// The folder of a file that is left behind is made all the same: a game may
		// not make it itself.
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if !ok {
			return fault.New(fault.Internal, "stage", f.Path, "the plan has no place for it (part %q)", f.Part)
		}
		dir := path.Dir(to)
		if f.Dir() {
			dir = to
		}
		if made[dir] {
			continue
		}
		made[dir] = true
		if err := r.Files.MkdirAll(ctx, dir, like.dir); err != nil {
			return err
		}
	}
	return nil
}

// stageFiles writes two files at a time: one reads while the other is written.
func (r *Runner) stageFiles(ctx context.Context, c vault.Copy, step plan.Step, like belonging, halfway func()) error {
	var mu sync.Mutex
	half := sync.OnceFunc(halfway)
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for _, f := range c.Files {
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if f.Dir() || !ok || step.Skipped(f.Part, f.Path) {
			continue
		}
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "stage", r.job.Plan.World, err)
			}
			if err := r.stageFile(gctx, f, to, like); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			r.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
			if r.progress.Files*2 >= r.progress.TotalFiles {
				half()
			}
			return nil
		})
	}
	return group.Wait()
}

func (r *Runner) stageFile(ctx context.Context, f vault.File, to string, like belonging) error {
	attributes := like.file
	attributes.Modified = f.Modified
	if _, err := r.Files.Write(ctx, to, r.Vault.Read(ctx, f), attributes); err != nil {
		return err
	}
	in, err := r.Files.At(ctx).Open(to)
	if err != nil {
		return fault.Wrap(fault.Damaged, "read back", to, err)
	}
	defer in.Close() //nolint:errcheck // only read
	h := blake3.New()
	buf := make([]byte, 256<<10)
	for _, c := range f.Chunks {
		h.Reset()
		if err := copyExactly(h, in, c.Size, buf); err != nil {
			return fault.Wrap(fault.Damaged, "read back", to, err)
		}
		if hex.EncodeToString(h.Sum(nil)) != c.Hash {
			return fault.New(fault.Damaged, "read back", to,
				"what was written is not what the copy holds; the host's disk may be failing")
		}
	}
	return nil
}

func (r *Runner) unstage(ctx context.Context) error {
	staged := path.Join(r.job.Plan.Work, "staged")
	if r.switchedBefore() {
		// The game has had the folder open: keep it for whoever wants to know
		// why it failed, instead of removing what it wrote.
		there, err := r.Files.Exists(ctx, staged)
		if err != nil || !there {
			return err
		}
		return r.Files.Move(ctx, staged, path.Join(r.job.Plan.Work, "failed"))
	}
	return r.Files.Discard(ctx, staged)
}
