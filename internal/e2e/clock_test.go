package e2e

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// records lets a statement loose on the service's records.
func (b *bundle) records(statement string, args ...any) {
	b.t.Helper()
	db, err := sql.Open("pgx", b.database)
	require.NoError(b.t, err)
	defer db.Close() //nolint:errcheck // it was all written
	_, err = db.Exec(statement, args...)
	require.NoError(b.t, err)
}

// The machine's clock was a month ahead and is set back: what came later is still later, though its time is an
// earlier one, and how long players were locked out is not told by times of day.
func TestASetClockOrdersAndMeasuresNothing(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	newest := func() wire.Copy {
		w, err := b.api.World(context.Background(), "fen")
		require.NoError(t, err)
		return w.Copies[0]
	}
	put := b.put("fen", "north", nil)
	b.must("backup", "north")
	first := newest()
	require.Equal(t, plan.Done, b.undo(put.ID).State)
	put = b.put("fen", "north", nil)
	for _, table := range []string{
		`copies SET created_at = created_at + interval '30 days'`,
		`changeovers SET ended_at = ended_at + interval '30 days'`,
		`steps SET done_at = done_at + interval '30 days' WHERE kind = 'stop'`,
	} {
		b.records("UPDATE " + table)
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "worlds", "fen", "signpost.txt"), []byte("left: marsh"), 0o600))
	b.must("backup", "north")
	require.NotEqual(t, first.ID, newest().ID, "what came last is the newest")
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	assert.Equal(t, newest().ID, draft.Copy)
	last := b.carry(draft)
	require.Equal(t, plan.Done, last.State)
	assert.Equal(t, plan.Done, b.undo(last.ID).State, "it is the last one that stands")

	was, err := b.api.Changeover(context.Background(), put.ID)
	require.NoError(t, err)
	require.NotNil(t, was.Window)
	assert.Equal(t, put.Window, was.Window)
	for n, s := range was.Steps {
		assert.Equal(t, put.Steps[n].TookMS, s.TookMS, s.Say)
	}
}

// A rule whose next time was reckoned by a clock that was a month ahead is due again as it says, once that has been
// set right, and what waits in the queue does not wait for a month.
func TestRulesGoOnAfterTheClockWasSetBack(t *testing.T) {
	t.Parallel()
	var leap atomic.Int64
	b := setup(t, func(b *bundle) {
		b.clock = func() time.Time { return time.Now().Add(time.Duration(leap.Load())) }
	})
	b.quarry("north", plot{})
	leap.Store(int64(30 * 24 * time.Hour))
	b.must("rules", "add", "north", "--at", "*/5 * * * *", "--yes")
	due := func() time.Time {
		rules, err := b.api.Rules(context.Background(), "north")
		require.NoError(t, err)
		return *rules[0].Due
	}
	require.Greater(t, time.Until(due()), 29*24*time.Hour)
	leap.Store(0)
	require.Eventually(t, func() bool { return time.Until(due()) < 6*time.Minute }, 20*time.Second, 50*time.Millisecond)

	// one that was put off then
	require.NoError(t, b.daemon.Close())
	b.records(`INSERT INTO river_job (args, kind, max_attempts, state, scheduled_at, queue)
		SELECT jsonb_build_object('rule', id, 'due', now(), 'by', 'warden'), $1, 4, 'scheduled',
		now() + interval '30 days', 'default' FROM rules`, "backup")
	b.start()
	require.Eventually(t, func() bool {
		list, err := b.api.Backups(context.Background(), wire.BackupQuery{Server: "north", State: "done"})
		return err == nil && len(list) == 1
	}, 30*time.Second, 50*time.Millisecond)
}
