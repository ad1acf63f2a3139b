package sftp

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/pkg/sftp"

	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/line"
)

// What is under way at once of one file, so that a long way there and back costs little:
// blocks of that many bytes, and that many of them.
const (
	block  = 256 << 10
	window = 8
)

// Open implements hostfs.Reader. A name is looked at before: opening a named pipe would keep
// the whole connection waiting.
func (f *Files) Open(ctx context.Context, name string) (hostfs.Content, error) {
	out, err := ask(ctx, f, true, func(c *sftp.Client) (*content, error) {
		info, err := f.lstat(c, name)
		if err != nil {
			return nil, err
		}
		target := f.at(name)
		if info.Modes&fs.ModeSymlink != 0 {
			if target, info, err = f.behind(c, name); err != nil {
				return nil, err
			}
		}
		if !info.Modes.IsRegular() {
			return nil, &fault.Error{Code: fault.Invalid, What: "it is no regular file"}
		}
		h, err := c.Open(target)
		if err != nil {
			return nil, err
		}
		if ctx.Err() != nil { // nobody waits any more
			return nil, errors.Join(ctx.Err(), h.Close())
		}
		return &content{files: f, ctx: ctx, h: h, info: info}, nil
	})
	if err != nil {
		return nil, f.orInvalid(err)
	}
	return out, nil
}

// OpenSeen implements hostfs.Distant.
func (f *Files) OpenSeen(ctx context.Context, name string, seen hostfs.Info) (hostfs.Content, error) {
	out, err := ask(ctx, f, true, func(c *sftp.Client) (*content, error) {
		if err := f.within(c, path.Dir(name)); err != nil {
			return nil, err
		}
		h, err := c.Open(f.at(name))
		if err != nil {
			return nil, err
		}
		return &content{files: f, ctx: ctx, h: h, info: seen}, nil
	})
	if err != nil {
		return nil, f.orInvalid(err)
	}
	return out, nil
}

// Ahead implements hostfs.Distant: questions stand behind each other for no time.
func (f *Files) Ahead() int { return mostAtOnce }

// behind follows a link that stays in the root.
func (f *Files) behind(c *sftp.Client, name string) (target string, info hostfs.Info, err error) {
	real, err := c.RealPath(f.at(name))
	if err != nil {
		return "", info, err
	}
	if err := f.within(c, name); err != nil {
		return "", info, err
	}
	i, err := c.Lstat(real)
	if err != nil {
		return "", info, err
	}
	info = infoOf(i)
	info.Named = path.Base(name)
	return real, info, nil
}

// content is an open file, read as far as it reached when it was opened.
type content struct {
	files *Files
	ctx   context.Context
	h     *sftp.File
	info  hostfs.Info
	at    int64
	first []byte // what is left of the first part, which is read at once
	ahead *readAhead
}

// firstPart is how much is read of a file at first, in bytes: what one request asks for.
const firstPart = 32 << 10

func (c *content) Stat() (hostfs.Info, error) { return c.info, nil }

// Read reads on. From the second block on, the following ones are under way already.
func (c *content) Read(p []byte) (int, error) {
	left := c.info.Bytes - c.at
	switch {
	case c.ctx.Err() != nil:
		return 0, c.ctx.Err()
	case left <= 0:
		return 0, io.EOF
	case len(c.first) > 0:
		n := copy(p, c.first)
		c.first, c.at = c.first[n:], c.at+int64(n)
		return n, nil
	case c.at == 0 && len(p) < firstPart:
		buf := make([]byte, min(left, firstPart))
		n, err := c.readAt(buf, 0)
		if c.first = buf[:n]; n == 0 {
			return 0, err
		}
		return c.Read(p)
	case c.ahead == nil && (c.at == 0 || left <= block):
		n, err := c.readAt(p[:min(int64(len(p)), left, block)], c.at)
		c.at += int64(n)
		return n, err
	case c.ahead == nil:
		c.ahead = newReadAhead(c.ctx, c.h, c.at, c.info.Bytes)
	}
	n, err := c.ahead.read(c.ctx, p)
	c.at += int64(n)
	return n, c.class(err)
}

// ReadAt reads from any place.
func (c *content) ReadAt(p []byte, at int64) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.readAt(p, at)
}

func (c *content) readAt(p []byte, at int64) (int, error) {
	// The answer may come after ctx has ended, when p is somebody else's.
	got, err := line.Bounded(c.ctx, func() ([]byte, error) {
		buf := make([]byte, len(p))
		n, err := c.h.ReadAt(buf, at)
		return buf[:n], err
	})
	return copy(p, got), c.class(err)
}

func (c *content) class(err error) error {
	if err == nil || err == io.EOF { //nolint:errorlint // readers give it as it is
		return err
	}
	if err = c.files.class(err); err == errFailed { //nolint:errorlint // it is the value itself
		return &fault.Error{Code: fault.Refused, What: "the host does not read it: " + errFailed.Error()}
	}
	return err
}

// Close gives the handle back without waiting for the host.
func (c *content) Close() error {
	if c.ahead != nil {
		c.ahead.stop()
	}
	go func() { _ = c.h.Close() }() // it was only read
	return nil
}

// readAhead reads a part of a file, with several blocks under way.
type readAhead struct {
	next   chan chan blockRead
	cancel context.CancelFunc
	rest   []byte
}

type blockRead struct {
	data []byte
	err  error
}

