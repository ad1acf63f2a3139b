package stores

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// packFiles gives the packs in a folder, by their names.
func packFiles(t *testing.T, dir string) map[string]bool {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "packs", "*", "*"))
	require.NoError(t, err)
	out := map[string]bool{}
	for _, f := range found {
		out[strings.TrimSuffix(filepath.Base(f), sealedEnding)] = true
	}
	return out
}

// later lets the clock go on, as somebody confirms.
func (h *house) later(d time.Duration) {
	h.t.Helper()
	h.leap.Add(int64(d))
	require.NoError(h.t, h.stores.with.Counted.Trust(context.Background()))
}

// restart opens the stores anew, as a new life of the service does.
func (h *house) restart() {
	h.t.Helper()
	with := h.stores.with
	var err error
	h.stores, err = Open(with)
	require.NoError(h.t, err)
}

// keysOf brings the keys of another service here.
func (h *house) keysOf(other *house) {
	h.t.Helper()
	text, err := os.ReadFile(filepath.Join(other.data, KeyFile))
	require.NoError(h.t, err)
	require.NoError(h.t, os.WriteFile(filepath.Join(h.data, KeyFile), text, 0o600))
	h.restart()
}

// A new service on an empty database looks into the store of another, and goes on with its own life for two weeks: not
// one pack of the other's goes, whether it has the key or not.
func TestARecoveryThatNeverEndsTakesNothingAway(t *testing.T) {
	t.Parallel()
	for _, key := range []bool{false, true} {
		t.Run(fmt.Sprint("with the key: ", key), func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			old := newHouse(t)
			for seed := range uint64(20) {
				old.keep(seed, 1)
			}
			dir := old.granary("granary")
			require.NoError(t, old.stores.Send(ctx))
			before := packFiles(t, dir)
			require.Greater(t, len(before), fewPacks)

			n := newHouse(t)
			if key {
				n.keysOf(old)
			}
			s, err := n.stores.Add(ctx, wire.NewStore{Name: "left", Kind: KindFiles, Folder: dir, Recover: true}, "ada")
			require.NoError(t, err)
			assert.True(t, s.ReadOnly)
			assert.Equal(t, len(before), s.Foreign)
			n.keep(77, 2)
			for range 2 {
				_ = n.stores.Send(ctx) // it may say that it does not write there
				_, err = n.stores.Standing(ctx, round)
				require.NoError(t, err)
				_, _ = n.stores.Check(ctx, "left") // without the key it says so
				n.later(8 * 24 * time.Hour)
			}
			assert.Equal(t, before, packFiles(t, dir), "all are there, and nothing was added")
			require.NoError(t, old.stores.Send(ctx), "the other one goes on")
			for range 2 {
				_, err = old.stores.Check(ctx, "granary")
				require.NoError(t, err)
				old.later(8 * 24 * time.Hour)
			}
			assert.Equal(t, before, packFiles(t, dir))
		})
	}
}

// Who takes a store over fences the other off; packs that came so are kept, also when the vault here never had them.
func TestAStoreIsTakenOver(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	old := newHouse(t)
	old.keep(1, 3)
	old.keep(2, 3)
	dir := old.granary("granary")
	require.NoError(t, old.stores.Send(ctx))
	before := packFiles(t, dir)

	n := newHouse(t)
	n.keysOf(old)
	_, err := n.stores.Add(ctx, wire.NewStore{Name: "left", Kind: KindFiles, Folder: dir, Recover: true}, "bryn")
	require.NoError(t, err)
	n.keep(3, 2)
	h, err := n.stores.Holder(ctx, "left")
	require.NoError(t, err)
	assert.Equal(t, len(before), h.Packs)
	assert.Zero(t, h.Known)
	assert.False(t, h.Ours)
	_, err = n.stores.TakeOver(ctx, "left", "something else")
	require.ErrorIs(t, err, fault.Changed.As())
	s, err := n.stores.TakeOver(ctx, "left", h.Mark)
	require.NoError(t, err)
	assert.False(t, s.ReadOnly)
	require.NoError(t, n.stores.Send(ctx))
	for range 2 {
		_, err = n.stores.Standing(ctx, time.Hour)
		require.NoError(t, err)
		n.later(20 * 24 * time.Hour)
	}
	_, err = n.stores.Standing(ctx, time.Hour)
	require.NoError(t, err)
	for p := range before {
		assert.Contains(t, packFiles(t, dir), p)
	}
	assert.Greater(t, len(packFiles(t, dir)), len(before), "its own went there")

	// The former one sees it at once, writes nothing, and says what to do.
	old.keep(9, 1)
	there := packFiles(t, dir)
	err = old.stores.Send(ctx)
	require.ErrorContains(t, err, "taken over by the service on")
	_, err = old.stores.Check(ctx, "granary")
	require.ErrorIs(t, err, fault.Changed.As())
	assert.Equal(t, there, packFiles(t, dir))
	alerts, err := old.stores.Alerts(ctx)
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Contains(t, alerts[0].Next, "take-over granary")
	h, err = old.stores.Holder(ctx, "granary")
	require.NoError(t, err)
	_, err = old.stores.TakeOver(ctx, "granary", h.Mark)
	require.NoError(t, err)
	require.NoError(t, old.stores.Send(ctx))
	require.ErrorIs(t, n.stores.Send(ctx), fault.Changed.As(), "now the other one is fenced off")
}

