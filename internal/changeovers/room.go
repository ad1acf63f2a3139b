// Package changeovers plans changes of servers' worlds and sees them through: sheets,
// drafts, starting and watching, undoing, and what was set aside.
package changeovers

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"reshard/internal/executor"
	"reshard/internal/feed"
	"reshard/internal/fleet"
	"reshard/internal/library"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Config is what changeovers need. All but Trace must be given.
type Config struct {
	Records *records.Records
	Vault   *vault.Vault
	Fleet   *fleet.Fleet
	Library *library.Library
	Log     *slog.Logger
	// KeepAside is how long what changeovers set aside is kept; 0: until a person
	// removes it.
	KeepAside time.Duration
	// Life ends when the service goes away: those that only stage are cancelled then.
	Life context.Context
	// Feed is told how changeovers stand.
	Feed *feed.Feed
	// Counted is the clock by which what is set aside grows old.
	Counted *records.Counted
	// Trace is told each point of every changeover; tests cut it there.
	Trace func(point string)
}

// Changeovers is all changeovers. It is safe for concurrent use.
type Changeovers struct {
	records   *records.Records
	vault     *vault.Vault
	fleet     *fleet.Fleet
	library   *library.Library
	log       *slog.Logger
	now       func() time.Time
	keepAside time.Duration
	counted   *records.Counted
	life      context.Context
	trace     func(point string)
	feed      *feed.Feed
	board     board
	folders   folders
	running   sync.WaitGroup
	// Kept is told of each world that a backup has stored, Ended of each changeover's end; nil: nobody.
	Kept  func(ctx context.Context, c records.Changeover, l *fleet.Server, made executor.Copied) error
	Ended func(ctx context.Context, id int64, err error)
	// read is Get, as those who watch are told of it.
	read func(ctx context.Context, id int64) (wire.Changeover, error)
}

// New makes changeovers.
func New(c Config) *Changeovers {
	co := &Changeovers{
		records: c.Records, vault: c.Vault, fleet: c.Fleet, library: c.Library, log: c.Log, now: c.Counted.Wall,
		keepAside: c.KeepAside, counted: c.Counted, life: c.Life, trace: c.Trace, feed: c.Feed,
		board: board{now: map[int64]*underway{}},
	}
	co.read = co.Get
	co.folders = folders{records: c.Records, now: func() time.Time { return co.now().UTC() }}
	if c.Fleet != nil {
		c.Fleet.OnSeen = co.seen
	}
	return co
}

// seen compares a server's working folders with the records.
func (co *Changeovers) seen(ctx context.Context, name string) {
	if co.records.Acting() != nil {
		return
	}
	if err := co.CompareFolders(ctx, name); err != nil && ctx.Err() == nil {
		co.log.Warn("cannot compare working folders with the records", "server", name, "error", err)
	}
}

// Wait waits for those that are carried out: until they are done, or are left as they
// stand because the service goes away.
func (co *Changeovers) Wait() { co.running.Wait() }
