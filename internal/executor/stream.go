package executor

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"

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
	if len(rest) < len(files) || sizeOf(rest) >= worthTwo { // what is known to stand there is not hashed again
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
	if err := s.match(ctx, rest, got); err != nil {
		return err
	}
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
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		sum, err := s.packFile(ctx, w, f)
		if err != nil {
			return err
		}
		s.staged.mu.Lock()
		s.staged.sums[f.to] = sum
		s.staged.begun[f.to] = true
		s.staged.mu.Unlock()
		if i*2 >= len(files) {
			s.half()
		}
	}
	return w.Close()
}

// packFile writes a file and gives its hash: the one that the vault has kept, or else it is made.
func (s *stager) packFile(ctx context.Context, to io.Writer, f stagedFile) ([]byte, error) {
	from := s.Vault.Read(ctx, f.File)
	known, err := hex.DecodeString(f.Sum)
	if err == nil && len(known) > 0 {
		_, err := io.Copy(&counting{w: to, told: s.copied, from: s.progress.Bytes}, from)
		return known, err
	}
	sum := vault.NewSum()
	_, err = io.Copy(&counting{w: io.MultiWriter(to, sum), told: s.copied, from: s.progress.Bytes}, from)
	return sum.Sum(nil), err
}

// counting tells of what is written.
type counting struct {
	w    io.Writer
	told func(bytes int64)
	from int64
	n    int64
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	c.told(c.from + c.n)
	return n, err
}

// compareSent has the host hash what was sent, and notes what stands there as it
// should.
func (s *stager) compareSent(ctx context.Context, files []stagedFile) error {
	var sent []stagedFile
	for _, f := range s.missing(files) {
		if s.staged.begun[f.to] {
			sent = append(sent, f)
		}
	}
	return s.compareHashes(ctx, sent)
}

// compareHashes does so with all of the files.
func (s *stager) compareHashes(ctx context.Context, files []stagedFile) error {
	if len(files) == 0 {
		return nil
	}
	total := sizeOf(files)
	names := make([]string, len(files))
	for i, f := range files {
		names[i] = f.to
	}
	return s.inTwo(ctx, len(names), total, func(ctx context.Context, from, to int) error {
		got, err := s.Files.Hash(ctx, names[from:to], total)
		if err != nil {
			return err
		}
		return s.match(ctx, files, got)
	})
}

// match notes the files that have the hashes that they are to have. What the vault says of a
// whole file is not what it is known by: where it differs the file's own is made.
func (s *stager) match(ctx context.Context, files []stagedFile, got map[string][]byte) error {
	for _, f := range files {
		sum, there := got[f.to]
		s.staged.mu.Lock()
		want, stands := s.staged.sums[f.to], s.staged.whole[f.to]
		s.staged.mu.Unlock()
		if !there || stands || want == nil {
			continue
		}
		if !bytes.Equal(sum, want) && f.Sum != "" {
			h := vault.NewSum()
			if _, err := io.Copy(h, s.Vault.Read(ctx, f.File)); err != nil {
				return err
			}
			want = h.Sum(nil)
		}
		if bytes.Equal(sum, want) {
			s.arrived(f)
		}
	}
	return nil
}
