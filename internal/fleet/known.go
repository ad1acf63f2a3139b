package fleet

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/feed"
	"reshard/internal/observe"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// sight is one observation of a server, or why there is none.
type sight struct {
	at time.Time
	// heads, when the server's files could be read.
	heads *observe.Heads
	// status and can are told also when only the files cannot be read.
	status *observe.Heads
	drawn  bool
	// title is that of the active world, when it has been looked into.
	title          string
	join, joinNote string
	// amiss is what would bite at the next start; without words: nothing.
	amiss fit.Row
	// world is what the active world says of itself, when it has been looked into, and other what runs instead of
	// the world that is intended; nil: nothing.
	world server.Identity
	other *records.OtherWorld
	// away is the host that did not answer, err what else went wrong.
	away *away
	err  error
}

// known is what is known of one server.
type known struct {
	rec    records.Server
	holder int64
	sight  *sight // nil: it has not been looked at yet
	told   wire.Server
	// meant is which world it is meant to run; nil: that is to be read from the records.
	meant *intention
	poke  chan struct{}
	// placing says that a changeover moves its files at this moment.
	placing bool
	// end ends the watching.
	end context.CancelFunc
}

// book holds what is known of all servers: lists are answered from it. Only one service
// acts on the records, so what it writes there it knows.
type book struct {
	mu      sync.Mutex // held for moments only
	servers map[string]*known
	// listed is when somebody asked for a list last.
	listed time.Time
}

// all gives what is known of each server now, in the order of their names.
func (b *book) all() []known {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]known, 0, len(b.servers))
	for _, name := range slices.Sorted(maps.Keys(b.servers)) {
		out = append(out, *b.servers[name])
	}
	return out
}

// sightOf gives what was seen last of a server; nil: nothing yet.
func (b *book) sightOf(name string) *sight {
	b.mu.Lock()
	defer b.mu.Unlock()
	if k := b.servers[name]; k != nil {
		return k.sight
	}
	return nil
}

func (b *book) record(name string) (rec records.Server, holder int64, ok bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	k := b.servers[name]
	if k == nil {
		return rec, 0, false
	}
	return k.rec, k.holder, true
}

// see notes an observation and tells those who watch when it changes what they see.
func (fl *Fleet) see(name string, s *sight) {
	fl.book.mu.Lock()
	k := fl.book.servers[name]
	if k == nil || (k.sight != nil && k.sight.at.After(s.at)) {
		fl.book.mu.Unlock()
		return
	}
	k.sight = s
	view := viewOf(k.rec, k.holder, s)
	changed := !sameView(k.told, view)
	k.told = view
	fl.book.mu.Unlock()
	if changed {
		fl.Feed.Tell(feed.Event{Kind: feed.Server, Key: name, Value: view})
	}
}

// sameView reports whether people see the same of a server, but for when it was seen.
func sameView(a, b wire.Server) bool {
	a.SeenAt, b.SeenAt = nil, nil
	return reflect.DeepEqual(a, b)
}

// look observes a server: at its heads, and at its active world when that is asked for.
func (fl *Fleet) look(ctx context.Context, rec records.Server, was *sight, into bool) *sight {
	s := &sight{at: fl.now()}
	if err := fault.Safely(func() error { fl.lookInto(ctx, s, rec, was, into); return nil }); err != nil {
		fl.Log.Error("looking at a server failed", "server", rec.Name, "error", err)
		return &sight{at: s.at, err: fault.New(fault.Internal, "look at", rec.Name, "something went wrong")}
	}
	return s
}

