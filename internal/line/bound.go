package line

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/fault"
)

// What a peer may send, in bytes. docs/security.md lists them.
const (
	// LongestLine is for a line of a protocol, LongestReply for all that comes before something is asked again.
	LongestLine  = 64 << 10
	LongestReply = 1 << 20
	// LongestListing and MostNames are for the listing of one folder.
	LongestListing = 16 << 20
	MostNames      = 200_000
)

// Excess is a limit that a peer has exceeded: it says what.
type Excess struct{ What string }

func (e *Excess) Error() string { return "it sends " + e.What }

// Exceeds is the error for a peer that sends more than a limit.
func Exceeds(format string, args ...any) error { return &Excess{fmt.Sprintf(format, args...)} }

// Misbehaves gives the error of a peer that exceeded a limit: code Misbehaving, with its name. nil: err tells of no
// limit.
func Misbehaves(op, name string, err error) error {
	var e *Excess
	if !errors.As(err, &e) {
		return nil
	}
	return fault.New(fault.Misbehaving, op, name, "%s", e)
}

// LongHeaders tells whether net/http gave a peer up because its headers are too long (MaxResponseHeaderBytes); of that
// it has no error but a text.
func LongHeaders(err error) bool {
	return err != nil && strings.Contains(err.Error(), "server response headers exceeded")
}

// Bound is a connection over which a peer may send only so much before something is asked of it again. It ends the
// connection of one that sends more.
type Bound struct {
	net.Conn
	// Lines: what comes is text of lines that end, not encrypted ones.
	Lines bool

	mu    sync.Mutex // held for moments only
	reply int        // bytes since something was asked
	line  int        // bytes since a line ended
	over  error
}

// Write implements net.Conn: something is asked.
func (b *Bound) Write(p []byte) (int, error) {
	b.mu.Lock()
	b.reply, b.line = 0, 0
	b.mu.Unlock()
	return b.Conn.Write(p)
}

// Read implements net.Conn.
func (b *Bound) Read(p []byte) (int, error) {
	b.mu.Lock()
	over := b.over
	b.mu.Unlock()
	if over != nil {
		return 0, over
	}
	n, err := b.Conn.Read(p)
	if over := b.take(p[:n]); over != nil {
		_ = b.Conn.Close() // nothing more is heard of it
		return 0, over
	}
	return n, err
}

func (b *Bound) take(p []byte) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.reply += len(p)
	if b.reply > LongestReply {
		b.over = Exceeds("more than %d kB in one reply", LongestReply>>10)
	}
	if !b.Lines {
		return b.over
	}
	for _, c := range p {
		if b.line++; c == '\n' {
			b.line = 0
		}
		if b.line > LongestLine {
			b.over = Exceeds("a line of more than %d kB", LongestLine>>10)
			break
		}
	}
	return b.over
}

// How long a peer that misbehaves is left alone: at first so long, then twice as long each time, and no longer than
// that.
const (
	firstRest   = 10 * time.Second
	longestRest = 10 * time.Minute
)

// Rest is how long a peer that misbehaves is left alone. It ends when a check of the peer succeeds. The zero value is
// a peer that never did. It is safe for concurrent use.
type Rest struct {
	mu    sync.Mutex // held for moments only
	err   error
	since time.Time
	until time.Time
	times int
}

// Note notes an error of a peer; others than those of code Misbehaving are none of its business.
func (r *Rest) Note(err error) {
	if fault.CodeOf(err) != fault.Misbehaving {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	if now.Before(r.until) { // of several at the same time only the first counts
		return
	}
	if r.err == nil {
		r.since = now
	}
	r.err = err
	r.until = now.Add(min(longestRest, firstRest<<min(r.times, 10)))
	r.times++
}

// Err is the error while the peer is left alone.
func (r *Rest) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Now().Before(r.until) {
		return r.err
	}
	return nil
}

// Told gives what the peer did last and since when it does such things; nil: it does not.
func (r *Rest) Told() (since time.Time, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.since, r.err
}

// Again has the peer be asked again at once.
func (r *Rest) Again() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.until = time.Time{}
}

// Well says that a check of the peer succeeded.
func (r *Rest) Well() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err, r.since, r.until, r.times = nil, time.Time{}, time.Time{}, 0
}