func newReadAhead(ctx context.Context, from io.ReaderAt, at, end int64) *readAhead {
	ctx, cancel := context.WithCancel(ctx)
	r := &readAhead{next: make(chan chan blockRead, window), cancel: cancel}
	go func() {
		defer close(r.next)
		for start := at; start < end; start += block {
			one := make(chan blockRead, 1)
			select {
			case r.next <- one:
			case <-ctx.Done():
				return
			}
			go func() {
				buf := make([]byte, min(block, end-start))
				n, err := from.ReadAt(buf, start)
				if n == len(buf) {
					err = nil
				}
				one <- blockRead{buf[:n], err}
			}()
		}
	}()
	return r
}

func (r *readAhead) read(ctx context.Context, p []byte) (int, error) {
	if len(r.rest) == 0 {
		var got blockRead
		select {
		case one, ok := <-r.next:
			if !ok {
				return 0, io.EOF
			}
			select {
			case got = <-one:
			case <-ctx.Done():
				return 0, ctx.Err()
			}
		case <-ctx.Done():
			return 0, ctx.Err()
		}
		if got.err != nil && len(got.data) == 0 {
			return 0, got.err
		}
		r.rest = got.data
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *readAhead) stop() { r.cancel() }

// Create implements hostfs.Writer. What exists is looked at before it is emptied: a link
// would be followed.
func (f *Files) Create(ctx context.Context, name string) (io.WriteCloser, error) {
	return f.create(ctx, name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
}

// Append implements hostfs.Appender.
func (f *Files) Append(ctx context.Context, name string, at int64) (io.WriteCloser, error) {
	w, err := f.create(ctx, name, os.O_WRONLY|os.O_CREATE)
	if err == nil {
		w.at = at
	}
	return w, err
}

func (f *Files) create(ctx context.Context, name string, flags int) (*writer, error) {
	out, err := ask(ctx, f, false, func(c *sftp.Client) (*writer, error) {
		if err := f.within(c, path.Dir(name)); err != nil {
			return nil, err
		}
		_, sync := c.HasExtension("fsync@openssh.com")
		h, err := c.OpenFile(f.at(name), flags|os.O_EXCL)
		if err != nil && f.class(err) == errFailed { //nolint:errorlint // it is the value itself
			h, err = f.openAgain(c, name, flags, err)
		}
		if err != nil {
			return nil, err
		}
		return &writer{
			files: f, ctx: ctx, name: name, h: h, sync: sync && !f.found.NoSync, room: make(chan struct{}, window),
		}, nil
	})
	if err == errFailed { //nolint:errorlint // it is the value itself
		err = f.whyNotMade(ctx, name)
		if errors.Is(err, fs.ErrExist) {
			err = &fault.Error{Code: fault.Refused, What: "the host does not open it for writing"}
		}
	}
	if err != nil {
		return nil, err
	}
	f.made(name)
	return out, nil
}

// openAgain opens a file that is there already. failed is why it could not be made.
func (f *Files) openAgain(c *sftp.Client, name string, flags int, failed error) (*sftp.File, error) {
	info, err := f.lstat(c, name)
	switch {
	case err != nil:
		return nil, failed // why it was not made is looked for by the caller
	case info.IsDir():
		return nil, fs.ErrExist
	case !info.Modes.IsRegular():
		return nil, &fault.Error{Code: fault.Refused, What: "it is no regular file, and is not written to"}
	}
	return c.OpenFile(f.at(name), flags)
}

// writer writes a file with several blocks under way. It is used by one at a time.
type writer struct {
	files *Files
	ctx   context.Context
	name  string
	h     *sftp.File
	sync  bool

	at   int64
	full []byte        // the block that is being filled
	room chan struct{} // has room for the blocks under way
	fail failure
}

func (w *writer) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		if err := w.failed(); err != nil {
			return n, err
		}
		if w.full == nil {
			w.full = make([]byte, 0, min(block, max(len(p), 32<<10)))
		}
		m := min(len(p), block-len(w.full))
		w.full = append(w.full, p[:m]...)
		n, p = n+m, p[m:]
		if len(w.full) == block {
			if err := w.send(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (w *writer) failed() error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	return w.fail.get()
}

// send has the block go, once there is room under way.
func (w *writer) send() error {
	select {
	case w.room <- struct{}{}:
	case <-w.ctx.Done():
		return w.ctx.Err()
	}
	data, at := w.full, w.at
	w.full, w.at = nil, w.at+int64(len(data))
	go func() {
		defer func() { <-w.room }()
		if n, err := w.h.WriteAt(data, at); err != nil {
			w.fail.set(w.class(err))
		} else if n < len(data) {
			w.fail.set(w.class(io.ErrShortWrite))
		}
	}()
	return nil
}

func (w *writer) class(err error) error {
	if err = w.files.class(err); err != errFailed { //nolint:errorlint // it is the value itself
		return err
	}
	return w.files.noRoomOr(w.ctx, path.Dir(w.name), &fault.Error{
		Code: fault.Refused, What: "the host writes no more; the disk, or an allowance, may be full",
	})
}

// Close waits until all has been written, and written out where the host can do that.
func (w *writer) Close() error {
	var err error
	if len(w.full) > 0 {
		err = w.send()
	}
	for range window { // all blocks have arrived
		select {
		case w.room <- struct{}{}:
		case <-w.ctx.Done():
			go func() { _ = w.h.Close() }()
			return w.ctx.Err()
		}
	}
	err = errors.Join(err, w.failed())
	if err != nil {
		go func() { _ = w.h.Close() }() // the error tells more
		return err
	}
	_, err = line.Bounded(w.ctx, func() (nothing, error) {
		var serr error
		if w.sync {
			serr = w.h.Sync()
		}
		return nothing{}, errors.Join(serr, w.h.Close())
	})
	if err != nil {
		return w.class(err)
	}
	return nil
}
