package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// played are files that a running game writes: they differ after every run.
var played = []string{"diary.txt", "heart.cbor.gz", "held.lock", ".reshard"}

// A game of which nothing tells which world it has opened: the changeover ends done, and every face says that it is not
// proven, and what nobody saw.
func TestDoneAndNotProven(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "quarrymoss", `    opened:  'opening world "(?P<world>[^"]+)"'`+"\n", "",
		`    seed:    {say: seed, answer: 'seed is (?P<value>-?\d+)'}`+"\n", ""))
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	out := strings.Join(strings.Fields(b.must("put", "fen", "north", "--yes")), " ")
	assert.Contains(t, out, "– not seen, which world the game has opened: its profile knows no line that names it")
	assert.Contains(t, out, "✓ done, not proven.")
	assert.Contains(t, out, "Not seen: which world the game has opened")
	assert.Contains(t, out, "Join and look: that completes it.")
	c := b.lastChangeover("north")
	assert.Equal(t, plan.Done, c.State)
	require.Len(t, c.Unproven, 1)
	assert.Contains(t, b.must("changeovers"), "not proven")
}

func TestPutAndUndoThroughTheCommandLine(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{
		world: quarrymoss.Options{Title: "Winter Beds", Seed: 111, Realms: []string{"caverns", "aurora"}},
	})
	before := snapshot(t, root, played...)
	settings, err := os.ReadFile(filepath.Join(root, "quarry.properties"))
	require.NoError(t, err)
	b.send("Fen-Garden", quarrymoss.Options{
		Title:  "Fen Garden",
		Seed:   -9_000_000_000,
		Realms: []string{"caverns"},
		Folk:   []string{"Ada"},
	})

	code, out, errs := b.cli("put", "fen-garden", "north", "--plan-only")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "-world.folder=winter\n+world.folder=Fen-Garden")
	assert.Contains(t, out, "Nothing has been changed.")
	assert.Equal(t, before, snapshot(t, root, played...))

	code, _, errs = b.cli("put", "fen-garden", "north")
	assert.Equal(t, 2, code, "nobody is there to ask")
	assert.Contains(t, errs, "--yes")

	code, out, errs = b.cli("put", "fen-garden", "north", "--yes")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "✓ the log names the opened world: Fen-Garden")
	assert.Contains(t, out, "✓ the console answers seed: -9000000000")
	after, err := os.ReadFile(filepath.Join(root, "quarry.properties"))
	require.NoError(t, err)
	want := strings.NewReplacer("world.folder=winter", "world.folder=Fen-Garden", "world.seed=111",
		"world.seed=-9000000000").Replace(
		string(settings))
	assert.Equal(t, want, string(after), "every other byte stays")
	assert.NoDirExists(t, filepath.Join(root, "worlds", "winter"))

	id := b.lastChangeover("north").ID
	code, out, errs = b.cli("undo", itoa(id), "--yes")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "“Winter Beds” runs on north")
	assert.Equal(t, before, snapshot(t, root, played...), "byte for byte what was there")

	// An undo can be undone: the world comes back with what was played.
	redo := b.undo(b.lastChangeover("north").ID)
	require.Equal(t, plan.Done, redo.State)
	assert.FileExists(t, filepath.Join(root, "worlds", "Fen-Garden", "diary.txt"))
	code, out, _ = b.cli("changeovers")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "undone by")
}

func (b *bundle) lastChangeover(server string) wire.Changeover {
	b.t.Helper()
	list, err := b.api.Changeovers(context.Background(), wire.ChangeoverQuery{Server: server})
	require.NoError(b.t, err)
	require.NotEmpty(b.t, list)
	return list[0]
}

func itoa(n int64) string { data, _ := json.Marshal(n); return string(data) }

func TestUndoKeepsToTheOrder(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.send("one", quarrymoss.Options{Title: "One", Seed: 1})
	b.send("two", quarrymoss.Options{Title: "Two", Seed: 2})
	first, second := b.put("one", "north", nil), b.put("two", "north", nil)
	_, err := b.api.Draft(context.Background(), wire.Wish{Kind: "undo", Undoes: first.ID})
	assert.ErrorIs(t, err, fault.WrongState.As())
	assert.ErrorContains(t, err, "undo that first")
	assert.Equal(t, plan.Done, b.undo(second.ID).State)
	back := b.undo(first.ID)
	assert.Equal(t, plan.Done, back.State)
	assert.Equal(t, "Winter Beds", back.Plan.World)
}

