// Package service holds the use cases that the API and the start-up call. It
// joins records, vault, servers and changeovers; it has no interface code.
package service

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"reshard/internal/changeover"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/host"
	"reshard/internal/pack"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// Config is what a service needs. All but Limits and Trace must be given.
type Config struct {
	Data     string // folder for the vault, arrivals, consoles and logs
	Database string // PostgreSQL address
	Games    []game.Document
	// StartServers starts servers that should run and do not, at start-up.
	StartServers bool
	Limits       pack.Limits
	// KeepAside is how long what changeovers set aside is kept; 0: until a person
	// removes it.
	KeepAside time.Duration
	Log       *slog.Logger
	// Address is where it listens, for people.
	Address string
	// Lease is how long the service may act without hearing from the database; 0: ten
	// seconds.
	Lease time.Duration
	// StandsBy is told, now and then, who acts while this service waits for its turn.
	StandsBy func(who string)
	// MoveHere takes records of another data folder over for this one.
	MoveHere bool
	// Kinds are the kinds of hosts that it knows; nil: those of Kinds.
	Kinds host.Kinds
	// Trace is told each point of every changeover; tests cut it there.
	Trace func(point string)
}

// Service is the running service.
type Service struct {
	config  Config
	records *records.Records
	vault   *vault.Vault
	log     *slog.Logger
	now     func() time.Time

	games   *catalogue
	hub     hub
	signIns failures
	hosts   map[string]*openHost
	// identity is what the data folder is known by, lock its lock.
	identity string
	lock     folderLock
	mu       sync.Mutex       // held for moments only
	live     map[string]*slot // by server name
	// drawing has room for one picture at a time.
	drawing chan struct{}
	taking  taking
	took    taken
	work    vaultWork
	// collected is when the vault was last collected by the rule.
	collected time.Time

	// running counts changeovers; stop cancels those that only stage.
	running sync.WaitGroup
	ctx     context.Context
	stop    context.CancelCauseFunc
}

// Open opens database and vault, finds the servers again and takes up the
// changeovers that an earlier life left open.
func Open(ctx context.Context, c Config) (*Service, error) {
	for _, dir := range []string{c.Data, filepath.Join(c.Data, "arrivals"), filepath.Join(c.Data, "servers")} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fault.Wrap(fault.Internal, "prepare", dir, err)
		}
	}
	if c.Kinds == nil {
		c.Kinds = Kinds()
	}
	identity, err := identityOf(c.Data)
	if err != nil {
		return nil, err
	}
	s := &Service{
		config: c, log: c.Log, now: time.Now, collected: time.Now(), live: map[string]*slot{},
		hosts: map[string]*openHost{},
		games: newCatalogue(c.Games), drawing: make(chan struct{}, 1), identity: identity,
	}
	s.lock.file = filepath.Join(c.Data, "lock")
	s.ctx, s.stop = context.WithCancelCause(context.WithoutCancel(ctx))
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.running.Go(s.keepTidy)
	return s, nil
}

// open does what needs the records: it waits until this service is the one that acts.
func (s *Service) open(ctx context.Context) (err error) {
	name, _ := os.Hostname() // for people only
	s.records, err = records.Open(ctx, s.config.Database, records.Claim{
		Who: strings.TrimSpace(name + " " + s.config.Address), Data: s.identity, Alone: s.lock.alone,
		Term: s.config.Lease, StandsBy: s.config.StandsBy,
	})
	if err != nil {
		return err
	}
	if err := clearArrivals(filepath.Join(s.config.Data, "arrivals")); err != nil {
		return err
	}
	blobs, err := vault.Files(filepath.Join(s.config.Data, "vault"))
	if err != nil {
		return err
	}
	if s.vault, err = vault.Open(ctx, blobs, s.records.VaultIndex()); err != nil {
		return errors.Join(err, blobs.Close())
	}
	return errors.Join(s.openHosts(ctx), s.loadGames(ctx), s.recover(ctx))
}

// Lost is closed when another service has taken over. This one is then to be closed.
func (s *Service) Lost() <-chan struct{} { return s.records.Lost() }

// Acting is nil while this service may act; see records.Records.
func (s *Service) Acting() error { return s.acting() }

func (s *Service) acting() error { return s.records.Acting() }

// clearArrivals removes what was being received in one piece, or unpacked, when an
// earlier life ended: the sender has been told that it did not arrive. Uploads that can
// be gone on with stay.
func clearArrivals(dir string) error {
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	for _, f := range left {
		if uploadID.MatchString(strings.TrimSuffix(filepath.Base(f), ".info")) {
			continue
		}
		err = errors.Join(err, os.RemoveAll(f))
	}
	return fault.Wrap(fault.Internal, "clear", dir, err)
}

var errShutdown = &fault.Error{
	Code: fault.Interrupted,
	Op:   "stop",
	Path: "service",
	What: "the service is shutting down",
	Err:  changeover.ErrLeft,
}