// A recovery that has come to its end makes what the vault lists this service's own; it is still only read.
func TestAfterARecoveryTheStoreIsStillOnlyRead(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	old := newHouse(t)
	id := old.keep(1, 3)
	dir := old.granary("granary")
	require.NoError(t, old.stores.Send(ctx))
	n := old.recovered(dir)
	n.verify(id)
	s, err := n.stores.Store(ctx, "left")
	require.NoError(t, err)
	assert.Zero(t, s.Foreign)
	assert.True(t, s.ReadOnly)
	before := packFiles(t, dir)
	n.keep(5, 1)
	require.NoError(t, n.stores.Send(ctx))
	assert.Equal(t, before, packFiles(t, dir))
	// Its mark was lost: what is there can still be brought back.
	require.NoError(t, os.Remove(filepath.Join(dir, markKey)))
	require.ErrorIs(t, old.stores.Send(ctx), fault.Changed.As())
	old.recovered(dir).verify(id)
}

// A disk that is not mounted, or another one at its place: nothing is written, and that is said at once.
func TestAnotherDiskAtAStoresPlace(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	h.keep(1, 3)
	dir, other := h.granary("granary"), h.granary("barn")
	require.NoError(t, h.stores.Send(ctx))
	h.keep(2, 3)
	away := dir + "-away"
	require.NoError(t, os.Rename(dir, away))

	says := func(name, words string) {
		t.Helper()
		s, err := h.stores.Store(ctx, name)
		require.NoError(t, err)
		assert.Contains(t, s.Trouble, words)
		assert.NotEmpty(t, s.TroubleNext)
		alerts, err := h.stores.Alerts(ctx)
		require.NoError(t, err)
		require.NotEmpty(t, alerts)
	}
	require.Error(t, h.stores.Send(ctx))
	says("granary", "does not exist")
	require.NoError(t, os.Mkdir(dir, 0o700))
	require.Error(t, h.stores.Send(ctx))
	says("granary", "is missing at its place")
	_, err := h.stores.Check(ctx, "granary")
	require.ErrorIs(t, err, fault.Changed.As(), "a check makes no store either")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)

	// The two are exchanged: neither is written to.
	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Rename(other, dir))
	require.NoError(t, os.Rename(away, other))
	h.keep(3, 1)
	a, b := packFiles(t, dir), packFiles(t, other)
	require.Error(t, h.stores.Send(ctx))
	says("granary", "a different store is at its place")
	assert.Equal(t, a, packFiles(t, dir))
	assert.Equal(t, b, packFiles(t, other))
	holder, err := h.stores.Holder(ctx, "granary")
	require.NoError(t, err)
	_, err = h.stores.TakeOver(ctx, "granary", holder.Mark)
	require.ErrorContains(t, err, "store barn is at its place", "one's own other store is not taken over by mistake")

	require.NoError(t, os.Rename(dir, away))
	require.NoError(t, os.Rename(other, dir))
	require.NoError(t, os.Rename(away, other))
	require.NoError(t, h.stores.Send(ctx), "all goes on by itself")
	s, err := h.stores.Store(ctx, "granary")
	require.NoError(t, err)
	assert.Empty(t, s.Trouble)
	assert.Zero(t, s.Lacks)
}

