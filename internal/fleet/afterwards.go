package fleet

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/host"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// intention is which world a server is meant to run. A new one is made whenever a changeover begins or ends, so that
// a look can tell whether it was made for the time before.
type intention struct {
	*records.Intended // nil: nothing was ever put there
}

// intention gives which world a server is meant to run, as it is on record; nil while a changeover holds the server,
// or when the records do not answer.
func (fl *Fleet) intention(ctx context.Context, rec records.Server) *intention {
	fl.book.mu.Lock()
	k := fl.book.servers[rec.Name]
	if k == nil || k.holder != 0 || k.meant != nil {
		defer fl.book.mu.Unlock()
		if k == nil || k.holder != 0 {
			return nil
		}
		return k.meant
	}
	fl.book.mu.Unlock()
	got, err := fl.records.IntendedWorld(ctx, rec.ID)
	if err != nil {
		fl.log.Warn("cannot tell which world a server is meant to run", "server", rec.Name, "error", err)
		return nil
	}
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	if k := fl.book.servers[rec.Name]; k != nil && k.holder == 0 && k.rec.ID == rec.ID {
		k.meant = &intention{got}
		return k.meant
	}
	return nil
}

// still reports whether no changeover has begun or ended since an intention was read.
func (fl *Fleet) still(name string, meant *intention) bool {
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	k := fl.book.servers[name]
	return k != nil && k.holder == 0 && k.meant == meant
}

func identityOf(folder string, facts world.Facts) server.Identity {
	return server.Identity{Folder: folder, Seed: facts.Fact("seed").Text, WorldID: facts.Fact("world-id").Text}
}

// compareRunning compares the world that a server runs with the one that it is meant to run, and records a difference
// that comes or goes. What was different before a stop stays so until something else is seen.
func (fl *Fleet) compareRunning(ctx context.Context, l *Server, rec records.Server, s *sight, meant *intention) {
	s.other = nil
	if meant == nil || meant.Intended == nil || s.heads == nil {
		return
	}
	state, st := s.heads.State, s.heads.Status
	_, gone := s.heads.World(meant.World.Folder)
	running := server.Running{Opened: st.Opened, Named: state.Active, World: s.world, Gone: gone != nil}
	switch {
	case st.State == life.Running && meant.Open != "" && running.Folder(l.Profile) == meant.Open &&
		!st.Since.After(meant.At): // the next start opens the intended one
	case st.State == life.Running:
		s.other = otherWorld(meant.Intended, running, l, s)
	case st.State == life.Stopped && state.Active != "" && meant.World.Differs(running, l.Profile) == server.Same:
	default:
		s.other = meant.Other
	}
	before, now := meant.Other, s.other
	if before == now || before != nil && now != nil && before.Seen == now.Seen && before.Says == now.Says {
		return
	}
	if !fl.still(rec.Name, meant) || fl.records.Acting() != nil {
		return
	}
	if err := fl.records.NoteOtherWorld(ctx, rec.ID, s.other); err != nil {
		fl.log.Warn("cannot record which world a server runs", "server", rec.Name, "error", err)
		return
	}
	fl.book.mu.Lock()
	defer fl.book.mu.Unlock()
	if k := fl.book.servers[rec.Name]; k != nil && k.meant == meant {
		seen := *meant.Intended
		seen.Other = s.other
		k.meant = &intention{&seen}
	}
}

// otherWorld says how a running server's world differs from the intended one; nil: it does not.
func otherWorld(i *records.Intended, r server.Running, l *Server, s *sight) *records.OtherWorld {
	intended := i.World.Folder
	origin := fmt.Sprintf("Changeover %d put %s there.", i.Changeover, intended)
	if i.By != "" {
		origin = fmt.Sprintf("%s said on %s that %s is intended.", i.By, i.At.UTC().Format("2 January"), intended)
	}
	out := &records.OtherWorld{}
	settings := s.heads.State.Keys[game.KeyActiveWorld].Where()
	next := fmt.Sprintf("If this is intended: reshard servers intended %s. If not: reshard switch %s %s.", l.Name,
		l.Name, intended)
	if r.Gone {
		next = fmt.Sprintf("If this is intended: reshard servers intended %s. If not, put %s there again: it is no "+
			"longer in %s.", l.Name, intended, s.heads.State.WorldsFolder)
	}
	switch i.World.Differs(r, l.Profile) {
	case server.Same:
		return nil
	case server.OtherOpened:
		out.Seen = r.Folder(l.Profile)
		shows := "log"
		if s.heads.Status.Signed {
			shows = "lock"
		}
		out.Says = fmt.Sprintf("%s runs %s, according to its %s. %s", l.Name, out.Seen, shows, origin)
	case server.OtherNamed:
		out.Seen = r.Named
		out.Says = fmt.Sprintf("The next start of %s opens %s: %s names it. %s", l.Name, r.Named, settings, origin)
		if r.Opened == "" {
			out.Says = fmt.Sprintf("%s names %s. Reshard cannot see which world %s has open. %s", settings, r.Named,
				l.Name, origin)
		}
	case server.Removed:
		out.Seen = "no " + intended
		out.Says = fmt.Sprintf("The world %s is no longer in %s, although %s has it open. %s", intended,
			s.heads.State.WorldsFolder, l.Name, origin)
		next = fmt.Sprintf("Stop the server: reshard servers stop %s. Then bring the folder back, or restore a "+
			"backup: reshard backups %s.", l.Name, l.Name)
	case server.OtherContent:
		what, was, is := "seed", i.World.Seed, r.World.Seed
		if was == is || was == "" || is == "" {
			what, was, is = "id", i.World.WorldID, r.World.WorldID
		}
		out.Seen = what + " " + is
		out.Says = fmt.Sprintf("The %s of %s on %s is %s and was %s. %s", what, intended, l.Name, is, was, origin)
		next = fmt.Sprintf("If this is intended: reshard servers intended %s. If not, put the world there again, or "+
			"restore a backup: reshard backups %s.", l.Name, l.Name)
	}
	out.Next = next
	return out
}

