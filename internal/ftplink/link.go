// Package ftplink is a line to an account over FTP (RFC 959), with TLS as of RFC 4217: some
// connections within what the account allows, each of which does one thing at a time.
package ftplink

import (
	"context"
	"errors"
	"net/textproto"
	"slices"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/line"
)

const (
	// sureFor is how long after its last use a connection is taken to be alive: hosts end those
	// that nobody uses, and say so only when they are used again.
	sureFor = 10 * time.Second
	// idleEnd is after how long without use a connection is given back.
	idleEnd = time.Minute
	// refusedRest is how long an account is left alone that did not accept the sign-in: hosts
	// lock those out who try again and again.
	refusedRest = time.Minute
	// fullRest is how long to wait before an account is asked again that had no room.
	fullRest = 500 * time.Millisecond
	// standsFor is how long a transfer must have stood still to be put off for somebody else,
	// and putOffAfter how long short questions wait before one is put off that goes on.
	standsFor   = 100 * time.Millisecond
	putOffAfter = time.Second
)

// Link is a line to an account. It dials when it is first needed, and again after the line
// broke. It is safe for concurrent use.
//
// Errors have code Unreachable when the host does not answer, does not accept the sign-in, or
// is not known by its certificate: that passes, by itself or when somebody mends it.
type Link struct {
	mu       sync.Mutex // held for moments only
	account  account.Account
	pace     *line.Pace
	most     int // connections that there may be, as far as is known
	opened   int // that there are, or that are being opened
	idle     []*Conn
	changed  chan struct{} // closed when somebody may go on who waits for a connection
	queue    []*turn       // those who wait, in the order in which they came
	puttable map[puttable]bool
	closed   bool
	refused  error
	again    time.Time
	rest     line.Rest
	// born tells connections of the present account from earlier ones.
	born time.Time
}

// turn is that of one who waits for a connection.
type turn struct{ begun time.Time }

// puttable is a transfer that can be put off for somebody who needs a connection.
type puttable interface {
	// standing is since when nothing has been asked of it; zero while something is.
	standing() time.Time
	putOff()
}

// New makes a link; nothing is dialled yet.
func New(a account.Account) *Link {
	l := &Link{changed: make(chan struct{}), puttable: map[puttable]bool{}}
	l.take(a)
	return l
}

func (l *Link) take(a account.Account) {
	if a.Sessions <= 0 {
		a.Sessions = account.MostSessions
	}
	l.account, l.pace, l.most, l.born = a, line.NewPace(a.BytesASecond), a.Sessions, time.Now()
	l.refused = nil
}

// Account gives what the link is made for now.
func (l *Link) Account() account.Account {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.account
}

// Change has the link reach and sign in to something else, or in another way, from now on. What
// goes on over the present connections ends as if the line broke.
func (l *Link) Change(a account.Account) {
	l.mu.Lock()
	l.take(a)
	l.mu.Unlock()
	l.Cut()
}

// Again has an account asked again at once that did not accept the sign-in, and for as many
// connections as it may have.
func (l *Link) Again() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused, l.most = nil, l.account.Sessions
	l.rest.Again()
}

// Rest tells whether the host misbehaves.
func (l *Link) Rest() *line.Rest { return &l.rest }

// Most is how many connections there may be, as far as is known.
func (l *Link) Most() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.most
}

// Cut ends the connections that nobody uses, and those in use once they are given back.
func (l *Link) Cut() {
	l.mu.Lock()
	l.born = time.Now()
	idle := l.idle
	l.idle, l.opened = nil, l.opened-len(l.idle)
	l.wake()
	l.mu.Unlock()
	for _, c := range idle {
		c.kill()
	}
}

// Close ends the line.
func (l *Link) Close() error {
	l.mu.Lock()
	l.closed = true
	l.mu.Unlock()
	l.Cut()
	return nil
}

// Shown asks a host for its certificate, and signs in to nothing.
func Shown(ctx context.Context, a account.Account) (account.Shown, error) {
	if a.TLS == account.NoTLS {
		return account.Shown{Key: NoTLS}, nil
	}
	a.Key, a.Secrets = "", account.Secrets{}
	c, err := New(a).open(ctx)
	var shown *CertificateError
	switch {
	case errors.As(err, &shown) && shown.Fingerprint != "":
		return account.Shown{Key: certified + shown.Fingerprint, Fingerprint: shown.Fingerprint, Doubt: shown.Why}, nil
	case errors.Is(err, ErrNoTLS):
		return account.Shown{}, fault.New(fault.NeedsChoice, "sign in to", a.Name, "%s", ErrNoTLS).
			With("Try the other way (--tls implicit), or go without: --tls none. Then the password and all files can " +
				"be " +
				"read by everybody on the way.")
	case err != nil:
		return account.Shown{}, err
	}
	c.kill()
	return account.Shown{Key: ByRoots}, nil
}

