// Package service opens the rooms of a running service, wires them together and closes
// them again. It has no interface code.
package service

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"reshard/internal/feed"
	_ "reshard/internal/sqlite" // worlds may hold databases

	"golang.org/x/sync/errgroup"

	"reshard/internal/accounts"
	"reshard/internal/archive"
	"reshard/internal/arrivals"
	"reshard/internal/backups"
	"reshard/internal/catalogue"
	"reshard/internal/changeovers"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/drawing"
	"reshard/internal/fleet"
	"reshard/internal/host"
	"reshard/internal/jobs"
	"reshard/internal/library"
	"reshard/internal/notices"
	"reshard/internal/records"
	"reshard/internal/secrets"
	"reshard/internal/stores"
	"reshard/internal/upkeep"
	"reshard/internal/vault"
)

// Config is what a service needs. All but Limits and Trace must be given.
type Config struct {
	Data     string // folder for the vault, arrivals, consoles and logs
	Database string // PostgreSQL address
	Games    []game.Document
	// StartServers starts servers that should run and do not, at start-up.
	StartServers bool
	Limits       archive.Limits
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
	// Proxies are the addresses of proxies that are believed where requests come from; none: nobody is.
	Proxies []netip.Prefix
	// SSHAgent is the socket of the agent that hosts may be signed in to with; "": none may.
	SSHAgent string
	// Patience is how long a host may take to answer one look. Defaults to ten seconds.
	Patience time.Duration
	// RulePace is how often it is looked whether a rule of backups is due; 0: every few seconds.
	RulePace time.Duration
	// Clock is the machine's; nil is that itself. Tests let it leap.
	Clock func() time.Time
	// Disk tells how much is free on the data folder's disk, and how much it has; nil looks there.
	Disk func() (free, total int64, err error)
	// Trace is told each point of every changeover; tests cut it there.
	Trace func(point string)
}

// Service is the running service: the rooms that share its work, wired together.
type Service struct {
	Games       *catalogue.Catalogue
	Accounts    *accounts.Accounts
	Fleet       *fleet.Fleet
	Library     *library.Library
	Arrivals    *arrivals.Arrivals
	Changeovers *changeovers.Changeovers
	Stores      *stores.Stores
	Backups     *backups.Backups
	Notices     *notices.Notices
	Upkeep      *upkeep.Upkeep
	// Feed tells what changes in them.
	Feed feed.Feed

	config  Config
	records *records.Records
	log     *slog.Logger
	secrets *secrets.Keeper
	queue   *jobs.Queue
	// identity is what the data folder is known by, lock its lock.
	identity string
	lock     folderLock

	// running counts what the service itself has begun; stop ends its life.
	running sync.WaitGroup
	life    context.Context
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
		c.Kinds = fleet.Kinds()
	}
	identity, err := identityOf(c.Data)
	if err != nil {
		return nil, err
	}
	keeper, made, err := secrets.Open(c.Data)
	if err != nil {
		return nil, err
	}
	if made {
		c.Log.Info("made the key that passwords of hosts are kept with; keep a copy of it apart from the database",
			"file", filepath.Join(c.Data, secrets.File))
	}
	s := &Service{config: c, log: c.Log, identity: identity, secrets: keeper}
	s.lock.file = filepath.Join(c.Data, "lock")
	s.life, s.stop = context.WithCancelCause(context.WithoutCancel(ctx))
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.running.Go(func() { s.Upkeep.Run(s.life) })
	s.running.Go(func() { s.Stores.Run(s.life) })
	s.running.Go(func() { s.Notices.Run(s.life) })
	s.running.Go(func() { s.Arrivals.Watch(s.life) })
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
	blobs, err := vault.Files(filepath.Join(s.config.Data, "vault"))
	if err != nil {
		return err
	}
	v, err := vault.Open(ctx, blobs, s.records.VaultIndex())
	if err != nil {
		return err
	}
	v.Trace = s.config.Trace
	counted, err := s.records.Counted(ctx, s.config.Clock)
	if err != nil {
		return err
	}
	s.running.Go(func() { counted.Run(s.life) })
	s.Stores, err = stores.Open(stores.Config{
		Records: s.records, Vault: v, Secrets: s.secrets, Counted: counted, Log: s.log, Data: s.config.Data,
		Identity: s.identity, Name: name, Life: s.life, Trace: s.config.Trace,
	})
	if err != nil {
		return err
	}
	v.Mender = s.Stores.Mend
	s.wire(v, counted)
	for _, begin := range []func(context.Context) error{
		s.Arrivals.Clear, s.Fleet.Open, s.Games.Load, s.recover,
		func(ctx context.Context) error { return s.queue.Open(ctx, s.life) }, s.Backups.Begin,
	} {
		if err := begin(ctx); err != nil {
			return err
		}
	}
	return nil
}

