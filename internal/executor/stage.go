package executor

import (
	"context"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"reshard/internal/core/capability"
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

// staging is what is known of a staging while this life lasts: a line that breaks is taken up
// where it was.
type staging struct {
	// whole are the files that stand there and were compared; sums are the hashes of those that
	// were sent as a stream.
	mu    sync.Mutex
	whole map[string]bool
	sums  map[string][]byte
	begun map[string]bool // was written to
}

// stage writes a copy's files into the working folder and compares each with its address: by
// reading it back, or by a hash that the host makes.
func (r *Runner) stage(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	id, err := r.copyOf(step)
	if err != nil {
		return nil, err
	}
	c, err := r.Vault.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return nil, err
	}
	like, err := r.readyToStage(ctx)
	if err != nil {
		return nil, err
	}
	streams := can.Unpack && can.Hash
	if r.staged == nil {
		if err := r.makeFolders(ctx, c, step, like, can); err != nil {
			return nil, err
		}
		r.staged = &staging{whole: map[string]bool{}, sums: map[string][]byte{}, begun: map[string]bool{}}
	}
	files := r.toStage(c, step)
	half := sync.OnceFunc(func() { r.trace(n, step, "halfway") })
	r.report(func(p *plan.Progress) { p.TotalBytes, p.TotalFiles, p.Bytes, p.Files = c.Bytes, len(c.Files), 0, 0 })
	r.already(files)
	if streams {
		err = r.stream(ctx, files, like, half)
	} else {
		err = r.stageFiles(ctx, files, like, can, half)
	}
	if err != nil {
		return nil, err
	}
	if err := r.Files.SyncAll(ctx); err != nil {
		return nil, err
	}
	r.staged = nil
	return &Detail{Compared: compared(can)}, nil
}

// readyToStage clears what an earlier life has left, and finds out whom files are to belong to.
func (r *Runner) readyToStage(ctx context.Context) (like belonging, err error) {
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		defer fault.Catch(&err)
		like, err = r.belonging(gctx)
		return err
	})
	if r.staged == nil {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			return r.unstage(gctx) // a half staged world of an earlier life is ours to remove
		})
	}
	return like, group.Wait()
}

// How staged files were compared.
const (
	readBack   = "read back"
	hashedThem = "hashed there"
)

func compared(can capability.Set) string {
	if can.Unpack && can.Hash {
		return hashedThem
	}
	return readBack
}

// stagedFile is a file of a copy and the name that it gets.
type stagedFile struct {
	vault.File
	to string
}

func (r *Runner) toStage(c vault.Copy, step plan.Step) (out []stagedFile) {
	for _, f := range c.Files {
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if !f.Dir() && ok && !step.Skipped(f.Part, f.Path) {
			out = append(out, stagedFile{f, to})
		}
	}
	return out
}

// already tells of what an earlier try has staged.
func (r *Runner) already(files []stagedFile) {
	for _, f := range files {
		if r.staged.whole[f.to] {
			r.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
		}
	}
}

// arrived notes that a file stands there as it should.
func (r *Runner) arrived(f stagedFile, half func()) {
	r.staged.mu.Lock()
	defer r.staged.mu.Unlock()
	r.staged.whole[f.to] = true
	r.report(func(p *plan.Progress) { p.Files++; p.Bytes += f.Size })
	if r.progress.Files*2 >= r.progress.TotalFiles {
		half()
	}
}

