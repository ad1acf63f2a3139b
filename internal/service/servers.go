package service

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/host"
	"reshard/internal/place"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// live is a server in hand: its files, its process, its profile.
type live struct {
	id      int64
	name    string
	host    *openHost
	machine server.Machine
	profile *game.Profile
	place   *place.Place
	closer  io.Closer
	control *control.Control
	// busy is held while a start, stop or changeover works on the server.
	busy sync.Mutex
}

// claim takes the server for one operation or says what has it.
func (l *live) claim(op string) (release func(), err error) {
	if !l.busy.TryLock() {
		return nil, fault.New(fault.Busy, op, l.name, "another start, stop or changeover is at work on this server")
	}
	return l.busy.Unlock, nil
}

// slot holds a server while it is in hand. Whoever opens it, or looks whether it still
// stands, keeps those waiting who want the same server, and nobody else.
type slot struct {
	opening chan struct{}
	now     atomic.Pointer[live]
	// away is why and since when the server's host did not answer; nil: it did.
	away atomic.Pointer[away]
}

// away is a host that did not answer.
type away struct {
	err          error
	since, again time.Time
}

// reachPatience is how long a host may take to open a server's folder.
const reachPatience = 10 * time.Second

// restAfterAway is how long a host that did not answer is not asked again for a server:
// everybody who looks would wait for it.
const restAfterAway = 5 * time.Second

func (s *Service) slot(name string) *slot {
	s.mu.Lock()
	defer s.mu.Unlock()
	sl, ok := s.live[name]
	if !ok {
		sl = &slot{opening: make(chan struct{}, 1)}
		s.live[name] = sl
	}
	return sl
}

// inHand gives the servers that are open now.
func (s *Service) inHand() []*live {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []*live
	for _, sl := range s.live {
		if l := sl.now.Load(); l != nil {
			out = append(out, l)
		}
	}
	return out
}

// letGo closes a server in hand; the next who wants it opens it anew.
func (s *Service) letGo(l *live) error {
	s.slot(l.name).now.CompareAndSwap(l, nil)
	return l.closer.Close()
}

func (s *Service) serverByName(ctx context.Context, name string) (*live, error) {
	sl := s.slot(name)
	if a := sl.away.Load(); a != nil && s.now().Before(a.again) {
		return nil, a.err
	}
	select {
	case sl.opening <- struct{}{}:
		defer func() { <-sl.opening }()
	case <-ctx.Done():
		return nil, fault.Wrap(fault.Interrupted, "reach", name, context.Cause(ctx))
	}
	rctx, done := context.WithTimeoutCause(ctx, reachPatience,
		fault.New(fault.TooSlow, "", "", "its host did not answer in time"))
	defer done()
	if l := sl.now.Load(); l != nil {
		stands, err := l.place.Standing(rctx)
		if fault.Passing(err) {
			return nil, sl.didNotAnswer(s.now(), name, err)
		}
		if err == nil && !stands {
			err = s.leave(l)
		}
		if err != nil {
			return nil, err
		}
		if stands {
			sl.away.Store(nil)
			return l, nil
		}
	}
	rec, err := s.records.Server(ctx, name)
	if err != nil {
		return nil, err
	}
	l, err := s.openServer(rctx, rec, sl)
	if err != nil {
		return nil, err
	}
	sl.now.Store(l)
	return l, nil
}

// didNotAnswer remembers that a server's host did not answer, and since when.
func (sl *slot) didNotAnswer(now time.Time, name string, err error) error {
	a := &away{err: fault.Wrap(fault.Unreachable, "reach", name, err), since: now, again: now.Add(restAfterAway)}
	if before := sl.away.Load(); before != nil {
		a.since = before.since
	}
	sl.away.Store(a)
	return a.err
}

// leave closes a server whose folder is no longer the one at its path: the open folder
// is followed wherever it is moved, and another may stand there now.
func (s *Service) leave(l *live) error {
	release, err := l.claim("reach")
	if err != nil {
		return fault.New(fault.Unreachable, "reach", l.name,
			"its folder %s has been moved or replaced while something is at work on it", l.machine.Roots[0])
	}
	defer release()
	return s.letGo(l)
}

