package e2e

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// backup backs a server up at the command line.
func (b *bundle) backup(server string, flags ...string) (out wire.Backup) {
	b.t.Helper()
	code, text, errs := b.cli(append([]string{"--json", "backup", server}, flags...)...)
	require.Equal(b.t, 0, code, "%s%s", text, errs)
	require.NoError(b.t, json.Unmarshal([]byte(text), &out))
	return out
}

// runRule has a server's usual rule followed, once it is not being followed any more.
func (b *bundle) runRule(server string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		_, err := b.api.RunRule(context.Background(), server, "usual")
		return err == nil
	}, 30*time.Second, 50*time.Millisecond)
}

// writer keeps writing to a world that runs, the same number into two places one after the other, until it is
// told to end; moment tells of a copy of that world whether it is of one moment.
type writer struct {
	begin  func(t *testing.T, world string) (end func())
	moment func(t *testing.T, world string)
	whole  plan.Wholeness
}

func noWriter(*testing.T, string) func() { return func() {} }

// pairs writes two files one after the other, rests, and so on.
func pairs(rest time.Duration) func(*testing.T, string) func() {
	return func(t *testing.T, world string) func() {
		ctx, stop := context.WithCancel(context.Background())
		var running sync.WaitGroup
		running.Go(func() {
			for n := 1; ctx.Err() == nil; n++ {
				for _, name := range quarrymoss.Works {
					assert.NoError(t, os.WriteFile(filepath.Join(world, name), []byte(strconv.Itoa(n)), 0o644))
					time.Sleep(100 * time.Millisecond)
				}
				select {
				case <-ctx.Done():
				case <-time.After(rest):
				}
			}
		})
		return func() { stop(); running.Wait() }
	}
}

func samePair(t *testing.T, world string) {
	var seen []string
	for _, name := range quarrymoss.Works {
		data, err := os.ReadFile(filepath.Join(world, name))
		require.NoError(t, err)
		seen = append(seen, string(data))
	}
	assert.Equal(t, seen[0], seen[1], "both were written before the moment of the copy")
}

// rows writes the same number into two tables of a database, in one transaction, again and again.
func rows(t *testing.T, world string) func() {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(world, "mod_storage.sqlite")+"?_pragma=busy_timeout(20000)")
	require.NoError(t, err)
	for _, name := range []string{"dug", "hauled"} {
		_, err := db.Exec("CREATE TABLE IF NOT EXISTS " + name + " (n integer)")
		require.NoError(t, err)
		_, err = db.Exec("INSERT INTO " + name + " VALUES (0)")
		require.NoError(t, err)
	}
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() {
		for ctx.Err() == nil {
			tx, err := db.Begin()
			if err == nil {
				_, err = tx.Exec("UPDATE dug SET n = n + 1")
			}
			if err == nil {
				_, err = tx.Exec("UPDATE hauled SET n = n + 1")
			}
			if err == nil {
				err = tx.Commit()
			}
			if !assert.NoError(t, err) {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
	})
	return func() { stop(); running.Wait(); _ = db.Close() }
}

func sameRows(t *testing.T, world string) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(world, "mod_storage.sqlite")+"?mode=ro")
	require.NoError(t, err)
	defer db.Close() //nolint:errcheck // only read
	var dug, hauled int
	require.NoError(t, db.QueryRow("SELECT (SELECT n FROM dug), (SELECT n FROM hauled)").Scan(&dug, &hauled))
	assert.Equal(t, dug, hauled, "no transaction was cut in two")
	assert.Positive(t, dug)
	var says string
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&says))
	assert.Equal(t, "ok", says)
}