// wire makes the rooms and tells each what it needs of the others. None needs one that is
// made after it, but for the catalogue, which asks the fleet before a profile changes.
func (s *Service) wire(v *vault.Vault, counted *records.Counted) {
	c, board := s.config, drawing.New()
	s.queue = jobs.New(s.records.Pool(), s.records.Acting, c.Log)
	s.Accounts = accounts.New(s.records)
	s.Games = catalogue.New(c.Games, s.records, c.Log)
	s.Fleet = fleet.New(fleet.Config{
		Records: s.records, Games: s.Games, Board: board, Log: c.Log, Data: c.Data, Identity: s.identity,
		MoveHere: c.MoveHere, Kinds: c.Kinds, Secrets: s.secrets, Feed: &s.Feed, Trace: c.Trace,
		Patience: c.Patience, SSHAgent: c.SSHAgent,
		Disk: func() (int64, int64, error) {
			if c.Disk != nil {
				return c.Disk()
			}
			return s.Arrivals.Disk()
		},
	})
	s.Games.Used, s.Games.MayLook = s.Fleet, s.Fleet.MayLookAt
	s.Library = library.New(library.Config{
		Records: s.records, Vault: v, Games: s.Games, Board: board, Log: c.Log,
		Pictures: filepath.Join(c.Data, "pictures"), KeepAside: c.KeepAside, Limits: c.Limits, Counted: counted.Now,
	})
	s.Arrivals = arrivals.New(arrivals.Config{
		Library: s.Library, Vault: v, Games: s.Games, Log: c.Log, Folder: filepath.Join(c.Data, "arrivals"),
		Limits: c.Limits, Feed: &s.Feed, Age: counted.Age,
	})
	s.Changeovers = changeovers.New(changeovers.Config{
		Records: s.records, Vault: v, Fleet: s.Fleet, Library: s.Library, Log: c.Log, KeepAside: c.KeepAside,
		Life: s.life, Feed: &s.Feed, Trace: c.Trace, Counted: counted,
	})
	s.Backups = backups.New(backups.Config{
		Disk:    s.Fleet.Disk,
		Records: s.records, Vault: v, Fleet: s.Fleet, Changeovers: s.Changeovers, Library: s.Library, Stores: s.Stores,
		Counted: counted, Queue: s.queue, Feed: &s.Feed, Log: c.Log, KeepAside: c.KeepAside, Life: s.life,
		Pace: c.RulePace, Trace: c.Trace,
	})
	s.Notices = notices.New(notices.Config{
		Records: s.records, Secrets: s.secrets, Queue: s.queue, Feed: &s.Feed, Log: c.Log, Alerts: s.Backups.Alerts,
		Pace: c.RulePace,
	})
	s.Upkeep = upkeep.New(upkeep.Config{
		Records: s.records, Vault: v, Library: s.Library, Arrivals: s.Arrivals, Changeovers: s.Changeovers,
		Backups: s.Backups, Stores: s.Stores, Log: c.Log, Life: s.life, Now: counted.Careful,
	})
}

// Proxies are the addresses of proxies that are believed where requests come from.
func (s *Service) Proxies() []netip.Prefix { return s.config.Proxies }

// Lost is closed when another service has taken over. This one is then to be closed.
func (s *Service) Lost() <-chan struct{} { return s.records.Lost() }

// Acting is nil while this service may act; see records.Records.
func (s *Service) Acting() error { return s.records.Acting() }

// Close cancels changeovers that only stage, waits for those that switch, and
// closes the database. The game servers go on running.
func (s *Service) Close() (err error) {
	s.stop(changeovers.ErrShutdown)
	s.running.Wait()
	if s.Changeovers != nil {
		s.Upkeep.Wait()
		s.Changeovers.Wait()
		s.Backups.Wait()
		s.queue.Close()
	}
	if s.Fleet != nil {
		err = s.Fleet.Close()
	}
	if s.records != nil {
		s.records.Close()
	}
	return errors.Join(err, s.lock.release())
}

// Healthy tells whether the service can work, and may.
func (s *Service) Healthy(ctx context.Context) error {
	if err := s.Acting(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return s.records.Ping(ctx)
}

// looksAtOnce is how many servers are looked for at a time when the service comes up.
const looksAtOnce = 16

// recover takes up what an earlier life left open, and looks for the servers. What
// cannot be reached now does not keep the rest waiting.
func (s *Service) recover(ctx context.Context) error {
	if err := s.Fleet.Watch(s.life); err != nil {
		return err
	}
	open, err := s.records.OpenChangeovers(ctx)
	if err != nil {
		return err
	}
	for _, c := range open {
		if c.State == plan.Held {
			s.log.Warn("changeover is held and waits for a person", "changeover", c.ID, "server", c.Server)
			continue
		}
		s.Changeovers.TakeUp(ctx, c)
	}
	servers, err := s.records.Servers(ctx)
	if err != nil {
		return err
	}
	var wanted errgroup.Group
	wanted.SetLimit(looksAtOnce)
	s.running.Go(func() {
		for _, rec := range servers {
			if rec.Wanted == string(life.Running) {
				wanted.Go(func() error {
					err := fault.Safely(func() error {
						s.Fleet.Find(s.life, rec)
						return nil
					})
					if err != nil {
						s.log.Error("a server was not looked for", "server", rec.Name, "error", err)
					}
					return nil
				})
			}
		}
		_ = wanted.Wait() // what goes wrong has been logged
	})
	s.running.Go(func() { s.Fleet.Uphold(s.life, s.config.StartServers) })
	return nil
}