func (s *Service) openServer(ctx context.Context, rec records.Server, sl *slot) (*live, error) {
	profile, err := s.profile(rec.Game)
	if err != nil {
		return nil, err
	}
	h, err := s.host(rec.Host)
	if err != nil {
		return nil, sl.didNotAnswer(s.now(), rec.Name, err)
	}
	root, others, err := h.Root(ctx, rec.Root)
	if err == nil {
		rec.Root = root
	}
	files, closer, ferr := h.Files(ctx, rec.Root)
	if fault.Passing(ferr) {
		return nil, sl.didNotAnswer(s.now(), rec.Name, ferr)
	}
	sl.away.Store(nil)
	if ferr != nil {
		return nil, cannotOpen(rec, ferr)
	}
	c, err := s.process(ctx, rec, profile)
	if err != nil {
		return nil, errors.Join(err, closer.Close())
	}
	machine := server.Machine{
		Kind:    rec.Kind,
		System:  rec.System,
		Command: rec.Command.V,
		Roots:   append([]string{rec.Root}, others...),
	}
	return &live{
		id: rec.ID, name: rec.Name, host: h, machine: machine, profile: profile,
		place: place.New(rec.Root, files), closer: closer, control: c,
	}, nil
}

// cannotOpen says why a server's folder cannot be opened, and what to do about it.
func cannotOpen(rec records.Server, err error) error {
	var e *fault.Error
	what := err.Error()
	if errors.As(err, &e) && e.What != "" {
		what = e.What
	}
	if fault.CodeOf(err) == fault.Refused {
		return fault.New(fault.Refused, "reach", rec.Name, "its folder %s cannot be opened: %s", rec.Root, what)
	}
	return fault.New(fault.Unreachable, "reach", rec.Name, "its folder %s cannot be opened: %s", rec.Root, what).
		With("Bring the folder back, or forget the server (reshard servers remove " + rec.Name +
			") and add it again where it is now.")
}

// process gives a server's process in hand, whether or not its folder can be read.
func (s *Service) process(ctx context.Context, rec records.Server, profile *game.Profile) (*control.Control, error) {
	h, err := s.host(rec.Host)
	if err != nil {
		return nil, err
	}
	driver, err := h.Process(ctx, host.Server{
		ID: rec.ID, Root: rec.Root, Command: rec.Command.V, Env: rec.Env.V, LogFile: profile.Server.Console.Log,
	})
	if err != nil {
		return nil, err
	}
	c := control.New(rec.Name, driver, profile)
	c.Trace = s.config.Trace
	return c, nil
}

var serverName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// AddServer records a server of a host after looking at its folder.
func (s *Service) AddServer(ctx context.Context, n wire.NewServer) (wire.ServerFacts, error) {
	bad := func(format string, args ...any) (wire.ServerFacts, error) {
		return wire.ServerFacts{}, fault.New(fault.Invalid, "add server", n.Name, format, args...)
	}
	if !serverName.MatchString(n.Name) {
		return bad("a server's name has 1 to 40 of a-z, 0-9 and hyphen")
	}
	profile, err := s.profile(n.Game)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if n.Kind == "" && len(profile.Server.Kinds) == 1 {
		n.Kind = profile.KindNames()[0]
	}
	if _, ok := profile.Server.Kinds[n.Kind]; !ok {
		return bad("%s servers are of the kinds %s; %q is none of them", profile.Title,
			strings.Join(profile.KindNames(), ", "), n.Kind)
	}
	if n.Host == "" {
		n.Host = "local"
	}
	h, err := s.host(n.Host)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	root, _, err := h.Root(ctx, n.Root)
	if err != nil {
		return wire.ServerFacts{}, fault.Wrap(fault.Invalid, "add server", n.Name, err)
	}
	n.Root = root
	if r, ok := h.Driver.(host.Runner); ok {
		if err := r.Program(ctx, n.Root, n.Command); err != nil {
			return wire.ServerFacts{}, err
		}
	}
	if n.Env == nil {
		n.Env = map[string]string{}
	}
	rec := records.Server{
		Name: n.Name, Host: n.Host, Game: n.Game, Kind: n.Kind, System: n.System, Root: n.Root,
		DeclaredVersion: n.Version,
		Command:         records.JSON[[]string]{V: n.Command}, Env: records.JSON[map[string]string]{V: n.Env},
	}
	if _, err := s.records.AddServer(ctx, rec); err != nil {
		return wire.ServerFacts{}, err
	}
	return s.Server(ctx, n.Name)
}

