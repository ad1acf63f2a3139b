package e2e

import (
	"bytes"
	"context"
	"errors"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// A world that comes from two places is recognised as one by its id and by what they
// share, is offered and never joined by itself; what is joined can be split again.
func TestTheSameWorldFromTwoPlaces(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	first := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 20})
	dir := filepath.Join(b.madeDir(), "fen")
	later := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	heart, err := quarrymoss.ReadHeart(dir)
	require.NoError(t, err)
	heart.LastPlayed = later
	require.NoError(t, quarrymoss.WriteHeart(dir, heart))
	out := b.must("send", dir)
	assert.Contains(t, out, "Stored “Fen” as fen-2")
	assert.Contains(t, out, "may be the same world as fen (“Fen”): it has the same world id, and 9")
	assert.Contains(t, out, "reshard worlds join fen-2 fen or reshard worlds apart fen-2 fen")
	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 3, Tiles: 20})
	w, err := b.api.World(ctx, "fen-2")
	require.NoError(t, err)
	require.Len(t, w.Same, 1, "another world of the game is not offered")

	b.must("worlds", "apart", "fen-2", "fen")
	w, err = b.api.World(ctx, "fen-2")
	require.NoError(t, err)
	assert.Empty(t, w.Same, "it is not asked again")

	b.must("worlds", "change", "fen-2", "--note", "from Oke's laptop", "--tag", "members")
	b.must("landmarks", "add", "fen-2", "the red roof", "--at", "3 / 2")
	assert.Contains(t, b.must("worlds", "join", "fen-2", "fen"), "fen has 2 copies now")
	w, err = b.api.World(ctx, "fen")
	require.NoError(t, err)
	assert.Equal(t, []string{"members"}, w.Tags)
	assert.Equal(t, "from Oke's laptop", w.Note)
	marks, err := b.api.Landmarks(ctx, "fen")
	require.NoError(t, err)
	assert.Len(t, marks, 1)
	assert.Contains(t, b.must("worlds", "split", first.ID[:8]), "It is fen-2 now.")
	code, _, errs := b.cli("worlds", "split", first.ID[:8])
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "it is the only copy of fen-2")
	code, _, errs = b.cli("worlds", "join", "fen", "fen")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "it is one world already")
}

