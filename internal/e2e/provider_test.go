package e2e

import (
	"context"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/tollen"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/wire"
	"reshard/providers"
)

// rented is a Quarrymoss server whose files are reached over FTP and which its provider starts and stops.
func (b *bundle) rented(change func(*tollen.Plot)) (*tollen.Provider, string) {
	b.t.Helper()
	b.quay(farhost.FTPShape{}, 0)
	root := filepath.Join(b.dir, "servers", "north")
	require.NoError(b.t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1,
		freePort(b.t)))
	require.NoError(b.t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "Winter", Seed: 1, Tiles: 4}))
	plot := &tollen.Plot{ID: "14", Dir: root, Command: []string{standin, "quarrymoss", "serve", "."},
		Settings: "quarry.properties", StopLine: "halt"}
	if change != nil {
		change(plot)
	}
	p, err := tollen.Start(plot)
	require.NoError(b.t, err)
	b.t.Cleanup(p.Close)
	ctx := context.Background()
	_, err = b.api.SetProvider(ctx, "quay", wire.NewProvider{
		Description: string(providers.Example()), Origin: p.Origin(), User: p.User, Secret: &p.Phrase, Private: true,
	})
	require.NoError(b.t, err)
	_, err = b.api.AddServer(ctx, wire.NewServer{
		Name: "north", Host: "quay", Game: "quarrymoss", Kind: "plain", Root: root,
		Control: server.Means{Machine: "14"},
	})
	require.NoError(b.t, err)
	_, err = b.api.StartServer(ctx, "north", wire.StartServer{})
	require.NoError(b.t, err)
	return p, root
}

// A world is put onto a rented server and taken back: files over FTP, stop and start by its provider,
// which starts what has stopped again by itself.
func TestAPutOnARentedServer(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(*tollen.Plot){
		"plain":           nil,
		"with a watchdog": func(p *tollen.Plot) { p.Watchdog = true },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			_, root := b.rented(change)
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 8})
			s, err := b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			named := s.Facts.Keys["active-world"]
			assert.Equal(t, "page of Tollen Plots", named.File, "the provider's page beats the file")
			require.Len(t, named.Hides, 1)
			assert.Equal(t, "quarry.properties", named.Hides[0].File)
			c := b.put("fen", "north", nil)
			assert.Contains(t, strings.Join(c.Plan.Notes, "\n"), "may be started again by a watchdog, or a schedule")
			require.Equal(t, plan.Done, c.State, c.Failure)
			require.NotNil(t, c.Proof)
			assert.True(t, c.Proof.Holds())
			assert.Empty(t, c.Unproven, "the provider's log names the world")
			assert.Equal(t, "fen", b.active("north"))
			text, err := os.ReadFile(filepath.Join(root, "quarry.properties"))
			require.NoError(t, err)
			assert.Contains(t, string(text), "world.folder=fen",
				"the page's name is written into the file at the start")
			back := b.undo(c.ID)
			require.Equal(t, plan.Done, back.State, back.Failure)
			assert.Equal(t, "winter", b.active("north"))
		})
	}
}