// On every game, the real ones too: a backup while something writes, restored to a server that has no world. What
// stands there then is what the backup has, and that is a state that the world had at one moment.
func TestABackupWhileSomethingWrites(t *testing.T) {
	t.Parallel()
	for id, w := range map[string]writer{
		"quarrymoss": {noWriter, samePair, plan.WholeHeld}, // the game itself is busy
		"saltmarch":  {pairs(3 * time.Second), samePair, plan.WholeStill},
		"emberlode":  {noWriter, func(*testing.T, string) {}, plan.WholeSaved},
		"openttd":    {noWriter, func(*testing.T, string) {}, plan.WholeSaved},
		"minetest":   {rows, sameRows, plan.WholeDatabases},
		// on another machine, by the programs that are there
		"minetest far": {rows, sameRows, plan.WholeDatabases},
	} {
		t.Run(id, func(t *testing.T) {
			t.Parallel()
			b := setup(t, quickRules)
			game, far := strings.CutSuffix(id, " far")
			if far {
				b.machine(farhost.Shape{}, 5*time.Millisecond)
			}
			entrants[game](b)
			ctx := context.Background()
			if id == "quarrymoss" {
				b.must("servers", "stop", "one")
				b.misbehave("one", "busy")
				b.must("servers", "start", "one")
			}
			one, err := b.api.Server(ctx, "one")
			require.NoError(t, err)
			world := filepath.Join(b.dir, "servers", "one", one.Facts.WorldsFolder, one.Server.Active)
			end := w.begin(t, world)
			got := b.backup("one")
			end()
			require.True(t, got.Good, got.Says)
			of := got.Worlds[len(got.Worlds)-1]
			assert.Equal(t, w.whole, of.Wholeness, of.Says)
			s, err := b.api.Server(ctx, "one")
			require.NoError(t, err)
			assert.Equal(t, "running", s.Server.State)

			// The other server loses all of its worlds.
			b.must("servers", "stop", "two")
			root := filepath.Join(b.dir, "servers", "two", one.Facts.WorldsFolder)
			left, err := os.ReadDir(root)
			require.NoError(t, err)
			for _, e := range left {
				require.NoError(t, os.RemoveAll(filepath.Join(root, e.Name())))
			}
			wish := wire.Wish{
				Kind: plan.Restore, Backup: got.ID, Server: "two", World: of.World,
				Choices: map[string]string{
					"folder-name": of.World,
					"players":     "keep",
					"overrides":   "leave",
					"version":     "go-on",
				},
			}
			draft, err := b.api.Draft(ctx, wish)
			if err != nil { // not every game asks all of it
				wish.Choices = map[string]string{"folder-name": of.World}
				draft, err = b.api.Draft(ctx, wish)
			}
			require.NoError(t, err)
			last := b.carry(draft)
			require.Equal(t, plan.Done, last.State, "%+v %+v", last.Failure, last.Proof)
			b.must("servers", "stop", "two")
			w.moment(t, filepath.Join(root, of.World))
		})
	}
}

// Wherever a server lives it is backed up while it runs, as whole as its host lets it, and comes back.
func TestABackupOnEveryKindOfHost(t *testing.T) {
	t.Parallel()
	for name, place := range map[string]struct {
		far   func(*bundle)
		whole plan.Wholeness
	}{
		"commands": {func(b *bundle) { b.machine(farhost.Shape{}, 5*time.Millisecond) }, plan.WholeHeld},
		"files alone": {
			func(b *bundle) { b.machine(farhost.Shape{FilesOnly: true}, 5*time.Millisecond) },
			plan.WholeStill,
		},
		"FTP and a provider": {func(b *bundle) {
			b.quay(farhost.FTPShape{}, 5*time.Millisecond)
			b.rent("quarrymoss")
		}, plan.WholeHeld},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t, quickRules)
			place.far(b)
			root := b.quarry("north", plot{})
			got := b.backup("north")
			require.True(t, got.Good, got.Says)
			assert.Equal(t, place.whole, got.Worlds[0].Wholeness, got.Says)
			again := b.backup("north")
			assert.Equal(t, got.Worlds[0].Copy, again.Worlds[0].Copy, "nobody has played")

			tiles, err := filepath.Glob(filepath.Join(root, "worlds", "winter", "ground", "*.qt"))
			require.NoError(t, err)
			was, err := os.ReadFile(tiles[0])
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(tiles[0], was[:len(was)-5], 0o644))
			draft, err := b.api.Draft(context.Background(), wire.Wish{
				Kind: plan.Restore, Backup: got.ID, Server: "north", World: "winter",
				What: "files", Files: []string{"ground/" + filepath.Base(tiles[0])},
			})
			require.NoError(t, err)
			last := b.carry(draft)
			require.Equal(t, plan.Done, last.State, "%+v", last.Failure)
			now, err := os.ReadFile(tiles[0])
			require.NoError(t, err)
			assert.Equal(t, was, now)
		})
	}
}

// A world that never stands still is stored all the same, and is said not to be sure; with leave the server is
// stopped for a moment.
func TestABackupOfAWorldThatNeverStandsStill(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root, world, _ := b.saltmarsh("marsh")
	end := pairs(300*time.Millisecond)(t, filepath.Join(root, saltmarch.WorldsFolder, world))
	defer end()
	got := b.backup("marsh")
	assert.False(t, got.Good)
	assert.Equal(t, plan.NotWhole, got.Worlds[0].Wholeness)
	assert.NotEmpty(t, got.Worlds[0].Moved)
	assert.Contains(t, got.Says, "Not sure to be whole")
}

