package upkeep

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/arrivals"
	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// house is all that upkeep asks, in memory, and what it was asked.
type house struct {
	acting error
	done   map[string]time.Time
	gone   int
	fails  error
	// hold, if any, is waited for by the vault's work.
	hold chan struct{}

	swept, tidied   int
	thinned         int
	keep            []string
	before, drafts  time.Time
	collected       int
	adopted, copies []string
	recovered       []string
}

func (h *house) Soon() {}

func (h *house) Acting() error                          { return h.acting }
func (h *house) Kept(context.Context) ([]string, error) { return h.copies, nil }
func (h *house) Thin(context.Context) error             { h.thinned++; return nil }
func (h *house) Standing(context.Context, time.Duration) (wire.StandingCheck, error) {
	return wire.StandingCheck{}, nil
}
func (h *house) CheckVault(_ context.Context, see func(done, all int64)) (wire.VaultChecked, error) {
	see(1, 4)
	if h.hold != nil {
		<-h.hold
	}
	return wire.VaultChecked{Packs: 3, Damaged: []wire.VaultDamage{{Pack: "p", Why: "it is cut short"}}}, h.fails
}
func (h *house) Recover(context.Context, string, func(done, all int64)) (wire.Recovered, error) {
	return wire.Recovered{Packs: 2}, nil
}
func (h *house) Recovered(_ context.Context, name string) error {
	h.recovered = append(h.recovered, name)
	return nil
}
func (h *house) Holdings(context.Context) (records.Holdings, error) {
	return records.Holdings{Packs: 3}, nil
}
func (h *house) LastDone(_ context.Context, task string) (time.Time, error) { return h.done[task], nil }
func (h *house) SetDone(_ context.Context, task string, at time.Time) error {
	h.done[task] = at
	return nil
}
func (h *house) RemoveDrafts(_ context.Context, before time.Time) (int64, error) {
	h.drafts = before
	return 1, nil
}
func (h *house) Sweep(context.Context) { h.swept++ }
func (h *house) Adopt(_ context.Context, ids []string) error {
	h.adopted = ids
	return nil
}

// shed is the library of a house, uploads are its arrivals, cellar is its vault: their
// methods have the same names.
type shed struct{ *house }

func (s shed) Tidy(context.Context) (int, error) { return s.gone, nil }

type lists struct{ *house }

// Adopt takes nothing for a backup's.
func (l lists) Adopt(_ context.Context, ids []string) ([]string, error) { return ids, nil }

type uploads struct{ *house }

func (u uploads) Tidy(context.Context) { u.tidied++ }

type cellar struct{ *house }

func (c cellar) Collect(_ context.Context, keep []string, before time.Time,
	_ func(done, all int64)) (vault.Collected, error) {
	c.collected++
	c.house.keep, c.house.before = keep, before
	return vault.Collected{}, c.fails
}

func (c cellar) Rebuild(context.Context, func(done, all int64)) (vault.Rebuilt, error) {
	return vault.Rebuilt{Copies: []string{"found"}}, c.fails
}

var noon = time.Date(2026, 11, 14, 12, 0, 0, 0, time.UTC)

func at(h *house, now time.Time) *Upkeep {
	up := New(Config{
		Records: h, Vault: cellar{h}, Library: shed{h}, Arrivals: uploads{h}, Changeovers: h, Backups: lists{h},
		Stores: h,
		Log:    slog.New(slog.NewTextHandler(io.Discard, nil)), Life: context.Background(),
	})
	up.now = func() time.Time { return now }
	up.with.Now = up.now
	return up
}

// When the vault is collected by itself: once a day by the time on record, not by how
// long this service has been up; and at once when a copy has gone.
func TestWhatIsTidiedWhen(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		house    house
		collects bool
	}{
		"never before": {house{}, true},
		"a day ago":    {house{done: map[string]time.Time{"collect": noon.Add(-24 * time.Hour)}}, true},
		"an hour ago":  {house{done: map[string]time.Time{"collect": noon.Add(-time.Hour)}}, false},
		"in a month, said a clock that was set back": {
			house{done: map[string]time.Time{"collect": noon.Add(30 * 24 * time.Hour)}},
			true,
		},
		"an hour ago, a copy gone": {
			house{done: map[string]time.Time{"collect": noon.Add(-time.Hour)}, gone: 1},
			true,
		},
		"another service acts":      {house{acting: errors.New("east acts")}, false},
		"something is being stored": {house{fails: fault.New(fault.Busy, "", "", "a world is being stored")}, true},
	} {
		h := c.house
		h.copies = []string{"one", "two"}
		if h.done == nil {
			h.done = map[string]time.Time{}
		}
		before := h.done["collect"]
		at(&h, noon).tidy(context.Background())
		assert.Equal(t, c.collects, h.collected == 1, name)
		if h.acting != nil {
			assert.Zero(t, h.swept+h.tidied, name)
			continue
		}
		assert.Equal(t, 1, h.swept, name)
		assert.Equal(t, 1, h.tidied, name)
		assert.Equal(t, 1, h.thinned, name)
		assert.Equal(t, noon.Add(-keepDrafts), h.drafts, name)
		switch {
		case c.collects && h.fails == nil:
			assert.Equal(t, noon, h.done["collect"], name)
			assert.Equal(t, h.copies, h.keep, name)
			assert.Equal(t, noon.Add(-arrivals.Kept), h.before, "what may still be arriving stays")
		default:
			assert.Equal(t, before, h.done["collect"], "%s: it is tried again", name)
		}
	}
}

func TestWorkOnTheVaultIsTold(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := &house{done: map[string]time.Time{}, hold: make(chan struct{}), copies: []string{"one"}}
	up := at(h, noon)
	_, err := up.WorkOn(ctx, "check", "", "bryn")
	require.NoError(t, err)
	require.Eventually(t, func() bool { w := up.work.snapshot(); return w.Done == 1 && w.All == 4 }, 5*time.Second,
		time.Millisecond)
	_, err = up.WorkOn(ctx, "collect", "", "ada")
	require.ErrorIs(t, err, fault.Busy.As(), "one work at a time")
	up.keepVaultSmall(ctx)
	assert.Zero(t, h.collected, "the rule waits for its turn too")
	close(h.hold)
	up.Wait()
	seen, err := up.Vault(ctx)
	require.NoError(t, err)
	assert.Equal(t, 3, seen.Packs)
	assert.Equal(t, "bryn", seen.Work.By)
	assert.Equal(t, noon, *seen.Work.Ended)
	require.Len(t, seen.Work.Checked.Damaged, 1)
	assert.Equal(t, "it is cut short", seen.Work.Checked.Damaged[0].Why)
	assert.Nil(t, seen.Work.Failure)

	_, err = up.WorkOn(ctx, "rebuild", "", "ada")
	require.NoError(t, err)
	up.Wait()
	assert.Equal(t, []string{"found"}, h.adopted)

	h.fails, h.adopted = fault.New(fault.NoSpace, "rebuild", "index", "the disk is full"), nil
	_, err = up.WorkOn(ctx, "rebuild", "", "ada")
	require.NoError(t, err)
	up.Wait()
	assert.Nil(t, h.adopted)
	assert.Equal(t, string(fault.NoSpace), up.work.snapshot().Failure.Code)
	assert.NotEmpty(t, up.work.snapshot().Failure.Next)

	_, err = up.WorkOn(ctx, "polish", "", "ada")
	require.NoError(t, err)
	up.Wait()
	assert.Equal(t, string(fault.Invalid), up.work.snapshot().Failure.Code)
}
