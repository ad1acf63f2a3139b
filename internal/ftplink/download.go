package ftplink

import (
	"context"
	"errors"
	"io"
	"sync"

	"github.com/jlaffaye/ftp"

	"reshard/internal/core/fault"
	"reshard/internal/line"
)

// Download reads a file of the host, from any place in it. It is safe for concurrent use.
type Download struct {
	occupied
	link *Link
	ctx  context.Context
	name string

	mu   sync.Mutex
	size int64 // up to where it is read; less once its end was seen
	all  []byte
	at   int64 // where run reads next
	run  *ftp.Response
	conn *Conn // of run
}

// Download opens a file as large as it was seen to be. A small one is read at once; more than size
// bytes of it never are.
func (l *Link) Download(ctx context.Context, name string, size int64) (*Download, error) {
	d := &Download{link: l, ctx: ctx, name: name, size: size}
	if size > atOnce {
		return d, d.try(0)
	}
	var err error
	d.all, err = Do(ctx, l, true, func(c *Conn) ([]byte, error) {
		r, err := c.Retr(name)
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(io.LimitReader(r, size))
		more := err == nil && int64(len(data)) == size && hasMore(r)
		// That a file came whole is told by the end only: a line that broke looks like its end.
		if cerr := r.Close(); err == nil && (!more || !said(cerr)) {
			err = cerr
		}
		return data, err
	})
	d.size = int64(len(d.all))
	return d, err
}

func hasMore(r io.Reader) bool {
	n, _ := io.ReadFull(r, make([]byte, 1))
	return n > 0
}

// said reports whether an error is no more than an answer of the host, after which the connection
// goes on: it complains of data that nobody took.
func said(err error) bool { return err != nil && onlySaid(err) }

// try opens the file at a place, so that one that is not there is told at once.
func (d *Download) try(at int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.begin(at)
}

// begin has the host send from a place on; the lock is held.
func (d *Download) begin(at int64) error {
	c, err := d.link.need(d.ctx, false)
	if err != nil {
		return err
	}
	run, err := line.Bounded(d.ctx, func() (*ftp.Response, error) { return c.RetrFrom(d.name, uint64(at)) })
	if err != nil {
		if d.ctx.Err() != nil {
			c.kill()
		}
		err = d.link.class(c, err)
		d.link.Release(c)
		return err
	}
	d.run, d.conn, d.at = run, c, at
	d.standStill()
	d.link.mayPutOff(d, true)
	return nil
}

// end ends what the host sends, and gives the connection back. whole is for a file that was read to
// its end: the host says then whether it was.
func (d *Download) end(whole bool) error {
	if d.run == nil {
		return nil
	}
	run, c := d.run, d.conn
	d.run, d.conn = nil, nil
	d.link.mayPutOff(d, false)
	_, err := line.Bounded(d.ctx, func() (nothing, error) { return nothing{}, run.Close() })
	if d.ctx.Err() != nil {
		c.kill()
	}
	if !whole && said(err) {
		err = nil
	}
	err = d.link.class(c, err)
	d.link.Release(c)
	if !whole {
		return nil // nobody wants to know how it ended
	}
	return err
}

// putOff implements puttable: the rest is asked for when it is wanted.
func (d *Download) putOff() {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.end(false) // it always gives nil
}

// ReadAt reads from a place in the file. One after the other is quickest from its beginning to its
// end: each jump asks the host anew.
func (d *Download) ReadAt(p []byte, off int64) (n int, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.busy()
	defer d.standStill()
	for failed := false; ; {
		if err := d.ctx.Err(); err != nil {
			return n, err
		}
		want := p[n:min(int64(len(p)), max(0, d.size-off))]
		if len(want) == 0 {
			break
		}
		m, err := d.readAt(want, off+int64(n))
		n += m
		if err != nil && (failed && m == 0 || fault.CodeOf(err) != fault.Unreachable) {
			return n, err
		}
		failed = err != nil
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// readAt reads what there is of a part; at the file's end, which may come sooner than it was seen to
// be, its size is corrected.
func (d *Download) readAt(p []byte, off int64) (int, error) {
	if d.all != nil {
		return copy(p, d.all[off:]), nil
	}
	if d.run == nil || d.at != off {
		_ = d.end(false) // it always gives nil
		if err := d.begin(off); err != nil {
			return 0, err
		}
	}
	run := d.run
	got, err := line.Bounded(d.ctx, func() ([]byte, error) {
		buf := make([]byte, len(p))
		n, err := run.Read(buf)
		return buf[:n], err
	})
	copy(p, got)
	d.at += int64(len(got))
	switch {
	case d.ctx.Err() != nil:
		d.conn.kill()
		_ = d.end(false)
		return len(got), d.ctx.Err()
	case errors.Is(err, io.EOF):
		if err := d.end(true); err != nil {
			var denied *Denied
			if errors.As(err, &denied) { // the host says that it did not send all
				err = d.link.lost(err)
			}
			return len(got), err
		}
		d.size = min(d.size, d.at)
		return len(got), nil
	case err != nil:
		d.conn.broken.Store(true)
		_ = d.end(false)
		return len(got), d.link.lost(err)
	}
	return len(got), nil
}

// Close gives the connection back, if it has one.
func (d *Download) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.end(false) // it always gives nil
	return nil
}