// wake has those who wait look again; the lock is held.
func (l *Link) wake() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// need gives a connection for as long as it takes. short is for what is done in a moment: a transfer
// that goes on is put off for it.
func (l *Link) need(ctx context.Context, short bool) (*Conn, error) {
	mine := l.queued()
	defer l.left(mine)
	for {
		c, dial, wait, err := l.look(mine)
		switch {
		case err != nil:
			return nil, err
		case c != nil && (time.Since(c.used) < sureFor || l.alive(ctx, c)):
			return c, nil
		case c != nil:
			c.broken.Store(true)
			l.Release(c)
			continue
		case dial:
			c, err := l.dial(ctx)
			if errors.Is(err, errFull) && l.someOpen() {
				continue
			}
			return c, err
		}
		l.makeRoom(short && time.Since(mine.begun) > putOffAfter)
		select {
		case <-wait:
		case <-time.After(standsFor):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (l *Link) queued() *turn {
	l.mu.Lock()
	defer l.mu.Unlock()
	mine := &turn{time.Now()}
	l.queue = append(l.queue, mine)
	return mine
}

// left ends the waiting of one, whoever is next may go on.
func (l *Link) left(mine *turn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.queue = slices.DeleteFunc(l.queue, func(t *turn) bool { return t == mine })
	l.wake()
}

// look takes a connection that is idle, or says that one may be dialled, or gives what to wait for:
// as long as there are as many before who wait as there may be more, nothing.
func (l *Link) look(mine *turn) (c *Conn, dial bool, wait chan struct{}, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	before := slices.Index(l.queue, mine)
	switch {
	case l.closed:
		return nil, false, nil, fault.New(fault.Unreachable, "reach", l.account.Name, "the line was closed")
	case l.refused != nil && time.Now().Before(l.again):
		return nil, false, nil, l.refused
	case l.rest.Err() != nil:
		return nil, false, nil, l.rest.Err()
	case before >= len(l.idle)+l.most-l.opened: // it is not their turn
	case len(l.idle) > 0:
		c = l.idle[len(l.idle)-1]
		l.idle = l.idle[:len(l.idle)-1]
		return c, false, nil, nil
	case l.opened < l.most:
		l.opened++
		return nil, true, nil, nil
	}
	return nil, false, l.changed, nil
}

func (l *Link) alive(ctx context.Context, c *Conn) bool {
	_, err := line.Bounded(ctx, func() (nothing, error) { return nothing{}, c.NoOp() })
	return err == nil
}

func (l *Link) someOpen() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.opened > 0
}

// dial opens a connection for which room was taken. An account that has no room for it is taken to
// have room for those that there are; where there is none, others of the account have them all, and it
// is asked again.
func (l *Link) dial(ctx context.Context) (c *Conn, err error) {
	for try := 0; ; try++ {
		if c, err = l.open(ctx); err == nil {
			return c, nil
		}
		full := errors.Is(err, errFull)
		l.rest.Note(err)
		l.mu.Lock()
		alone := l.opened == 1
		if !full || !alone || try == 6 {
			l.opened--
			if full && l.opened > 0 {
				l.most = l.opened
			}
			if errors.As(err, new(*refusal)) {
				l.refused, l.again = err, time.Now().Add(refusedRest)
			}
			l.wake()
			l.mu.Unlock()
			return nil, err
		}
		l.mu.Unlock()
		select {
		case <-time.After(fullRest):
		case <-ctx.Done():
			l.gone()
			return nil, ctx.Err()
		}
	}
}

func (l *Link) gone() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.opened--
	l.wake()
}

// makeRoom has a transfer be put off that stands still, or, with force, one that goes on.
func (l *Link) makeRoom(force bool) {
	l.mu.Lock()
	var one puttable
	for p := range l.puttable {
		since := p.standing()
		if one == nil && force || !since.IsZero() && time.Since(since) > standsFor {
			one = p
		}
	}
	l.mu.Unlock()
	if one != nil {
		go one.putOff()
	}
}

func (l *Link) mayPutOff(p puttable, now bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now {
		l.puttable[p] = true
	} else {
		delete(l.puttable, p)
	}
}

// Release gives a connection back.
func (l *Link) Release(c *Conn) {
	c.used = time.Now()
	l.mu.Lock()
	over := c.broken.Load() || l.closed || c.account != l.account
	if over {
		l.opened--
	} else {
		l.idle = append(l.idle, c)
	}
	l.wake()
	l.mu.Unlock()
	if over {
		c.kill()
		return
	}
	time.AfterFunc(idleEnd+time.Second, l.giveUpIdle)
}

// giveUpIdle ends connections that nobody has used for a while.
func (l *Link) giveUpIdle() {
	l.mu.Lock()
	var keep, over []*Conn
	for _, c := range l.idle {
		if time.Since(c.used) > idleEnd {
			over = append(over, c)
		} else {
			keep = append(keep, c)
		}
	}
	l.idle, l.opened = keep, l.opened-len(over)
	l.mu.Unlock()
	for _, c := range over {
		go func() { _ = c.Quit() }() // it ends whatever the outcome
	}
}

// nothing is for what gives no more than an error.
type nothing struct{}

// Denied is an error of a host that says no more than that it does not do something: whoever
// asked looks then why.
type Denied struct{ Says string }

func (e *Denied) Error() string { return "the host says: " + e.Says }

// class gives an error its class, and notes when the connection is not to be used again.
func (l *Link) class(c *Conn, err error) error {
	var said *textproto.Error
	c.scrub(err)
	if bad := line.Misbehaves("read from", l.Account().Name, err); bad != nil {
		c.broken.Store(true)
		l.rest.Note(bad)
		return bad
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ftp.ErrInvalidCommand):
		return &fault.Error{Code: fault.Invalid, What: "no such name can be told to the host"}
	case errors.As(err, &said) && said.Code != ftp.StatusNotAvailable:
		// A transfer that broke is told by both of its connections.
		if !onlySaid(err) {
			c.broken.Store(true)
		}
		switch said.Code {
		case ftp.StatusExceededStorage, 452: // RFC 959, 4.2.1
			return &fault.Error{Code: fault.NoSpace, What: "the disk, or an allowance, is full (" + said.Msg + ")"}
		case ftp.StatusCanNotOpenDataConnection, ftp.StatusTransfertAborted:
			c.broken.Store(true)
			return l.lost(err)
		case ftp.StatusBadCommand, ftp.StatusNotImplemented, ftp.StatusNotImplementedParameter:
			// A host that fails within says so with the same code, and ends the connection.
			if c.broken.Load() || ignoring(c.NoOp()) != nil {
				c.broken.Store(true)
				return l.lost(err)
			}
			return &fault.Error{Code: fault.Unsupported, What: "the host has no way to do this (" + said.Msg + ")"}
		case ftp.StatusNotLoggedIn:
			c.broken.Store(true)
			return l.lost(err)
		}
		return &Denied{said.Msg}
	case fault.Ended(err) != "":
		return err
	}
	c.broken.Store(true)
	return l.lost(err)
}