// What has not changed is not read again, and stands as before: no copy is made of it. What was written without its
// showing in size and time is found when everything is read.
func TestAnUnchangedWorldMakesNoCopy(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{stopped: true})
	long := time.Now().Add(-time.Hour)
	tile := ""
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "worlds"), func(p string, d os.DirEntry, err error) error {
		if strings.HasSuffix(p, ".qt") {
			tile = p
		}
		return os.Chtimes(p, long, long)
	}))
	first := b.backup("north")
	second := b.backup("north")
	assert.Equal(t, first.Worlds[0].Copy, second.Worlds[0].Copy)
	assert.True(t, second.Worlds[0].AsBefore)
	assert.Contains(t, second.Says, "stood as before")
	c, err := b.api.Changeover(context.Background(), second.Changeover)
	require.NoError(t, err)
	assert.Zero(t, c.Steps[0].Bytes, "nothing was read")

	data, err := os.ReadFile(tile)
	require.NoError(t, err)
	data[len(data)-1] ^= 1
	require.NoError(t, os.WriteFile(tile, data, 0o644))
	require.NoError(t, os.Chtimes(tile, long, long))
	assert.True(t, b.backup("north").Worlds[0].AsBefore, "it does not show")
	assert.False(t, b.backup("north", "--read-all").Worlds[0].AsBefore)

	list, err := b.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	require.Len(t, list, 1, "they are copies of one world")
	assert.Len(t, list[0].Copies, 2)
}

// A server that runs is not read whole again either, though its world is copied in two passes.
func TestAnUnchangedWorldIsNotReadAgainWhilePeoplePlay(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{})
	long := time.Now().Add(-time.Hour)
	require.NoError(t, filepath.WalkDir(filepath.Join(root, "worlds"), func(p string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(p, ".qt") {
			return os.Chtimes(p, long, long)
		}
		return err
	}))
	read := func(made wire.Backup) (n int64) {
		c, err := b.api.Changeover(context.Background(), made.Changeover)
		require.NoError(t, err)
		for _, s := range c.Steps {
			n += s.Bytes
		}
		return n
	}
	first := b.backup("north")
	second := b.backup("north")
	assert.Less(t, read(second), read(first)/2)
	whole := b.backup("north", "--read-all")
	assert.GreaterOrEqual(t, read(whole), read(first)*9/10)
}

// A backup gives way to a changeover, lets its server write again, and is made again by its rule.
func TestABackupGivesWay(t *testing.T) {
	t.Parallel()
	// What looks for backups that have ended untold does so all the time: it must not be quicker than the telling.
	b := setup(t, func(b *bundle) { b.rulePace = time.Millisecond })
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222})
	var once sync.Once
	reached, goOn := make(chan struct{}), make(chan struct{})
	var held atomic.Bool
	b.trace = func(point string) {
		if strings.Contains(point, "tell acted") && held.CompareAndSwap(false, true) {
			once.Do(func() { close(reached); <-goOn })
		}
	}
	ctx := context.Background()
	l := keep.Long{{Span: keep.Span{Ever: true}}}
	_, err := b.api.AddRule(ctx, "north", wire.NewRule{Rule: keep.Rule{When: keep.When{Cron: "0 4 * * *"}, Long: l}})
	require.NoError(t, err)
	_, err = b.api.RunRule(ctx, "north", "usual")
	require.NoError(t, err)
	<-reached
	draft, err := b.api.Draft(ctx, wire.Wish{Kind: "put", World: "fen", Server: "north"})
	require.NoError(t, err)
	go func() { time.Sleep(time.Second); close(goOn) }()
	last := b.carry(draft)
	require.Equal(t, plan.Done, last.State, "%+v", last.Failure)
	list, err := b.api.Backups(ctx, wire.BackupQuery{Server: "north"})
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Equal(t, "gave-way", list[len(list)-1].State, list[len(list)-1].Says)
	log, err := os.ReadFile(filepath.Join(b.dir, "servers", "north", ".reshard-console", "log"))
	if err == nil {
		assert.Contains(t, string(log), "writes released")
	}
}

