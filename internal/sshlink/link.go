package sshlink

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/line"
)

// How long things may take, and how a dead peer is noticed: within keepEvery and keepPatience
// together, whatever waits for an answer ends.
const (
	dialPatience = line.DialPatience
	keepEvery    = 5 * time.Second
	keepPatience = 8 * time.Second
	// idleEnd is after how long without use a connection is given back.
	idleEnd = 5 * time.Minute
	// refusedRest is how long an account is left alone that did not accept the sign-in: hosts
	// lock those out who try again and again.
	refusedRest = time.Minute
)

// Link is a line to an account. It dials when it is first needed, and again after the line
// broke. It is safe for concurrent use; one connection is shared by all.
//
// Errors have code Unreachable when the host does not answer, does not accept the sign-in, or
// is not known by its key: that passes, by itself or when somebody mends it.
type Link struct {
	dialling chan struct{} // has room for the one who dials

	mu      sync.Mutex // held for moments only
	account account.Account
	pace    *line.Pace
	// sessions has room for the channels that may be open at once.
	sessions chan struct{}
	now      *connection
	closed   bool
	refused  error // why the account did not let us in, until again
	again    time.Time
	failed   error // what came of the last dialling, at failedAt
	failedAt time.Time
	rest     line.Rest
}

// New makes a link; nothing is dialled yet.
func New(a account.Account) *Link {
	if a.Sessions <= 0 {
		a.Sessions = account.MostSessions
	}
	return &Link{
		account: a, pace: line.NewPace(a.BytesASecond), dialling: make(chan struct{}, 1),
		sessions: make(chan struct{}, a.Sessions),
	}
}

// Account gives what the link is made for now.
func (l *Link) Account() account.Account {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.account
}

// Change has the link reach and sign in to something else, or in another way, from now on. What
// goes on over the present connection ends as if the line broke.
func (l *Link) Change(a account.Account) {
	if a.Sessions <= 0 {
		a.Sessions = account.MostSessions
	}
	l.mu.Lock()
	l.account, l.pace, l.sessions = a, line.NewPace(a.BytesASecond), make(chan struct{}, a.Sessions)
	l.refused, l.failed = nil, nil
	l.mu.Unlock()
	l.Cut()
}

// Again has an account asked again at once that did not accept the sign-in.
func (l *Link) Again() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.refused, l.failed = nil, nil
	l.rest.Again()
}

// Rest tells whether the host misbehaves.
func (l *Link) Rest() *line.Rest { return &l.rest }

// Shown asks a host for its key, and signs in to nothing.
func Shown(ctx context.Context, a account.Account) (account.Shown, error) {
	a.Key, a.Secrets = "", account.Secrets{}
	l := New(a)
	_, err := l.dialAgain(ctx)
	var shown *KeyError
	if errors.As(err, &shown) {
		return account.Shown{Key: shown.Key, Fingerprint: shown.Fingerprint}, nil
	}
	if err == nil {
		err = fault.New(fault.Unreachable, "reach", a.Name, "it shows no key")
	}
	return account.Shown{}, err
}

// connection is one.
type connection struct {
	client *ssh.Client
	conn   net.Conn
	heard  *atomic.Int64 // when something last came, in nanoseconds
	dead   chan struct{} // closed once the connection has ended

	opening chan struct{} // has room for the one who begins files
	// shelled has room for the one who uses shell.
	shelled chan struct{}
	shell   *shell

	mu    sync.Mutex
	files *sftp.Client
	used  time.Time
}

func (l *Link) name() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.account.Name
}

// Close ends the connection, and with it all that goes on over it.
func (l *Link) Close() error {
	l.mu.Lock()
	l.closed = true
	now := l.now
	l.now = nil
	l.mu.Unlock()
	if now != nil {
		now.end()
	}
	return nil
}

// Cut ends the present connection, if there is one; the next who needs it dials again.
func (l *Link) Cut() {
	l.mu.Lock()
	now := l.now
	l.now = nil
	l.mu.Unlock()
	if now != nil {
		now.end()
	}
}

