package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
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

// Vault tells what the vault holds and what it is doing.
func (s *Service) Vault(ctx context.Context) (wire.Vault, error) {
	h, err := s.records.Holdings(ctx)
	if err != nil {
		return wire.Vault{}, err
	}
	return wire.Vault{
		Packs:   h.Packs,
		Bytes:   h.Bytes,
		Chunks:  h.Chunks,
		Copies:  h.Copies,
		Content: h.Content,
		Work:    s.work.snapshot(),
	}, nil
}

// WorkOnVault begins a check, a collection or a rebuild, which goes on by itself.
func (s *Service) WorkOnVault(ctx context.Context, kind, by string) (wire.Vault, error) {
	if !s.work.begin(kind, by, s.now()) {
		return wire.Vault{}, fault.New(fault.Busy, kind, "the vault", "it is at work already").
			With("reshard vault shows what it is doing.")
	}
	s.running.Go(func() { s.doVaultWork(s.ctx, kind) })
	return s.Vault(ctx)
}

func (s *Service) doVaultWork(ctx context.Context, kind string) {
	err := s.vaultWorkOf(ctx, kind, func(done, all int64) {
		s.work.change(func(w *wire.VaultWork) { w.Done, w.All = done, all })
	})
	ended := s.now()
	s.work.change(func(w *wire.VaultWork) {
		w.Ended = &ended
		if err != nil {
			what, next := fault.Words(err)
			w.Failure = &wire.Failure{Code: string(fault.CodeOf(err)), What: what, Next: next}
		}
	})
	if err != nil {
		s.log.Error("work on the vault failed", "kind", kind, "error", err)
	}
}

func (s *Service) vaultWorkOf(ctx context.Context, kind string, see func(done, all int64)) error {
	copies, err := s.records.Copies(ctx)
	if err != nil {
		return err
	}
	keep := make([]string, len(copies))
	for i, c := range copies {
		keep[i] = c.ID
	}
	switch kind {
	case "check":
		got, err := s.vault.Check(ctx, keep, see)
		s.work.change(func(w *wire.VaultWork) { w.Checked = &got })
		for _, d := range got.Damaged {
			s.log.Error("damage in the vault", "pack", d.Pack, "name", d.Name, "why", d.Why)
		}
		return err
	case "collect":
		got, err := s.vault.Collect(ctx, keep, s.now().Add(-keepArrivals), see)
		s.work.change(func(w *wire.VaultWork) { w.Collected = &got })
		return err
	case "rebuild":
		got, err := s.vault.Rebuild(ctx, see)
		if err == nil {
			err = s.adopt(ctx, got.Copies)
		}
		s.work.change(func(w *wire.VaultWork) { w.Rebuilt = &got })
		return err
	}
	return fault.New(fault.Invalid, "work on", "the vault", "there is no work called %q", kind)
}

// adopt brings copies into the library that are in the vault and that it does not know.
func (s *Service) adopt(ctx context.Context, ids []string) error {
	var failed error
	for _, id := range ids {
		_, err := s.records.CopyByID(ctx, id)
		if fault.CodeOf(err) != fault.NotFound {
			failed = errors.Join(failed, err)
			continue
		}
		c, err := s.vault.Load(ctx, id)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		if err := s.adoptOne(ctx, c); err != nil {
			s.log.Warn("a copy in the vault is not recognised", "copy", id, "error", err)
		}
	}
	return failed
}

func (s *Service) adoptOne(ctx context.Context, c vault.Copy) error {
	w, err := s.readCopy(ctx, c, "found-"+c.ID[:12], "")
	if err != nil {
		return err
	}
	_, _, err = s.records.AddCopy(ctx, records.Copy{
		ID: c.ID, Kind: "arrival", Facts: records.JSON[world.World]{V: w}, Bytes: c.Bytes, Files: int64(len(c.Files)),
		Source: "found in the vault", CreatedBy: "reshard",
	})
	return err
}

// keepVaultSmall lets copies go that have been set aside for long enough, and collects
// once a day, or when something has gone. While something is being stored it is put off.
func (s *Service) keepVaultSmall(ctx context.Context) {
	gone, err := s.tidyLibrary(ctx)
	if err != nil {
		s.log.Warn("cannot tidy the library", "error", err)
	}
	if gone == 0 && s.now().Sub(s.collected) < 24*time.Hour {
		return
	}
	if s.work.begin("collect", "the rule", s.now()) {
		s.doVaultWork(ctx, "collect")
		if w := s.work.snapshot(); w.Failure == nil {
			s.collected = s.now()
		}
	}
}