// A rule that was missed is made up for once, and its next time is one to come.
func TestAMissedRuleIsMadeUpForOnce(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.quarry("north", plot{})
	ctx := context.Background()
	b.must("rules", "add", "north", "--at", "0 4 * * *", "--zone", "Europe/Oslo", "--keep", "all for 2 days", "--yes")
	db, err := sql.Open("pgx", b.database)
	require.NoError(t, err)
	defer db.Close() //nolint:errcheck // the test is over
	_, err = db.Exec(`UPDATE rules SET due_at = now() - interval '3 days'`)
	require.NoError(t, err)
	done := func() []wire.Backup {
		list, err := b.api.Backups(ctx, wire.BackupQuery{Server: "north", State: "done"})
		require.NoError(t, err)
		return list
	}
	require.Eventually(t, func() bool { return len(done()) == 1 }, 30*time.Second, 50*time.Millisecond)
	time.Sleep(500 * time.Millisecond)
	list := done()
	require.Len(t, list, 1)
	assert.Equal(t, "usual", list[0].Rule)
	rules, err := b.api.Rules(ctx, "north")
	require.NoError(t, err)
	assert.True(t, rules[0].Due.After(time.Now()))
	assert.NotNil(t, rules[0].LastGood)

	b.runRule("north")
	require.Eventually(t, func() bool { return len(done()) == 2 }, 30*time.Second, 50*time.Millisecond)
	b.must("rules", "pause", "north", "usual")
	assert.Contains(t, b.must("rules"), "paused by warden")
	code, _, errs := b.cli("rules", "add", "north", "--at", "0 4 * * *", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "has a rule of that name")

	// What fails needs a person, and is well again with the next good one.
	require.NoError(t, os.Rename(filepath.Join(b.dir, "servers", "north", "worlds"), filepath.Join(b.dir, "away")))
	b.must("rules", "resume", "north", "usual")
	b.runRule("north")
	require.Eventually(t, func() bool {
		alerts, err := b.api.Alerts(ctx)
		return err == nil && len(alerts) == 1 && strings.Contains(alerts[0].Says, "The last backup failed")
	}, 60*time.Second, 100*time.Millisecond)
	assert.Contains(t, b.must("servers"), "! Rule usual of north")
	require.NoError(t, os.Rename(filepath.Join(b.dir, "away"), filepath.Join(b.dir, "servers", "north", "worlds")))
	b.runRule("north")
	require.Eventually(t, func() bool {
		alerts, err := b.api.Alerts(ctx)
		return err == nil && len(alerts) == 0
	}, 60*time.Second, 100*time.Millisecond)
}

// Somebody plays: a backup is due every so often, and none when nobody does.
func TestARuleWhileSomebodyPlays(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.quarry("north", plot{})
	ctx := context.Background()
	b.must("rules", "add", "north", "--while-played", "1m", "--keep", "all for ever", "--yes")
	time.Sleep(time.Second)
	list, err := b.api.Backups(ctx, wire.BackupQuery{})
	require.NoError(t, err)
	require.Empty(t, list, "nobody plays")
	s, err := b.api.Server(ctx, "north")
	require.NoError(t, err)
	conn, err := net.Dial("tcp", s.Server.Join)
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // Ada goes
	fmt.Fprintln(conn, "Ada")
	require.Eventually(t, func() bool {
		list, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
		return err == nil && len(list) == 1
	}, 30*time.Second, 100*time.Millisecond)
}

// What a server may have in all stands above how long its rules keep, and leaves what was made by hand.
func TestAServersAllowance(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{stopped: true})
	ctx := context.Background()
	tile, err := filepath.Glob(filepath.Join(root, "worlds", "winter", "ground", "*.qt"))
	require.NoError(t, err)
	b.backup("north")
	b.must("rules", "add", "north", "--at", "0 4 1 1 *", "--keep", "all for ever", "--yes")
	for n := range 4 {
		require.NoError(t, os.WriteFile(tile[0], fmt.Appendf(nil, "QMT1 %d", n), 0o644))
		require.Eventually(t, func() bool {
			code, _, _ := b.cli("rules", "run", "north", "usual")
			return code == 0
		}, 20*time.Second, 50*time.Millisecond)
		require.Eventually(t, func() bool {
			list, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
			return err == nil && len(list) == n+2
		}, 30*time.Second, 50*time.Millisecond)
	}
	code, _, errs := b.cli("rules", "allow", "south", "--most", "3")
	assert.Equal(t, 1, code, errs)
	out := b.must("rules", "allow", "north", "--most", "3")
	assert.Contains(t, out, "All servers together may have: any number and size of backups")
	assert.Contains(t, out, "north may have: 3 backups")
	require.Eventually(t, func() bool {
		list, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
		return err == nil && len(list) == 3 && list[2].Rule == "" // the one by hand, and the two that are youngest
	}, 20*time.Second, 50*time.Millisecond)
	aside, err := b.api.Backups(ctx, wire.BackupQuery{Aside: true})
	require.NoError(t, err)
	require.Len(t, aside, 2)
	assert.Contains(t, aside[0].AsideBy, "the allowance for north is used up")
	assert.Contains(t, b.must("rules", "allow", "north", "--most", "0"), "All servers together")
	assert.NotContains(t, b.must("rules", "allow"), "north may have")
}

