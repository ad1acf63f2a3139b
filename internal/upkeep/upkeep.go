// Package upkeep is what the service does by itself to stay small and whole: it collects
// and checks the vault, and tidies what has been kept long enough.
package upkeep

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"reshard/internal/arrivals"
	"reshard/internal/changeovers"
	"reshard/internal/core/fault"
	"reshard/internal/library"
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
func (w *vaultWork) begin(kind, by string, now time.Time) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.now != nil && w.now.Ended == nil {
		return false
	}
	w.now = &wire.VaultWork{Kind: kind, By: by, Begun: now}
	return true
}

// Config is what upkeep needs.
type Config struct {
	Records     *records.Records
	Vault       *vault.Vault
	Library     *library.Library
	Arrivals    *arrivals.Arrivals
	Changeovers *changeovers.Changeovers
	Log         *slog.Logger
	// Life ends when the service goes away.
	Life context.Context
}

// Upkeep tidies. It is safe for concurrent use.
type Upkeep struct {
	records     *records.Records
	vault       *vault.Vault
	library     *library.Library
	arrivals    *arrivals.Arrivals
	changeovers *changeovers.Changeovers
	log         *slog.Logger
	now         func() time.Time
	life        context.Context
	work        vaultWork
	running     sync.WaitGroup
}

// New makes an upkeep; Run does it.
func New(c Config) *Upkeep {
	return &Upkeep{
		records: c.Records, vault: c.Vault, library: c.Library, arrivals: c.Arrivals, changeovers: c.Changeovers,
		log: c.Log, now: time.Now, life: c.Life,
	}
}

// Wait waits for what it has begun.
func (up *Upkeep) Wait() { up.running.Wait() }

// Vault tells what the vault holds and what it is doing.
func (up *Upkeep) Vault(ctx context.Context) (wire.Vault, error) {
	h, err := up.records.Holdings(ctx)
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

// WorkOn begins a check, a collection or a rebuild, which goes on by itself.
func (up *Upkeep) WorkOn(ctx context.Context, kind, by string) (wire.Vault, error) {
	if !up.work.begin(kind, by, up.now()) {
		return wire.Vault{}, fault.New(fault.Busy, kind, "the vault", "it is at work already").
			With("reshard vault shows what it is doing.")
	}
	up.running.Go(func() { up.doVaultWork(up.life, kind) })
	return up.Vault(ctx)
}

func (up *Upkeep) doVaultWork(ctx context.Context, kind string) {
	err := up.vaultWorkOf(ctx, kind, func(done, all int64) {
		up.work.change(func(w *wire.VaultWork) { w.Done, w.All = done, all })
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
		up.log.Error("work on the vault failed", "kind", kind, "error", err)
	}
}

func (up *Upkeep) vaultWorkOf(ctx context.Context, kind string, see func(done, all int64)) error {
	copies, err := up.records.Copies(ctx)
	if err != nil {
		return err
	}
	keep := make([]string, len(copies))
	for i, c := range copies {
		keep[i] = c.ID
	}
	switch kind {
	case "check":
		got, err := up.vault.Check(ctx, keep, see)
		up.work.change(func(w *wire.VaultWork) { w.Checked = checked(got) })
		for _, d := range got.Damaged {
			up.log.Error("damage in the vault", "pack", d.Pack, "name", d.Name, "why", d.Why)
		}
		return err
	case "collect":
		got, err := up.vault.Collect(ctx, keep, up.now().Add(-arrivals.Kept), see)
		up.work.change(func(w *wire.VaultWork) { w.Collected = (*wire.VaultCollected)(&got) })
		return err
	case "rebuild":
		got, err := up.vault.Rebuild(ctx, see)
		if err == nil {
			err = up.library.Adopt(ctx, got.Copies)
		}
		up.work.change(func(w *wire.VaultWork) { w.Rebuilt = rebuilt(got) })
		return err
	}
	return fault.New(fault.Invalid, "work on", "the vault", "there is no work called %q", kind)
}

// keepVaultSmall lets copies go that have been set aside for long enough, and collects
// once a day, or when something has gone. While something is being stored it is put off.
func (up *Upkeep) keepVaultSmall(ctx context.Context) {
	gone, err := up.library.Tidy(ctx)
	if err != nil {
		up.log.Warn("cannot tidy the library", "error", err)
	}
	last, err := up.records.LastDone(ctx, "collect")
	if err != nil || (gone == 0 && up.now().Sub(last) < 24*time.Hour) {
		return
	}
	if !up.work.begin("collect", "the rule", up.now()) {
		return
	}
	up.doVaultWork(ctx, "collect")
	if w := up.work.snapshot(); w.Failure != nil {
		return
	}
	if err := up.records.SetDone(ctx, "collect", up.now()); err != nil {
		up.log.Warn("cannot note that the vault was collected", "error", err)
	}
}

// Run tidies now and then until the service ends.
func (up *Upkeep) Run(ctx context.Context) {
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		if up.records.Acting() == nil {
			up.changeovers.Sweep(ctx)
			up.arrivals.Tidy()
			up.tidyDrafts(ctx)
			up.keepVaultSmall(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// keepDrafts is how long a changeover that was only worked out is kept.
const keepDrafts = 7 * 24 * time.Hour

// tidyDrafts forgets what was worked out and never begun: the servers have moved on.
func (up *Upkeep) tidyDrafts(ctx context.Context) {
	n, err := up.records.RemoveDrafts(ctx, up.now().Add(-keepDrafts))
	if err != nil {
		up.log.Warn("cannot tidy drafts", "error", err)
	}
	if n > 0 {
		up.log.Info("drafts that nobody started are gone", "drafts", n)
	}
}

func checked(c vault.Checked) *wire.VaultChecked {
	out := wire.VaultChecked{
		Packs: c.Packs, Entries: c.Entries, Bytes: c.Bytes, Damaged: damages(c.Damaged), Touched: []wire.VaultTouched{},
	}
	for _, t := range c.Touched {
		out.Touched = append(out.Touched, wire.VaultTouched(t))
	}
	return &out
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
