package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/place"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// live is a server in hand: its files, its process, its profile.
type live struct {
	id      int64
	name    string
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

func (s *Service) serverByName(ctx context.Context, name string) (*live, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l, ok := s.live[name]; ok {
		if err := s.stillThere(l); err != nil {
			return nil, err
		}
		if _, open := s.live[name]; open {
			return l, nil
		}
	}
	rec, err := s.records.Server(ctx, name)
	if err != nil {
		return nil, err
	}
	l, err := s.open(rec)
	if err != nil {
		return nil, err
	}
	s.live[name] = l
	return l, nil
}

// stillThere closes a server whose folder is no longer the one at its path: the
// open folder is followed wherever it is moved, and another may stand there now.
func (s *Service) stillThere(l *live) error {
	if l.place.Standing() {
		return nil
	}
	release, err := l.claim("reach")
	if err != nil {
		return fault.New(fault.Unreachable, "reach", l.name, "its folder %s has been moved or replaced while something is at work on it", l.machine.Roots[0])
	}
	defer release()
	delete(s.live, l.name)
	return l.closer.Close()
}

func (s *Service) open(rec records.Server) (*live, error) {
	profile, err := s.profile(rec.Game)
	if err != nil {
		return nil, err
	}
	p, closer, err := place.Local(rec.Root)
	if err != nil {
		return nil, fault.New(fault.Unreachable, "reach", rec.Name, "its folder %s cannot be opened: %v", rec.Root, rootCause(err)).
			With("Bring the folder back, or forget the server (reshard servers remove " + rec.Name + ") and add it again where it is now.")
	}
	c, err := s.process(rec, profile)
	if err != nil {
		return nil, errors.Join(err, closer.Close())
	}
	machine := server.Machine{Kind: rec.Kind, System: rec.System, Command: rec.Command.V, Roots: rootsOf(rec)}
	return &live{id: rec.ID, name: rec.Name, machine: machine, profile: profile, place: p, closer: closer, control: c}, nil
}

// process gives a server's process in hand, whether or not its folder can be read.
func (s *Service) process(rec records.Server, profile *game.Profile) (*control.Control, error) {
	// The mark that finds the process again holds the data folder too: two
	// services on one machine number their servers alike.
	data, err := filepath.Abs(s.config.Data)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open", rec.Name, err)
	}
	driver, err := control.NewChild(
		control.Command{Args: rec.Command.V, Dir: rec.Root, Env: rec.Env.V},
		filepath.Join(data, "servers", fmt.Sprint(rec.ID)), fmt.Sprintf("%d@%s", rec.ID, data), profile.Server.Console.Log)
	if err != nil {
		return nil, err
	}
	c := control.New(rec.Name, driver, profile)
	c.Trace = s.config.Trace
	return c, nil
}

// rootCause gives the system's own words, without the path that is told already.
func rootCause(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

var serverName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// AddServer records a server of this host after looking at its folder.
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
		return bad("%s servers are of the kinds %s; %q is none of them", profile.Title, strings.Join(profile.KindNames(), ", "), n.Kind)
	}
	if info, err := os.Stat(n.Root); !filepath.IsAbs(n.Root) || err != nil || !info.IsDir() {
		return bad("%q is not an absolute path of a folder on this host", n.Root)
	}
	n.Root = filepath.Clean(n.Root)
	if _, err := (control.Command{Args: n.Command, Dir: n.Root}).Program(); err != nil {
		return wire.ServerFacts{}, err
	}
	if n.Env == nil {
		n.Env = map[string]string{}
	}
	rec := records.Server{
		Name: n.Name, Game: n.Game, Kind: n.Kind, System: n.System, Root: n.Root, DeclaredVersion: n.Version,
		Command: records.JSON[[]string]{V: n.Command}, Env: records.JSON[map[string]string]{V: n.Env},
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
	out := make([]wire.Server, 0, len(recs))
	for _, rec := range recs {
		view, _ := s.view(ctx, rec, holding)
		out = append(out, view)
	}
	return out, nil
}

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
	v := wire.Server{
		Name: rec.Name, Game: rec.Game, Kind: rec.Kind, Root: rec.Root, Command: rec.Command.V, Env: rec.Env.V,
		State: control.Stopped, Changeover: holding[rec.Name], LastStartMS: rec.LastStartMS, LastStopMS: rec.LastStopMS,
	}
	state := server.State{Game: rec.Game, Kind: rec.Kind, Keys: map[string]server.Setting{}, Settings: []server.Document{}, Worlds: []server.Present{}, Folders: []string{}}
	l, err := s.serverByName(ctx, rec.Name)
	if err != nil {
		what, next := fault.Words(err)
		v.State, v.Trouble = "unreachable", what+" "+next
		return v, state
	}
	v.Drawn = l.profile.World.Picture != nil
	st := l.control.Status()
	v.State, v.PID, v.Opened, v.ExitCode = st.State, st.PID, st.Opened, st.ExitCode
	if !st.Since.IsZero() {
		v.Since = &st.Since
	}
	if !st.ExitedAt.IsZero() {
		v.ExitedAt = &st.ExitedAt
	}
	if st.State == control.Stopped && rec.Wanted == control.Running && v.Changeover == 0 {
		v.State = "exited"
	}
	read, err := server.Read(l.place.FS(), l.profile, l.machine)
	if err != nil {
		v.Trouble = "the server's folder cannot be read: " + err.Error()
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
	v.Join, v.JoinNote = s.join(l)
	return v, read
}