// Room that gets short is told at the top of the servers, once, until there is clearly more again.
func TestRoomIsShort(t *testing.T) {
	t.Parallel()
	var free atomic.Int64
	free.Store(90 << 30)
	b := setup(t, func(b *bundle) { b.disk = func() (int64, int64, error) { return free.Load(), 100 << 30, nil } })
	b.quarry("north", plot{stopped: true})
	alerts := func() []wire.Alert {
		list, err := b.api.Alerts(context.Background())
		require.NoError(t, err)
		return list
	}
	require.Empty(t, alerts())
	free.Store(4 << 30)
	require.Len(t, alerts(), 1)
	out := b.must("servers")
	assert.Contains(t, out, "has 4.0 GiB free of 100 GiB")
	assert.Contains(t, out, "reshard backups --report")
	free.Store(6 << 30)
	assert.Len(t, alerts(), 1, "a little more is not enough")
	free.Store(7 << 30)
	assert.Empty(t, alerts())
}

// The machine's clock leaps by months: nothing goes for it. Backups grow old by time that has passed.
func TestALeapOfTheClockRemovesNothing(t *testing.T) {
	t.Parallel()
	var leap atomic.Int64
	b := setup(t, func(b *bundle) {
		b.keepAside = time.Hour
		b.clock = func() time.Time { return time.Now().Add(time.Duration(leap.Load())) }
	})
	b.quarry("north", plot{})
	ctx := context.Background()
	later := time.Now().UTC().AddDate(0, 0, 200) // never in this test
	b.must("rules", "add", "north", "--at", fmt.Sprintf("0 4 %d %d *", later.Day(), later.Month()), "--keep",
		"all for 1 hour", "--yes")
	done := func(n int) []wire.Backup {
		var list []wire.Backup
		require.Eventually(t, func() bool {
			var err error
			list, err = b.api.Backups(ctx, wire.BackupQuery{State: "done"})
			return err == nil && len(list) == n
		}, 30*time.Second, 50*time.Millisecond, "%d", n)
		return list
	}
	for n := 1; n <= 3; n++ {
		b.runRule("north")
		done(n)
		if n == 2 {
			leap.Store(int64(90 * 24 * time.Hour))
		}
	}
	list := done(3)
	for _, one := range list {
		assert.Nil(t, one.AsideAt)
		assert.Contains(t, one.Why, "all of the last hour are kept")
	}
	assert.Contains(t, b.must("alerts"), "The machine's clock has gone on by")
	b.must("rules", "clock", "--right")
	assert.Contains(t, b.must("alerts"), "Nothing needs you")
	b.runRule("north") // a person has said that it is right: three months have passed
	require.Eventually(t, func() bool {
		aside, err := b.api.Backups(ctx, wire.BackupQuery{Aside: true})
		return err == nil && len(aside) == 3 && strings.Contains(aside[0].AsideBy, "the rule usual: it is older than")
	}, 30*time.Second, 100*time.Millisecond)
	b.must("backups", "change", fmt.Sprint(list[0].ID), "--bring-back")
}

// What a backup has comes back in parts, onto its own server and others, and is taken back again.
func TestGoingBack(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{
		world: quarrymoss.Options{Title: "Winter Beds", Seed: 111, Folk: []string{"Ada", "Bryn"}},
	})
	other := b.quarry("south", plot{folder: "shed", world: quarrymoss.Options{Title: "Shed", Seed: 5}})
	id := fmt.Sprint(b.backup("north", "--note", "before the flood", "--pin").ID)
	settings := filepath.Join(root, "quarry.properties")
	folk := filepath.Join(root, "worlds", "winter", "folk")
	was, err := os.ReadFile(settings)
	require.NoError(t, err)
	b.must("servers", "stop", "north")
	require.NoError(t, os.WriteFile(settings, append(was, "welcome=the flood was here\n"...), 0o644))
	people, err := os.ReadDir(folk)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folk, people[0].Name()), []byte("{}"), 0o644))
	b.must("servers", "start", "north")

	out := b.must("restore", id, "--file", "folk/*.json", "--yes")
	assert.Contains(t, out, "Only 2 files come back")
	data, err := os.ReadFile(filepath.Join(folk, people[0].Name()))
	require.NoError(t, err)
	assert.Contains(t, string(data), "name")
	b.must("undo", "2", "--yes")
	data, err = os.ReadFile(filepath.Join(folk, people[0].Name()))
	require.NoError(t, err)
	assert.Equal(t, "{}", string(data), "as it was before")

	out = b.must("restore", id, "--what", "settings", "--yes")
	assert.Contains(t, out, "-welcome=the flood was here")
	now, err := os.ReadFile(settings)
	require.NoError(t, err)
	assert.NotContains(t, string(now), "flood")

	out = b.must("restore", id, "--what", "all", "--yes")
	assert.Contains(t, out, "Against what stands on the server, of the copy's")
	assert.Contains(t, b.must("restore", id, "south", "--yes"), "runs on south")
	assert.DirExists(t, filepath.Join(other, "worlds"))
	b.must("restore", id, "--beside", "--folder", "before-the-flood", "--yes")
	assert.DirExists(t, filepath.Join(root, "worlds", "before-the-flood"))
	b.must("restore", id, "--to", filepath.Join(b.dir, "out.zip"))
	assert.FileExists(t, filepath.Join(b.dir, "out.zip"))

	for _, c := range []struct{ args, words string }{
		{"restore 99", "there is no backup 99"},
		{"restore " + id + " --file nothing", "the copy has none of them"},
		{"restore " + id + " --what everything", "expected value to be one of"},
		{"restore " + id + " --world spring", "no world"},
		{"backups change " + id + " --set-aside", "it is pinned"},
	} {
		code, _, errs := b.cli(strings.Fields(c.args)...)
		assert.NotEqual(t, 0, code, c.args)
		assert.Contains(t, strings.Join(strings.Fields(errs), " "), c.words)
	}
	assert.Contains(t, b.must("backups", "show", id), "What the server was north, quarrymoss (plain) on local")
}

