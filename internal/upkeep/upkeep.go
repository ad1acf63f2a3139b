// Package upkeep is what the service does by itself to stay small and whole: it collects
// and checks the vault, and tidies what has been kept long enough.
package upkeep

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"reshard/internal/arrivals"
	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// vaultWork is what the vault does, or did last, with all that it holds.
type vaultWork struct {
	mu  sync.Mutex
	now *wire.VaultWork
}

func (w *vaultWork) snapshot() *wire.VaultWork {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.now == nil {
		return nil
	}
	c := *w.now
	return &c
}

func (w *vaultWork) change(do func(*wire.VaultWork)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	do(w.now)
}

// begin notes new work; false when there is some under way.
func (w *vaultWork) begin(kind, store, by string, now time.Time) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.now != nil && w.now.Ended == nil {
		return false
	}
	w.now = &wire.VaultWork{Kind: kind, Store: store, By: by, Begun: now}
	return true
}

// Records is what upkeep asks and notes; records.Records is one.
type Records interface {
	// Acting is nil while this service may change anything.
	Acting() error
	// Kept are the ids of all that the vault must go on holding.
	Kept(ctx context.Context) ([]string, error)
	Holdings(ctx context.Context) (records.Holdings, error)
	// LastDone is when a task was last carried out, the zero time for never.
	LastDone(ctx context.Context, task string) (time.Time, error)
	SetDone(ctx context.Context, task string, at time.Time) error
	// RemoveDrafts forgets the changeovers that were drafted before then and never begun.
	RemoveDrafts(ctx context.Context, before time.Time) (int64, error)
}

// Vault is the vault's work on all that it holds; vault.Vault is one.
type Vault interface {
	Collect(ctx context.Context, keep []string, before time.Time,
		see func(done, all int64)) (vault.Collected, error)
	Rebuild(ctx context.Context, see func(done, all int64)) (vault.Rebuilt, error)
}

// Library lets copies go that were set aside for long enough, and takes in those that a
// rebuilt vault has found.
type Library interface {
	Tidy(ctx context.Context) (gone int, err error)
	Adopt(ctx context.Context, ids []string) error
}

// Arrivals removes uploads that nobody went on with.
type Arrivals interface{ Tidy(ctx context.Context) }

// Changeovers removes what changeovers set aside, by the rule.
type Changeovers interface{ Sweep(ctx context.Context) }

// Backups lets go of what rules do not keep, and takes in those that a rebuilt vault has found; the rest of what
// was found is given back.
type Backups interface {
	Thin(ctx context.Context) error
	Adopt(ctx context.Context, ids []string) (rest []string, err error)
}

// Stores reads a share of everything back, and brings back what a store has.
type Stores interface {
	// Soon has what stores lack sent at once.
	Soon()
	Standing(ctx context.Context, since time.Duration) (wire.StandingCheck, error)
	CheckVault(ctx context.Context, see func(done, all int64)) (wire.VaultChecked, error)
	Recover(ctx context.Context, name string, see func(done, all int64)) (wire.Recovered, error)
	// Recovered is called when all that was brought back is in the library.
	Recovered(ctx context.Context, name string) error
}

// Config is what upkeep needs.
type Config struct {
	Records     Records
	Vault       Vault
	Library     Library
	Arrivals    Arrivals
	Changeovers Changeovers
	Backups     Backups
	Stores      Stores
	Log         *slog.Logger
	// Now is the time by which things are old, which no leap of a clock makes them; see records.Counted.
	Now func() time.Time
	// Life ends when the service goes away.
	Life context.Context
}

// Upkeep tidies. It is safe for concurrent use.
type Upkeep struct {
	with    Config
	now     func() time.Time
	work    vaultWork
	running sync.WaitGroup
}

// New makes an upkeep; Run does it.
func New(c Config) *Upkeep {
	return &Upkeep{with: c, now: time.Now}
}

// Wait waits for what it has begun.
func (up *Upkeep) Wait() { up.running.Wait() }

// Vault tells what the vault holds and what it is doing.
func (up *Upkeep) Vault(ctx context.Context) (wire.Vault, error) {
	h, err := up.with.Records.Holdings(ctx)
	if err != nil {
		return wire.Vault{}, err
	}
	return wire.Vault{
		Packs:   h.Packs,
		Bytes:   h.Bytes,
		Chunks:  h.Chunks,
		Copies:  h.Copies,
		Content: h.Content,
		Work:    up.work.snapshot(),
	}, nil
}

// WorkOn begins a check, a collection, a rebuild or the recovery from a store, which goes on by itself.
func (up *Upkeep) WorkOn(ctx context.Context, kind, store, by string) (wire.Vault, error) {
	if (kind == "recover") != (store != "") {
		return wire.Vault{}, fault.New(fault.Invalid, kind, "the vault",
			"a store is named for a recovery, and only then")
	}
	if !up.work.begin(kind, store, by, up.now()) {
		return wire.Vault{}, fault.New(fault.Busy, kind, "the vault", "it is at work already").
			With("reshard vault shows what it is doing.")
	}
	up.running.Go(func() { up.doVaultWork(up.with.Life, kind, store) })
	return up.Vault(ctx)
}

func (up *Upkeep) doVaultWork(ctx context.Context, kind, store string) {
	err := fault.Safely(func() error {
		return up.vaultWorkOf(ctx, kind, store, func(done, all int64) {
			up.work.change(func(w *wire.VaultWork) { w.Done, w.All = done, all })
		})
	})
	ended := up.now()
	up.work.change(func(w *wire.VaultWork) {
		w.Ended = &ended
		if err != nil {
			what, next := fault.Words(err)
			w.Failure = &wire.Failure{Code: string(fault.CodeOf(err)), What: what, Next: next}
		}
	})
	if err != nil {
		up.with.Log.Error("work on the vault failed", "kind", kind, "error", err)
	}
}