// The provider's interface is told of, tried and forgotten at the command line; its secret is in no
// answer.
func TestAProviderAtTheCommandLine(t *testing.T) {
	t.Parallel()
	b := setup(t)
	p, _ := b.rented(nil)
	out := b.must("hosts", "show", "quay")
	assert.Contains(t, out, "Tollen Plots at "+p.Origin())
	assert.NotContains(t, out, p.Phrase)
	out = b.must("hosts", "try", "quay", "14")
	assert.Contains(t, out, "✓ state: its provider says that it is awake")
	assert.Contains(t, out, "✓ log: its last line")
	code, out, _ := b.cli("hosts", "try", "quay", "15")
	assert.Equal(t, 5, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "there is no such plot")
	code, _, errs := b.cliReading("wrong\n", "hosts", "provider", "quay", "--secret", "--password-stdin")
	require.Zero(t, code, errs)
	code, out, _ = b.cli("hosts", "try", "quay", "14")
	assert.Equal(t, 5, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "nobody of that name with that phrase lives here")
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "unknown", s.Server.State, "it is not taken for stopped")
	code, _, errs = b.cliReading(p.Phrase+"\n", "hosts", "provider", "quay", "--secret", "--password-stdin")
	require.Zero(t, code, errs)
	require.Eventually(t, func() bool {
		s, err := b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running"
	}, 20*time.Second, 200*time.Millisecond)

	file := filepath.Join(b.dir, "bad.yaml")
	require.NoError(t, os.WriteFile(
		file, []byte("reshard: provider/1\nid: x\ntitle: X\nstop: {request: {post: //x}}\n"), 0o600))
	code, out, _ = b.cli("providers", "lint", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "no path from the origin")
	code, _, errs = b.cli("hosts", "provider", "quay", "--description", file, "--origin", p.Origin())
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "no path from the origin")
	require.NoError(t, os.WriteFile(file, providers.Example(), 0o600))
	elsewhere := []string{"hosts", "provider", "quay", "--description", file, "--origin", "https://127.0.0.1:1"}
	code, _, errs = b.cli(elsewhere...)
	assert.Equal(t, 4, code, "its token goes only where it was given for")
	assert.Contains(t, errs, "its token was given for "+p.Origin())
	code, _, errs = b.cliReading("another\n", append(elsewhere, "--secret", "--password-stdin")...)
	require.Zero(t, code, errs)
	code, out, _ = b.cli("hosts", "try", "quay", "14")
	assert.Equal(t, 5, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "private network or of this machine")
	b.must("hosts", "provider", "quay", "--forget")
	code, _, errs = b.cli("hosts", "try", "quay", "14")
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "no provider's interface is known")
}

// A provider's own backups are listed over its pages, made within the allowance, and removed only by name.
func TestAProvidersOwnBackups(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.rented(nil)
	out := b.must("servers", "slots", "north")
	assert.Contains(t, out, "Tollen Plots has 0 of 2 backups of north.")
	assert.Contains(t, out, "Next: reshard servers slots north --make")
	b.must("servers", "slots", "north", "--make")
	out = b.must("servers", "slots", "north", "--make")
	assert.Contains(t, out, "2 of 2 backups")
	assert.Regexp(t, `jar-1 +\d{4}-\d\d-\d\d \d\d:\d\d \((now|\d+ seconds? ago)\), [\d.]+ KiB`, out)
	assert.Contains(t, out, "jar-2", "the list has two pages")
	code, _, errs := b.cli("servers", "slots", "north", "--make")
	assert.Equal(t, 7, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "all 2 slots are taken")
	code, _, errs = b.cli("servers", "slots", "north", "--remove", "jar-9", "--yes")
	assert.NotZero(t, code)
	assert.Contains(t, errs, `none that is called "jar-9"`)
	code, _, _ = b.cli("servers", "slots", "north", "--remove", "jar-1")
	assert.NotZero(t, code, "nobody was asked")
	out = b.must("servers", "slots", "north", "--remove", "jar-1", "--yes")
	assert.Contains(t, out, "1 of 2 backups")
	assert.NotContains(t, out, "jar-1 ")
	sheet := b.must("fit", "north")
	assert.Contains(t, strings.Join(strings.Fields(sheet), " "),
		"Tollen Plots, starts by itself, kills after 1 min, updates at the start")
}

