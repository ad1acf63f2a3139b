package executor

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

// stream sends files as one stream that the host unpacks, and has it hash what stands there
// then. After a line that broke, what had arrived whole is found by its hashes, and the rest is
// sent.
func (s *stager) stream(ctx context.Context, files []stagedFile) error {
	if err := s.compareSent(ctx, files); err != nil {
		return err
	}
	rest := s.missing(files)
	if len(rest) == 0 && len(s.staged.folders) == 0 {
		return nil
	}
	sent := s.progress.Bytes
	below := path.Join(s.job.Plan.Work, "staged")
	if s.step.BySample || sizeOf(rest) >= worthTwo { // what was taken by its size and time is not to be hashed
		below = ""
	}
	to := s.channel
	if to == nil {
		to = s.open(ctx, below)
	}
	perr := fault.Safely(func() error { return s.pack(ctx, to.in, rest) })
	got, err := to.done(perr)
	s.progress.Bytes = sent // what was sent is told again once it is known to stand there
	if perr != nil && !errors.Is(perr, io.ErrClosedPipe) {
		return perr // an archive that ends early may well have been unpacked
	}
	if err != nil {
		return err
	}
	s.staged.folders = nil
	if to.below == "" {
		if err := s.compareSent(ctx, rest); err != nil {
			return err
		}
	}
	s.match(rest, got)
	if rest = s.missing(rest); len(rest) > 0 {
		return notAsWritten(rest[0].to)
	}
	return nil
}

// channel is a stream that the host unpacks. What is below a folder then is hashed, unless that
// is "".
type channel struct {
	in    *io.PipeWriter
	below string
	got   map[string][]byte
	err   error
	over  chan struct{} // closed once the host has answered
}

func (s *stager) open(ctx context.Context, below string) *channel {
	from, in := io.Pipe()
	c := &channel{in: in, below: below, over: make(chan struct{})}
	go func() {
		defer close(c.over)
		c.err = fault.Safely(func() (err error) {
			c.got, err = s.Files.Unpack(ctx, from, below, s.step.Bytes)
			return err
		})
		_ = from.CloseWithError(io.ErrClosedPipe) // whoever packs ends; it never fails
	}()
	return c
}

// done ends the stream, after an error as one that was cut, and gives what the host answers.
func (c *channel) done(err error) (map[string][]byte, error) {
	_ = c.in.CloseWithError(err) // it never fails
	<-c.over
	return c.got, c.err
}

// end gives up a stream that nothing was sent over; one that is done stays so.
func (c *channel) end() { _, _ = c.done(io.ErrUnexpectedEOF) }

// missing are the files that do not stand there yet.
func (s *stager) missing(files []stagedFile) (out []stagedFile) {
	s.staged.mu.Lock()
	defer s.staged.mu.Unlock()
	for _, f := range files {
		if !s.staged.whole[f.to] {
			out = append(out, f)
		}
	}
	return out
}

// pack writes folders and files as a tar archive, and keeps the files' hashes. GNU's format
// takes names of any bytes; it keeps times to the second, as SFTP does.
func (s *stager) pack(ctx context.Context, to io.Writer, files []stagedFile) error {
	w := tar.NewWriter(to)
	header := func(kind byte, name string, like hostfs.Attributes, usual fs.FileMode) *tar.Header {
		uid, gid := hostfs.Numbers(like.Account)
		if like.Mode == 0 {
			like.Mode = usual
		}
		return &tar.Header{
			Typeflag: kind, Name: filename.Decode(name), Mode: int64(like.Mode.Perm()), Uid: uid, Gid: gid,
			Format: tar.FormatGNU,
		}
	}
	now := s.Now()
	for _, dir := range s.staged.folders {
		h := header(tar.TypeDir, dir+"/", s.like.dir, 0o755)
		h.ModTime = now
		if err := w.WriteHeader(h); err != nil {
			return err
		}
	}
	for i, f := range files {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "stage", s.job.Plan.World, err)
		}
		h := header(tar.TypeReg, f.to, s.like.file, 0o644)
		h.Size, h.ModTime = f.Size, f.Modified
		sum := vault.NewSum()
		err := w.WriteHeader(h)
		if err == nil {
			_, err = io.Copy(&counting{w: w, sum: sum, told: s.copied, from: s.progress.Bytes},
				s.Vault.Read(ctx, f.File))
		}
		if err != nil {
			return err
		}
		s.staged.mu.Lock()
		s.staged.sums[f.to] = sum.Sum(nil)
		s.staged.begun[f.to] = true
		s.staged.mu.Unlock()
		if i*2 >= len(files) {
			s.half()
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

// compareSent has the host hash what was sent or copied, and notes what stands there as it
// should.
func (s *stager) compareSent(ctx context.Context, files []stagedFile) error {
	var names []string
	var total int64
	for _, f := range files {
		if s.staged.begun[f.to] && !s.staged.whole[f.to] {
			names = append(names, f.to)
			total += f.Size
		}
	}
	if len(names) == 0 {
		return nil
	}
	half := len(names)
	if total >= worthTwo {
		half = (len(names) + 1) / 2
	}
	group, gctx := errgroup.WithContext(ctx)
	for part := range slices.Chunk(names, half) {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			got, err := s.Files.Hash(gctx, part, total)
			if err == nil {
				s.match(files, got)
			}
			return err
		})
	}
	return group.Wait()
}

// worthTwo is from how much on two hash at the same time, in bytes; and from when on what was
// unpacked is not hashed in the same session.
const worthTwo = 64 << 20

// match notes the files that have the hashes that they are to have.
func (s *stager) match(files []stagedFile, got map[string][]byte) {
	for _, f := range files {
		sum, ok := got[f.to]
		s.staged.mu.Lock()
		stands := ok && !s.staged.whole[f.to] && bytes.Equal(sum, s.staged.sums[f.to])
		s.staged.mu.Unlock()
		if stands {
			s.arrived(f)
		}
	}
}
