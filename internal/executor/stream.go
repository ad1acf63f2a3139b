package executor

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"hash"
	"io"

	"golang.org/x/crypto/blake2b"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
)

// stream sends files as one stream that the host unpacks, and has it hash what stands there
// then. After a line that broke, what had arrived whole is found by its hashes, and the rest is
// sent.
func (r *Runner) stream(ctx context.Context, files []stagedFile, like belonging, half func()) error {
	if err := r.compareSent(ctx, files, half); err != nil {
		return err
	}
	var rest []stagedFile
	for _, f := range files {
		if !r.staged.whole[f.to] {
			rest = append(rest, f)
		}
	}
	if len(rest) == 0 {
		return nil
	}
	sent := r.progress.Bytes
	in, out := io.Pipe()
	packed := make(chan error, 1)
	go func() {
		err := fault.Safely(func() error { return r.pack(ctx, out, rest, like, half) })
		_ = out.CloseWithError(err) // it never fails
		packed <- err
	}()
	err := r.Files.Unpack(ctx, in)
	_ = in.CloseWithError(io.ErrClosedPipe) // whoever packs ends
	perr := <-packed
	r.progress.Bytes = sent // what was sent is told again once it is known to stand there
	if perr != nil && !errors.Is(perr, io.ErrClosedPipe) {
		return perr // an archive that ends early may well have been unpacked
	}
	if err != nil {
		return err
	}
	if err := r.compareSent(ctx, rest, half); err != nil {
		return err
	}
	for _, f := range rest {
		if !r.staged.whole[f.to] {
			return notAsWritten(f.to)
		}
	}
	return nil
}

// pack writes files as a tar archive, and keeps their hashes.
func (r *Runner) pack(ctx context.Context, to io.Writer, files []stagedFile, like belonging, half func()) error {
	w := tar.NewWriter(to)
	uid, gid := hostfs.Numbers(like.file.Account)
	mode := int64(0o644)
	if like.file.Mode != 0 {
		mode = int64(like.file.Mode.Perm())
	}
	sum, err := blake2b.New512(nil)
	if err != nil {
		return fault.Wrap(fault.Internal, "stage", r.job.Plan.World, err)
	}
	for i, f := range files {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "stage", r.job.Plan.World, err)
		}
		// GNU's format takes names of any bytes; it keeps times to the second, as SFTP does.
		err := w.WriteHeader(&tar.Header{
			Name: filename.Decode(f.to), Size: f.Size, Mode: mode, Uid: uid, Gid: gid, ModTime: f.Modified,
			Format: tar.FormatGNU,
		})
		if err == nil {
			sum.Reset()
			_, err = io.Copy(&counting{w: w, sum: sum, told: r.copied, from: r.progress.Bytes},
				r.Vault.Read(ctx, f.File))
		}
		if err != nil {
			return err
		}
		r.staged.mu.Lock()
		r.staged.sums[f.to] = sum.Sum(nil)
		r.staged.mu.Unlock()
		if i*2 >= len(files) {
			half()
		}
	}
	return w.Close()
}

// counting tells of what is written, and hashes it.
type counting struct {
	w    io.Writer
	sum  hash.Hash
	told func(bytes int64)
	from int64
	n    int64
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	_, _ = c.sum.Write(p[:n]) // it never fails (hash.Hash)
	c.n += int64(n)
	c.told(c.from + c.n)
	return n, err
}

// compareSent has the host hash what was sent, and notes what stands there as it should.
func (r *Runner) compareSent(ctx context.Context, files []stagedFile, half func()) error {
	var names []string
	var total int64
	for _, f := range files {
		if r.staged.sums[f.to] != nil && !r.staged.whole[f.to] {
			names = append(names, f.to)
			total += f.Size
		}
	}
	if len(names) == 0 {
		return nil
	}
	got, err := r.Files.Hash(ctx, names, total)
	if err != nil {
		return err
	}
	for _, f := range files {
		if want := r.staged.sums[f.to]; want != nil && !r.staged.whole[f.to] && bytes.Equal(got[f.to], want) {
			r.arrived(f, half)
		}
	}
	return nil
}
