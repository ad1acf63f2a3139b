package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
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

func (b *bundle) until(id int64, state plan.State) wire.Changeover {
	b.t.Helper()
	var c wire.Changeover
	require.Eventually(b.t, func() bool {
		var err error
		c, err = b.api.Changeover(context.Background(), id)
		return err == nil && c.State == state
	}, 20*time.Second, 20*time.Millisecond, "changeover %d is to be %s", id, state)
	return c
}

// A changeover that waits for a person outlives the service, can be cancelled with
// nothing touched, and switches on the word.
func TestWaitingForAWord(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	before := snapshot(t, root, played...)
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	out := b.must("put", "fen", "north", "--when-told", "--yes")
	assert.Contains(t, out, "◷ waiting: Wait for a person's word")
	assert.Contains(t, out, "reshard changeovers go-on 1")
	assert.Equal(t, before, snapshot(t, root, played...), "staged, and nothing live is touched")

	ctx := context.Background()
	require.NoError(t, b.daemon.Close())
	b.start()
	b.until(1, plan.Waiting)
	_, err := b.api.StopServer(ctx, "north", wire.StopServer{})
	assert.ErrorIs(t, err, fault.Busy.As())
	_, err = b.api.Act(ctx, 1, "cancel")
	require.NoError(t, err)
	b.until(1, plan.Undone)
	assert.Equal(t, before, snapshot(t, root, played...))

	b.must("put", "fen", "north", "--when-told", "--yes")
	b.must("changeovers", "go-on", "2")
	done := b.until(2, plan.Done)
	assert.Equal(t, "fen", b.active("north"))
	said := ""
	for _, s := range done.Steps {
		if s.Kind == plan.Wait {
			said = s.Note
		}
	}
	assert.Equal(t, "The word came from "+userName+".", said)
	_, err = b.api.Act(ctx, 2, "go-on")
	assert.ErrorIs(t, err, fault.WrongState.As())
}

// Mods are missing: the world is staged, and Reshard sees by itself when they are there.
func TestWaitingForMods(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{
		Title: "Fen",
		Seed:  2,
		Mods:  []quarrymoss.Mod{{Name: "marrow-scales", Version: "1.2.0"}},
	})
	out := b.must("put", "fen", "north", "--choose", "mods=install", "--yes")
	assert.Contains(t, out, "Install marrow-scales 1.2.0 on the server.")
	b.until(1, plan.Waiting)
	data, err := json.Marshal(quarrymoss.Config{
		Version: "2.5.1",
		Kind:    "plain",
		Mods:    []quarrymoss.Mod{{Name: "marrow-scales", Version: "1.2.0"}},
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "server.json"), data, 0o644))
	b.until(1, plan.Done)
	assert.Equal(t, "fen", b.active("north"))
}