// onlySaid reports whether an error is nothing but what the host has said.
func onlySaid(err error) bool {
	if several, ok := err.(interface{ Unwrap() []error }); ok { //nolint:errorlint // its parts are looked at
		for _, one := range several.Unwrap() {
			if !onlySaid(one) {
				return false
			}
		}
		return true
	}
	return errors.As(err, new(*textproto.Error))
}

func (l *Link) lost(err error) error {
	return &fault.Error{
		Code: fault.Unreachable, Op: "reach", Path: l.Account().Name, What: "the line to it broke", Err: err,
	}
}

// Do does something over a connection, within ctx. What only looks, or gives the same when it is
// done twice, is done once more on a new connection when the line breaks: hosts end connections that
// nobody uses. An error that is no more than the host's refusal is a *Denied.
func Do[T any](ctx context.Context, l *Link, again bool, do func(*Conn) (T, error)) (T, error) {
	for {
		c, err := l.need(ctx, true)
		if err != nil {
			var none T
			return none, err
		}
		got, err := line.Bounded(ctx, func() (T, error) { return do(c) })
		if ctx.Err() != nil {
			c.kill()
		}
		err = l.class(c, err)
		l.Release(c)
		if fault.CodeOf(err) != fault.Unreachable || !again || ctx.Err() != nil {
			return got, err
		}
		again = false
	}
}

// Tell does something that gives no more than an error.
func Tell(ctx context.Context, l *Link, again bool, do func(*Conn) error) error {
	_, err := Do(ctx, l, again, func(c *Conn) (nothing, error) { return nothing{}, do(c) })
	return err
}

// Ask asks the least that can be: the time of one question and its answer is that of a round trip.
func (l *Link) Ask(ctx context.Context) error { return Tell(ctx, l, true, (*Conn).NoOp) }

// Precise reports whether the host's listings are such that programs can read.
func (l *Link) Precise(ctx context.Context) (bool, error) {
	return Do(ctx, l, true, func(c *Conn) (bool, error) { return c.Precise, nil })
}

// Count opens as many connections as there may be at once, and gives their number; no more are tried
// than the account is to use.
func (l *Link) Count(ctx context.Context) (int, error) {
	var all []*Conn
	mine := l.queued()
	defer l.left(mine)
	defer func() {
		for _, c := range all {
			l.Release(c)
		}
	}()
	for {
		c, dial, _, err := l.look(mine)
		if err == nil && dial {
			c, err = l.dial(ctx)
		}
		switch {
		case errors.Is(err, errFull) && len(all) > 0:
			return len(all), nil
		case err != nil:
			return len(all), err
		case c == nil: // others use those that are left
			return l.Most(), nil
		}
		all = append(all, c)
	}
}
