package e2e

import (
	"context"
	"io"
	"maps"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/cli"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// dump gives a copy of the database as it stands now, as a nightly dump would; the service is away for a moment.
func (b *bundle) dump() (database string) {
	b.t.Helper()
	require.NoError(b.t, b.daemon.Close())
	database = b.copyRecords()
	b.start()
	return database
}

// copyRecords copies the database while no service is there.
func (b *bundle) copyRecords() (database string) {
	b.t.Helper()
	name, _, _ := strings.Cut(b.database[strings.LastIndex(b.database, "/")+1:], "?")
	require.Eventually(b.t, func() bool { // the connections of one that was killed end soon
		var err error
		database, err = postgres.Copy(context.Background(), name)
		return err == nil
	}, 10*time.Second, 100*time.Millisecond)
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
		"To put it on the server again: reshard put")
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

// olderAt dumps the database at a point of a changeover, lets that end and another one follow, and restores the dump.
func olderAt(t *testing.T, kind string, dieAt int64) (points []string, last wire.Changeover) {
	b := cutKind(t, kind, dieAt, quickRules)
	older := b.copyRecords()
	b.start()
	_, err := b.api.Watch(context.Background(), b.draft, func(wire.Changeover) {})
	require.NoError(t, err)
	_ = os.Remove(filepath.Join(b.root, "misbehave"))
	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 223, Tiles: 9})
	b.put("moor", "north", nil)
	stays := func() map[string]string {
		return snapshot(t, b.root, append([]string{".reshard-console", "server.log"}, played[:3]...)...)
	}
	b.must("servers", "stop", "north") // what stands is what is compared
	before := stays()

	b.restoreDump(older)
	require.Eventually(t, func() bool {
		last, err = b.api.Changeover(context.Background(), b.draft)
		require.NoError(t, err)
		return !b.underWay(b.draft) && (!last.State.Open() || last.State == plan.Held)
	}, 20*time.Second, 20*time.Millisecond)
	b.alertOf("records")
	after := stays()
	for name := range after { // the service may only have said that a changeover has ended
		if filepath.Base(name) == plan.MarkFile {
			delete(after, name)
			delete(before, name)
		}
	}
	assert.Equal(t, before, after, "nothing is moved, %s", last.State)
	list, err := b.api.Aside(context.Background(), "north")
	require.NoError(t, err)
	for _, one := range list {
		if one.Unknown {
			assert.Nil(t, one.Goes)
		}
	}
	return b.points, last
}

// underWay reports whether a changeover is carried out at this moment.
func (b *bundle) underWay(id int64) bool {
	c, err := b.api.Changeover(context.Background(), id)
	return err == nil && c.Progress != nil && c.State.Open() && c.State != plan.Held
}

// A dump of any moment of a changeover comes back after that has ended and another one has followed: nothing is moved
// because of it, and a changeover that the dump has under way is held.
func TestADumpOfAnyMoment(t *testing.T) {
	kinds := []string{"put", "switch", "put that goes back"}
	if os.Getenv("RESHARD_EVERY_FAULT") != "" {
		kinds = slices.Sorted(maps.Keys(killKinds))
	}
	gate := make(chan struct{}, atOnce)
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			states := map[plan.State]int{}
			var mu sync.Mutex
			points, _ := olderAt(t, kind, 0)
			at := cutAt(len(points), 3)
			t.Cleanup(func() {
				t.Logf("%-24s dumped at %3d of %3d points: %v; nothing moved", kind, len(at), len(points), states)
			})
			for _, n := range at {
				t.Run(points[n-1], func(t *testing.T) {
					t.Parallel()
					gate <- struct{}{}
					defer func() { <-gate }()
					_, last := olderAt(t, kind, n)
					mu.Lock()
					states[last.State]++
					mu.Unlock()
				})
			}
		})
	}
}

// A new database over folders of an earlier life, and a server's folder that was copied elsewhere: what was set aside
// there is told, gets no date, and is not taken for a new changeover's own.
func TestANewDatabaseOverOldFolders(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	first := b.put("fen", "north", nil)
	b.must("servers", "stop", "north")

	copied := filepath.Join(b.dir, "servers", "copied")
	require.NoError(t, os.CopyFS(copied, os.DirFS(root)))
	command := []string{standin, "quarrymoss", "serve", "."}
	b.add(wire.NewServer{Name: "copied", Game: "quarrymoss", Kind: "plain", Root: copied, Command: command})
	assert.Equal(t, "copied", b.alertOf("folders").Of)
	b.must("servers", "stop", "copied")

	require.NoError(t, b.daemon.Close())
	fresh, err := postgres.Copy(context.Background(), model)
	require.NoError(t, err)
	b.database = fresh
	b.start()
	b.add(wire.NewServer{Name: "north", Game: "quarrymoss", Kind: "plain", Root: root, Command: command})
	assert.Contains(t, b.alertOf("records").Says, "the changeovers that they tell of are not known here")
	before := snapshot(t, filepath.Join(root, first.Plan.Work))
	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 14})
	second := b.put("moor", "north", nil)
	require.Equal(t, plan.Done, second.State, second.Failure)
	assert.Greater(t, second.ID, first.ID)
	list, err := b.api.Aside(context.Background(), "north")
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, one := range list {
		assert.Equal(t, one.Changeover == first.ID, one.Unknown)
		assert.True(t, !one.Unknown || one.Goes == nil)
	}
	assert.Equal(t, before, snapshot(t, filepath.Join(root, first.Plan.Work)))
	back := b.undo(second.ID)
	assert.Equal(t, plan.Done, back.State, "what came after the gap can be undone")
}

// At a machine's start the database may come up after the service: the start waits for it, and says so.
func TestTheStartWaitsForItsDatabase(t *testing.T) {
	t.Parallel()
	b := setup(t)
	require.NoError(t, b.daemon.Close())
	u, err := url.Parse(b.database)
	require.NoError(t, err)
	real := u.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	u.Host = l.Addr().String()
	require.NoError(t, l.Close())
	log := &syncedText{}
	b.log, b.database = log, u.String()
	c := b.config()
	c.WaitForDatabase = time.Minute
	up := make(chan error, 1)
	go func() {
		d, err := cli.Serve(context.Background(), c)
		b.daemon = d
		up <- err
	}()
	require.Eventually(t, func() bool {
		return strings.Contains(log.String(), "waits for the database")
	}, 10*time.Second, 20*time.Millisecond)
	l, err = net.Listen("tcp", u.Host)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", real)
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(to, from); _ = to.Close() }()
			go func() { _, _ = io.Copy(from, to); _ = from.Close() }()
		}
	}()
	require.NoError(t, <-up)
	b.api = signIn(t, b.daemon.Address)
	c.WaitForDatabase, c.Database = 0, "postgres://nobody@127.0.0.1:1/none"
	_, err = cli.Serve(context.Background(), c)
	require.Error(t, err)
	_, next := fault.Words(err)
	assert.Contains(t, next, "--wait-for-database")
}