func TestWhereAStoreMayBe(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	dir, north := t.TempDir(), t.TempDir()
	_, err := h.records.Pool().Exec(ctx, `INSERT INTO servers (name, game, kind, root, command, env, declared_version,
		system, host_id, means, game_root) VALUES ('north', 'g', 'plain', $1, '[]', '{}', '', '',
		(SELECT id FROM hosts WHERE kind = 'local'), '{}', '')`, filepath.Join(north, "srv", "north"))
	require.NoError(t, err)
	mk := func(parts ...string) string {
		d := filepath.Join(append([]string{dir}, parts...)...)
		require.NoError(t, os.MkdirAll(d, 0o700))
		return d
	}
	full := mk("full")
	require.NoError(t, os.WriteFile(filepath.Join(full, "letters.txt"), nil, 0o600))
	postgres := mk("pg")
	require.NoError(t, os.WriteFile(filepath.Join(postgres, "PG_VERSION"), []byte("15"), 0o600))
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink("/etc", link))
	for folder, words := range map[string]string{
		"/etc": "belongs to the system", "/etc/reshard-store": "belongs to the system", "/root": "a shared folder",
		"/srv": "a shared folder", "/root/.ssh": "programs keep keys in",
		filepath.Join(link, "x"):       "belongs to the system",
		full:                           "it has letters.txt",
		mk("pg", "base"):               "in a folder of PostgreSQL",
		h.data:                         "data folder",
		filepath.Join(h.data, "vault"): "data folder",
		filepath.Dir(h.data):           "the service's own data folder (",
		filepath.Join(north, "srv", "north", "x"): "in the folder of a server",
		filepath.Join(north, "srv"):               "the folder of a server (",
		"relative":                                "no absolute path",
		filepath.Join(full, "letters.txt"):        "not a directory",
	} {
		_, err := h.stores.Add(ctx, wire.NewStore{Name: "s", Kind: KindFiles, Folder: folder}, "ada")
		require.Error(t, err, folder)
		assert.Contains(t, err.Error(), words, folder)
	}
	_, err = os.Stat("/etc/reshard-store")
	require.Error(t, err, "nothing was made")
	all, err := h.stores.Stores(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)

	// A new disk has lost+found; on the disk of the vault it is taken, and said as long as it is so.
	disk := mk("disk")
	require.NoError(t, os.Mkdir(filepath.Join(disk, "lost+found"), 0o700))
	s, err := h.stores.Add(ctx, wire.NewStore{Name: "s", Kind: KindFiles, Folder: disk}, "ada")
	require.NoError(t, err)
	require.Len(t, s.Warnings, 1)
	assert.Contains(t, s.Warnings[0], "on the same disk as the vault")

	// A server comes to where the store is: nothing is written there until somebody says that it is meant.
	require.NoError(t, h.stores.Send(ctx))
	_, err = h.records.Pool().Exec(ctx, `UPDATE servers SET root = $1`, disk)
	require.NoError(t, err)
	h.keep(1, 1)
	require.ErrorIs(t, h.stores.Send(ctx), fault.Refused.As())
	alerts, err := h.stores.Alerts(ctx)
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Contains(t, alerts[0].Next, "reshard stores confirm s")
	assert.Empty(t, packFiles(t, disk))
	_, err = h.stores.Confirm(ctx, "s", "ada")
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	assert.NotEmpty(t, packFiles(t, disk))
}

// A key that is made while packs go out: each goes out once for either key, and all are for the new one.
func TestANewKeyDuringASend(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	for seed := range uint64(12) {
		h.keep(seed, 1)
	}
	h.granary("granary")
	var sends atomic.Int64
	h.trace = func(point string) {
		if strings.HasPrefix(point, "send ") && sends.Add(1) == 5 {
			_, err := h.stores.Rotate(ctx)
			assert.NoError(t, err)
		}
	}
	ctx, done := context.WithTimeout(ctx, 30*time.Second)
	defer done()
	require.NoError(t, h.stores.Send(ctx))
	assert.LessOrEqual(t, sends.Load(), int64(24))
	k, err := h.stores.Keys(ctx)
	require.NoError(t, err)
	assert.Equal(t, 12, k.Keys[0].Packs)
	assert.Zero(t, k.Keys[1].Packs)
}