// Realm folders beside the world belong to it: they are set aside with it, and
// the new world's are placed with it.
func TestSplitRealmsMoveWithTheirWorld(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("terraces", plot{
		kind:   "terrace",
		folder: "top",
		world:  quarrymoss.Options{Title: "Top", Seed: 3, Realms: []string{"caverns", "aurora"}},
	})
	dir := filepath.Join(b.dir, "made")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "walk"),
		quarrymoss.Options{Title: "Walk", Seed: 4, Realms: []string{"caverns"}, Split: true}))
	code, _, errs := b.cli("send", filepath.Join(dir, "walk"))
	require.Equal(t, 0, code, errs)
	cavern := snapshot(t, filepath.Join(dir, "walk~caverns"))
	done := b.put("walk", "terraces", map[string]string{"folder-name": "lower"})
	require.Equal(t, plan.Done, done.State, done.Failure)
	assert.NoDirExists(t, filepath.Join(root, "worlds", "top~caverns"))
	assert.NoDirExists(t, filepath.Join(root, "worlds", "top~aurora"))
	assert.Equal(t, cavern, snapshot(t, filepath.Join(root, "worlds", "lower~caverns")))
	require.Equal(t, plan.Done, b.undo(done.ID).State)
	assert.DirExists(t, filepath.Join(root, "worlds", "top~aurora"))
	assert.NoDirExists(t, filepath.Join(root, "worlds", "lower~caverns"))
}

// The settings files that people really have: every byte but the value stays.
func TestSettingsFilesAreEditedLosslessly(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"CRLF":            "# winter\r\nlisten.port=PORT\r\nworld.folder=winter\r\nworld.seed=\r\nwelcome=hi\r\n",
		"byte-order mark": "\xef\xbb\xbfworld.folder=winter\nlisten.port=PORT\n",
		"comments":        "#world.folder=old\n! world.folder=older\nlisten.port : PORT\nworld.folder : winter\n# end",
		"repeated key":    "world.folder=summer\nlisten.port=PORT\nworld.folder=winter\n",
		"no last newline": "listen.port=PORT\nworld.folder=winter",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			root := b.quarry("north", plot{settings: text})
			file := filepath.Join(root, "quarry.properties")
			before, err := os.ReadFile(file)
			require.NoError(t, err)
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 77})
			done := b.put("fen", "north", nil)
			require.Equal(t, plan.Done, done.State, done.Failure)
			after, err := os.ReadFile(file)
			require.NoError(t, err)
			i := strings.LastIndex(string(before), "winter")
			if name == "CRLF" {
				i = strings.Index(string(before), "=winter") + 1
			}
			assert.Equal(t, string(before[:i])+"fen"+string(before[i+len("winter"):]), string(after))
			require.Equal(t, plan.Done, b.undo(done.ID).State)
			back, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(before), string(back))
		})
	}
}

// One capital wrong: the server would say nothing and make an empty world.
func TestACapitalIsSeenAndMended(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{folder: "fen-garden"})
	b.send("Fen-Garden", quarrymoss.Options{Title: "Fen Garden", Seed: 5})
	code, out, _ := b.cli("fit", "fen-garden", "north")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "they differ by a capital")
	done := b.put("fen-garden", "north", nil)
	require.Equal(t, plan.Done, done.State, done.Failure)
	entries, err := os.ReadDir(filepath.Join(root, "worlds"))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "Fen-Garden", entries[0].Name())
}

