package ftplink

import (
	"bytes"
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"reshard/internal/core/fault"
)

// atOnce is up to how large a file is sent or read in one go, in bytes: nothing of it is then half
// done, and it can be tried again.
const atOnce = 512 << 10

// occupied tells since when nothing has been asked of a transfer.
type occupied struct{ since atomic.Int64 }

func (o *occupied) busy()       { o.since.Store(0) }
func (o *occupied) standStill() { o.since.Store(time.Now().UnixNano()) }

func (o *occupied) standing() time.Time {
	if n := o.since.Load(); n != 0 {
		return time.Unix(0, n)
	}
	return time.Time{}
}

// Upload writes a file on the host. What was written counts once Close has returned nil: then the
// host has told its size. It is used by one at a time.
type Upload struct {
	occupied
	// Hasty: of a file that is sent in one go the size is not asked for; whoever writes looks later.
	Hasty bool

	link *Link
	ctx  context.Context
	name string

	mu   sync.Mutex
	sent int64  // bytes of the file before those in kept
	kept []byte // not sent yet
	run  *sending
	err  error
	told bool // err was given to who writes
}

// sending is a part of an upload that is under way.
type sending struct {
	conn *Conn
	in   *io.PipeWriter
	done chan error
}

// Upload begins to write a file, from its beginning, or, where at bytes of it are there and right,
// from there on.
func (l *Link) Upload(ctx context.Context, name string, at int64) *Upload {
	return &Upload{link: l, ctx: ctx, name: name, sent: at}
}

func (u *Upload) Write(p []byte) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.busy()
	defer u.standStill()
	if u.err == nil {
		u.err = u.ctx.Err()
	}
	if u.err != nil {
		u.told = true
		return 0, u.err
	}
	u.kept = append(u.kept, p...)
	if u.run == nil && len(u.kept) <= atOnce {
		return len(p), nil
	}
	if u.err = u.send(); u.err != nil {
		u.told = true
		return 0, u.err
	}
	return len(p), nil
}

// send sends what is kept over the connection of the upload; the lock is held.
func (u *Upload) send() error {
	if u.run == nil {
		if err := u.begin(); err != nil {
			return err
		}
	}
	n, err := u.run.in.Write(u.kept)
	u.sent += int64(n)
	u.kept = u.kept[:0]
	if err != nil { // what came of it says why
		return errors.Join(u.end(), u.ctx.Err())
	}
	return nil
}

func (u *Upload) begin() error {
	c, err := u.link.need(u.ctx, false)
	if err != nil {
		return err
	}
	out, in := io.Pipe()
	run := &sending{conn: c, in: in, done: make(chan error, 1)}
	stop := context.AfterFunc(u.ctx, c.kill)
	at := uint64(u.sent)
	go func() {
		err := fault.Safely(func() error { return c.StorFrom(u.name, out, at) })
		stop()
		_ = out.CloseWithError(io.ErrClosedPipe) // nobody takes more
		run.done <- err
	}()
	u.run = run
	u.link.mayPutOff(u, true)
	return nil
}

// end ends what is under way, looks how much the host has, and gives the connection back; the lock is
// held. A data connection that ends is a whole file to the host, however it ended: only its size tells.
func (u *Upload) end() error {
	run := u.run
	if run == nil {
		return nil
	}
	u.run = nil
	u.link.mayPutOff(u, false)
	_ = run.in.Close() // it always gives nil
	err := <-run.done
	if err == nil {
		err = u.sizeIs(run.conn, u.sent)
	}
	if u.ctx.Err() != nil {
		run.conn.kill()
		err = u.ctx.Err()
	}
	err = u.link.class(run.conn, err)
	u.link.Release(run.conn)
	return err
}

func (u *Upload) sizeIs(c *Conn, want int64) error {
	size, err := c.FileSize(u.name)
	if err == nil && size != want {
		err = fault.New(fault.Unreachable, "", "", "the host has %d bytes of %d", size, want)
	}
	return err
}

// putOff implements puttable: what has been written stays, and the rest follows later.
func (u *Upload) putOff() {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.run != nil && u.err == nil {
		u.err = u.end()
	}
}

// Close sends what is left, and looks whether all is there.
func (u *Upload) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if err := u.err; err != nil {
		_ = u.end() // the first error is the one to tell
		if u.told {
			return nil
		}
		return err
	}
	if u.run != nil {
		var err error
		if len(u.kept) > 0 {
			err = u.send()
		}
		return errors.Join(err, u.end())
	}
	data, at := u.kept, u.sent
	return Tell(u.ctx, u.link, true, func(c *Conn) error {
		if err := c.StorFrom(u.name, bytes.NewReader(data), uint64(at)); err != nil {
			return err
		}
		if u.Hasty {
			return nil
		}
		return u.sizeIs(c, at+int64(len(data)))
	})
}