// Two changeovers never hold one server, also not as the source of a clone.
func TestASourceIsHeld(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.quarry("south", plot{folder: "south"})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	ctx := context.Background()
	clone, err := b.api.Draft(ctx, wire.Wish{
		Kind:    plan.Clone,
		From:    "north",
		Server:  "south",
		Choices: map[string]string{"switch": "when-told", "folder-name": "copy"},
	})
	require.NoError(t, err)
	put, err := b.api.Draft(ctx, wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	_, err = b.api.Act(ctx, clone.ID, "start")
	require.NoError(t, err)
	b.until(clone.ID, plan.Waiting)
	_, err = b.api.Act(ctx, put.ID, "start")
	assert.ErrorIs(t, err, fault.Busy.As())
	_, err = b.api.StopServer(ctx, "north", wire.StopServer{})
	assert.ErrorIs(t, err, fault.Busy.As())
	_, err = b.api.Act(ctx, clone.ID, "go-on")
	require.NoError(t, err)
	done := b.until(clone.ID, plan.Done)
	assert.NotEmpty(t, done.Copy, "the copy is in the library")
	worlds, err := b.api.Worlds(ctx, wire.WorldQuery{})
	require.NoError(t, err)
	names := []string{}
	for _, w := range worlds {
		names = append(names, w.Name)
	}
	assert.Contains(t, names, "winter-beds")
	require.Eventually(t, func() bool { _, err = b.api.Act(ctx, put.ID, "start"); return err == nil }, 10*time.Second,
		50*time.Millisecond)
	b.until(put.ID, plan.Done)
}

// What belongs to the world goes with it by choice: the settings that the profile names.
func TestSettingsTravelWithAClone(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{settings: "listen.port=PORT\nworld.folder=winter\nworld.seed=111\nwelcome=Mind the leeks\n"})
	south := b.quarry("south", plot{folder: "south"})
	code, out, _ := b.cli("clone", "north", "south")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "welcome = Mind the leeks")
	b.must("clone", "north", "south", "--settings", "bring", "--yes")
	data, err := os.ReadFile(filepath.Join(south, "quarry.properties"))
	require.NoError(t, err)
	assert.Contains(t, string(data), "welcome=Mind the leeks\n")
	// The copy in the library remembers them, for a restore elsewhere.
	taken, err := b.api.Changeover(context.Background(), 1)
	require.NoError(t, err)
	sheet, err := b.api.Sheet(context.Background(),
		wire.Wish{Kind: plan.Restore, World: taken.Copy, Server: "south"})
	require.NoError(t, err)
	row, ok := sheet.Sheet.Row("world-settings")
	require.True(t, ok)
	assert.True(t, row.Idle, row.Say)
}

// Landmarks are kept with the world, shown after each changeover of it, and ticked.
func TestLandmarks(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	b.must("landmarks", "add", "fen", "red roof by the well", "--at", "120 / -30")
	out := b.must("landmarks", "add", "fen", "the long bean row")
	assert.Contains(t, out, "1 red roof by the well 120 / -30 warden 2 the long bean row")
	code, _, errs := b.cli("landmarks", "add", "fen", "  ")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "one line of words")
	out = b.must("put", "fen", "north", "--yes")
	assert.Contains(t, out, "☐ 1 red roof by the well, at 120 / -30")
	out = b.must("changeovers", "tick", "1", "1")
	assert.Contains(t, out, "☑ 1 red roof by the well, at 120 / -30 (warden)")
	out = b.must("changeovers", "tick", "1", "2", "--missing")
	assert.Contains(t, out, "✕ missing: 2")
	assert.Contains(t, out, "reshard undo 1")
	// A rename, a restart and a take-away do not lose them; another world has none.
	renamed := b.do(wire.Wish{Kind: plan.Rename, World: "bog", Server: "north"})
	assert.Len(t, renamed.Landmarks, 2)
	assert.Nil(t, renamed.Landmarks[0].Seen, "they are looked for anew")
	b.do(wire.Wish{Kind: plan.TakeAway, Server: "north"})
	fen, err := b.api.World(context.Background(), "fen")
	require.NoError(t, err)
	assert.Len(t, fen.Copies, 2, "what was played is a copy of the same world")
	reset := b.do(wire.Wish{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "9"}})
	assert.Empty(t, reset.Landmarks)
	back := b.undo(reset.ID)
	assert.Len(t, back.Landmarks, 2)
	b.must("landmarks", "remove", "fen", "1")
	code, _, errs = b.cli("landmarks", "remove", "fen", "1")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "has no landmark 1")
}