// A provider that updates the game at a start, and one whose schedule restarts it at the moment at which a
// changeover stops it: the proof tells the one, and what the other has started is stopped again.
func TestAProviderThatDoesThingsByItself(t *testing.T) {
	t.Parallel()
	b := setup(t)
	var plot *tollen.Plot
	newer := false
	_, root := b.rented(func(p *tollen.Plot) {
		plot = p
		p.AtWaking = func(dir string) error {
			if !newer {
				return nil
			}
			file := filepath.Join(dir, "server.json")
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			return os.WriteFile(file, []byte(strings.Replace(string(text), "2.5.1", "2.6.0", 1)), 0o644)
		}
	})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 8})
	winter := snapshot(t, filepath.Join(root, "worlds", "winter"), moving...)
	for _, late := range []time.Duration{0, 100 * time.Millisecond, 400 * time.Millisecond} {
		var struck sync.WaitGroup
		var strikes atomic.Int64
		b.trace = func(point string) {
			if strings.HasSuffix(point, "stop intended") {
				strikes.Add(1)
				struck.Go(func() {
					time.Sleep(late)
					plot.Restart()
				})
			}
		}
		c := b.put("fen", "north", nil)
		struck.Wait()
		require.Equal(t, plan.Done, c.State, c.Failure)
		assert.Equal(t, "fen", b.active("north"))
		back := b.undo(c.ID)
		struck.Wait()
		require.Equal(t, plan.Done, back.State, back.Failure)
		assert.Equal(t, winter, snapshot(t, filepath.Join(root, "worlds", "winter"), moving...))
		assert.EqualValues(t, 2, strikes.Load())
	}
	b.trace = func(string) {}
	newer = true
	c := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, c.State, c.Failure)
	i := slices.IndexFunc(c.Proof.Checks, func(check plan.Check) bool { return check.What == "the server's version" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, c.Proof.Checks[i].Seen, "2.6.0")
}

// A rule has the provider make a backup of its own too. Where there is no room it is told of, and the oldest
// goes only when the rule says so.
func TestARuleAndTheProvidersOwnBackups(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.rented(nil)
	ctx := context.Background()
	run := func() {
		t.Helper()
		require.Eventually(t, func() bool { // it may still be on its way to the provider
			code, _, _ := b.cli("rules", "run", "north", "usual")
			return code == 0
		}, 20*time.Second, 200*time.Millisecond)
	}
	follow := func() {
		t.Helper()
		before, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
		require.NoError(t, err)
		was, err := b.api.Slots(ctx, "north")
		require.NoError(t, err)
		run()
		require.Eventually(t, func() bool {
			list, err := b.api.Backups(ctx, wire.BackupQuery{State: "done"})
			if err != nil || len(list) != len(before)+1 {
				return false
			}
			now, err := b.api.Slots(ctx, "north")
			alerts, aerr := b.api.Alerts(ctx)
			return err == nil && aerr == nil && (!reflect.DeepEqual(was.Backups, now.Backups) || len(alerts) > 0)
		}, 60*time.Second, 200*time.Millisecond)
	}
	b.must("rules", "add", "north", "--at", "0 4 * * *", "--provider", "make", "--yes")
	follow()
	time.Sleep(1100 * time.Millisecond) // the provider tells times to the second, and of one second none is the oldest
	follow()
	assert.JSONEq(t, "[]", b.must("alerts", "--json"), "two fit")
	follow()
	out := strings.Join(strings.Fields(b.must("servers")), " ")
	assert.Contains(t, out, "The provider made no backup of its own")
	assert.Contains(t, out, "the rule does not say that the oldest may go")
	slots := b.must("servers", "slots", "north")
	assert.Contains(t, slots, "jar-1", "nothing of the provider's went")

	b.must("rules", "change", "north", "usual", "--provider", "replace", "--yes")
	run()
	require.Eventually(t, func() bool {
		slots = b.must("servers", "slots", "north")
		return strings.Contains(slots, "jar-3")
	}, 60*time.Second, 200*time.Millisecond)
	// The list comes in pages, and one that was read while it changed has some of both.
	assert.NotContains(t, b.must("servers", "slots", "north"), "jar-1 ", "the oldest")
	require.Eventually(t, func() bool {
		list, err := b.api.Alerts(ctx)
		return err == nil && len(list) == 0
	}, 20*time.Second, 200*time.Millisecond)
}
