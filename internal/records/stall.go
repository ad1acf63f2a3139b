package records

import (
	"context"
	"net"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// A database that hangs without closing its connections (a stopped process, a machine that has frozen, a line
// that swallows all) would keep everybody waiting for as long as TCP does. A statement that takes its time looks the
// same from its own connection; so the database is asked something small over another one, and only when that is not
// answered either, whoever waits is told.
const (
	// quietFor is how long an answer may be waited for before it is asked whether the database answers at all.
	quietFor = 3 * time.Second
	// probeFor is how long that answer may take, and how long a new connection may.
	probeFor = 3 * time.Second
)

// lookout watches all connections to a database.
type lookout struct {
	config *pgx.ConnConfig // of the probe, which is not watched itself

	mu    sync.Mutex // held for moments only
	conns map[*watchedConn]struct{}
}

// watch has connections of a configuration be watched until ctx ends.
func watch(ctx context.Context, config *pgx.ConnConfig) *lookout {
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = probeFor
	}
	l := &lookout{config: config.Copy(), conns: map[*watchedConn]struct{}{}}
	dial := config.DialFunc
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
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
	go l.run(ctx)
	return l
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
	ctx, done := context.WithTimeout(ctx, probeFor)
	defer done()
	c, err := pgx.ConnectConfig(ctx, l.config)
	if err != nil {
		return err
	}
	defer c.Close(ctx) //nolint:errcheck // it was only asked
	return c.Ping(ctx)
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