// Servers lists all servers with their states.
func (s *Service) Servers(ctx context.Context) ([]wire.Server, error) {
	recs, err := s.records.Servers(ctx)
	if err != nil {
		return nil, err
	}
	holding, err := s.records.Holders(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Server, len(recs))
	var group errgroup.Group
	group.SetLimit(8)
	for i, rec := range recs {
		group.Go(func() error {
			out[i], _ = s.view(ctx, rec, holding)
			return nil
		})
	}
	return out, group.Wait()
}

// viewPatience is how long a server may take to say how it is, before it is shown as one
// that does not: nobody waits for it longer.
const viewPatience = 10 * time.Second

// Server gives one server with all that its files say.
func (s *Service) Server(ctx context.Context, name string) (wire.ServerFacts, error) {
	rec, err := s.records.Server(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	holding, err := s.records.Holders(ctx)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	view, state := s.view(ctx, rec, holding)
	return wire.ServerFacts{Server: view, Facts: state}, nil
}

func (s *Service) view(ctx context.Context, rec records.Server, holding map[string]int64) (wire.Server, server.State) {
	ctx, done := context.WithTimeoutCause(ctx, viewPatience,
		fault.New(fault.TooSlow, "look at", rec.Name, "its host did not answer in time"))
	defer done()
	v := wire.Server{
		Name: rec.Name, Host: rec.Host, Game: rec.Game, Kind: rec.Kind, Root: rec.Root, Command: rec.Command.V,
		Env:   rec.Env.V,
		State: string(life.Unknown), Changeover: holding[rec.Name], LastStartMS: rec.LastStartMS,
		LastStopMS: rec.LastStopMS,
	}
	state := server.State{
		Game:     rec.Game,
		Kind:     rec.Kind,
		Keys:     map[string]server.Setting{},
		Settings: []server.Document{},
		Worlds:   []server.Present{},
		Folders:  []string{},
	}
	l, err := s.serverByName(ctx, rec.Name)
	if a := s.slot(rec.Name).away.Load(); err != nil && a != nil {
		v.Since, v.Note = &a.since, "Its host does not answer: "+err.Error()+"."
		return v, state
	}
	if err != nil {
		what, next := fault.Words(err)
		v.State, v.Trouble = "unreachable", what+" "+next
		return v, state
	}
	v.Drawn = l.profile.World.Picture != nil
	st := l.control.Status(ctx)
	v.State, v.Process, v.Opened, v.ExitCode = string(st.State), st.Process, st.Opened, st.ExitCode
	switch since := st.Since; {
	case st.State == life.Unknown:
		v.Since, v.Note = &st.UnknownSince, "It cannot be told whether it runs: "+st.Cause+"."
	case !since.IsZero():
		v.Since = &since
	}
	if st.Evidence == life.Word {
		v.Note = "That it is stopped is the word of " + st.By + "; it cannot be seen."
	}
	if !st.ExitedAt.IsZero() {
		v.ExitedAt = &st.ExitedAt
	}
	if st.State == life.Stopped && rec.Wanted == string(life.Running) && v.Changeover == 0 {
		v.State = "exited"
	}
	if can, err := l.place.Capabilities(ctx); err == nil {
		v.Can, v.Lacks = &can, can.Lacks()
	}
	files, settled := l.place.Observe(ctx)
	read, err := server.Read(files, l.profile, l.machine)
	if err = settled(err); err != nil {
		v.Trouble = "The server's folder cannot be read: " + err.Error()
		return v, state
	}
	switch {
	case read.Version.Known():
		v.Version, v.VersionFrom = read.Version.Text, read.Version.File
	case st.Version != "":
		v.Version, v.VersionFrom = st.Version, "its log"
	case rec.DeclaredVersion != "":
		v.Version, v.VersionFrom = rec.DeclaredVersion, "declared by a person"
	}
	v.Active = read.Active
	if w, ok := read.World(read.Active); ok {
		v.ActiveTitle = w.Title
	}
	v.Join, v.JoinNote = s.join(ctx, l)
	return v, read
}

// StartServer starts a server and waits until it is ready.
func (s *Service) StartServer(ctx context.Context, name string) (wire.ServerFacts, error) {
	err := s.operate(ctx, name, "start", func(ctx context.Context, l *live) error {
		if err := s.records.SetWanted(ctx, l.id, string(life.Running)); err != nil {
			return err
		}
		already := l.control.Status(ctx).State == life.Running
		took, err := l.control.Start(ctx)
		if err != nil || already {
			return err
		}
		return s.records.SetDurations(ctx, l.id, took, records.Unmeasured)
	})
	if err != nil {
		return wire.ServerFacts{}, err
	}
	return s.Server(ctx, name)
}

// StopServer stops a server cleanly and waits for its end. A server that does
// not stop goes on running; it is never killed.
func (s *Service) StopServer(ctx context.Context, name string) (wire.ServerFacts, error) {
	err := s.operate(ctx, name, "stop", func(ctx context.Context, l *live) error {
		end, err := l.control.Stop(ctx, control.Clean)
		if err != nil {
			return err
		}
		if err := s.records.SetWanted(ctx, l.id, string(life.Stopped)); err != nil || end.Already {
			return err
		}
		return s.records.SetDurations(ctx, l.id, records.Unmeasured, end.Took)
	})
	if err != nil {
		return wire.ServerFacts{}, err
	}
	return s.Server(ctx, name)
}

// TakeWord takes a person's word that a server is stopped of which that cannot be told. A
// changeover that waits for it goes on with it, and its proof names whose word it was.
func (s *Service) TakeWord(ctx context.Context, name, by string) (wire.ServerFacts, error) {
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if err := l.control.TakeWord(ctx, by); err != nil {
		return wire.ServerFacts{}, err
	}
	return s.Server(ctx, name)
}

// RemoveServer forgets a stopped server. Its files, what was set aside among
// them, stay where they are.
func (s *Service) RemoveServer(ctx context.Context, name string) error {
	if _, err := s.serverByName(ctx, name); fault.CodeOf(err) == fault.Unreachable {
		return s.removeUnreachable(ctx, name)
	}
	return s.operate(ctx, name, "remove", func(ctx context.Context, l *live) error {
		if err := mustBeStopped(ctx, l.control, name); err != nil {
			return err
		}
		if err := s.records.RemoveServer(ctx, l.id); err != nil {
			return err
		}
		return s.letGo(l)
	})
}

func mustBeStopped(ctx context.Context, c *control.Control, name string) error {
	st := c.Status(ctx)
	if err := st.Err("remove", name); err != nil {
		return err
	}
	if st.State.Up() {
		return fault.New(fault.WrongState, "remove", name, "the server is %s", st.State).
			With("Stop it first: reshard servers stop " + name + ".")
	}
	return nil
}

// removeUnreachable forgets a server whose folder is gone: its process can still be
// looked for.
func (s *Service) removeUnreachable(ctx context.Context, name string) error {
	rec, err := s.records.Server(ctx, name)
	if err != nil {
		return err
	}
	holding, err := s.records.Holders(ctx)
	if err != nil {
		return err
	}
	if id := holding[name]; id != 0 {
		return fault.New(fault.Busy, "remove", name, "changeover %d holds the server", id)
	}
	profile, err := s.profile(rec.Game)
	if err != nil {
		return err
	}
	c, err := s.process(ctx, rec, profile)
	if err != nil {
		return err
	}
	if err := mustBeStopped(ctx, c, name); err != nil {
		return err
	}
	return s.records.RemoveServer(ctx, rec.ID)
}

// operate runs a start or stop to its end even if whoever asked goes away.
func (s *Service) operate(ctx context.Context, name, op string, act func(context.Context, *live) error) error {
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return err
	}
	release, err := l.claim(op)
	if err != nil {
		return err
	}
	defer release()
	holding, err := s.records.Holders(ctx)
	if err != nil {
		return err
	}
	if id := holding[name]; id != 0 {
		return fault.New(fault.Busy, op, name, "changeover %d holds the server", id)
	}
	if err := s.acting(); err != nil {
		return err
	}
	return act(context.WithoutCancel(ctx), l)
}