// StartServer starts a server and waits until it is ready.
func (s *Service) StartServer(ctx context.Context, name string) (wire.ServerFacts, error) {
	err := s.operate(ctx, name, "start", func(ctx context.Context, l *live) error {
		if err := s.records.SetWanted(ctx, l.id, control.Running); err != nil {
			return err
		}
		already := l.control.Status().State == control.Running
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
		already := l.control.Status().State == control.Stopped
		took, _, err := l.control.Stop(ctx, control.Clean)
		if err != nil {
			return err
		}
		if err := s.records.SetWanted(ctx, l.id, control.Stopped); err != nil || already {
			return err
		}
		return s.records.SetDurations(ctx, l.id, records.Unmeasured, took)
	})
	if err != nil {
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
		if err := mustBeStopped(l.control, name); err != nil {
			return err
		}
		if err := s.records.RemoveServer(ctx, l.id); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.live, name)
		return l.closer.Close()
	})
}

func mustBeStopped(c *control.Control, name string) error {
	if st := c.Status().State; st != control.Stopped {
		return fault.New(fault.WrongState, "remove", name, "the server is %s", st).With("Stop it first: reshard servers stop " + name + ".")
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
	c, err := s.process(rec, profile)
	if err != nil {
		return err
	}
	if err := mustBeStopped(c, name); err != nil {
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
func (l *live) input(rec records.Server) (fit.Input, error) {
	state, err := server.Read(l.place.FS(), l.profile, l.machine)
	if err != nil {
		return fit.Input{}, fault.Wrap(fault.Unreachable, "read", rec.Name, err)
	}
	worlds, st := state.WorldsFolder, l.control.Status()
	if ask := l.profile.Server.Console.Version; st.Version == "" && ask.Say != "" && st.State == control.Running && !state.Version.Known() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		st.Version, _ = l.control.Ask(ctx, ask) // no answer: the version is not known
		cancel()
	}
	return fit.Input{
		Profile: l.profile, Server: state, Choices: fit.Choices{},
		Live: fit.Live{
			Roots: l.machine.Roots, State: st.State, DeclaredVersion: rec.DeclaredVersion, ConsoleVersion: st.Version,
			FreeBytes: l.place.Free(), SameFilesystem: l.place.SameFilesystem(worlds, path.Dir(worlds)), Players: -1, Since: st.Since,
		},
	}, nil
}

// rootsOf gives a server's root as it was told, and with links resolved: a log
// may name either.
func rootsOf(rec records.Server) []string {
	roots := []string{rec.Root}
	if real, err := filepath.EvalSymlinks(rec.Root); err == nil && real != rec.Root {
		roots = append(roots, real)
	}
	return roots
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
	in, err := l.input(rec)
	if err != nil {
		return wire.Sheet{}, err
	}
	found, err := world.Direct(l.place.FS(), in.Server.WorldsFolder, l.profile)
	for _, f := range found {
		if err == nil && f.Folder == in.Server.Active {
			in.World, err = world.Read(l.place.FS(), f)
		}
	}
	if err != nil && in.Server.WorldsWhy == "" && !errors.Is(err, fs.ErrNotExist) {
		return wire.Sheet{}, err
	}
	in.Live.Exited = in.Live.State == control.Stopped && rec.Wanted == control.Running
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