func (fl *Fleet) lookInto(ctx context.Context, s *sight, rec records.Server, was *sight, into bool) {
	ctx, done := context.WithTimeoutCause(ctx, fl.Patience, // nobody waits for it longer
		fault.New(fault.TooSlow, "look at", rec.Name, "its host did not answer in time"))
	defer done()
	meant := fl.intention(ctx, rec)
	l, err := fl.Reach(ctx, rec.Name)
	if err != nil {
		s.away, s.err = fl.slot(rec.Name).away.Load(), err
		return
	}
	s.drawn = l.Profile.World.Picture != nil
	h, err := l.Heads(ctx)
	s.status = &h
	if err != nil {
		s.err = err
		return
	}
	s.heads = &h
	fl.learnRoot(ctx, l, rec, &h)
	active := h.State.Active
	switch {
	case !into && was != nil && was.heads != nil && was.heads.State.Active == active && was.title != "":
		s.title, s.amiss, s.world = was.title, was.amiss, was.world
	case active != "":
		if look, err := l.Look(ctx, &h, active); err == nil {
			s.title = look.Facts.Title
			s.amiss = amiss(l, rec, &h, look.Facts)
			s.world = identityOf(active, look.Facts)
		} else if _, there := h.State.World(active); !there {
			s.amiss = amiss(l, rec, &h, world.Facts{})
		}
	}
	s.join, s.joinNote = fl.joinOf(ctx, l, &h)
	fl.compareRunning(ctx, l, rec, s, meant)
	h.Documents = nil // they may be large, and of what is kept nobody reads them
}

// amiss finds what of a server's settings and the world that they name would bite at its next start.
func amiss(l *Server, rec records.Server, h *observe.Heads, active world.Facts) fit.Row {
	row, _ := fit.Amiss(fit.Input{
		Profile: l.Profile, Server: h.State, World: active, Choices: fit.Choices{},
		Live: fit.Live{
			Name: rec.Name, State: h.Status.State, DeclaredVersion: rec.DeclaredVersion,
			ConsoleVersion: h.Status.Version, Can: h.Can, Since: h.Status.Since, Host: rec.Host,
		},
	})
	return row
}

// viewOf is how a server is shown, by what is on record and what was seen.
func viewOf(rec records.Server, holder int64, s *sight) wire.Server {
	v := wire.Server{
		Name: rec.Name, Host: rec.Host, Game: rec.Game, Kind: rec.Kind, Root: rec.Root, Command: rec.Command.V,
		Env: masked(rec.Env.V), State: string(life.Unknown), Changeover: holder, LastStartMS: rec.LastStartMS,
		LastStopMS: rec.LastStopMS, Control: rec.Means.V, GameRoot: rec.GameRoot,
	}
	if s == nil {
		v.Note = "It has not been looked at yet since the service was started."
		return v
	}
	v.SeenAt, v.Drawn = &s.at, s.drawn
	switch {
	case s.status == nil && s.away != nil:
		v.Since, v.Note = &s.away.since, "Its host does not answer: "+s.err.Error()+"."
		return v
	case s.status == nil:
		what, next := fault.Words(s.err)
		v.State, v.Trouble = "unreachable", what+" "+next
		return v
	}
	takeStatus(&v, rec, s)
	if s.heads == nil {
		v.Trouble = "The server's folder cannot be read: " + s.err.Error()
		return v
	}
	state := s.heads.State
	switch st := s.heads.Status; {
	case state.Version.Known():
		v.Version, v.VersionFrom = state.Version.Text, state.Version.File
	case st.Version != "":
		v.Version, v.VersionFrom = st.Version, "its log"
	case rec.DeclaredVersion != "":
		v.Version, v.VersionFrom = rec.DeclaredVersion, "declared by a person"
	}
	v.Revision = state.Stands().Hash()
	v.Active, v.ActiveTitle, v.Join, v.JoinNote = state.Active, s.title, s.join, s.joinNote
	if holder == 0 { // what a changeover is in the middle of is nobody's to mend
		v.Amiss, v.AmissNext = s.amiss.Say, s.amiss.Mend
		if s.other != nil {
			v.OtherWorld, v.OtherWorldNext = s.other.Says, s.other.Next
		}
	}
	return v
}

// masked gives the names of a server's environment with nothing of its values: they may be
// passwords, and nobody needs to be told what they have set.
func masked(env map[string]string) map[string]string {
	out := make(map[string]string, len(env))
	for name := range env {
		out[name] = Masked
	}
	return out
}