// One pack is refused; the others go, and it is listed with why and when it is tried again.
func TestOnePackIsRefused(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, g := newHouse(t), newGateway(t)
	for seed := range uint64(6) {
		h.keep(seed, 1)
	}
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	packs, err := h.vault.Packs(ctx)
	require.NoError(t, err)
	g.refuse.Store(packs[0].ID)
	require.ErrorContains(t, h.stores.Send(ctx), "does not accept one pack")
	s, err := h.stores.Store(ctx, "far")
	require.NoError(t, err)
	assert.Equal(t, 1, s.Lacks)
	require.Len(t, s.Waiting, 1)
	assert.Equal(t, packs[0].ID, s.Waiting[0].Pack)
	assert.Contains(t, s.Waiting[0].Why, "no permission to write to it (AccessDenied)")
	assert.Contains(t, s.Trouble, "does not accept one pack")
	g.refuse.Store("")
	require.Error(t, h.stores.Send(ctx), "its time has not come")
	h.stores.now = func() time.Time { return time.Now().Add(2 * time.Minute) }
	require.NoError(t, h.stores.Send(ctx))
	s, err = h.stores.Store(ctx, "far")
	require.NoError(t, err)
	assert.Zero(t, s.Lacks)
	assert.Empty(t, s.Waiting)
	assert.Empty(t, s.Trouble)
}

// Packs that are larger than one request takes go in parts, come back, and leave nothing when they are cut off.
func TestALargePack(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, g := newHouse(t), newGateway(t)
	id := h.keepBytes(1, 3, 9<<20)
	packs, err := h.vault.Packs(ctx)
	require.NoError(t, err)
	require.Greater(t, packs[0].Bytes, int64(20<<20))
	_, err = h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	g.cut.Store(9 << 20)
	require.Error(t, h.stores.Send(ctx))
	g.cut.Store(0)
	assert.Empty(t, g.objects(t), "nothing that was cut off is there")
	require.NoError(t, h.stores.Send(ctx))
	assert.Len(t, g.objects(t), len(packs))
	assert.GreaterOrEqual(t, g.parts.Load(), int64(3))
	got, err := h.stores.Check(ctx, "far")
	require.NoError(t, err)
	assert.Empty(t, got.Findings)

	n := newHouse(t)
	n.keysOf(h)
	in := g.at()
	in.Recover = true
	_, err = n.stores.Add(ctx, in, "bryn")
	require.NoError(t, err)
	_, err = n.stores.Recover(ctx, "far", func(_, _ int64) {})
	require.NoError(t, err)
	n.verify(id)
	spool, err := filepath.Glob(filepath.Join(n.data, "pack-*"))
	require.NoError(t, err)
	assert.Empty(t, spool)
}

