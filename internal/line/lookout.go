package line

import (
	"context"
	"net"
	"sync"
	"time"
)

// A peer that hangs without closing its connections (a stopped process, a machine that has frozen, a line that
// swallows all) would keep everybody waiting for as long as TCP does. A question that takes its time looks the same
// from its own connection; so the peer is asked something small over another one, and only when that is not
// answered either, whoever waits is told.
const (
	// quietFor is how long an answer may be waited for before it is asked whether the peer answers at all.
	quietFor = 3 * time.Second
	// ProbeFor is how long that answer may take.
	ProbeFor = 3 * time.Second
)

// Dial makes a connection, as net.Dialer.DialContext does.
type Dial = func(ctx context.Context, network, address string) (net.Conn, error)

// lookout watches all connections to a peer.
type lookout struct {
	alive func(context.Context) error

	mu    sync.Mutex // held for moments only
	conns map[*watchedConn]struct{}
}

// Watched gives connections on which nobody waits for good: once a question has waited for some seconds, alive is
// asked, over a connection of its own that is not watched, whether the peer answers; an error ends what waits, as a
// lost connection. Whoever only listens may wait for ever. It watches until ctx ends.
func Watched(ctx context.Context, dial Dial, alive func(context.Context) error) Dial {
	l := &lookout{alive: alive, conns: map[*watchedConn]struct{}{}}
	go l.run(ctx)
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		w := &watchedConn{Conn: c, l: l}
		l.mu.Lock()
		l.conns[w] = struct{}{}
		l.mu.Unlock()
		return w, nil
	}
}

func (l *lookout) run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if before := time.Now().Add(-quietFor); len(l.waiting(before)) > 0 && l.probe(ctx) != nil && ctx.Err() == nil {
			for _, w := range l.waiting(before) {
				w.giveUp()
			}
		}
	}
}

// waiting gives the connections that have waited for an answer since before then.
func (l *lookout) waiting(before time.Time) (out []*watchedConn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for w := range l.conns {
		if since := w.since(); !since.IsZero() && since.Before(before) {
			out = append(out, w)
		}
	}
	return out
}

func (l *lookout) probe(ctx context.Context) error {
	ctx, done := context.WithTimeout(ctx, ProbeFor)
	defer done()
	return l.alive(ctx)
}

// watchedConn is a connection of which it is known since when an answer is waited for.
type watchedConn struct {
	net.Conn
	l *lookout

	mu    sync.Mutex // held for moments only
	asked time.Time  // zero: nothing is waited for
	lost  bool
}

func (w *watchedConn) since() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.asked
}

func (w *watchedConn) note(asked time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.asked = asked
}

// Write implements net.Conn: what is asked is waited for from now on.
func (w *watchedConn) Write(p []byte) (int, error) {
	w.note(time.Now())
	return w.Conn.Write(p)
}

// Read implements net.Conn. What comes unasked, as notifications do, may be waited for for ever.
func (w *watchedConn) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	if n > 0 {
		w.note(time.Time{})
	}
	return n, err
}

// giveUp ends whatever waits for the connection.
func (w *watchedConn) giveUp() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.lost = true
	_ = w.Conn.SetDeadline(time.Unix(1, 0))
}

// The deadlines of a connection that was given up stay as they are.

func (w *watchedConn) SetDeadline(t time.Time) error      { return w.set(w.Conn.SetDeadline, t) }
func (w *watchedConn) SetReadDeadline(t time.Time) error  { return w.set(w.Conn.SetReadDeadline, t) }
func (w *watchedConn) SetWriteDeadline(t time.Time) error { return w.set(w.Conn.SetWriteDeadline, t) }

func (w *watchedConn) set(do func(time.Time) error, t time.Time) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.lost {
		return nil
	}
	return do(t)
}

// Close implements net.Conn.
func (w *watchedConn) Close() error {
	w.l.mu.Lock()
	delete(w.l.conns, w)
	w.l.mu.Unlock()
	return w.Conn.Close()
}