// SIGKILL at each point of a backup: the server writes again, what was confirmed is there, and the next one is
// good.
func TestKilledInABackup(t *testing.T) {
	t.Parallel()
	run := func(t *testing.T, dieAt int64) (points []string) {
		b := setup(t, quickRules)
		b.quarry("north", plot{})
		first := b.backup("north")
		require.NoError(t, b.daemon.Close())
		b.daemon = nil
		address, passed, cmd := b.mortal(dieAt)
		api := signIn(t, address)
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		got, err := api.MakeBackup(ctx, wire.MakeBackup{Server: "north"})
		if err == nil {
			_, _ = api.Watch(ctx, got.Changeover, func(wire.Changeover) {})
		}
		assert.Equal(t, dieAt != 0, ended(cmd, dieAt), "it was to die at this point")
		points = passed()
		b.start()
		require.Eventually(t, func() bool {
			list, err := b.api.Backups(ctx, wire.BackupQuery{Server: "north"})
			return err == nil && (len(list) == 0 || list[0].State != "running")
		}, 30*time.Second, 50*time.Millisecond)
		require.Eventually(t, func() bool {
			s, err := b.api.Server(ctx, "north")
			return err == nil && s.Server.Changeover == 0 && s.Server.State == "running"
		}, 30*time.Second, 50*time.Millisecond)
		b.must("worlds", "verify", first.Worlds[0].Copy[:12])
		next := b.backup("north")
		assert.True(t, next.Good, next.Says)
		b.must("vault", "check")
		return points
	}
	points := run(t, 0)
	require.Greater(t, len(points), 12)
	stride := 6
	if everyPoint {
		stride = 1
	}
	for n := 2; n <= len(points); n += stride {
		t.Run("point "+points[n-1], func(t *testing.T) { t.Parallel(); run(t, int64(n)) })
	}
}

// sentAll waits until a store lacks nothing.
func (b *bundle) sentAll() {
	b.t.Helper()
	require.Eventually(b.t, func() bool { return strings.Contains(b.must("stores"), "lacks nothing") }, 30*time.Second,
		50*time.Millisecond)
}

