package e2e

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func edit(t *testing.T, file, old, now string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(data), old)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), old, now, 1)), 0o644))
}

// One capital wrong: the server says nothing and makes an empty world. The sheet sees
// it before, and a switch mends it; the empty world stays, for a person to look at.
func TestTrapOneCapital(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	edit(t, filepath.Join(root, "quarry.properties"), "world.folder=winter", "world.folder=Winter")
	code, out, _ := b.cli("fit", "north")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "they differ by a capital")
	out = b.must("switch", "north", "winter", "--yes")
	assert.Contains(t, out, "The setting says “Winter”, on disk it would be “winter”: they differ by a capital")
	assert.Contains(t, out, "✓ the log names the opened world: winter")
	assert.NoDirExists(t, filepath.Join(root, "worlds", "Winter"))
}

// A seed that is set by hand while the server runs is lost when it stops: it writes its
// settings back. A reset writes the seed when the server is down, and proves it.
func TestTrapSeedLostOnExit(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	settings := filepath.Join(root, "quarry.properties")
	edit(t, settings, "world.seed=111", "world.seed=42")
	code, out, _ := b.cli("fit", "north")
	assert.Equal(t, 0, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "),
		"quarry.properties was changed while the server runs, which writes it anew when it stops: the change will be "+
			"lost.")
	out = b.must("reset", "north", "--seed", "42", "--yes")
	assert.Contains(t, out, "✓ the console answers seed: 42")
	assert.Contains(t, out, "the ground is new: 0 of")
	// The settings were changed between the plan and the start: nothing is overwritten.
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "43"}})
	require.NoError(t, err)
	edit(t, settings, "welcome=", "welcome=well, ")
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	assert.ErrorIs(t, err, fault.Changed.As())
}

// Seeds that people really ask for: negative, as large as 64 bits, words, the same
// again; and those that the game does not take.
func TestSeedsOfAReset(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	code, out, _ := b.cli("reset", "north")
	assert.Equal(t, 4, code, "the settings would bring the same ground back")
	assert.Contains(t, out, "--seed random")
	for seed, want := range map[string]string{
		"-9223372036854775808": "-9223372036854775808",
		"18446744073709551615": "-1",
		"three marrows":        "not ",
	} {
		out := b.must("reset", "north", "--seed", seed, "--yes")
		assert.Contains(t, out, "✓ the console answers seed: ", seed)
		if want != "not " {
			assert.Contains(t, out, "seed: "+want, seed)
		}
	}
	out = b.must("reset", "north", "--seed", "same", "--name", "twin", "--yes")
	assert.NotContains(t, out, "✓ the ground is new", "the same ground is what was asked for")
	assert.Contains(t, out, "✓ files made since the old world was gone")
	code, out, _ = b.cli("reset", "north", "--seed", "line\nbreak", "--yes")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "one line")
	code, out, _ = b.cli("reset", "north", "--name", "winter", "--seed", "9", "--yes")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "The name “winter” is taken")
}

// Realms of a world that is gone lie about under the name that is asked for: a new
// world and a renamed one would take them for their own.
func TestTrapStaleRealms(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("terraces", plot{
		kind:   "terrace",
		folder: "top",
		world:  quarrymoss.Options{Title: "Top", Seed: 3, Realms: []string{"caverns"}},
	})
	worlds := filepath.Join(root, "worlds")
	stale := filepath.Join(worlds, "spring~caverns", "t.0.0.qt")
	leave := func() {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(stale), 0o755))
		require.NoError(t, os.WriteFile(stale, []byte("stale"), 0o644))
	}
	for _, command := range [][]string{
		{"reset", "terraces", "--name", "spring", "--seed", "random", "--yes"},
		{"rename", "terraces", "spring", "--yes"},
	} {
		leave()
		out := b.must(command...)
		assert.Contains(t, out, "Set worlds/spring~caverns aside")
		now, err := os.ReadFile(stale)
		if err == nil {
			assert.NotEqual(t, "stale", string(now), "the world's own realm stands there")
		}
		last := b.lastChangeover("terraces")
		require.Equal(t, plan.Done, b.undo(last.ID).State)
		back, err := os.ReadFile(stale)
		require.NoError(t, err)
		assert.Equal(t, "stale", string(back), "and it is there again")
		assert.DirExists(t, filepath.Join(worlds, "top~caverns"))
	}
}

// A launch argument beats the file: every source is written, also with the name that
// the server finds for a new world by itself.
func TestTrapLaunchArgument(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	require.NoError(t, emberlode.MakeServer(root, standin, "bog", true, 3, freePort(t), "--load frostfall"))
	require.NoError(t, emberlode.Make(filepath.Join(root, emberlode.SavesFolder), "frostfall",
		emberlode.Save{Expedition: "Frostfall", Seed: 3}, 2))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	out := b.must("reset", "camp", "--seed", "18446744073709551615", "--yes")
	assert.Contains(t, out, "✓ the console answers seed: 18446744073709551615")
	s, err := b.api.Server(context.Background(), "camp")
	require.NoError(t, err)
	name := s.Server.Opened
	assert.True(t, strings.HasPrefix(name, "expedition-"), name)
	for _, file := range []string{"launch.sh", "server.json"} {
		data, err := os.ReadFile(filepath.Join(root, file))
		require.NoError(t, err)
		assert.Contains(t, string(data), name, file)
	}
	b.must("servers", "stop", "camp")
	b.must("servers", "start", "camp")
	s, err = b.api.Server(context.Background(), "camp")
	require.NoError(t, err)
	assert.Equal(t, name, s.Server.Opened, "the next start opens it again")
}