// Where copies came from and where they went is told, also after play on a server.
func TestLineageAndFilters(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	b.quarry("north", plot{})
	b.quarry("south", plot{folder: "south"})
	sent := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: -2, Folk: []string{"Ada"}})
	b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	taken := b.do(wire.Wish{Kind: plan.TakeAway, Server: "north"})
	b.do(wire.Wish{Kind: plan.Restore, World: sent.ID, Server: "south"})
	b.must("worlds", "change", "fen", "--title", "Fen Garden", "--tag", "winter", "--tag", " winter ")
	l, err := b.api.Lineage(ctx, "fen")
	require.NoError(t, err)
	var told []string
	for _, p := range l.Steps {
		told = append(told, p.What+" "+p.Server)
	}
	assert.Equal(t, []string{"arrived ", "brought north", "taken north", "brought south", "edited "}, told)
	assert.Equal(t, sent.ID, l.Steps[2].Of, "the copy that had been brought there")
	assert.Equal(t, taken.ID, l.Steps[2].Changeover)
	assert.Contains(t, b.must("worlds", "lineage", "fen"),
		"taken from north, where copy "+sent.ID[:12]+" had been brought")
	assert.Contains(t, b.must("worlds", "show", "fen"), "Fen Garden")

	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 3, Version: "2.5.0"})
	for _, c := range []struct {
		wanted wire.WorldQuery
		found  int
	}{
		{wire.WorldQuery{}, 2}, {wire.WorldQuery{Server: "NORTH"}, 1}, {wire.WorldQuery{Tag: "Winter"}, 1},
		{wire.WorldQuery{Seed: "-2"}, 1},
		{wire.WorldQuery{Version: "2.5.0"}, 1}, {wire.WorldQuery{Player: "ada"}, 1},
		{wire.WorldQuery{Search: "winter fen"}, 1},
		{wire.WorldQuery{Server: "south", Seed: "3"}, 0}, {wire.WorldQuery{Game: "emberlode"}, 0},
		{wire.WorldQuery{Aside: true}, 0},
	} {
		got, err := b.api.Worlds(ctx, c.wanted)
		require.NoError(t, err)
		assert.Len(t, got, c.found, "%+v", c.wanted)
	}

	// A pinned copy cannot be set aside; one that is set aside is in no list, and can
	// be brought back.
	b.must("worlds", "pin", sent.ID[:8], "--note", "as it came")
	code, _, errs := b.cli("worlds", "set-aside", sent.ID[:8])
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "the copy is pinned")
	assert.Contains(t, errs, "reshard worlds unpin "+sent.ID[:12])
	b.must("worlds", "unpin", sent.ID[:8])
	assert.Contains(t, b.must("worlds", "set-aside", sent.ID[:8]), "set aside")
	worlds, err := b.api.Worlds(ctx, wire.WorldQuery{Search: "fen"})
	require.NoError(t, err)
	assert.Len(t, worlds[0].Copies, 2)
	aside, err := b.api.Worlds(ctx, wire.WorldQuery{Aside: true})
	require.NoError(t, err)
	require.Len(t, aside, 1)
	assert.Equal(t, sent.ID, aside[0].Copies[0].ID)
	assert.Contains(t, b.must("worlds", "bring-back", sent.ID[:8]), "in the library")
	_, err = b.api.ChangeWorld(ctx, "fen", wire.ChangeWorld{Tags: &[]string{"a,b"}})
	require.ErrorIs(t, err, fault.Invalid.As())
}