// end closes the connection: all pending calls return.
func (n *connection) end() {
	_ = n.conn.Close() // it ends whatever the outcome
	_ = n.client.Close()
}

func (n *connection) isDead() bool {
	select {
	case <-n.dead:
		return true
	default:
		return false
	}
}

// connect gives the connection, dialling when there is none. Those who waited while somebody
// else dialled share what came of it.
func (l *Link) connect(ctx context.Context) (*connection, error) {
	begun := time.Now()
	select {
	case l.dialling <- struct{}{}:
		defer func() { <-l.dialling }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	l.mu.Lock()
	now, closed, refused, again, failed, failedAt := l.now, l.closed, l.refused, l.again, l.failed, l.failedAt
	l.mu.Unlock()
	switch {
	case closed:
		return nil, fault.New(fault.Unreachable, "reach", l.name(), "the line was closed")
	case now != nil && !now.isDead():
		return now, nil
	case refused != nil && time.Now().Before(again):
		return nil, refused
	case l.rest.Err() != nil:
		return nil, l.rest.Err()
	case failed != nil && begun.Before(failedAt):
		return nil, failed
	}
	next, err := l.dialAgain(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.refused = nil; errors.As(err, new(*refusal)) {
		l.refused, l.again = err, time.Now().Add(refusedRest)
	}
	if l.failed, l.failedAt = err, time.Now(); ctx.Err() != nil {
		l.failed = nil // it was only this one's time that ended
	}
	if err == nil && l.closed {
		next.end()
		return nil, fault.New(fault.Unreachable, "reach", l.name(), "the line was closed")
	}
	if err == nil {
		l.now = next
	}
	return next, err
}

// dialAgain dials, and again when the host has too many who are signing in (sshd_config(5),
// MaxStartups: it then ends some at random).
func (l *Link) dialAgain(ctx context.Context) (n *connection, err error) {
	for try := 0; ; try++ {
		if n, err = l.dial(ctx); !errors.Is(err, errCutEarly) || try == 2 {
			return n, err
		}
		select {
		case <-time.After(time.Duration(100+rand.IntN(100)) * time.Millisecond << try):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// errCutEarly ends a handshake that the host cut: it may have too much to do.
var errCutEarly = errors.New("it ended the connection before the sign-in")

// refusal is the cause of an error for a sign-in that was not accepted.
type refusal struct{ error }

// Refused reports whether an error says that the host answered and did not accept the sign-in.
func Refused(err error) bool { return errors.As(err, new(*refusal)) }

func (l *Link) dial(ctx context.Context) (*connection, error) {
	l.mu.Lock()
	a, pace := l.account, l.pace
	l.mu.Unlock()
	lost := func(what string, err error) error {
		return &fault.Error{Code: fault.Unreachable, Op: "reach", Path: a.Name, What: what, Err: err}
	}
	callback, algorithms, err := keyCheck(a.Key)
	if err != nil {
		return nil, err
	}
	methods, done, err := methodsOf(a.Secrets)
	if err != nil {
		return nil, err
	}
	defer done()
	dctx, cancel := context.WithTimeout(ctx, dialPatience)
	defer cancel()
	conn, err := line.Dialer(true).DialContext(dctx, "tcp", a.Address())
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, lost("nothing answers at "+a.Address()+" ("+line.Words(err)+")", err)
	}
	stop := context.AfterFunc(dctx, func() { _ = conn.Close() }) // ends the handshake
	defer stop()
	paced := &line.Conn{Conn: conn, Pace: pace}
	paced.Heard.Store(time.Now().UnixNano())
	c, channels, requests, err := ssh.NewClientConn(paced, a.Address(), &ssh.ClientConfig{
		User: a.User, Auth: methods, HostKeyCallback: callback, HostKeyAlgorithms: algorithms,
		ClientVersion: "SSH-2.0-Reshard",
	})
	if err != nil {
		_ = conn.Close() // the error tells more
		return nil, l.signInError(ctx, dctx, err)
	}
	n := &connection{
		client: ssh.NewClient(c, channels, requests), conn: conn, heard: &paced.Heard, dead: make(chan struct{}),
		used: time.Now(), shelled: make(chan struct{}, 1), opening: make(chan struct{}, 1),
	}
	go func() {
		defer close(n.dead)
		_ = n.client.Wait() // that it ended is all that matters
		_ = conn.Close()
	}()
	go n.keepAlive()
	return n, nil
}

// signInError says why a handshake failed.
func (l *Link) signInError(ctx, dctx context.Context, err error) error {
	a := l.Account()
	var key *KeyError
	text := err.Error()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &key):
		return key.fault(a.Name)
	case dctx.Err() != nil:
		return fault.New(fault.Unreachable, "reach", a.Name, "it answers at %s, and does not sign in within %s",
			a.Address(), dialPatience)
	case strings.Contains(text, "unable to authenticate"), strings.Contains(text, "no supported methods remain"):
		ways := strings.Join(a.Secrets.Ways(), ", ")
		if ways == "" {
			ways = "nothing, since no password and no key is kept for it"
		}
		f := &fault.Error{
			Code: fault.Unreachable, Op: "sign in to", Path: a.Name, Err: &refusal{err},
			What: "the host does not accept " + a.User + " with " + ways,
		}
		return f.With("Give what it accepts now: reshard hosts change " + a.Name + " --password, or --key FILE.")
	case strings.Contains(text, "no common algorithm"):
		return &fault.Error{
			Code: fault.Unreachable, Op: "sign in to", Path: a.Name, Err: err,
			What: "the host and the service have no common way to encrypt, or its key is of another kind than the " +
				"accepted one",
		}
	}
	return &fault.Error{
		Code: fault.Unreachable, Op: "reach", Path: a.Name, Err: errors.Join(errCutEarly, err),
		What: errCutEarly.Error(),
	}
}

// methods are the ways to sign in, the safest first. What they need is given back by done.
func methodsOf(s account.Secrets) (out []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	var signers []ssh.Signer
	if s.PrivateKey != "" {
		signer, err := signer(s)
		if err != nil {
			return nil, done, err
		}
		signers = append(signers, signer)
	}
	if s.Agent != "" {
		conn, err := net.DialTimeout("unix", s.Agent, 2*time.Second)
		if err != nil {
			return nil, done, fault.New(fault.Unreachable, "ask", "the agent", "nothing answers at its socket").
				With("Start the agent on the service's machine, or give a key or password instead.")
		}
		done = func() { _ = conn.Close() }
		_ = conn.SetDeadline(time.Now().Add(dialPatience)) // an agent asks people, who may be away
		more, err := agent.NewClient(conn).Signers()
		if err != nil {
			done()
			return nil, func() {}, fault.New(fault.Unreachable, "ask", "the agent", "it does not give its keys")
		}
		signers = append(signers, more...)
	}
	if len(signers) > 0 {
		out = append(out, ssh.PublicKeys(signers...))
	}
	if s.Password != "" {
		out = append(out, ssh.Password(s.Password), ssh.KeyboardInteractive(answers(s.Password)))
	}
	return out, done, nil
}

// answers answers what a host asks at a keyboard: one hidden question is for the password.
// Some ask once more with no question.
func answers(password string) ssh.KeyboardInteractiveChallenge {
	return func(_, _ string, questions []string, echos []bool) ([]string, error) {
		out := make([]string, len(questions))
		for i := range questions {
			if echos[i] || i > 0 {
				return nil, errors.New("the host asks more than a password")
			}
			out[i] = password
		}
		return out, nil
	}
}

// keepAlive finds a peer that is dead, or a line that swallows all: no packet and no reset. It
// also gives a connection back that nobody uses.
func (n *connection) keepAlive() {
	tick := time.NewTicker(keepEvery)
	defer tick.Stop()
	for {
		select {
		case <-n.dead:
			return
		case <-tick.C:
		}
		if n.idle() > idleEnd {
			n.end()
			return
		}
		if !n.answers() {
			n.end()
			return
		}
	}
}

// answers asks for a sign of life, and gives up once nothing at all has come for so long: on
// a slow line the answer may stand behind much else.
func (n *connection) answers() bool {
	answered := make(chan struct{})
	go func() {
		defer close(answered)
		_, _, _ = n.client.SendRequest("keepalive@openssh.com", true, nil) // any answer is one
	}()
	asked := time.Now()
	for {
		last := time.Unix(0, n.heard.Load())
		if last.Before(asked) {
			last = asked
		}
		left := keepPatience - time.Since(last)
		if left <= 0 {
			return false
		}
		select {
		case <-answered:
			return true
		case <-n.dead:
			return false
		case <-time.After(left):
		}
	}
}

func (n *connection) idle() time.Duration {
	n.mu.Lock()
	defer n.mu.Unlock()
	return time.Since(n.used)
}

func (n *connection) touch() {
	n.mu.Lock()
	n.used = time.Now()
	n.mu.Unlock()
}

// session opens a channel, when one is free. release must be called once it is done with.
func (l *Link) session(ctx context.Context, n *connection) (s *ssh.Session, release func(), err error) {
	l.mu.Lock()
	room := l.sessions
	l.mu.Unlock()
	select {
	case room <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	case <-n.dead:
		return nil, nil, l.Lost(nil)
	}
	release = func() { <-room }
	s, err = l.openSession(ctx, n)
	if err != nil {
		release()
		return nil, nil, err
	}
	return s, release, nil
}

// openSession opens a channel. A host may count one that has ended here for a moment longer, and
// others of the account may use some: it is asked again for a while.
func (l *Link) openSession(ctx context.Context, n *connection) (*ssh.Session, error) {
	for wait := 20 * time.Millisecond; ; wait *= 2 {
		s, err := line.Bounded(ctx, n.client.NewSession)
		if err == nil {
			return s, nil
		}
		var full *ssh.OpenChannelError
		if !errors.As(err, &full) {
			return nil, l.Lost(err)
		}
		if wait > 2*time.Second {
			return nil, &fault.Error{
				Code: fault.Unreachable, Op: "open a session on", Path: l.name(), Err: err,
				What: "the host has no room for another session",
			}
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// Lost is the error for a line that broke; one that has a code keeps it.
func (l *Link) Lost(err error) error {
	if code := fault.Ended(err); code != "" {
		return err
	}
	if bad := l.rest.Err(); bad != nil { // that is why
		return bad
	}
	return &fault.Error{
		Code: fault.Unreachable, Op: "reach", Path: l.name(), What: "the line to it broke", Err: err,
	}
}

// nothing is for what gives no more than an error.
type nothing struct{}

// Files gives the account's files over SFTP, one client for all who use the connection.
func (l *Link) Files(ctx context.Context) (*sftp.Client, error) {
	for again := false; ; again = true {
		n, err := l.connect(ctx)
		if err != nil {
			return nil, err
		}
		files, err := l.filesOver(ctx, n)
		if err == nil || again || ctx.Err() != nil || fault.CodeOf(err) != fault.Unreachable || !n.isDeadSoon() {
			return files, err
		}
		l.drop(n) // nothing has been asked over it
	}
}

// filesOver gives the client of a connection, and begins it when there is none.
func (l *Link) filesOver(ctx context.Context, n *connection) (*sftp.Client, error) {
	n.touch()
	select {
	case n.opening <- struct{}{}:
		defer func() { <-n.opening }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	n.mu.Lock()
	files := n.files
	n.mu.Unlock()
	if files != nil {
		return files, nil
	}
	s, release, err := l.session(ctx, n)
	if err != nil {
		return nil, err
	}
	files, err = l.speakSFTP(ctx, s)
	if err != nil {
		release()
		_ = s.Close() // the error tells more
		return nil, l.because(ctx, n, err)
	}
	n.mu.Lock()
	n.files = files
	n.mu.Unlock()
	go func() {
		_ = files.Wait() // that it ended is all that matters
		release()
		_ = s.Close()
		n.mu.Lock()
		n.files = nil
		n.mu.Unlock()
	}()
	return files, nil
}

// because is the error of a session for files that ended at once. sshd says nothing over it; what
// it says to a command tells why, where it takes any. What only a person can mend is not tried again.
func (l *Link) because(ctx context.Context, n *connection, err error) error {
	ctx, done := context.WithTimeout(ctx, 5*time.Second)
	defer done()
	s, release, serr := l.session(ctx, n)
	if serr != nil {
		return l.Lost(err)
	}
	defer release()
	defer s.Close() //nolint:errcheck // it has ended
	heard := limited{most: 4096}
	s.Stderr = &heard
	// what it says is all that counts
	_, _ = line.Bounded(ctx, func() (nothing, error) { return nothing{}, s.Run("exit") })
	secrets := l.Account().Secrets
	said := line.Scrub(string(heard.bytes()), secrets.Password, secrets.Passphrase)
	said = filename.Encode(strings.Join(strings.Fields(said), " "))
	switch {
	case said == "" && n.isDead():
		return l.Lost(err)
	case said == "":
		return fault.New(fault.Unreachable, "open files of", l.name(),
			"its host lets the account in and ends each session "+
				"at once without a word; the password may have to be changed first")
	case strings.Contains(strings.ToLower(said), "password"):
		return fault.New(fault.Refused, "sign in to", l.name(), "its host wants the password to be changed first (%s)",
			said).
			With("Change it with a terminal program or on the provider's page, and then here: reshard hosts change " +
				l.Account().Name + " --password.")
	}
	return fault.New(fault.Unreachable, "open files of", l.name(), "its host ends the session (%s)", said)
}

func (l *Link) speakSFTP(ctx context.Context, s *ssh.Session) (*sftp.Client, error) {
	in, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	heard := newListings()
	out = heard.answers(out, func(err error) {
		l.rest.Note(line.Misbehaves("read from", l.name(), err))
		_ = s.Close() // whatever waits for it returns
	})
	in = heard.requests(in)
	return line.Bounded(ctx, func() (*sftp.Client, error) {
		if err := s.RequestSubsystem("sftp"); err != nil {
			if errors.Is(err, io.EOF) {
				return nil, err
			}
			return nil, fault.New(fault.Unsupported, "open files of", l.name(), "the host gives no files over SFTP")
		}
		return sftp.NewClientPipe(out, in, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
	})
}

// Stream is a session with a subsystem of the host.
type Stream struct {
	In    io.WriteCloser
	Out   io.Reader
	close func()
}

// Close ends it. It may be called more than once.
func (s *Stream) Close() { s.close() }

// Subsystem begins one, such as "sftp" for requests that the client of Files does not know.
func (l *Link) Subsystem(ctx context.Context, name string) (*Stream, error) {
	n, s, release, err := l.forCommand(ctx)
	if err != nil {
		return nil, err
	}
	out := &Stream{close: sync.OnceFunc(func() {
		_ = s.Close() // it ends whatever the outcome
		release()
	})}
	out.In, err = s.StdinPipe()
	if err == nil {
		out.Out, err = s.StdoutPipe()
	}
	if err == nil {
		_, err = line.Bounded(ctx, func() (nothing, error) { return nothing{}, s.RequestSubsystem(name) })
	}
	if err != nil {
		out.Close()
		if fault.Ended(err) == "" {
			l.drop(n)
			err = l.Lost(err)
		}
		return nil, err
	}
	return out, nil
}

// isDeadSoon reports whether a connection has ended; its end may be noticed a moment after what
// was asked over it failed.
func (n *connection) isDeadSoon() bool {
	select {
	case <-n.dead:
		return true
	case <-time.After(100 * time.Millisecond):
		return false
	}
}

// Broken says that a client of Files found the line broken: the next who needs it dials again,
// whether or not the end of the connection has been noticed.
func (l *Link) Broken(c *sftp.Client) {
	l.mu.Lock()
	now := l.now
	l.mu.Unlock()
	if now != nil && now.gave(c) {
		l.drop(now)
	}
}

// gave reports whether a client is of this connection; one that has ended is forgotten.
func (n *connection) gave(c *sftp.Client) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.files == c || n.isDead()
}

// Result is what a command gave.
type Result struct {
	Out  []byte // at most mostOutput bytes
	Err  string // the beginning of what it said on its error output
	Code int    // its exit code; -1: it ended by a signal
}

// mostOutput bounds what a command may print, in bytes.
const mostOutput = 16 << 20

// Run runs a command on the host and waits for its end. A command that ends with an error
// code is no error of Run. When ctx ends the session is closed, which sends the command a
// hang-up; it may go on all the same. out, when not nil, gets the output instead of Result.
func (l *Link) Run(ctx context.Context, command string, in io.Reader, out io.Writer) (Result, error) {
	n, s, release, err := l.forCommand(ctx)
	if err != nil {
		return Result{}, err
	}
	defer release()
	defer s.Close() //nolint:errcheck // it has ended
	kept := limited{most: mostOutput, over: func() { _ = s.Close() }}
	said := limited{most: 4096}
	s.Stdout, s.Stderr, s.Stdin = &kept, &said, in
	if out != nil {
		s.Stdout = out
	}
	_, err = line.Bounded(ctx, func() (nothing, error) { return nothing{}, s.Run(command) })
	if ctx.Err() != nil {
		return Result{}, ctx.Err()
	}
	secrets := l.Account().Secrets
	r := Result{
		Out: kept.bytes(),
		Err: strings.TrimSpace(line.Scrub(string(said.bytes()), secrets.Password, secrets.Passphrase)),
	}
	var exit *ssh.ExitError
	switch {
	case kept.hasMore():
		return r, fault.New(fault.TooLarge, "run a command on", l.name(), "it prints more than %d MB", mostOutput>>20)
	case err == nil:
		return r, nil
	case errors.As(err, &exit):
		if r.Code = exit.ExitStatus(); exit.Signal() != "" {
			r.Code = -1
		}
		return r, nil
	}
	l.drop(n)
	return r, l.Lost(err)
}

// forCommand opens a session for a command. A connection that turns out to have ended is made
// anew: nothing has been asked over it.
func (l *Link) forCommand(ctx context.Context) (n *connection, s *ssh.Session, release func(), err error) {
	for again := false; ; again = true {
		if n, err = l.connect(ctx); err != nil {
			return n, nil, nil, err
		}
		n.touch()
		s, release, err = l.session(ctx, n)
		if err == nil || again || ctx.Err() != nil || errors.As(err, new(*ssh.OpenChannelError)) {
			return n, s, release, err
		}
		l.drop(n)
	}
}

// drop ends a connection that was found broken, whether or not its end has been noticed.
func (l *Link) drop(n *connection) {
	l.mu.Lock()
	if l.now == n {
		l.now = nil
	}
	l.mu.Unlock()
	n.end()
}

// limited keeps the beginning of what is written to it, and swallows the rest: an output that
// is not read would keep its command waiting.
type limited struct {
	mu   sync.Mutex
	kept []byte
	most int
	more bool
	over func() // called once there is more; may be nil
}

func (w *limited) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	room := w.most - len(w.kept)
	w.kept = append(w.kept, p[:min(room, len(p))]...)
	if len(p) > room && !w.more {
		w.more = true
		if w.over != nil {
			go w.over()
		}
	}
	return len(p), nil
}

func (w *limited) bytes() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.kept
}

func (w *limited) hasMore() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.more
}