// SIGKILL while a rule thins out, what was set aside is let go, the vault is collected, packs are written anew and
// a store loses what is not needed any more: what is kept is there and whole in both, and the work ends when it is
// done again.
func TestKilledWhileWhatIsNotKeptGoes(t *testing.T) {
	t.Parallel()
	run := func(t *testing.T, dieAt int64) (points []string) {
		b := setup(t, func(b *bundle) { b.keepAside = time.Hour })
		root := b.quarry("north", plot{stopped: true})
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
		defer cancel()
		tile, err := filepath.Glob(filepath.Join(root, "worlds", "winter", "ground", "*.qt"))
		require.NoError(t, err)
		b.must("rules", "add", "north", "--at", "0 4 1 1 *", "--keep", "all for ever", "--yes")
		for n := range 5 {
			noise := make([]byte, 200_000)
			_, _ = rand.Read(noise)
			require.NoError(t, os.WriteFile(tile[0], append([]byte("QMT1"), noise...), 0o644))
			b.send(fmt.Sprintf("fen%d", n), quarrymoss.Options{Title: "Fen", Seed: int64(n)}) // small packs to join
			b.runRule("north")
			require.Eventually(t, func() bool {
				list, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
				return err == nil && len(list) == n+1
			}, 30*time.Second, 50*time.Millisecond)
		}
		all, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
		require.NoError(t, err)
		b.must("backups", "change", fmt.Sprint(all[4].ID), "--pin") // the oldest
		b.must("stores", "add", "granary", "--folder", filepath.Join(b.dir, "granary"), "--yes")
		b.sentAll()
		db, err := sql.Open("pgx", b.database)
		require.NoError(t, err)
		defer db.Close() //nolint:errcheck // the test has ended
		tidy := func(api *client.Client) error {
			rule, err := api.Rules(ctx, "north")
			if err != nil {
				return err
			}
			rule[0].Rule.Allowance.Number = 3 // the pinned one counts
			for step, older := range []string{
				"UPDATE backups SET aside_at = aside_at - interval '2 hours'",
				"UPDATE vault_packs SET made_at = made_at - interval '60 days'",
			} {
				if _, err := api.ChangeRule(ctx, "north", "usual", wire.ChangeRule{Rule: &rule[0].Rule}); err != nil {
					return err
				}
				for gone := false; !gone; time.Sleep(20 * time.Millisecond) {
					aside, err := api.Backups(ctx, wire.BackupQuery{Aside: true})
					if err != nil {
						return err
					}
					left, err := api.Backups(ctx, wire.BackupQuery{State: "done"})
					if err != nil {
						return err
					}
					gone = len(left) == 3 && (step == 0 || len(aside) == 0)
				}
				if _, err := db.Exec(older); err != nil {
					return err
				}
			}
			for _, err = api.WorkOnVault(ctx, "collect"); fault.CodeOf(err) == fault.Busy; { // with the day's own
				time.Sleep(20 * time.Millisecond)
				_, err = api.WorkOnVault(ctx, "collect")
			}
			if err != nil {
				return err
			}
			for v := (wire.Vault{}); v.Work == nil || v.Work.Ended == nil; time.Sleep(20 * time.Millisecond) {
				if v, err = api.Vault(ctx); err != nil {
					return err
				}
			}
			for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
				s, err := api.Store(ctx, "granary")
				if err != nil {
					return err
				}
				if s.Lacks == 0 || time.Now().After(end) {
					break
				}
			}
			if _, err = api.CheckStore(ctx, "granary"); err != nil {
				return err
			}
			if _, err := db.Exec("UPDATE store_packs SET unneeded_at = unneeded_at - interval '90 days'"); err != nil {
				return err
			}
			if _, err = api.CheckStore(ctx, "granary"); err != nil {
				return err
			}
			s, err := api.Store(ctx, "granary")
			if err != nil || s.Asks == "" {
				return err
			}
			var due []string // more than a tenth of them: somebody confirms it
			for _, d := range s.Deletes {
				if d.Due {
					due = append(due, d.Pack)
				}
			}
			_, err = api.TidyStore(ctx, "granary", due)
			return err
		}
		kept := func() {
			list, err := b.api.Backups(ctx, wire.BackupQuery{})
			require.NoError(t, err)
			ids := map[int64]bool{}
			for _, k := range list {
				ids[k.ID] = true
			}
			for _, must := range []wire.Backup{all[0], all[1], all[4]} {
				assert.True(t, ids[must.ID], "%d is kept by the rule, or pinned", must.ID)
				b.must("worlds", "verify", must.Worlds[0].Copy[:12])
			}
			b.must("vault", "check")
		}

		token, err := b.api.SignIn(ctx, userName, password, "test")
		require.NoError(t, err)
		require.NoError(t, b.daemon.Close())
		b.daemon = nil
		address, passed, cmd := b.mortal(dieAt)
		api, err := client.New(address, token.Secret)
		require.NoError(t, err)
		err = tidy(api)
		if dieAt == 0 {
			require.NoError(t, err)
		}
		died := ended(cmd, dieAt)
		points = passed()
		var last int64 // which packs there are to join, and so how many points, is not always the same
		_, err = fmt.Sscan(points[len(points)-1], &last)
		require.NoError(t, err)
		assert.Equal(t, dieAt != 0 && dieAt <= last, died, "it was to die at this point")
		b.start()
		kept()
		require.NoError(t, tidy(b.api))
		kept()
		list, err := b.api.Backups(ctx, wire.BackupQuery{})
		require.NoError(t, err)
		assert.Len(t, list, 3)
		b.sentAll()
		found, err := b.api.CheckStore(ctx, "granary")
		require.NoError(t, err)
		assert.Empty(t, found.Findings)
		return points
	}
	points := run(t, 0)
	for _, passed := range []string{"set aside", "let go", "forgotten", "written anew", "moved", "deleted", "remove"} {
		assert.True(t, slices.ContainsFunc(points, func(p string) bool { return strings.Contains(p, passed) }),
			"%s in %v", passed, points)
	}
	stride := 13
	if everyPoint {
		stride = 1
	}
	began := slices.IndexFunc(points, func(p string) bool { return strings.HasSuffix(p, "set aside") })
	for n := began; n < len(points); n += stride {
		var at int64
		_, err := fmt.Sscan(points[n], &at)
		require.NoError(t, err)
		t.Run("point "+points[n], func(t *testing.T) { t.Parallel(); run(t, at) })
	}
}