// A store that takes and never answers holds up no other, and its work ends when it is removed.
func TestARemovedStoresWorkEnds(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, g := newHouse(t), newGateway(t)
	h.keep(1, 2)
	dir := h.granary("granary")
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	g.hang.Store(true)
	sent := make(chan error, 1)
	go func() { sent <- h.stores.Send(ctx) }()
	require.Eventually(t, func() bool { return len(packFiles(t, dir)) > 0 && g.hanging.Load() > 0 }, 10*time.Second,
		10*time.Millisecond, "the other one gets its packs")
	begun := time.Now()
	require.NoError(t, h.stores.Remove(ctx, "far"))
	require.NoError(t, <-sent)
	assert.Less(t, time.Since(begun), time.Second)
	g.hang.Store(false)
	all, err := h.stores.Stores(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

// Much that is not needed any more at once waits for a person, who confirms exactly what was listed.
func TestManyDeletionsAreAskedFor(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	var ids []string
	for seed := range uint64(24) {
		ids = append(ids, h.keep(seed, 1))
	}
	dir := h.granary("granary")
	require.NoError(t, h.stores.Send(ctx))
	drop := func(n int) {
		for _, id := range ids[:n] {
			h.gone(id)
		}
		ids = ids[n:]
		_, err := h.vault.Collect(ctx, ids, time.Now(), nil)
		require.NoError(t, err)
		require.NoError(t, h.stores.Send(ctx))
		_, err = h.stores.Standing(ctx, time.Hour)
		require.NoError(t, err)
	}
	before := packFiles(t, dir)
	drop(14)
	s, err := h.stores.Store(ctx, "granary")
	require.NoError(t, err)
	require.NotEmpty(t, s.Deletes, "what will be deleted is listed, and when")
	assert.False(t, s.Deletes[0].Due)
	assert.Empty(t, s.Asks)
	h.later(8 * 24 * time.Hour)
	_, err = h.stores.Standing(ctx, time.Hour)
	require.NoError(t, err)
	s, err = h.stores.Store(ctx, "granary")
	require.NoError(t, err)
	assert.Contains(t, s.Asks, "more than a tenth")
	for p := range before {
		assert.Contains(t, packFiles(t, dir), p)
	}
	alerts, err := h.stores.Alerts(ctx)
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	assert.Equal(t, "reshard stores tidy granary", alerts[0].Next)

	var due []string
	for _, d := range s.Deletes {
		require.True(t, d.Due)
		due = append(due, d.Pack)
	}
	needed := vaultPacks(t, h)
	_, err = h.stores.Tidy(ctx, "granary", append([]string{needed[0]}, due...))
	require.ErrorIs(t, err, fault.Changed.As(), "one that the vault needs")
	assert.Len(t, packFiles(t, dir), s.Packs, "nothing was deleted")
	_, err = h.stores.Tidy(ctx, "granary", due[:3])
	require.NoError(t, err)
	there := packFiles(t, dir)
	for i, p := range due {
		assert.Equal(t, i >= 3, there[p], "exactly what was confirmed")
	}
	s, err = h.stores.Store(ctx, "granary")
	require.NoError(t, err)
	assert.Len(t, s.Deletes, len(due)-3)
}

// What a collection wrote anew has not reached the store: what it has of before may be all that is left of it there.
func TestNothingIsDeletedWhereSomethingLacks(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	ids := []string{h.keep(1, 1), h.keep(2, 1), h.keep(3, 1)}
	dir := h.granary("granary")
	require.NoError(t, h.stores.Send(ctx))
	before := packFiles(t, dir)
	_, err := h.vault.Collect(ctx, ids, time.Now(), nil)
	require.NoError(t, err)
	for range 3 {
		_, err = h.stores.Standing(ctx, time.Hour)
		require.NoError(t, err)
		h.later(8 * 24 * time.Hour)
	}
	for p := range before {
		assert.Contains(t, packFiles(t, dir), p)
	}
	require.NoError(t, h.stores.Send(ctx))
	_, err = h.stores.Standing(ctx, time.Hour)
	require.NoError(t, err)
	h.recovered(dir).verify(ids...)
	assert.Len(t, packFiles(t, dir), len(vaultPacks(t, h)), "then they go")
}

// Before anything is deleted in a store, all of it must be known to read.
func TestNothingIsDeletedWhereSomethingDoesNotRead(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for name, c := range map[string]struct {
		do    func(t *testing.T, h *house, dir string)
		words string
	}{
		"a read failed": {func(t *testing.T, h *house, _ string) {
			_, err := h.records.Pool().Exec(ctx, `UPDATE store_packs SET trouble = 'it does not allow that'
				WHERE pack IN (SELECT id FROM vault_packs LIMIT 1)`)
			require.NoError(t, err)
		}, "could not be read"},
		"a key is missing": {func(t *testing.T, h *house, _ string) {
			require.NoError(t, os.Remove(filepath.Join(h.data, KeyFile)))
			h.restart()
		}, "is missing from"},
		"not listed": {func(t *testing.T, h *house, _ string) {
			_, err := h.records.Pool().Exec(ctx, `UPDATE stores SET surveyed_at = NULL`)
			require.NoError(t, err)
		}, "is incomplete"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			ids := []string{h.keep(1, 1), h.keep(2, 1), h.keep(3, 1)}
			dir := h.granary("granary")
			require.NoError(t, h.stores.Send(ctx))
			h.gone(ids[0])
			_, err := h.vault.Collect(ctx, ids[1:], time.Now(), nil)
			require.NoError(t, err)
			require.NoError(t, h.stores.Send(ctx))
			_, err = h.stores.Standing(ctx, time.Hour)
			require.NoError(t, err)
			h.later(8 * 24 * time.Hour)
			c.do(t, h, dir)
			before := packFiles(t, dir)
			s, err := h.records.StoreNamed(ctx, "granary")
			require.NoError(t, err)
			require.NoError(t, h.stores.tidyStore(ctx, s))
			got, err := h.stores.Store(ctx, "granary")
			require.NoError(t, err)
			assert.Contains(t, got.Asks, c.words)
			assert.Equal(t, before, packFiles(t, dir))
		})
	}
}

// What stores of earlier builds have gets an id once, only where the mark names this vault.
func TestAStoreFromBeforeMarksHadIds(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	h.keep(1, 1)
	dir := h.granary("granary")
	require.NoError(t, h.stores.Send(ctx))
	old := func(vault string) {
		_, err := h.records.Pool().Exec(ctx, `UPDATE stores SET mark = NULL`)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, markKey), fmt.Appendf(nil,
			`{"reshard":"store/1","vault":%q,"plain":false,"made":"2026-01-02T03:04:05Z"}`, vault), 0o600))
	}
	old("somebody else's")
	h.keep(2, 1)
	before := packFiles(t, dir)
	require.ErrorIs(t, h.stores.Send(ctx), fault.Changed.As())
	assert.Equal(t, before, packFiles(t, dir))
	old(h.data)
	require.NoError(t, h.stores.Send(ctx))
	var m mark
	data, err := os.ReadFile(filepath.Join(dir, markKey))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &m))
	assert.Equal(t, markFormat, m.Reshard)
	assert.NotEmpty(t, m.ID)
	assert.Equal(t, 1, m.Generation)
	id := m.ID
	require.NoError(t, h.stores.Send(ctx))
	data, err = os.ReadFile(filepath.Join(dir, markKey))
	require.NoError(t, err)
	assert.Contains(t, string(data), id, "once")
}