// FollowLog sends a server's last log lines and every new one until ctx ends.
func (s *Service) FollowLog(ctx context.Context, name string, last int, yield func([]control.Line) error) error {
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return err
	}
	return l.control.Follow(ctx, last, yield)
}

// input gathers what the fit rules look at of a server.
func (l *live) input(ctx context.Context, rec records.Server) (fit.Input, error) {
	state, err := l.read(ctx)
	if err != nil {
		return fit.Input{}, err
	}
	worlds, st := state.WorldsFolder, l.control.Status(ctx)
	if ask := l.profile.Server.Console.Version; st.Version == "" && ask.Say != "" && st.State == life.Running &&
		!state.Version.Known() {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		st.Version, _ = l.control.Ask(ctx, ask) // no answer: the version is not known
		cancel()
	}
	others, err := l.control.Others(ctx)
	unseen := ""
	if fault.Passing(err) {
		unseen, _ = fault.Words(err)
	} else if err != nil {
		return fit.Input{}, err
	}
	in := fit.Input{
		Profile: l.profile, Server: state, Choices: fit.Choices{},
		Live: fit.Live{
			Roots: l.machine.Roots, State: st.State, Cause: st.Cause, DeclaredVersion: rec.DeclaredVersion,
			ConsoleVersion: st.Version,
			FreeBytes:      l.place.Free(ctx, worlds),
			SameFilesystem: l.place.SameFilesystem(ctx, worlds, path.Dir(worlds)),
			Players:        -1, Since: st.Since, Host: rec.Host, Working: others.Working, Passing: others.Passing,
			Hidden: others.Hidden, Unseen: unseen,
		},
	}
	return in, l.owner(ctx, &in.Live, state)
}

