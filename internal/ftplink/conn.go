package ftplink

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jlaffaye/ftp"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/line"
)

// replyPatience is how long the host may take to answer, and data may stand still: a host that is
// gone is noticed after it.
const replyPatience = 15 * time.Second

// Conn is one connection to an account. It does one thing at a time.
type Conn struct {
	*ftp.ServerConn
	// Precise: listings are such that programs can read (MLSD, RFC 3659), and their times are to
	// the second.
	Precise bool
	// Home is the folder where one arrives after signing in.
	Home string

	link    *Link
	account account.Account
	tls     *tls.Config // nil: none
	ctx     context.Context

	wires  wires
	tap    *tap // of a listing
	broken atomic.Bool
	used   time.Time
}

// wires are the control connection and the last data connection of a Conn. Whoever does not wait any longer for what is
// done over them cuts them; one that is dialled after that is closed at once.
type wires struct {
	mu      sync.Mutex // held for moments only
	control *line.Bound
	data    *timed
	cut     bool
}

// host is where the control connection leads; "" before there is one.
func (w *wires) host() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.control == nil {
		return ""
	}
	host, _, _ := net.SplitHostPort(w.control.RemoteAddr().String())
	return host
}

// keep takes a new connection: control, or data when that is nil.
func (w *wires) keep(control *line.Bound, data *timed) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if control != nil {
		w.control = control
	} else {
		w.data = data
	}
	if w.cut {
		w.close()
		return net.ErrClosed
	}
	return nil
}

func (w *wires) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.cut = true
	w.close()
}

func (w *wires) close() { // how they end does not matter
	if w.control != nil {
		_ = w.control.Close()
	}
	if w.data != nil {
		_ = w.data.Close()
	}
}

// timed is a connection of which no reading and no writing takes longer than replyPatience.
type timed struct{ *line.Conn }

func (c timed) Read(p []byte) (int, error) {
	if err := c.SetReadDeadline(time.Now().Add(replyPatience)); err != nil {
		return 0, err
	}
	return c.Conn.Read(p)
}

func (c timed) Write(p []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(replyPatience)); err != nil {
		return 0, err
	}
	return c.Conn.Write(p)
}

// data is a connection that carries a file or a listing.
type data struct {
	net.Conn
	tls *tls.Conn // nil: none
	of  *Conn
}

func (d *data) Read(p []byte) (int, error) {
	n, err := d.Conn.Read(p)
	if d.of.tap != nil {
		if over := d.of.tap.take(p[:n]); over != nil {
			d.of.kill()
			return 0, over
		}
	}
	return n, err
}

// tap hears a listing along, as far as one may go.
type tap struct {
	heard [][]byte
	bytes int
	names int
	over  error
}

func (t *tap) take(p []byte) error {
	t.names += bytes.Count(p, []byte("\n"))
	t.bytes += len(p)
	switch {
	case t.over != nil:
	case t.bytes > line.LongestListing:
		t.over = line.Exceeds("a listing of more than %d MB", line.LongestListing>>20)
	case t.names > line.MostNames:
		t.over = line.Exceeds("a listing of more than %d names", line.MostNames)
	default:
		t.heard = append(t.heard, bytes.Clone(p))
	}
	if t.over != nil {
		t.heard = nil
	}
	return t.over
}

// text is all that was heard.
func (t *tap) text() string {
	var b strings.Builder
	b.Grow(t.bytes)
	for _, p := range t.heard {
		b.Write(p)
	}
	return b.String()
}

// Handshake has TLS begin where nothing is sent: hosts wait for it also when a file is empty.
func (d *data) Handshake() error {
	if d.tls == nil {
		return nil
	}
	return d.tls.Handshake()
}