// What is set aside is listed with size, age and rule, removed only by its typed name,
// and an undo that needs it says that it is gone.
func TestTidy(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.keepAside = time.Hour
	require.NoError(t, b.daemon.Close())
	b.start()
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	assert.Contains(t, b.must("tidy", "north"), "Nothing is set aside")
	c := b.put("fen", "north", nil)
	out := b.must("tidy", "north")
	assert.Contains(t, out, "winter (set aside), quarry.properties (settings as they were)")
	assert.Contains(t, out, "It is removed 1h0m0s after changeover 1 ended.")
	ctx := context.Background()
	for _, wrong := range []string{"", "north/2", "north", "NORTH/1"} {
		_, err := b.api.Tidy(ctx, "north", fmt.Sprint(c.ID), wrong)
		assert.Error(t, err, wrong)
	}
	assert.DirExists(t, filepath.Join(root, c.Plan.Work, "aside", "winter"))
	code, _, errs := b.cli("tidy", "north", "1")
	assert.Equal(t, 2, code, "nobody is there to type")
	assert.Contains(t, errs, "--confirm north/1")
	b.must("tidy", "north", "1", "--confirm", "north/1")
	assert.NoDirExists(t, filepath.Join(root, c.Plan.Work))
	_, err := b.api.Draft(ctx, wire.Wish{Kind: plan.Undo, Undoes: c.ID})
	assert.ErrorContains(t, err, "was removed on")
	_, err = b.api.Tidy(ctx, "north", "99", "north/99")
	assert.ErrorIs(t, err, fault.NotFound.As())

	// The rule removes what is older; what a crash left half removed goes too.
	second := b.do(wire.Wish{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "9"}})
	require.NoError(t, os.MkdirAll(filepath.Join(root, ".reshard", "going-7", "aside"), 0o755))
	b.keepAside = time.Nanosecond
	require.NoError(t, b.daemon.Close())
	b.start()
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(root, second.Plan.Work))
		_, going := os.Stat(filepath.Join(root, ".reshard", "going-7"))
		return os.IsNotExist(err) && os.IsNotExist(going)
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "fen", b.active("north"), "what runs is never touched")
}

// Several changeovers go back in order with one command.
func TestUndoWithLater(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	before := snapshot(t, filepath.Join(root, "worlds"), played...)
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	b.put("fen", "north", nil)
	b.do(wire.Wish{Kind: plan.Rename, World: "bog", Server: "north"})
	b.do(wire.Wish{Kind: plan.TakeAway, Server: "north"})
	b.do(wire.Wish{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "9"}})
	first, err := b.api.Changeover(context.Background(), 1)
	require.NoError(t, err)
	assert.Equal(t, []int64{4, 2}, first.Later, "what only copied is not in the way")
	out := b.must("undo", "1", "--with-later", "--yes")
	assert.Equal(t, 3, strings.Count(out, "✓ done."))
	assert.Contains(t, strings.Join(strings.Fields(out), " "),
		"each planned when the one before it is done: 4 reset, a new world “bog” 2 rename “Fen” to “bog” 1 put “Fen”")
	assert.Equal(t, before, snapshot(t, filepath.Join(root, "worlds"), played...))
}

// What was staged for a wait is another when the word comes, or gone: that is seen before the stop, and nobody is
// locked out.
func TestWhatWasStagedIsAnotherNow(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(t *testing.T, tile string){
		"gone":            func(t *testing.T, tile string) { require.NoError(t, os.Remove(tile)) },
		"of another size": func(t *testing.T, tile string) { require.NoError(t, os.Truncate(tile, 3)) },
		"of the same size": func(t *testing.T, tile string) {
			data, err := os.ReadFile(tile)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(tile, bytes.Repeat([]byte("x"), len(data)), 0o644))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			root := b.quarry("north", plot{})
			pid := b.pid("north")
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
			draft, err := b.api.Draft(t.Context(), wire.Wish{
				Kind: plan.Put, World: "fen", Server: "north",
				Choices: map[string]string{"title": "Fen of the North", "switch": "when-told"},
			})
			require.NoError(t, err)
			_, err = b.api.Act(t.Context(), draft.ID, "start")
			require.NoError(t, err)
			b.until(draft.ID, plan.Waiting)
			tiles, err := filepath.Glob(filepath.Join(root, draft.Plan.Work, "staged", "*", "ground", "*.qt"))
			require.NoError(t, err)
			require.NotEmpty(t, tiles)
			change(t, tiles[0])
			_, err = b.api.Act(t.Context(), draft.ID, "go-on")
			require.NoError(t, err)
			last, err := b.api.Watch(t.Context(), draft.ID, func(wire.Changeover) {})
			require.NoError(t, err)
			require.Equal(t, plan.Undone, last.State)
			assert.Contains(t, last.Failure.What, filepath.Base(tiles[0]))
			assert.Equal(t, pid, b.pid("north"), "players never noticed")
		})
	}
}
