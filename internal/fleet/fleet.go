// Package fleet is the game servers that the service looks after: their hosts, what is
// known of each of them, and starting and stopping them.
package fleet

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"reshard/internal/catalogue"
	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/drawing"
	"reshard/internal/feed"
	"reshard/internal/host"
	"reshard/internal/observe"
	"reshard/internal/records"
	"reshard/internal/secrets"
)

// Config is what a fleet needs. All but Trace and Patience must be given.
type Config struct {
	Records *records.Records
	Games   *catalogue.Catalogue
	Board   *drawing.Board
	Log     *slog.Logger
	// Data is the service's data folder, Identity what that is known by.
	Data     string
	Identity string
	// MoveHere takes records of another data folder over for this one.
	MoveHere bool
	// Secrets keeps what hosts are signed in with.
	Secrets *secrets.Keeper
	// Kinds are the kinds of hosts that it knows.
	Kinds host.Kinds
	// Patience is how long a host may take to open a server's folder, and a server to answer one look. Defaults to
	// [control.DefaultPatience].
	Patience time.Duration
	// Feed is told what changes.
	Feed *feed.Feed
	// Disk tells free and all bytes of the data folder's disk.
	Disk func() (free, total int64, err error)
	// SSHAgent is the socket of the agent that hosts may be signed in to with; "": none may.
	SSHAgent string
	// Trace is told where an act on a process stands; tests cut it there.
	Trace func(point string)
}

// Fleet is all servers. It is safe for concurrent use.
type Fleet struct {
	Config
	records *records.Records
	games   *catalogue.Catalogue
	log     *slog.Logger
	now     func() time.Time
	memory  *observe.Memory
	book    book
	// watching ends when the watching does; looking has room for those who look.
	watching context.Context
	looking  chan struct{}
	running  sync.WaitGroup

	// changing is held while a host is added, changed or removed.
	changing sync.Mutex
	// OnSeen is told of each server that is seen for the first time, and of one that is seen again; nil: nobody. It is
	// set before the watching begins.
	OnSeen    func(ctx context.Context, name string)
	upholding upholding
	mu        sync.Mutex // held for moments only
	hosts     map[string]*openHost
	live      map[string]*slot // by server name
}

// New makes a fleet; Open opens its hosts.
func New(c Config) *Fleet {
	c.Patience = cmp.Or(c.Patience, control.DefaultPatience)
	return &Fleet{
		Config: c, records: c.Records, games: c.Games, log: c.Log, now: time.Now,
		hosts: map[string]*openHost{}, live: map[string]*slot{}, memory: observe.NewMemory(),
		book: book{servers: map[string]*known{}}, looking: make(chan struct{}, looksAtOnce),
	}
}

// Close waits for those who look, after what Watch was given has ended, and gives the
// servers' folders back. The servers go on running.
func (fl *Fleet) Close() (err error) {
	fl.running.Wait()
	for _, l := range fl.InHand() {
		err = errors.Join(err, l.closer.Close())
	}
	fl.mu.Lock()
	defer fl.mu.Unlock()
	for _, h := range fl.hosts {
		err = errors.Join(err, h.close())
	}
	return err
}

// Under implements catalogue.Users: servers in hand of a game are held back while its
// profile changes, and opened anew with it.
func (fl *Fleet) Under(ctx context.Context, id string, next *game.Profile) (func(*game.Profile), error) {
	holding, err := fl.records.Holders(ctx)
	if err != nil {
		return nil, err
	}
	var held []func()
	letGo := func() {
		for _, release := range held {
			release()
		}
	}
	for _, l := range fl.InHand() {
		if l.Profile.ID != id {
			continue
		}
		release, err := l.changing(holding[l.Name], next)
		if err != nil {
			letGo()
			return nil, err
		}
		held = append(held, release)
	}
	return func(now *game.Profile) {
		defer letGo()
		for _, l := range fl.InHand() {
			if l.full.ID != id || l.full == now {
				continue
			}
			if err := fl.LetGo(l); err != nil {
				fl.log.Warn("a server's folder did not close", "server", l.Name, "error", err)
			}
		}
	}, nil
}

// changing holds a server back whose profile is to change.
func (l *Server) changing(changeover int64, next *game.Profile) (release func(), err error) {
	if changeover != 0 {
		return nil, fault.New(fault.Busy, "change profile", l.Profile.ID, "changeover %d holds the server %s",
			changeover, l.Name)
	}
	if next != nil {
		if _, ok := next.Server.Kinds[l.Machine.Kind]; !ok {
			return nil, fault.New(fault.WrongState, "change profile", l.Profile.ID,
				"the server %s is of the kind %s, which the profile does not have", l.Name, l.Machine.Kind)
		}
	}
	return l.Claim("change profile")
}
