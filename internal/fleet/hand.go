package fleet

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	"reshard/internal/observe"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Server is a server in hand: its files, its process, its profile.
type Server struct {
	*observe.Observer

	host   *openHost
	closer io.Closer
	// full is its game's profile; the Observer's is as far as it can be heard and spoken to.
	full *game.Profile
	// room is an error where the service itself has too little room to see how the server does.
	room func() error
	// busy is held while a start, stop or changeover works on the server.
	busy sync.Mutex
}

// Claim takes the server for one operation or says what has it.
func (l *Server) Claim(op string) (release func(), err error) {
	if !l.busy.TryLock() {
		return nil, fault.New(fault.Busy, op, l.Name, "another start, stop or changeover is at work on this server")
	}
	return l.busy.Unlock, nil
}

// Hold waits for the server and takes it; release gives it back.
func (l *Server) Hold() (release func()) {
	l.busy.Lock()
	return l.busy.Unlock
}

// slot holds a server while it is in hand. Whoever opens it, or looks whether it still
// stands, keeps those waiting who want the same server, and nobody else.
type slot struct {
	opening chan struct{}
	now     atomic.Pointer[Server]
	// away is why and since when the server's host did not answer; nil: it did.
	away atomic.Pointer[away]
}

// away is a host that did not answer.
type away struct {
	err          error
	since, again time.Time
}

// RestAfterAway is how long a host that did not answer is not asked again for a server:
// everybody who looks would wait for it.
const RestAfterAway = 5 * time.Second

func (fl *Fleet) slot(name string) *slot {
	fl.mu.Lock()
	defer fl.mu.Unlock()
	sl, ok := fl.live[name]
	if !ok {
		sl = &slot{opening: make(chan struct{}, 1)}
		fl.live[name] = sl
	}
	return sl
}

// InHand gives the servers that are open now.
func (fl *Fleet) InHand() []*Server {
	fl.mu.Lock()
	defer fl.mu.Unlock()
	var out []*Server
	for _, sl := range fl.live {
		if l := sl.now.Load(); l != nil {
			out = append(out, l)
		}
	}
	return out
}

// LetGo closes a server in hand; the next who wants it opens it anew.
func (fl *Fleet) LetGo(l *Server) error {
	fl.slot(l.Name).now.CompareAndSwap(l, nil)
	return l.closer.Close()
}

// Reach gives a server in hand. It opens it, if it is not open or has moved. The error has
// code Unreachable when its host does not answer: that is remembered for a moment.
func (fl *Fleet) Reach(ctx context.Context, name string) (*Server, error) {
	sl := fl.slot(name)
	if a := sl.away.Load(); a != nil && fl.now().Before(a.again) {
		return nil, a.err
	}
	select {
	case sl.opening <- struct{}{}:
		defer func() { <-sl.opening }()
	case <-ctx.Done():
		return nil, fault.Wrap(fault.Interrupted, "reach", name, context.Cause(ctx))
	}
	rctx, done := context.WithTimeoutCause(ctx, fl.Patience,
		fault.New(fault.TooSlow, "", "", "its host did not answer in time"))
	defer done()
	if l := sl.now.Load(); l != nil {
		stands, err := l.Files.Standing(rctx)
		if fault.Passing(err) {
			return nil, sl.didNotAnswer(fl.now(), name, err)
		}
		if err == nil && !stands {
			err = fl.leave(l)
		}
		if err != nil {
			return nil, err
		}
		if stands {
			sl.away.Store(nil)
			return l, nil
		}
	}
	rec, _, known := fl.book.record(name)
	if !known {
		var err error
		if rec, err = fl.records.Server(ctx, name); err != nil {
			return nil, err
		}
	}
	l, err := fl.openServer(rctx, rec, sl)
	if err != nil {
		return nil, err
	}
	sl.now.Store(l)
	return l, nil
}

// didNotAnswer remembers that a server's host did not answer, and since when.
func (sl *slot) didNotAnswer(now time.Time, name string, err error) error {
	a := &away{err: fault.Wrap(fault.Unreachable, "reach", name, err), since: now, again: now.Add(RestAfterAway)}
	if before := sl.away.Load(); before != nil {
		a.since = before.since
	}
	sl.away.Store(a)
	return a.err
}

// leave closes a server whose folder is no longer the one at its path: the open folder
// is followed wherever it is moved, and another may stand there now.
func (fl *Fleet) leave(l *Server) error {
	release, err := l.Claim("reach")
	if err != nil {
		return fault.New(fault.Unreachable, "reach", l.Name,
			"its folder %s has been moved or replaced while something is at work on it", l.Machine.Roots[0])
	}
	defer release()
	return fl.LetGo(l)
}