// The same trap seen on a server alone, before its next start falls into it.
func TestAServerAloneIsChecked(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{
		stopped:  true,
		folder:   "Winter",
		settings: "listen.port=PORT\nworld.folder=Winter\nworld.seed=9\n",
	})
	require.NoError(t, os.Rename(filepath.Join(root, "worlds", "Winter"), filepath.Join(root, "worlds", "winter")))
	code, out, _ := b.cli("fit", "north")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "they differ by a capital")
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "Write world.folder=winter into quarry.properties")
	require.NoError(t, os.Rename(filepath.Join(root, "worlds", "winter"), filepath.Join(root, "worlds", "Winter")))
	code, out, _ = b.cli("fit", "north", "--json")
	assert.Equal(t, 0, code)
	var sheet wire.Sheet
	require.NoError(t, json.Unmarshal([]byte(out), &sheet))
	row, ok := sheet.Sheet.Row("seed")
	require.True(t, ok)
	assert.Equal(t, "111", row.World.Text, "the active world's own seed, beside the other one in the settings")
	assert.Equal(t, "adjust", string(row.Verdict))
}

func TestATitleWithEmojiAndBlanksAsksForAName(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	c := b.send("Orchard 🍎 ", quarrymoss.Options{Title: "Orchard 🍎 ", Seed: 6})
	assert.Equal(t, "Orchard 🍎 ", c.Facts.Title)
	code, out, _ := b.cli("fit", "orchard", "north")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "--folder Orchard")
	code, out, _ = b.cli("put", "orchard", "north", "--yes")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "You must choose first")
	_, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: "orchard", Server: "north", Choices: nil})
	assert.ErrorIs(t, err, fault.NeedsChoice.As(), "the API refuses too")
	code, out, errs := b.cli("put", "orchard", "north", "--yes", "--folder", "Orchard")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "“Orchard 🍎 ” runs on north")
}

func TestANameThatIsTakenAsks(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "fen"),
		quarrymoss.Options{Title: "Other Fen", Seed: 8}))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 9})
	code, out, _ := b.cli("fit", "fen", "north")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "--folder fen-2")
	assert.Contains(t, out, "--choose replace=yes")
	done := b.put("fen", "north", map[string]string{"replace": "yes"})
	require.Equal(t, plan.Done, done.State, done.Failure)
	assert.Len(t, done.Plan.SetAside, 2)
	require.Equal(t, plan.Done, b.undo(done.ID).State)
	h, err := quarrymoss.ReadHeart(filepath.Join(root, "worlds", "fen"))
	require.NoError(t, err)
	assert.Equal(t, int64(8), h.Seed)
}

// What blocks must block at the API as well, with the code that says so.
func TestWhatDoesNotFitIsRefused(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.quarry("pebbles", plot{kind: "mossling", stopped: true, noWorld: true})
	b.send("newer", quarrymoss.Options{Title: "Newer", Version: "3.0.0"})
	b.send("nested", quarrymoss.Options{Title: "Nested", Realms: []string{"aurora"}})
	for _, c := range []struct{ world, server, words string }{
		{"newer", "north", "newer than the server's"},
		{"nested", "pebbles", "does not read the family"},
	} {
		code, out, _ := b.cli("fit", c.world, c.server)
		assert.Equal(t, 3, code)
		assert.Contains(t, strings.Join(strings.Fields(out), " "), c.words)
		_, err := b.api.Draft(context.Background(),
			wire.Wish{Kind: "put", World: c.world, Server: c.server, Choices: nil})
		assert.ErrorIs(t, err, fault.Blocked.As())
	}
}

// A world that keeps its realms inside goes onto a server that keeps them beside,
// and the other way round: each realm's files end where that server looks.
func TestRealmsAreConvertedBothWays(t *testing.T) {
	t.Parallel()
	b := setup(t)
	plain := b.quarry("north", plot{})
	terrace := b.quarry("terraces", plot{kind: "terrace"})
	b.send("inside", quarrymoss.Options{Title: "Inside", Realms: []string{"aurora", "caverns"}})
	b.send("beside", quarrymoss.Options{Title: "Beside", Realms: []string{"caverns"}, Split: true})

	code, out, errs := b.cli("put", "inside", "terraces", "--yes")
	require.Equal(t, 0, code, out+errs)
	assert.FileExists(t, filepath.Join(terrace, "worlds/inside~aurora/t.0.0.qt"))
	assert.FileExists(t, filepath.Join(terrace, "worlds/inside~caverns/t.0.0.qt"))
	assert.NoDirExists(t, filepath.Join(terrace, "worlds/inside/realms/caverns"))

	code, out, errs = b.cli("put", "beside", "north", "--yes")
	require.Equal(t, 0, code, out+errs)
	assert.FileExists(t, filepath.Join(plain, "worlds/beside/realms/caverns/t.0.0.qt"))
	assert.NoDirExists(t, filepath.Join(plain, "worlds/beside~caverns"))

	code, out, errs = b.cli("undo", "1", "--yes")
	require.Equal(t, 0, code, out+errs)
	assert.NoDirExists(t, filepath.Join(terrace, "worlds/inside~aurora"))
}

