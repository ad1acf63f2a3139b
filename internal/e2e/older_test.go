package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// dump gives a copy of the database as it stands now, as a nightly dump would; the service is away for a moment.
func (b *bundle) dump() (database string) {
	b.t.Helper()
	require.NoError(b.t, b.daemon.Close())
	name := b.database[strings.LastIndex(b.database, "/")+1:]
	name, _, _ = strings.Cut(name, "?")
	database, err := postgres.Copy(context.Background(), name)
	require.NoError(b.t, err)
	b.start()
	return database
}

// restoreDump puts a dump in the place of the records; the files are what they are.
func (b *bundle) restoreDump(database string) {
	b.t.Helper()
	require.NoError(b.t, b.daemon.Close())
	b.database = database
	b.start()
}

// An administrator restores yesterday's dump while files have moved on: numbers begin again, and nothing is swapped,
// adopted or dated because of that. What was set aside since is told, and a person decides.
func TestAnOlderDatabaseOverNewerFiles(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 14})
	b.put("fen", "north", nil)
	yesterday := b.dump()
	second := b.put("moor", "north", nil)
	third := b.put("fen", "north", nil)
	stays := func() map[string]string {
		return snapshot(t, filepath.Join(root, "worlds"), "held.lock", "diary.txt", "heart.cbor.gz")
	}
	live := stays()
	stale := filepath.Join(root, second.Plan.Work)
	forgotten := snapshot(t, stale)
	require.Contains(t, forgotten, "aside/fen/")

	b.restoreDump(yesterday)
	alert := b.alertOf("records")
	assert.Equal(t, "These records are older than the files: changeovers after 1 are not known here.", alert.Says)
	alert = b.alertOf("folders")
	assert.Contains(t, alert.Says, filepath.Base(second.Plan.Work))
	assert.Contains(t, alert.Says, filepath.Base(third.Plan.Work))
	assert.Contains(t, alert.Next, "reshard tidy north")
	words := func(args ...string) string { return strings.Join(strings.Fields(b.must(args...)), " ") }
	out := words("tidy", "north")
	assert.Contains(t, out, "north/"+filepath.Base(second.Plan.Work))
	assert.Contains(t, out, "“Fen” (fen)")
	assert.Contains(t, out, "“Moor” (moor)")
	code, _, errs := b.cli("undo", "1", "--yes")
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "later changeovers have been on north")

	// A new changeover fails, and goes back: the live world is there, and not the stale one of its name.
	b.misbehave("north", "exits-early moor")
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "moor", Server: "north"})
	require.NoError(t, err)
	assert.Greater(t, draft.ID, third.ID, "numbers go on after those that the files tell of")
	last := b.carry(draft)
	require.Equal(t, plan.Undone, last.State, last.Failure)
	assert.Equal(t, live, stays())
	assert.Equal(t, forgotten, snapshot(t, stale))
	require.NoError(t, os.Remove(filepath.Join(root, "misbehave")))
	list, err := b.api.Aside(context.Background(), "north")
	require.NoError(t, err)
	for _, one := range list {
		if one.Unknown {
			assert.Nil(t, one.Goes, "it gets no date")
			assert.Nil(t, one.Since)
		}
	}

	// What a person can do: keep it, take it to the library and put it back, remove it by its name.
	folder := filepath.Base(second.Plan.Work)
	assert.Contains(t, words("tidy", "north", folder, "--keep"), "stays as it is")
	assert.Contains(t, words("take-away", "north", "fen", "--aside", folder+"/aside", "--library", "--yes"),
		"It is in the library")
	taken := b.lastChangeover("north")
	require.Equal(t, plan.TakeAway, taken.Kind)
	assert.NotContains(t, b.alertOf("folders").Says, folder)
	back := b.put(taken.Copy, "north", nil)
	require.Equal(t, plan.Done, back.State)
	code, _, errs = b.cli("tidy", "north", filepath.Base(third.Plan.Work), "--confirm", "north/3")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "it must be named")
	words("tidy", "north", filepath.Base(third.Plan.Work), "--confirm", "north/"+filepath.Base(third.Plan.Work))
	assert.NoDirExists(t, filepath.Join(root, third.Plan.Work))
	b.noAlertOf("folders")
	b.noAlertOf("records")
	assert.Equal(t, forgotten, snapshot(t, stale), "what is kept stays")
}