// Two copies are compared in facts, players, tiles and files, in words and in a picture.
func TestCompare(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	before := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 16, Folk: []string{"Ada", "Oke"}})
	dir := filepath.Join(b.madeDir(), "fen")
	tiles, err := filepath.Glob(filepath.Join(dir, "ground", "*.qt"))
	require.NoError(t, err)
	data, err := os.ReadFile(tiles[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ground", "t.9.9.qt"), data, 0o644))
	require.NoError(t, os.Remove(tiles[1]))
	data[len(data)-1] ^= 1 // nothing that is seen from above
	require.NoError(t, os.WriteFile(tiles[0], data, 0o644))
	folk, err := filepath.Glob(filepath.Join(dir, "folk", "*.json"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(folk[0]))
	heart, err := quarrymoss.ReadHeart(dir)
	require.NoError(t, err)
	heart.WrittenBy = "2.5.1"
	require.NoError(t, quarrymoss.WriteHeart(dir, heart))
	b.must("send", dir)
	c, err := b.api.Compare(ctx, before.ID, "fen-2")
	require.NoError(t, err)
	require.NotNil(t, c.Map)
	assert.Equal(t, [4]int{1, 1, 1, 14}, [4]int{c.Map.Added, c.Map.Changed, c.Map.Lost, c.Map.Same})
	assert.Len(t, c.Players.Lost, 1)
	assert.Equal(t, [3]int{1, 2, 2}, [3]int{c.Files.Added.Files, c.Files.Changed.Files, c.Files.Lost.Files})
	words := strings.Join(c.Words, "\n")
	assert.Contains(t, words, "On the map 1 new tile, 1 changed tile, 1 lost tile and 14 tiles as they were.")
	assert.Contains(t, words, "The version was “2.4.0” and is “2.5.1”.")
	assert.Contains(t, words, "is gone")
	out := b.must("compare", before.ID[:8], "fen-2", "--files", "--picture", filepath.Join(b.dir, "d.png"))
	assert.Contains(t, out, "changed heart.cbor.gz")
	body, err := b.api.ComparePicture(ctx, before.ID, "fen-2")
	require.NoError(t, err)
	drawn, err := io.ReadAll(body)
	require.NoError(t, errors.Join(err, body.Close()))
	written, err := os.ReadFile(filepath.Join(b.dir, "d.png"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(drawn, written))
	img, err := png.Decode(bytes.NewReader(drawn))
	require.NoError(t, err)
	assert.Equal(t, 12*16, img.Bounds().Dx(), "from tile -2 to 9")
	same, err := b.api.Compare(ctx, "fen", "fen")
	require.NoError(t, err)
	assert.Contains(t, same.Words[0], "Every file is the same in both.")

	m, err := b.api.Map(ctx, "fen")
	require.NoError(t, err)
	assert.Equal(t, [4]float64{64, 64, -32, 1}, [4]float64{float64(m.Width), float64(m.Height), m.Left, m.Scale})
	require.NotNil(t, m.Spawn)
	assert.Equal(t, 2.0, m.Spawn.X)
	b.must("landmarks", "add", "fen", "the red roof", "--at", "120 / 64 / -30")
	m, err = b.api.Map(ctx, "fen")
	require.NoError(t, err)
	require.Len(t, m.Landmarks, 1)
	assert.False(t, m.Landmarks[0].Shown, "the picture does not reach so far")
	b.must("worlds", "picture", "fen", "--marks", "--to", filepath.Join(b.dir, "m.png"))
	res := ask(t, b, http.MethodGet, "/api/v1/worlds/fen/picture?side=20", "Bearer "+signInToken(t, b), "")
	small, err := png.Decode(res.Body)
	require.NoError(t, err)
	assert.Equal(t, 20, small.Bounds().Dx())

	own := filepath.Join(b.dir, "other")
	require.NoError(t, os.MkdirAll(own, 0o755))
	b.must("worlds", "fetch", "fen", "--as", "tar.zst", "--to", filepath.Join(own, "a.tar.zst"))
	b.must("worlds", "fetch", "fen", "--as", "tar.zst", "--to", filepath.Join(own, "b.tar.zst"))
	one, err := os.ReadFile(filepath.Join(own, "a.tar.zst"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(own, "b.tar.zst"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(one, two))
	assert.Contains(t, b.must("send", filepath.Join(own, "a.tar.zst")), "The library has this content already")
}

// The vault is checked, made small, and found again after the database was lost.
func TestTheVaultIsCheckedAndFoundAgain(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	sent := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 9, Realms: []string{"caverns"}, Split: true})
	b.send("moor", quarrymoss.Options{Title: "Moor", Seed: 3, Tiles: 9})
	assert.Contains(t, b.must("vault", "check"), "Everything is as it was stored.")
	assert.Contains(t, b.must("vault", "collect"), "0 B freed")
	assert.Contains(t, b.must("vault"), "2 copies")

	// All that the database knew is gone; the packs say it again.
	require.NoError(t, b.daemon.Close())
	b.database = newDatabase(t)
	b.start()
	assert.Contains(t, b.must("worlds"), "The library is empty")
	collected := b.must("vault", "collect")
	assert.Contains(t, collected, "reshard vault rebuild", "nothing is taken for waste")
	assert.Contains(t, b.must("vault", "rebuild"), "2 copies")
	again, err := b.api.World(ctx, sent.ID)
	require.NoError(t, err)
	assert.Equal(t, "Fen", again.Title)
	assert.Equal(t, "found in the vault", again.Copies[0].Source)
	b.must("worlds", "verify", "fen")

	packs, err := filepath.Glob(filepath.Join(b.dir, "data", "vault", "packs", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for _, p := range packs {
		data, err := os.ReadFile(p)
		require.NoError(t, err)
		data[80] ^= 1
		require.NoError(t, os.WriteFile(p, data, 0o600))
	}
	code, out, errs := b.cli("vault", "check")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "its content does not match its name")
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "Bring those worlds again from where they came from")
}

// What cannot be compared, drawn or worked on is said in words, and changes nothing.
func TestWhatTheLibraryRefuses(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 9})
	bare := filepath.Join(b.madeDir(), "bare")
	require.NoError(t, quarrymoss.Make(bare, quarrymoss.Options{Title: "Bare", Seed: 3, Tiles: 1}))
	tiles, err := filepath.Glob(filepath.Join(bare, "ground", "*.qt"))
	require.NoError(t, err)
	for _, tile := range tiles {
		require.NoError(t, os.WriteFile(tile, []byte("cut"), 0o644))
	}
	b.must("send", bare)
	marsh, err := saltmarch.Make(b.dir, saltmarch.Options{Name: "Low Marsh", Seed: 4})
	require.NoError(t, err)
	b.must("send", filepath.Join(b.dir, marsh))
	for _, c := range []struct {
		args, says string
		code       int
	}{
		{"compare fen low-marsh", "fen", 1},
		{"compare fen nowhere", "nowhere", 1},
		{"compare fen", "reshard compare --help", 2},
		{"worlds picture low-marsh --to " + filepath.Join(b.dir, "m.png"), "does not say how to draw", 1},
		{
			"worlds picture bare --to " + filepath.Join(b.dir, "m.png"),
			"there is no picture: nothing of the world has been explored yet",
			1,
		},
		{"worlds picture fen --to " + filepath.Join(b.dir, "made"), "made", 1},
		{"worlds change fen --tag " + strings.Repeat("x", 41), "at most 40 letters", 1},
		{"worlds change low-marsh --title", "", 2},
		{"worlds join fen low-marsh", "a world of quarrymoss", 1},
		{"worlds apart fen fen", "it is one world", 1},
		{"worlds bring-back nowhere", "nowhere", 1},
		{"arrivals take 123456", "reshard arrivals lists them", 1},
	} {
		code, _, errs := b.cli(strings.Fields(c.args)...)
		assert.Equal(t, c.code, code, "%s: %s", c.args, errs)
		assert.Contains(t, strings.Join(strings.Fields(errs), " "), c.says, c.args)
		assert.NotContains(t, errs, "internal", c.args)
	}
	_, err = os.Stat(filepath.Join(b.dir, "m.png"))
	require.ErrorIs(t, err, os.ErrNotExist, "no beginning of a picture is left")

	// Of two games with no picture of tiles all else is compared.
	b.must("worlds", "change", "low-marsh", "--title", "High Marsh")
	w, err := b.api.World(ctx, "low-marsh")
	require.NoError(t, err)
	require.Len(t, w.Copies, 2)
	assert.Equal(t, "High Marsh", w.Title)
	out := b.must("compare", w.Copies[1].ID[:8], w.Copies[0].ID[:8])
	assert.Contains(t, out, "The title was “Low Marsh” and is “High Marsh”.")
	_, err = b.api.ComparePicture(ctx, w.Copies[1].ID, w.Copies[0].ID)
	require.ErrorIs(t, err, fault.NotFound.As())

	// One work on the vault at a time, of a kind that there is.
	_, err = b.api.WorkOnVault(ctx, "polish")
	require.ErrorIs(t, err, fault.NotFound.As())
	var busy atomic.Int32
	var group errgroup.Group
	for range 6 {
		group.Go(func() error {
			_, err := b.api.WorkOnVault(ctx, "check")
			if fault.CodeOf(err) == fault.Busy {
				busy.Add(1)
				return nil
			}
			return err
		})
	}
	require.NoError(t, group.Wait())
	require.Eventually(t, func() bool {
		v, err := b.api.Vault(ctx)
		return err == nil && v.Work != nil && v.Work.Ended != nil
	}, 20*time.Second, 20*time.Millisecond)
	assert.Contains(t, b.must("vault"), "4 copies", "the edited one too: %d were busy", busy.Load())
}
