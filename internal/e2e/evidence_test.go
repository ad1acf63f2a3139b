package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// placesOf are the kinds of host that a server can be on.
var placesOf = map[string]func(b *bundle){
	"local":    func(*bundle) {},
	"ssh":      func(b *bundle) { b.machine(farhost.Shape{}, 0) },
	"by hand":  func(b *bundle) { b.machine(farhost.Shape{FilesOnly: true}, 0) },
	"over FTP": func(b *bundle) { b.quay(farhost.FTPShape{}, 0) },
}

// A provider's page writes the old world's name back before each start, so the game makes a new world of that name.
// The changeover never says that the world it brought is running; everything goes back.
func TestSettingsAreWrittenBackBeforeTheStart(t *testing.T) {
	t.Parallel()
	for place, at := range placesOf {
		t.Run(place, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			at(b)
			root := b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter Beds", Seed: 111}})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222})
			require.NoError(t, os.WriteFile(filepath.Join(root, quarrymoss.PageField), []byte("winter"), 0o644))
			c := b.put("fen", "north", nil)
			require.Equal(t, plan.Undone, c.State, "%+v", c.Proof)
			require.NotNil(t, c.Failure)
			assert.Equal(t, "not-proven", c.Failure.Code)
			assert.Contains(t, c.Failure.What, "world.folder in quarry.properties: expected fen, saw winter again; "+
				"something wrote it at ")
			assert.Contains(t, c.Failure.What, "this changeover had moved it away, and it is there again")
			assert.Contains(t, c.Failure.Next, "a field for the world's name, set it to fen first.")
			heart, err := quarrymoss.ReadHeart(filepath.Join(root, "worlds", "winter"))
			require.NoError(t, err)
			assert.EqualValues(t, 111, heart.Seed)
			assert.Equal(t, "Winter Beds", heart.Title, "the world that was there before")
			out := strings.Join(strings.Fields(b.must("changeovers", "show", "1")), " ")
			assert.NotContains(t, out, "runs on north")
		})
	}
}

// Somebody says that a server is stopped which is running, by its lock: Reshard lists the signs and asks once more.
// --yes alone does not insist.
func TestAWordAgainstAllSigns(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.machine(farhost.Shape{FilesOnly: true}, 0)
	b.quarry("north", plot{})
	code, _, told := b.cli("servers", "stopped", "north", "--yes")
	assert.Equal(t, 4, code)
	assert.Contains(t, told, "signs say that it is running: the game's lock is in worlds/winter")
	assert.Contains(t, told, "--despite-signs")
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "running", s.Server.State)
	b.must("servers", "stopped", "north", "--yes", "--despite-signs")
	s, err = b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "exited", s.Server.State)

	// A copy that is made on such a word is looked at before and after: the game goes on writing.
	root := filepath.Join(b.dir, "servers", "north")
	writing, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ; n++ {
			select {
			case <-writing:
				return
			case <-time.After(50 * time.Millisecond):
				_ = os.WriteFile(filepath.Join(root, "worlds", "winter", "ground", "0.0.qt"), fmt.Appendf(nil, "%d", n),
					0o644)
			}
		}
	}()
	made := b.backup("north")
	close(writing)
	<-done
	require.Len(t, made.Worlds, 1)
	assert.Equal(t, plan.NotWhole, made.Worlds[0].Wholeness)
	assert.False(t, made.Good)

	b.far.people[0].stop() // now it is true, and nothing speaks against it
	b.must("servers", "stopped", "north", "--yes")
}

// A game that does not save the world it leaves when it loads another is told to save first: nothing of what was played
// is lost, either way.
func TestASwitchWithoutAStopSavesFirst(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	saves := filepath.Join(root, emberlode.SavesFolder)
	require.NoError(t, emberlode.MakeServer(root, standin, "frostfall", true, 3, freePort(t), ""))
	for _, name := range []string{"frostfall", "kettle"} {
		require.NoError(t, emberlode.Make(saves, name, emberlode.Save{Expedition: name, Seed: 3}, 2))
	}
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	b.must("servers", "start", "camp")
	checkpoints := func(name string) int {
		found, err := filepath.Glob(filepath.Join(saves, name+".*.ember"))
		require.NoError(t, err)
		return len(found)
	}
	out := b.must("switch", "camp", "kettle", "--yes")
	assert.Contains(t, out, "Have the server save the world that it leaves")
	assert.Contains(t, out, "✓ done.")
	assert.Equal(t, 3, checkpoints("frostfall"))
	b.must("undo", "1", "--yes")
	assert.Equal(t, 3, checkpoints("kettle"))
}