// The machine is gone: database and data folder lost, one store and a copy of its key left. On a new machine
// everything comes back, the worlds with their names, and what each server was.
func TestTheMachineIsGone(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	root := b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter Beds", Seed: 111, Folk: []string{"Ada"}}})
	b.send("fen", quarrymoss.Options{Title: "Fen Garden", Seed: 222})
	first := b.backup("north", "--note", "the old days")
	require.NoError(t, os.WriteFile(filepath.Join(root, "worlds", "winter", "later.txt"), []byte("later"), 0o644))
	b.backup("north")
	granary := filepath.Join(b.dir, "granary")
	b.must("stores", "add", "granary", "--folder", granary, "--yes")
	require.Eventually(t, func() bool { return strings.Contains(b.must("stores"), "lacks nothing") }, 30*time.Second,
		50*time.Millisecond)
	key, err := os.ReadFile(filepath.Join(b.dir, "data", "stores.keys"))
	require.NoError(t, err)

	b.must("servers", "stop", "north")

	n := setup(t, func(n *bundle) {
		n.data = filepath.Join(n.dir, "fresh")
		require.NoError(t, os.MkdirAll(n.data, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(n.data, "stores.keys"), key, 0o600))
	})
	assert.Contains(t, n.must("stores", "add", "granary", "--folder", granary, "--recover"),
		"Next: reshard vault recover granary")
	var told string
	require.Eventually(t, func() bool { // the day's work on the vault may be going on
		code, out, _ := n.cli("vault", "recover", "granary")
		told = out
		return code == 0
	}, 20*time.Second, 100*time.Millisecond)
	assert.Contains(t, told, "brought back")
	list, err := n.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	require.Len(t, list, 2)
	backups, err := n.api.Backups(context.Background(), wire.BackupQuery{})
	require.NoError(t, err)
	require.Len(t, backups, 2)
	assert.True(t, backups[1].Good)
	assert.Equal(t, "the old days", backups[1].Note)
	assert.WithinDuration(t, first.Begun, backups[1].Begun, time.Second)
	assert.Equal(t, first.Worlds[0].Copy, backups[1].Worlds[0].Copy)
	n.must("vault", "recover", "granary") // twice does no harm
	again, err := n.api.Backups(context.Background(), wire.BackupQuery{})
	require.NoError(t, err)
	assert.Len(t, again, 2)

	assert.Contains(t, strings.Join(strings.Fields(n.must("vault")), " "), "take-over granary")

	// The server is made anew, as the backup says it was, and goes back.
	out := n.must("backups", "show", fmt.Sprint(backups[0].ID))
	assert.Contains(t, out, "What the server was north, quarrymoss (plain)")
	fresh := n.quarry("north", plot{folder: "empty", noWorld: true, stopped: true})
	assert.Contains(t, n.must("restore", fmt.Sprint(backups[0].ID), "--what", "all", "--yes"), "runs on north")
	assert.FileExists(t, filepath.Join(fresh, "worlds", "winter", "later.txt"))
}

// A changeover copies the world that it replaces into the library first, when that is asked for; no rule lets it go.
func TestASafetyCopy(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222})
	for _, args := range []string{
		"put fen north --safety-copy --yes", "reset north --seed -77 --safety-copy --yes",
		"rename north summer --safety-copy --yes",
	} {
		out := b.must(strings.Fields(args)...)
		assert.Contains(t, out, "is copied into the library first", args)
		assert.Contains(t, out, "✓ done", args)
	}
	b.must("undo", "3", "--yes")
	b.must("undo", "2", "--yes")
	b.must("undo", "1", "--yes")
	list, err := b.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, w := range list {
		for _, c := range w.Copies {
			kinds[c.Kind]++
		}
	}
	assert.Equal(t, 3, kinds["safety"], "%v", kinds)
	b.must("vault", "check")
}