func TestADraftIsRefusedWhenTheServerHasChangedSince(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen"})
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	text := filepath.Join(root, "quarry.properties")
	was, err := os.ReadFile(text)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(text, append(was, "welcome=changed since\n"...), 0o644))
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	assert.ErrorIs(t, err, fault.Changed.As())
	assert.Contains(t, err.Error(), "quarry.properties has been written")
}

func TestOneChangeoverAtATime(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{mischief: "slow-halt"})
	b.restartServer("north") // so that it takes its time from now on
	b.send("fen", quarrymoss.Options{Title: "Fen"})
	ctx := context.Background()
	one, err := b.api.Draft(ctx, wire.Wish{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	two, err := b.api.Draft(ctx, wire.Wish{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	_, err = b.api.Act(ctx, one.ID, "start")
	require.NoError(t, err)
	_, err = b.api.Act(ctx, two.ID, "start")
	assert.ErrorIs(t, err, fault.Busy.As())
	_, err = b.api.StopServer(ctx, "north", wire.StopServer{})
	assert.ErrorIs(t, err, fault.Busy.As())
	last, err := b.api.Watch(ctx, one.ID, func(wire.Changeover) {})
	require.NoError(t, err)
	assert.Equal(t, plan.Done, last.State)
	require.NotNil(t, last.Window)
	assert.Greater(t, last.Window.StoppingMS, int64(1000), "the game's own slowness is counted as the game's")
	assert.Less(t, last.Window.OursMS, last.Window.TotalMS-1000, "and not as ours")
}

func (b *bundle) restartServer(name string) {
	b.t.Helper()
	_, err := b.api.StopServer(context.Background(), name, wire.StopServer{})
	require.NoError(b.t, err)
	_, err = b.api.StartServer(context.Background(), name, wire.StartServer{NewWorld: true})
	require.NoError(b.t, err)
}

// A server that ends without saying that all was written: the step tells it.
func TestAnUncleanStopIsTold(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{mischief: "quiet-halt winter"})
	b.restartServer("north")
	b.send("fen", quarrymoss.Options{Title: "Fen"})
	code, out, errs := b.cli("put", "fen", "north", "--yes")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "ended without saying that everything was written")
}

// A put onto a stopped server that has never had a world works too.
func TestPutOntoAStoppedEmptyServer(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true, noWorld: true})
	require.NoError(t, os.Remove(filepath.Join(root, "worlds")))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 12})
	done := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, done.State, done.Failure)
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "running", s.Server.State)
	assert.WithinDuration(t, time.Now(), *s.Server.Since, time.Minute)
}

// A start that updates the game refutes nothing; the proof tells it, and an undo what it means.
func TestAStartThatUpdatesTheGame(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	b.misbehave("north", "updates-itself fen")
	c := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, c.State, c.Failure)
	i := slices.IndexFunc(c.Proof.Checks, func(check plan.Check) bool { return check.What == "the server's version" })
	require.GreaterOrEqual(t, i, 0)
	assert.True(t, c.Proof.Checks[i].OK)
	assert.Equal(t, "2.5.1 before; another is told", c.Proof.Checks[i].Expected)
	assert.Contains(t, c.Proof.Checks[i].Seen, quarrymoss.Updated+": the game was changed")
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Undo, Undoes: c.ID})
	require.NoError(t, err)
	notes := strings.Join(draft.Plan.Notes, " ")
	assert.Contains(t, notes, "The server was at 2.5.1 when this was done, and is at 2.6.0 now")
	assert.Contains(t, notes, "2.6.0 upgrades the former world when it opens it")
	require.Equal(t, plan.Done, b.carry(draft).State)
}