// Some files come back into a world whose realms stand beside it in folders of their own.
func TestSomeFilesComeBackOnASplitServer(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{kind: "terrace", world: quarrymoss.Options{
		Title: "Winter", Seed: 111, Folk: []string{"Ada"}, Realms: []string{"caverns", "aurora"},
	}})
	made := b.backup("north")
	found, err := filepath.Glob(filepath.Join(root, "worlds", "winter", "folk", "*.json"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	before, err := os.ReadFile(found[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(found[0], []byte("{}"), 0o644))
	out := b.must("restore", fmt.Sprint(made.ID), "--file", "folk/*.json", "--yes")
	assert.Contains(t, out, "✓ done.")
	after, err := os.ReadFile(found[0])
	require.NoError(t, err)
	assert.Equal(t, before, after)
	for _, realm := range []string{"caverns", "aurora"} {
		assert.DirExists(t, filepath.Join(root, "worlds", "winter~"+realm))
	}
}

// alertOf is what needs a person of one kind, waited for.
func (b *bundle) alertOf(kind string) (out wire.Alert) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		list, err := b.api.Alerts(context.Background())
		require.NoError(b.t, err)
		i := slices.IndexFunc(list, func(a wire.Alert) bool { return a.Kind == kind })
		if i >= 0 {
			out = list[i]
		} else {
			_, _, _ = b.cli("servers") // somebody watches: they are looked at more often
		}
		return i >= 0
	}, 30*time.Second, 200*time.Millisecond, "no alert of kind %s", kind)
	return out
}

func (b *bundle) noAlertOf(kind string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		list, err := b.api.Alerts(context.Background())
		require.NoError(b.t, err)
		_, _, _ = b.cli("servers")
		return !slices.ContainsFunc(list, func(a wire.Alert) bool { return a.Kind == kind })
	}, 30*time.Second, 200*time.Millisecond, "an alert of kind %s stays", kind)
}

// After a changeover the running world is compared with the one that was put there, also over restarts of the service.
// A person says that another one is intended.
func TestTheRunningWorldIsComparedAfterwards(t *testing.T) {
	t.Parallel()
	for place, at := range placesOf {
		t.Run(place, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			at(b)
			root := b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter Beds", Seed: 111}})
			settings := filepath.Join(root, "quarry.properties")
			before, err := os.ReadFile(settings)
			require.NoError(t, err)
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222})
			require.Equal(t, plan.Done, b.put("fen", "north", nil).State)
			b.noAlertOf("world")

			// A page writes the old name back under the running game: the next start would open it.
			require.NoError(t, os.WriteFile(settings, before, 0o644))
			alert := b.alertOf("world")
			assert.Equal(t, "The next start of north opens winter: quarry.properties line 4, world.folder names it. "+
				"Changeover 1 put fen there.", alert.Says)
			assert.Equal(t, "If this is intended: reshard servers intended north. If not: reshard switch north fen.",
				alert.Next)
			assert.Contains(t, strings.Join(strings.Fields(b.must("servers")), " "), "opens winter")

			// It comes true.
			b.must("servers", "stop", "north")
			require.NoError(t, os.WriteFile(settings, before, 0o644)) // the game wrote its own on its way down
			b.must("servers", "start", "north", "--new-world")
			require.Eventually(t, func() bool {
				b.must("servers") // somebody watches
				return strings.Contains(b.must("alerts"), "north runs winter, according to its ")
			}, 30*time.Second, 500*time.Millisecond)
			if b.far == nil { // it is on record
				require.NoError(t, b.daemon.Close())
				b.start()
				b.alertOf("world")
			}
			code, _, told := b.cli("servers", "intended", "north", "--world", "fen")
			assert.Equal(t, 1, code)
			assert.Contains(t, told, "it runs winter, not fen")
			b.must("servers", "intended", "north", "--world", "winter")
			b.noAlertOf("world")
		})
	}
}