// The folder above all worlds is never touched: it is the same folder after every kind
// of changeover.
func TestTrapParentFolder(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	worlds := filepath.Join(root, "worlds")
	before, err := os.Stat(worlds)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(worlds, "notes.txt"), []byte("mine"), 0o644))
	for _, wish := range []wire.Wish{
		{Kind: plan.Put, World: "fen"}, {Kind: plan.Rename, World: "bog"},
		{Kind: plan.Reset, Choices: map[string]string{"seed": "5"}},
	} {
		wish.Server = "north"
		b.do(wish)
	}
	for _, c := range []int64{3, 2, 1} {
		require.Equal(t, plan.Done, b.undo(c).State)
	}
	after, err := os.Stat(worlds)
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after))
	assert.FileExists(t, filepath.Join(worlds, "notes.txt"))
}

// A server that opens an old world instead of making a new one is found out, and all
// goes back.
func TestAResetThatIsNoneGoesBack(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "spring-spare"),
		quarrymoss.Options{Title: "Spare", Seed: 9, Realms: []string{"caverns", "aurora"}}))
	before := snapshot(t, filepath.Join(root, "worlds"), played...)
	b.misbehave("north", "opens-other spring")
	code, out, _ := b.cli("reset", "north", "--name", "spring", "--seed", "9", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "✕ expected spring, the log names the opened world: spring-spare")
	assert.Equal(t, before, snapshot(t, filepath.Join(root, "worlds"), played...))
	assert.Equal(t, "winter", b.active("north"))
}

// A title that is asked for is written into the staged world, and the copy keeps its own.
func TestPutWithAnotherTitle(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	out := b.must("put", "fen", "north", "--title", "Fen, the Winter Beds", "--yes")
	assert.Contains(t, out, "✓ the title: Fen, the Winter Beds")
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "Fen, the Winter Beds", s.Server.ActiveTitle)
	assert.Contains(t, b.must("worlds", "show", "fen"), "“Fen”")
	require.Equal(t, plan.Done, b.undo(1).State)
}

// A copy that is damaged in the vault is never handed out as if it were whole, and a
// half written file does not stay.
func TestADamagedCopyIsNotHandedOut(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	taken := b.do(wire.Wish{Kind: plan.TakeAway, Server: "north"})
	require.NoError(t, filepath.WalkDir(filepath.Join(b.dir, "data", "vault", "packs"),
		func(p string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := os.ReadFile(p)
			require.NoError(t, err)
			data[80] ^= 1 // of the first chunk in it
			return os.WriteFile(p, data, 0o600)
		}))
	body, _, err := b.api.Archive(context.Background(), taken.Copy, "")
	if err == nil {
		_, err = io.ReadAll(body)
		require.NoError(t, body.Close())
	}
	assert.Error(t, err)
	_, err = b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Restore, World: taken.Copy, Server: "north"})
	require.NoError(t, err, "the plan reads no content")
	code, _, _ := b.cli("restore", taken.Copy[:12], "north", "--yes")
	assert.Equal(t, 1, code)
	assert.Equal(t, "winter", b.active("north"), "nothing live was touched")
}

// Somebody has made the world active by hand that was only placed beside: its undo
// would leave the settings without a world.
func TestUndoOfABesideThatIsActive(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	beside := b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Beside: true})
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Undo, Undoes: beside.ID})
	require.NoError(t, err)
	assert.Equal(t, "undo of 1, worlds/fen set aside", draft.Title, "nothing comes back by it")
	b.must("servers", "stop", "north")
	edit(t, filepath.Join(root, "quarry.properties"), "world.folder=winter", "world.folder=fen")
	_, err = b.api.Draft(context.Background(), wire.Wish{Kind: plan.Undo, Undoes: beside.ID})
	assert.ErrorContains(t, err, "which is the active world now")
	b.must("switch", "north", "winter", "--yes")
	code, _, errs := b.cli("undo", "1", "--with-later", "--yes") // the switch first: fen is active again
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Switch to another world first")
	assert.Equal(t, "fen", b.active("north"))
}

// Another world has taken the place of the one that a plan is about: it is refused
// before anything stops.
func TestAWorldThatIsAnotherNow(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	old := filepath.Join(root, "worlds", "old")
	require.NoError(t, quarrymoss.Make(old, quarrymoss.Options{Title: "Old", Seed: 9}))
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Switch, World: "old", Server: "north"})
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(old))
	require.NoError(t, quarrymoss.Make(old, quarrymoss.Options{Title: "Old", Seed: 10}))
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	assert.ErrorIs(t, err, fault.Changed.As())
	assert.ErrorContains(t, err, "another world than when the plan was made")
	assert.Equal(t, "winter", b.active("north"))
}