func (fl *Fleet) openServer(ctx context.Context, rec records.Server, sl *slot) (*Server, error) {
	full, err := fl.games.Profile(rec.Game)
	if err != nil {
		return nil, err
	}
	profile := full.Within(rec.Means.V.Hears(full.Server.Console.Log), rec.Means.V.Speaks())
	h, err := fl.host(rec.Host)
	if err != nil {
		return nil, sl.didNotAnswer(fl.now(), rec.Name, err)
	}
	root, others, err := h.Root(ctx, rec.Root)
	switch {
	case err == nil:
		rec.Root = root
	case root != "": // it is there, and may not be a server's
		return nil, cannotOpen(rec, err)
	}
	files, closer, ferr := h.Files(ctx, rec.Root)
	if fault.Passing(ferr) {
		return nil, sl.didNotAnswer(fl.now(), rec.Name, ferr)
	}
	sl.away.Store(nil)
	if ferr != nil {
		return nil, cannotOpen(rec, ferr)
	}
	tree := hostfs.New(rec.Root, files)
	tree.May = fl.records.Acting
	if rec.Means.V.By == server.ByProvider && h.provider != nil {
		if page, name, fields := h.provider.Page(rec.Means.V.Machine); page != nil {
			profile = profile.OnPage(name, fields)
			tree.AddPage(name, page)
		}
		if a := h.provider.Archives(rec.Means.V.Machine); a != nil {
			tree.AddArchives(a)
		}
	}
	c, err := fl.process(ctx, rec, profile)
	if err != nil {
		return nil, errors.Join(err, closer.Close())
	}
	machine := server.Machine{
		Kind:    rec.Kind,
		System:  rec.System,
		Command: rec.Command.V,
		Roots:   append(rootsOf(rec), others...),
	}
	seen := &observe.Observer{
		ID: rec.ID, Name: rec.Name, Machine: machine, Profile: profile, Files: tree, Control: c,
		Memory: fl.memory, Now: fl.now,
	}
	c.See(fl.newEyes(rec, seen, h))
	c.Active = func(ctx context.Context) (string, error) {
		state, err := seen.State(ctx)
		return state.Active, err
	}
	return &Server{Observer: seen, host: h, closer: closer, full: full, room: fl.roomFor(rec)}, nil
}

// roomForLogs is how much must be free in the data folder, in bytes: what servers print is kept there.
const roomForLogs = 32 << 20

// roomFor looks for room in the service's data folder, where it keeps what a server prints: whether that is ready
// could not be seen on a full disk.
func (fl *Fleet) roomFor(rec records.Server) func() error {
	by := rec.Means.V.By
	if by != "" && by != server.ByProcess || fl.Disk == nil {
		return func() error { return nil } // it is heard where it lives
	}
	return func() error {
		free, _, err := fl.Disk()
		if err != nil || free >= roomForLogs {
			return nil //nolint:nilerr // what cannot be told is found out
		}
		return fault.New(fault.NoSpace, "hear", rec.Name, "the service's data folder has only %s left; what the "+
			"server prints is kept there, and whether it is ready could not be seen",
			humanize.IBytes(uint64(max(0, free)))).
			With("Free space on the disk of the service's data folder; reshard vault says what it holds.")
	}
}

// Room is an error, code NoSpace, where the service itself has too little room to see how the server does.
func (l *Server) Room() error { return l.room() }

// rootsOf are the names of a server's folder, the one by which it is reached first.
func rootsOf(rec records.Server) []string {
	if rec.GameRoot == "" || rec.GameRoot == rec.Root {
		return []string{rec.Root}
	}
	return []string{rec.Root, rec.GameRoot}
}

// cannotOpen says why a server's folder cannot be opened, and what to do about it.
func cannotOpen(rec records.Server, err error) error {
	var e *fault.Error
	what := err.Error()
	if errors.As(err, &e) && e.What != "" {
		what = e.What
	}
	if c := fault.CodeOf(err); c == fault.Refused || c == fault.Invalid {
		return fault.New(fault.Refused, "reach", rec.Name, "its folder %s cannot be opened: %s", rec.Root, what)
	}
	return fault.New(fault.Unreachable, "reach", rec.Name, "its folder %s cannot be opened: %s", rec.Root, what).
		With("Bring the folder back, or forget the server (reshard servers remove " + rec.Name +
			") and add it again where it is now.")
}

// process gives a server's process in hand, whether or not its folder can be read.
func (fl *Fleet) process(ctx context.Context, rec records.Server, profile *game.Profile) (*control.Control, error) {
	h, err := fl.host(rec.Host)
	if err != nil {
		return nil, err
	}
	if rec.Means.V.By == server.ByProvider {
		if h.provider == nil {
			return nil, byProvider(h, "control", wire.NewServer{Name: rec.Name, Control: rec.Means.V})
		}
		c := control.New(rec.Name, h.provider.Process(rec.Name, rec.Means.V.Machine), profile)
		return fl.heard(c), nil
	}
	driver, err := h.Process(ctx, host.Server{
		ID: rec.ID, Name: rec.Name, Root: rec.Root, Command: rec.Command.V, Env: rec.Env.V, Means: rec.Means.V,
		LogFile: logFile(rec, profile),
	})
	if err != nil {
		return nil, err
	}
	c := control.New(rec.Name, driver, profile)
	return fl.heard(c), nil
}

// heard gives a process in hand what the fleet has each tell and ask.
func (fl *Fleet) heard(c *control.Control) *control.Control {
	c.Trace, c.May, c.Patience = fl.Trace, fl.records.Acting, fl.Patience
	return c
}

// logFile is where a server writes its log; "" when that is its output.
func logFile(rec records.Server, profile *game.Profile) string {
	if rec.Means.V.LogFile != "" {
		return rec.Means.V.LogFile
	}
	return profile.Server.Console.Log
}