// A game writes its seeds with 16 hexadecimal digits: a drawn seed, and a given one, are written and read back in that
// form.
func TestSeedsOfHexadecimalDigits(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "quarrymoss", "  seeds: {text: true}",
		"  seeds: {bits: 64, base: 16, width: 16, capitals: true}",
		"answer: 'seed is (?P<value>-?\\d+)'", "answer: 'seed is (?P<value>[0-9A-F]+)'"))
	root := b.quarry("north", plot{stopped: true})
	config := filepath.Join(root, "server.json")
	data, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(config, bytes.Replace(data, []byte("{"), []byte("{\"hexSeeds\": true,"), 1), 0o644))
	settings := filepath.Join(root, "quarry.properties")
	data, err = os.ReadFile(settings)
	require.NoError(t, err)
	data = bytes.Replace(data, []byte("seed=111"), []byte("seed=000000000000006F"), 1)
	require.NoError(t, os.WriteFile(settings, data, 0o644))
	b.must("servers", "start", "north")
	seed := func() string {
		data, err := os.ReadFile(settings)
		require.NoError(t, err)
		return regexp.MustCompile(`world.seed=(.*)`).FindStringSubmatch(string(data))[1]
	}
	out := b.must("reset", "north", "--seed", "random", "--yes")
	assert.Contains(t, out, "✓ done. A new world runs on north.")
	assert.Regexp(t, "^[0-9A-F]{16}$", seed())
	assert.Contains(t, out, seed())
	out = b.must("reset", "north", "--seed", "00C0FFEE00000042", "--yes")
	assert.Contains(t, out, "✓ done.")
	assert.Equal(t, "00C0FFEE00000042", seed())
	heart, err := quarrymoss.ReadHeart(filepath.Join(root, "worlds", "winter"))
	require.NoError(t, err)
	assert.EqualValues(t, 0x00C0FFEE00000042, heart.Seed)
}

// A game says that it holds its writes, and writes on: the backup is not called whole, and an alert says so until
// another one is.
func TestAHoldThatDoesNotHold(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{mischief: "loose-hold", stopped: true})
	b.must("servers", "start", "north")
	made := b.backup("north")
	require.Len(t, made.Worlds, 1)
	assert.Equal(t, plan.NotWhole, made.Worlds[0].Wholeness)
	alert := b.alertOf("hold")
	assert.Regexp(t, `^north did not hold its writes while backup 1 was made: winter/works-\w+\.txt changed\. `,
		alert.Says)
	b.must("servers", "stop", "north")
	require.True(t, b.backup("north").Good)
	b.noAlertOf("hold")
}

// A game whose saves are files saves beside them by itself: such a save is switched to, as people do who want an hour
// back.
func TestASwitchToASaveOfTheGamesOwn(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "emberlode", "  recognise:", "  autosaves: [\"auto-*.ember\"]\n  recognise:"))
	root := filepath.Join(b.dir, "servers", "camp")
	saves := filepath.Join(root, emberlode.SavesFolder)
	require.NoError(t, emberlode.MakeServer(root, standin, "frostfall", true, 3, freePort(t), ""))
	require.NoError(t, emberlode.Make(saves, "frostfall", emberlode.Save{Expedition: "Frostfall", Seed: 3}, 3))
	require.NoError(t, emberlode.Make(saves, "auto-1", emberlode.Save{Expedition: "Frostfall", Seed: 3}, 2))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	b.must("servers", "start", "camp")
	for _, flags := range [][]string{{"--yes"}, {"--yes", "--restart"}} {
		out := b.must(append([]string{"switch", "camp", "auto-1"}, flags...)...)
		assert.Contains(t, out, "✓ done.")
		assert.Equal(t, "auto-1", b.active("camp"))
		b.must("undo", fmt.Sprint(b.lastChangeover("camp").ID), "--yes")
		assert.Equal(t, "frostfall", b.active("camp"))
	}
	b.noAlertOf("world")
}