// Alerts gives the servers that run another world than the intended one, and the hosts that misbehave.
func (fl *Fleet) Alerts(ctx context.Context) ([]wire.Alert, error) {
	list, err := fl.records.OtherWorlds(ctx)
	out := make([]wire.Alert, 0, len(list))
	for _, o := range list {
		out = append(out, wire.Alert{
			Kind: "world", Of: o.Server, Server: o.Server, Says: o.Other.V.Says, Next: o.Other.V.Next, Since: o.Since,
		})
	}
	return slices.Concat(out, fl.hostAlerts(), fl.downAlerts()), err
}

// hostAlerts gives the hosts that cannot be opened, and those that send without end, or more than they announced, in
// the order of their names.
func (fl *Fleet) hostAlerts() (out []wire.Alert) {
	fl.mu.Lock()
	defer fl.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(fl.hosts)) {
		if err := fl.hosts[name].err; err != nil {
			says, next := fault.Words(err)
			out = append(out, wire.Alert{
				Kind: "host", Of: name, Says: "Host " + name + " cannot be used: " + says + ".", Next: next,
				Since: fl.hosts[name].begun,
			})
		}
		out = append(out, misbehaves(fl.hosts[name].Driver, name, "Host "+name, "hosts check "+name)...)
		if p := fl.hosts[name].provider; p != nil {
			out = append(out, misbehaves(p, name+" provider", "The provider of "+name,
				"hosts try "+name+" MACHINE")...)
		}
	}
	return out
}

// misbehaves gives the alert of a peer that sends without end, or more than it announced; none: it does not.
func misbehaves(peer any, of, title, check string) []wire.Alert {
	m, ok := peer.(host.Misbehaver)
	if !ok {
		return nil
	}
	since, err := m.Misbehaves()
	if err == nil {
		return nil
	}
	says, _ := fault.Words(err)
	return []wire.Alert{{
		Kind: "host", Of: of, Says: title + " misbehaves: " + says + ".", Since: since,
		Next: "Check its address, and ask its operator. Until a check succeeds, Reshard connects less and less " +
			"often: reshard " + check,
	}}
}

// Intend takes a person's word that a server runs the world that it should. Code Changed: another one is seen than
// the one that was given. Code WrongState: nothing shows which world it is.
func (fl *Fleet) Intend(ctx context.Context, name string, in wire.IntendWorld, by string) (wire.ServerFacts, error) {
	const op = "take your word for"
	rec, err := fl.records.ServerHeld(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if rec.Holder != 0 {
		return wire.ServerFacts{}, fault.New(fault.Busy, op, name, "changeover %d holds the server", rec.Holder)
	}
	if err := fl.records.Acting(); err != nil {
		return wire.ServerFacts{}, err
	}
	was, err := fl.records.IntendedWorld(ctx, rec.ID)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	s := fl.look(ctx, rec.Server, nil, true)
	if s.heads == nil {
		return wire.ServerFacts{}, s.err
	}
	state := s.heads.State
	open := server.Running{Opened: s.heads.Status.Opened}.Folder(l.Profile)
	to := records.Intended{By: by, At: fl.now().UTC()}
	to.World.Folder = cmp.Or(open, state.Active)
	if was != nil {
		to.Changeover = was.Changeover
		if open == was.World.Folder && state.Active != "" && state.Active != open {
			to.World.Folder, to.Open = state.Active, open // the settings were meant
		}
	}
	switch folder := to.World.Folder; {
	case folder == "":
		return wire.ServerFacts{}, fault.New(fault.WrongState, op, name,
			"nothing shows which world it runs: neither its log nor its settings name one")
	case in.World != "" && in.World != folder:
		return wire.ServerFacts{}, fault.New(fault.Changed, op, name, "it runs %s, not %s", folder, in.World).
			With("Look again: reshard servers show " + name + ".")
	}
	if look, err := l.Look(ctx, s.heads, to.World.Folder); err == nil {
		to.World = identityOf(to.World.Folder, look.Facts)
	}
	if err := fl.records.IntendWorld(ctx, rec.ID, to); err != nil {
		return wire.ServerFacts{}, err
	}
	fl.log.Info("a person said which world is intended", "server", name, "world", to.World.Folder, "by", by)
	fl.Refresh(ctx, name)
	return fl.Server(ctx, name)
}