func (up *Upkeep) vaultWorkOf(ctx context.Context, kind, store string, see func(done, all int64)) error {
	keep, err := up.with.Records.Kept(ctx)
	if err != nil {
		return err
	}
	switch kind {
	case "check":
		got, err := up.with.Stores.CheckVault(ctx, see)
		up.work.change(func(w *wire.VaultWork) { w.Checked = &got })
		for _, d := range got.Damaged {
			up.with.Log.Error("damage in the vault", "pack", d.Pack, "name", d.Name, "why", d.Why)
		}
		return err
	case "collect":
		got, err := up.with.Vault.Collect(ctx, keep, up.with.Now().Add(-arrivals.Kept), see)
		up.work.change(func(w *wire.VaultWork) { w.Collected = (*wire.VaultCollected)(&got) })
		up.with.Stores.Soon() // packs that were written anew are new to them
		return err
	case "recover":
		got, err := up.with.Stores.Recover(ctx, store, see)
		up.work.change(func(w *wire.VaultWork) { w.Recovered = &got })
		if err == nil {
			err = up.rebuild(ctx, see)
		}
		if err == nil {
			err = up.with.Stores.Recovered(ctx, store)
		}
		return err
	case "rebuild":
		return up.rebuild(ctx, see)
	}
	return fault.New(fault.Invalid, "work on", "the vault", "there is no work called %q", kind)
}

// rebuild makes the vault's index anew, and takes in what it has found.
func (up *Upkeep) rebuild(ctx context.Context, see func(done, all int64)) error {
	got, err := up.with.Vault.Rebuild(ctx, see)
	if err == nil {
		var rest []string
		if rest, err = up.with.Backups.Adopt(ctx, got.Copies); err == nil {
			err = up.with.Library.Adopt(ctx, rest)
		}
	}
	up.work.change(func(w *wire.VaultWork) { w.Rebuilt = rebuilt(got) })
	return err
}

// readBack reads a share of everything back, as much as time has passed.
func (up *Upkeep) readBack(ctx context.Context) {
	const task = "standing-check"
	last, err := up.with.Records.LastDone(ctx, task)
	if err != nil || !keep.Again(last, up.now(), time.Hour) {
		return
	}
	since := time.Hour
	if passed := up.now().Sub(last); !last.IsZero() && passed > since {
		since = passed
	}
	got, err := up.with.Stores.Standing(ctx, since)
	if err != nil {
		up.with.Log.Warn("the standing check did not come to its end", "error", err)
	}
	up.with.Log.Info("read back", "packs", got.Packs, "bytes", got.Bytes, "findings", len(got.Findings))
	if err := up.with.Records.SetDone(ctx, task, up.now()); err != nil {
		up.with.Log.Warn("cannot note that everything was read back", "error", err)
	}
}

// keepVaultSmall lets copies go that have been set aside for long enough, and collects
// once a day, or when something has gone. While something is being stored it is put off.
func (up *Upkeep) keepVaultSmall(ctx context.Context) {
	gone, err := up.with.Library.Tidy(ctx)
	if err != nil {
		up.with.Log.Warn("cannot tidy the library", "error", err)
	}
	last, err := up.with.Records.LastDone(ctx, "collect")
	if err != nil || (gone == 0 && !keep.Again(last, up.now(), 24*time.Hour)) {
		return
	}
	if !up.work.begin("collect", "", "the rule", up.now()) {
		return
	}
	up.doVaultWork(ctx, "collect", "")
	if w := up.work.snapshot(); w.Failure != nil {
		return
	}
	if err := up.with.Records.SetDone(ctx, "collect", up.now()); err != nil {
		up.with.Log.Warn("cannot note that the vault was collected", "error", err)
	}
}

// Run tidies now and then until the service ends.
func (up *Upkeep) Run(ctx context.Context) {
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		up.tidy(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// tidy does what is due. A service that may not act leaves it to the one that does.
func (up *Upkeep) tidy(ctx context.Context) {
	if up.with.Records.Acting() != nil {
		return
	}
	up.with.Changeovers.Sweep(ctx)
	up.with.Arrivals.Tidy(ctx)
	up.tidyDrafts(ctx)
	if err := up.with.Backups.Thin(ctx); err != nil {
		up.with.Log.Warn("cannot thin out backups", "error", err)
	}
	up.keepVaultSmall(ctx)
	up.readBack(ctx)
}

// keepDrafts is how long a changeover that was only worked out is kept.
const keepDrafts = 7 * 24 * time.Hour

// tidyDrafts forgets what was worked out and never begun: the servers have moved on.
func (up *Upkeep) tidyDrafts(ctx context.Context) {
	n, err := up.with.Records.RemoveDrafts(ctx, up.with.Now().Add(-keepDrafts))
	if err != nil {
		up.with.Log.Warn("cannot tidy drafts", "error", err)
	}
	if n > 0 {
		up.with.Log.Info("drafts that nobody started are gone", "drafts", n)
	}
}

func rebuilt(r vault.Rebuilt) *wire.VaultRebuilt {
	return &wire.VaultRebuilt{Packs: r.Packs, Entries: r.Entries, Copies: r.Copies, Damaged: damages(r.Damaged)}
}

func damages(list []vault.Damage) []wire.VaultDamage {
	out := make([]wire.VaultDamage, len(list))
	for i, d := range list {
		out[i] = wire.VaultDamage(d)
	}
	return out
}