func TestWordsOfStores(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, g := newHouse(t), newGateway(t)
	in := g.at()
	in.Private = false
	_, err := h.stores.Add(ctx, in, "ada")
	_, next := fault.Words(err)
	assert.Contains(t, next, "--private")
	in = g.at()
	in.Secret = "peas"
	_, err = h.stores.Add(ctx, in, "ada")
	_, next = fault.Words(err)
	assert.NotContains(t, next, "stores show", "it is not there to be shown")

	// A key that may write and not delete is not called wrong.
	ids := []string{h.keep(1, 1), h.keep(2, 1)}
	_, err = h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	h.gone(ids[0])
	_, err = h.vault.Collect(ctx, ids[1:], time.Now(), nil)
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	_, err = h.stores.Check(ctx, "far")
	require.NoError(t, err)
	h.later(8 * 24 * time.Hour)
	g.keepAll.Store(true)
	_, err = h.stores.Check(ctx, "far")
	require.ErrorContains(t, err, "no permission to delete in it (AccessDenied)")
	s, err := h.stores.Store(ctx, "far")
	require.NoError(t, err)
	assert.Contains(t, s.Asks, "no permission to delete in it")
}

// A peer that sends an object without an end costs neither memory nor time.
func TestAnObjectWithoutAnEnd(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, g := newHouse(t), newGateway(t)
	h.keep(1, 1)
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	g.endless.Store(true)
	got, err := h.stores.Check(ctx, "far")
	require.NoError(t, err)
	require.NotEmpty(t, got.Findings)
	assert.Contains(t, got.Findings[0].What, "larger than any pack")
}

// vaultPacks gives the packs that a vault lists.
func vaultPacks(t *testing.T, h *house) (ids []string) {
	t.Helper()
	packs, err := h.vault.Packs(context.Background())
	require.NoError(t, err)
	for _, p := range packs {
		ids = append(ids, p.ID)
	}
	return ids
}