// read reads what the server's files say now. A host that did not answer is an error:
// what was read before that is no observation.
func (l *live) read(ctx context.Context) (server.State, error) {
	files, settled := l.place.Observe(ctx)
	state, err := server.Read(files, l.profile, l.machine)
	return state, fault.Wrap(fault.Unreachable, "read", l.name, settled(err))
}

// owner tells whom the worlds belong to that a new one is to stand among.
func (l *live) owner(ctx context.Context, to *fit.Live, state server.State) (err error) {
	if to.Can, err = l.place.Capabilities(ctx); err != nil {
		return err
	}
	like := state.WorldsFolder
	if names := state.Named(l.profile, state.Active); state.Active != "" && len(names) > 0 {
		like = path.Join(like, names[0])
	}
	info, err := l.place.Stat(ctx, like)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // a first start makes it
	}
	if err != nil {
		return err
	}
	to.Owner = info.Account
	to.OwnerKept = to.Can.Owners || place.SameOwner(info.Account, to.Can.Account)
	return nil
}

// CheckServer makes the sheet of a server alone: does what its files say agree,
// and would its next start open the world that people expect?
func (s *Service) CheckServer(ctx context.Context, name string) (wire.Sheet, error) {
	rec, err := s.records.Server(ctx, name)
	if err != nil {
		return wire.Sheet{}, err
	}
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return wire.Sheet{}, err
	}
	in, err := l.input(ctx, rec)
	if err != nil {
		return wire.Sheet{}, err
	}
	files := l.place.At(ctx)
	found, err := world.Direct(files, in.Server.WorldsFolder, l.profile)
	for _, f := range found {
		if err == nil && f.Folder == in.Server.Active {
			in.World, err = world.Read(files, f)
		}
	}
	if err != nil && in.Server.WorldsWhy == "" && !errors.Is(err, fs.ErrNotExist) {
		return wire.Sheet{}, err
	}
	in.Live.Exited = in.Live.State == life.Stopped && rec.Wanted == string(life.Running)
	return wire.Sheet{Server: name, Sheet: fit.Check(in)}, nil
}

// windowEstimate is what the last stop and start took.
func windowEstimate(rec records.Server, running bool) (stopping, starting time.Duration) {
	stopping, starting = time.Duration(rec.LastStopMS)*time.Millisecond, time.Duration(rec.LastStartMS)*time.Millisecond
	if !running {
		stopping = 0
	}
	return stopping, starting
}