// dial gives the way for both kinds of connection: the first one that is asked for is the control
// connection.
func (c *Conn) dial(_, address string) (net.Conn, error) {
	host := c.wires.host()
	if host != "" { // a host may name another machine for data: it goes to the host itself
		if _, port, err := net.SplitHostPort(address); err == nil {
			address = net.JoinHostPort(host, port)
		}
	}
	conn, err := line.Dialer(true).DialContext(c.ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	under := &timed{&line.Conn{Conn: conn, Pace: c.link.pace}}
	if host == "" {
		// What comes before TLS is bounded like what comes within.
		control := &line.Bound{Conn: under, Lines: c.tls == nil}
		if err := c.wires.keep(control, nil); err != nil || c.account.TLS != account.Implicit {
			return control, err
		}
		over := tls.Client(control, c.tls)
		return over, over.HandshakeContext(c.ctx)
	}
	d := &data{Conn: under, of: c}
	if c.tls != nil {
		d.tls = tls.Client(under, c.tls)
		d.Conn = d.tls
	}
	return d, c.wires.keep(nil, under)
}

// kill ends the connection: whatever waits for it returns.
func (c *Conn) kill() {
	c.broken.Store(true)
	c.wires.end()
}

// Listing gives the lines of a folder's listing and what could be read of them, hidden names
// included. The folder is entered for that: a name in a listing's command is a pattern on many
// hosts, and one that is not there lists as empty.
func (c *Conn) Listing(dir string) (entries []*ftp.Entry, lines []string, err error) {
	if err := c.ChangeDir(dir); err != nil {
		return nil, nil, err
	}
	heard := &tap{}
	c.tap = heard
	defer func() { c.tap = nil }()
	all := "-a"
	if c.Precise {
		all = ""
	}
	entries, err = c.List(all)
	if heard.over != nil {
		return nil, nil, heard.over
	}
	for l := range strings.SplitSeq(heard.text(), "\n") {
		if l = strings.TrimSuffix(l, "\r"); l != "" {
			lines = append(lines, l)
		}
	}
	return entries, lines, err
}

// Taken reports whether something of a name is there that could be renamed: it is given the name
// that it has. That costs one question where nothing is, which a listing would not.
func (c *Conn) Taken(name string) (bool, error) {
	err := c.Rename(name, name)
	if said(err) {
		return false, nil
	}
	return err == nil, err
}

// open dials and signs in.
func (l *Link) open(ctx context.Context) (*Conn, error) {
	l.mu.Lock()
	a := l.account
	l.mu.Unlock()
	ctx, done := context.WithTimeout(ctx, 2*line.DialPatience)
	defer done()
	c := &Conn{link: l, account: a, ctx: ctx}
	options := []ftp.DialOption{ftp.DialWithDialFunc(c.dial), ftp.DialWithWritingMDTM(true)}
	if a.TLS != account.NoTLS {
		var err error
		if c.tls, err = tlsOf(a); err != nil {
			return nil, err
		}
		how := ftp.DialWithExplicitTLS
		if a.TLS == account.Implicit {
			how = ftp.DialWithTLS
		}
		options = append(options, how(c.tls))
	}
	stop := context.AfterFunc(ctx, c.kill)
	_, err := line.Bounded(ctx, func() (nothing, error) {
		var err error
		if c.ServerConn, err = ftp.Dial(a.Address(), options...); err != nil {
			return nothing{}, err
		}
		if a.Key == "" && c.tls != nil { // only what it shows is asked for
			return nothing{}, ignoring(c.NoOp())
		}
		if err := c.Login(a.User, a.Secrets.Password); err != nil {
			return nothing{}, err
		}
		c.Home, err = c.CurrentDir()
		return nothing{}, err
	})
	stop()
	if err != nil {
		c.kill()
		return nil, l.notSignedIn(ctx, c, err)
	}
	c.ctx = context.WithoutCancel(ctx) // data connections have limits of their own
	c.Precise, c.used = c.IsTimePreciseInList(), time.Now()
	return c, nil
}

// scrub takes the account's password out of what the host has said: it may say again what it was told.
func (c *Conn) scrub(err error) {
	var said *textproto.Error
	if errors.As(err, &said) {
		said.Msg = line.Scrub(said.Msg, c.account.Secrets.Password)
	}
}

// ignoring takes any answer for a good one.
func ignoring(err error) error {
	if errors.As(err, new(*textproto.Error)) {
		return nil
	}
	return err
}

// refusal is the cause of an error for a sign-in that was not accepted.
type refusal struct{ error }

// errFull is the cause of an error for an account that has no room for another connection.
var errFull = errors.New("the account has no room for another connection")

// ErrNoTLS is the cause of an error for a host that has no TLS.
var ErrNoTLS = errors.New("the host offers no TLS")

// notSignedIn says why an account could not be signed in to.
func (l *Link) notSignedIn(ctx context.Context, c *Conn, err error) error {
	a := c.account
	unreachable := func(cause error, what string) *fault.Error {
		return &fault.Error{Code: fault.Unreachable, Op: "sign in to", Path: a.Name, Err: cause, What: what}
	}
	var shown *CertificateError
	var said *textproto.Error
	var record tls.RecordHeaderError
	c.scrub(err)
	bad := line.Misbehaves("sign in to", a.Name, err)
	switch {
	case bad != nil:
		return bad
	case errors.As(err, &shown):
		return shown.fault(a.Name)
	case errors.Is(err, context.Canceled):
		return err
	case ctx.Err() != nil:
		return unreachable(err, "it does not sign in within "+(2*line.DialPatience).String())
	case errors.As(err, &said) && (said.Code == ftp.StatusNotAvailable || tooMany(said.Msg)):
		return unreachable(errors.Join(errFull, err), errFull.Error()+" ("+said.Msg+")")
	case errors.As(err, &said) && c.ServerConn == nil && c.tls != nil:
		return unreachable(errors.Join(ErrNoTLS, err), ErrNoTLS.Error()+" ("+said.Msg+")").
			With("Choose another way (--tls implicit), or go without: --tls none. Then the password can be read by " +
				"everybody on the way.")
	case errors.As(err, &said) && said.Code == ftp.StatusNotLoggedIn:
		what := "the host does not accept " + a.User + " with the password"
		if a.Secrets.Password == "" {
			what = "no password is kept for it"
		}
		return unreachable(&refusal{err}, what+" ("+said.Msg+")").
			With("Give the one that it accepts now: reshard hosts change " + a.Name + " --password.")
	case errors.As(err, &said):
		return unreachable(err, "the host ends the sign-in ("+said.Msg+")")
	case errors.As(err, &record):
		return unreachable(err, "what answers at "+a.Address()+" does not speak TLS from the first byte").
			With("Try the other way: --tls explicit.")
	case c.wires.host() == "":
		return unreachable(err, "nothing answers at "+a.Address()+" ("+line.Words(err)+")")
	}
	return unreachable(err, "it answers at "+a.Address()+", and the sign-in breaks off")
}

// tooMany reports whether a host's words speak of too many connections: many say so with a code of
// another meaning.
func tooMany(words string) bool {
	words = strings.ToLower(words)
	for _, w := range []string{"too many", "maximum", "limit", "already connected"} {
		if strings.Contains(words, w) {
			return true
		}
	}
	return false
}