func (r *Runner) makeFolders(ctx context.Context, c vault.Copy, step plan.Step, like belonging,
	can capability.Set,
) error {
	var byDepth [][]string
	staged := path.Join(r.job.Plan.Work, "staged")
	made := map[string]bool{".": true, r.job.Plan.Work: true, staged: true}
	var add func(dir string)
	add = func(dir string) {
		if made[dir] {
			return
		}
		made[dir] = true
		add(path.Dir(dir))
		depth := strings.Count(dir, "/")
		for len(byDepth) <= depth {
			byDepth = append(byDepth, nil)
		}
		byDepth[depth] = append(byDepth[depth], dir)
	}
	for _, f := range c.Files {
		// The folder of a file that is left behind is made all the same: a game may
		// not make it itself.
		to, ok := step.Target(r.Profile.World, f.Part, f.Path)
		if !ok {
			return fault.New(fault.Internal, "stage", f.Path, "the plan has no place for it (part %q)", f.Part)
		}
		if f.Dir() {
			add(to)
		} else {
			add(path.Dir(to))
		}
	}
	if err := r.Files.MkdirAll(ctx, staged, like.dir); err != nil {
		return err
	}
	add(path.Join(r.job.Plan.Work, "aside"))
	add(path.Join(r.job.Plan.Work, "settings"))
	for _, dirs := range byDepth { // those above are there before those below
		group, gctx := errgroup.WithContext(ctx)
		group.SetLimit(max(1, can.AtOnce))
		for _, dir := range dirs {
			group.Go(func() (err error) {
				defer fault.Catch(&err)
				return r.Files.Mkdir(gctx, dir, like.dir)
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// mostUnderWay bounds what is being written at once, in bytes: many small files, or a few
// large ones.
const mostUnderWay = 32 << 20

// stageFiles writes as many files at a time as the host takes well; at least one reads while
// another is written.
func (r *Runner) stageFiles(ctx context.Context, files []stagedFile, like belonging, can capability.Set,
	half func(),
) error {
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, can.AtOnce))
	room := semaphore.NewWeighted(mostUnderWay)
	for _, f := range files {
		if r.staged.whole[f.to] {
			continue
		}
		weight := min(max(4*f.Size, mostUnderWay/64), mostUnderWay/4)
		if err := room.Acquire(gctx, weight); err != nil {
			break // one of them has failed, or it was cancelled
		}
		group.Go(func() (err error) {
			defer room.Release(weight)
			defer fault.Catch(&err)
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "stage", r.job.Plan.World, err)
			}
			if err := r.stageFile(gctx, f, like); err != nil {
				return err
			}
			r.arrived(f, half)
			return nil
		})
	}
	err := group.Wait()
	if err == nil && ctx.Err() != nil {
		err = fault.Wrap(fault.Interrupted, "stage", r.job.Plan.World, context.Cause(ctx))
	}
	return err
}

// stageFile writes a file and reads it back. One of which an earlier try has written a part is
// gone on with.
func (r *Runner) stageFile(ctx context.Context, f stagedFile, like belonging) error {
	attributes := like.file
	attributes.Modified = f.Modified
	r.staged.mu.Lock()
	begun := r.staged.begun[f.to]
	r.staged.begun[f.to] = true
	r.staged.mu.Unlock()
	at := int64(0)
	if begun {
		var err error
		if at, err = r.goOnAt(ctx, f); err != nil {
			return err
		}
	}
	var err error
	if at > 0 {
		_, err = r.Files.Append(ctx, f.to, at, r.Vault.ReadFrom(ctx, f.File, at), attributes)
	} else {
		_, err = r.Files.Write(ctx, f.to, r.Vault.Read(ctx, f.File), attributes)
	}
	if err != nil {
		return err
	}
	if err := r.readBack(ctx, f); err != nil {
		r.staged.mu.Lock()
		delete(r.staged.begun, f.to) // what does not compare is written anew
		r.staged.mu.Unlock()
		return err
	}
	return nil
}

// unsettled is how much of the end of a file whose writing was cut may have holes, in bytes:
// parts of it are written side by side.
const unsettled = 4 << 20

// goOnAt tells how much of a file is there from an earlier try.
func (r *Runner) goOnAt(ctx context.Context, f stagedFile) (int64, error) {
	info, err := r.Files.Stat(ctx, f.to)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil || info.Bytes > f.Size {
		return 0, err
	}
	return max(0, info.Bytes-unsettled), nil
}

func (r *Runner) readBack(ctx context.Context, f stagedFile) error {
	in, err := r.Files.At(ctx).Open(f.to)
	if err != nil {
		return fault.Wrap(fault.Damaged, "read back", f.to, err)
	}
	defer in.Close() //nolint:errcheck // only read
	h := blake3.New()
	buf := make([]byte, 256<<10)
	for _, c := range f.Chunks {
		h.Reset()
		if err := copyExactly(h, in, c.Size, buf); err != nil {
			return fault.Wrap(fault.Damaged, "read back", f.to, err)
		}
		if hex.EncodeToString(h.Sum(nil)) != c.Hash {
			return notAsWritten(f.to)
		}
	}
	return nil
}

func notAsWritten(name string) error {
	return fault.New(fault.Damaged, "read back", name,
		"what was written is not what the copy holds; the host's disk may be failing")
}

func (r *Runner) unstage(ctx context.Context) error {
	r.staged = nil
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