// Close cancels changeovers that only stage, waits for those that switch, and
// closes the database. The game servers go on running.
func (s *Service) Close() error {
	s.stop(errShutdown)
	s.running.Wait()
	if s.records != nil {
		s.records.Close()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	err := s.lock.release()
	for _, slot := range s.live {
		if l := slot.now.Load(); l != nil {
			err = errors.Join(err, l.closer.Close())
		}
	}
	return err
}

// Healthy tells whether the service can work, and may.
func (s *Service) Healthy(ctx context.Context) error {
	if err := s.acting(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return s.records.Ping(ctx)
}

// recover takes up what an earlier life left open, and looks for the servers. What
// cannot be reached now does not keep the rest waiting.
func (s *Service) recover(ctx context.Context) error {
	open, err := s.records.OpenChangeovers(ctx)
	if err != nil {
		return err
	}
	held := map[string]bool{}
	for _, c := range open {
		held[c.Server] = true
		if c.State == plan.Held {
			s.log.Warn("changeover is held and waits for a person", "changeover", c.ID, "server", c.Server)
			continue
		}
		s.takeUp(ctx, c)
	}
	servers, err := s.records.Servers(ctx)
	if err != nil {
		return err
	}
	for _, rec := range servers {
		s.running.Go(func() { s.findServer(rec, held[rec.Name]) })
	}
	return nil
}

// takeUpPatience is how long the start of the service waits for a server whose changeover
// it takes up.
const takeUpPatience = 2 * time.Second

// takeUp takes a changeover up: at once, or when its servers can be reached again.
func (s *Service) takeUp(ctx context.Context, c records.Changeover) {
	s.log.Info("taking up changeover", "changeover", c.ID, "server", c.Server, "state", c.State)
	resume := func(ctx context.Context) error {
		l, err := s.serverByName(ctx, c.Server)
		if err != nil {
			return err
		}
		now, err := s.records.Changeover(ctx, c.ID)
		if err != nil {
			return err
		}
		if c = now; !c.State.Open() || c.State == plan.Held { // a person has settled it meanwhile
			s.hub.forget(c.ID)
			return nil
		}
		others, err := s.othersOf(ctx, c)
		if err != nil {
			return err
		}
		runner, job := s.runner(l, c, others), jobOf(c)
		s.carry(l, others, c, func(ctx context.Context) error { return runner.Resume(ctx, job) })
		return nil
	}
	first, done := context.WithTimeout(ctx, takeUpPatience)
	defer done()
	err := resume(first)
	if err == nil {
		return
	}
	s.log.Error("cannot take up changeover yet", "changeover", c.ID, "error", err)
	s.running.Go(func() {
		for ; err != nil && s.ctx.Err() == nil; err = resume(s.ctx) {
			what, _ := fault.Words(err)
			s.hub.publish(changeover.Progress{
				ID:      c.ID,
				State:   c.State,
				Going:   "forward",
				Waiting: what + ". It goes on when that is mended.",
			})
			select {
			case <-s.ctx.Done():
			case <-time.After(restAfterAway):
			}
		}
	})
}

// findServer looks for a server's process, and starts it when it should run and does not.
func (s *Service) findServer(rec records.Server, held bool) {
	l, err := s.serverByName(s.ctx, rec.Name)
	if err != nil {
		s.log.Error("server cannot be reached", "server", rec.Name, "error", err)
		return
	}
	st := l.control.Status(s.ctx)
	s.log.Info("server found", "server", rec.Name, "state", st.State, "process", st.Process, "cause", st.Cause)
	down := st.State == life.Stopped && rec.Wanted == string(life.Running)
	if !s.config.StartServers || !down || held {
		return
	}
	if _, err := s.StartServer(s.ctx, rec.Name); err != nil {
		s.log.Error("server does not start", "server", rec.Name, "error", err)
	}
}

// hub hands progress to whoever watches.
type hub struct {
	mu      sync.Mutex
	last    map[int64]changeover.Progress
	cancels map[int64]func()
	subs    map[int64]map[chan struct{}]bool
}

// publish keeps the newest progress and wakes watchers; it never blocks.
func (h *hub) publish(p changeover.Progress) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.last == nil {
		h.last = map[int64]changeover.Progress{}
	}
	h.last[p.ID] = p
	for c := range h.subs[p.ID] {
		select {
		case c <- struct{}{}:
		default: // a wake-up is pending already, and the newest snapshot says all
		}
	}
}

// track remembers how to cancel a changeover that begins to run.
func (h *hub) track(id int64, cancel func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.cancels == nil {
		h.cancels = map[int64]func(){}
	}
	h.cancels[id] = cancel
}

// cancel cancels a running changeover; false when it does not run here.
func (h *hub) cancel(id int64) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	cancel, ok := h.cancels[id]
	if ok {
		cancel()
	}
	return ok
}

func (h *hub) latest(id int64) (changeover.Progress, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	p, ok := h.last[id]
	return p, ok
}

func (h *hub) subscribe(id int64) (wake chan struct{}, leave func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.subs == nil {
		h.subs = map[int64]map[chan struct{}]bool{}
	}
	if h.subs[id] == nil {
		h.subs[id] = map[chan struct{}]bool{}
	}
	wake = make(chan struct{}, 1)
	h.subs[id][wake] = true
	return wake, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs[id], wake)
		if len(h.subs[id]) == 0 {
			delete(h.subs, id)
		}
	}
}

// forget drops an ended changeover's progress; the journal has it all.
func (h *hub) forget(id int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.last, id)
	delete(h.cancels, id)
	for c := range h.subs[id] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}