// Masked stands for a value that is not told.
const Masked = "•••"

func takeStatus(v *wire.Server, rec records.Server, s *sight) {
	st := s.status.Status
	v.State, v.Process, v.Opened, v.ExitCode = string(st.State), st.Process, st.Opened, st.ExitCode
	switch since := st.Since; {
	case st.State == life.Unknown:
		v.Since, v.Note = &st.UnknownSince, "It cannot be told whether it runs: "+st.Cause+"."
	case !since.IsZero():
		v.Since = &since
	}
	if st.Asked != "" {
		v.Asked, v.Note = askedOf(rec.Name, st), "A person has been asked to "+string(st.Asked)+" it."
	}
	if st.Evidence == life.Sign {
		v.Note = "That it is stopped is " + st.Evidence.Say(st.By) + "."
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
	if can := s.status.Can; s.heads != nil {
		v.Can, v.Lacks = &can, can.Lacks()
	}
}

func askedOf(name string, st control.Status) *wire.Asked {
	say, watch := st.Asked.Words(name)
	return &wire.Asked{
		Asks: plan.Asks{Server: name, What: string(st.Asked), Say: say, Watch: watch}, Since: st.AskedSince,
	}
}

// List gives a page of servers as they are known, and where the next page begins; "" after
// the last. Nothing is looked at for it, but for servers that nobody has looked at yet:
// those are waited for a moment.
func (fl *Fleet) List(ctx context.Context, q wire.ServerQuery) ([]wire.Server, string, error) {
	listed, next, err := fl.records.ServerPage(ctx, records.ServerQuery{
		Page: records.Page{After: q.After, Limit: q.Limit}, Search: q.Search, Game: q.Game, Host: q.Host,
		Order: q.Order,
	})
	if err != nil {
		return nil, "", err
	}
	fl.book.mu.Lock()
	fl.book.listed = fl.now()
	fl.book.mu.Unlock()
	fl.awaitFirst(ctx, listed)
	out := make([]wire.Server, len(listed))
	for i, rec := range listed {
		out[i] = viewOf(rec.Server, rec.Holder, fl.book.sightOf(rec.Name))
		out[i].Can, out[i].Lacks = nil, nil // of one server it is told
	}
	return out, next, nil
}

// firstLook is how long a list waits for servers that nobody has looked at yet.
const firstLook = time.Second

// awaitFirst waits until all of some servers have been looked at once, or for firstLook.
func (fl *Fleet) awaitFirst(ctx context.Context, listed []records.Listed) {
	ctx, done := context.WithTimeout(ctx, firstLook)
	defer done()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for slices.ContainsFunc(listed, func(l records.Listed) bool {
		_, _, known := fl.book.record(l.Name)
		return known && fl.book.sightOf(l.Name) == nil
	}) {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Server looks at one server and into all its worlds.
func (fl *Fleet) Server(ctx context.Context, name string) (wire.ServerFacts, error) {
	rec, err := fl.records.ServerHeld(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	fl.know(rec.Server, rec.Holder)
	s := fl.look(ctx, rec.Server, nil, true)
	fl.see(name, s)
	out := wire.ServerFacts{Server: viewOf(rec.Server, rec.Holder, s), Facts: nothingRead(rec.Server)}
	if s.heads == nil {
		return out, nil
	}
	out.Facts = s.heads.State
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return out, nil //nolint:nilerr // it has gone away meanwhile; what was seen stands
	}
	heads := *s.heads
	heads.State.Worlds = slices.Clone(heads.State.Worlds)
	if err := l.LookAtAll(ctx, &heads); err != nil {
		out.Server.Trouble = "The server's worlds cannot be read: " + err.Error()
	}
	out.Facts = heads.State
	return out, nil
}

func nothingRead(rec records.Server) server.State {
	return server.State{
		Game: rec.Game, Kind: rec.Kind, Keys: map[string]server.Setting{}, Settings: []server.Document{},
		Worlds: []server.Present{}, Folders: []string{},
	}
}
