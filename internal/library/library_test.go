package library_test

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/catalogue"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/drawing"
	"reshard/internal/library"
	"reshard/internal/records/recordstest"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// setup makes a library without worlds, that keeps what is set aside for a moment.
func setup(t *testing.T) *library.Library {
	t.Helper()
	r := recordstest.Open(t)
	blobs, err := vault.Files(filepath.Join(t.TempDir(), "vault"))
	require.NoError(t, err)
	v, err := vault.Open(context.Background(), blobs, r.VaultIndex())
	require.NoError(t, err)
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	docs := []game.Document{}
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		require.NoError(t, err)
		docs = append(docs, game.Document{Profile: p, Source: source, Origin: game.OriginShipped})
	}
	catalogue := catalogue.New(docs, r, quiet)
	require.NoError(t, catalogue.Load(context.Background()))
	return library.New(library.Config{
		Records: r, Vault: v, Games: catalogue, Board: drawing.New(), Log: quiet,
		Pictures: t.TempDir(), KeepAside: time.Millisecond,
	})
}

// world makes one on disk; alter may change its files after that.
func world(t *testing.T, o quarrymoss.Options, alter ...func(dir string)) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, quarrymoss.Make(dir, o))
	for _, a := range alter {
		a(dir)
	}
	return dir
}

func keep(t *testing.T, lib *library.Library, dir, name string) wire.Arrival {
	t.Helper()
	got, err := lib.Keep(context.Background(), library.Incoming{Name: name, By: "bryn"}, os.DirFS(dir), nil, nil)
	require.NoError(t, err)
	return got
}

func change(t *testing.T, lib *library.Library, id string, c wire.ChangeCopy, by string) wire.Copy {
	t.Helper()
	got, err := lib.ChangeCopy(context.Background(), id, c, by)
	require.NoError(t, err)
	return got
}

func yes() *bool { v := true; return &v }
func no() *bool  { v := false; return &v }

// The same bytes are one copy, a later state of a world is told to be like it, and stays a
// world of its own until a person joins them; each step can be taken back.
func TestStatesOfOneWorld(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	lib := setup(t)
	fen := quarrymoss.Options{Title: "Fen Garden", Seed: 4711, Tiles: 64}
	dir := world(t, fen)
	first := keep(t, lib, dir, "fen.zip")
	assert.True(t, first.New)
	assert.Equal(t, "quarrymoss", first.Copy.Facts.Game)
	again := keep(t, lib, dir, "the-same.zip")
	assert.False(t, again.New, "the same bytes")
	assert.Equal(t, first.Copy.ID, again.Copy.ID)
	assert.Equal(t, "fen.zip", again.Copy.Source, "where it came from first stays")

	later := keep(t, lib, world(t, fen, func(dir string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "ground", "later"), []byte("a barn"), 0o644))
	}), "fen-later.zip")
	require.Len(t, later.Same, 1)
	assert.Equal(t, first.Copy.World, later.Same[0].World)
	assert.Contains(t, later.Same[0].Why, "world id")
	assert.Greater(t, later.Same[0].Share, 90)
	other := keep(t, lib, world(t, quarrymoss.Options{Title: "Old Quay", Seed: 7}), "quay.zip")
	assert.Empty(t, other.Same)

	_, err := lib.JoinWorlds(ctx, later.Copy.World, later.Copy.World)
	require.ErrorIs(t, err, fault.Invalid.As())
	joined, err := lib.JoinWorlds(ctx, later.Copy.World, first.Copy.World)
	require.NoError(t, err)
	assert.Equal(t, first.Copy.World, joined.Name)
	assert.Len(t, joined.Copies, 2)
	apart, err := lib.SplitCopy(ctx, later.Copy.ID)
	require.NoError(t, err)
	assert.NotEqual(t, joined.Name, apart.Name)
	require.Len(t, apart.Copies, 1)
	assert.Equal(t, later.Copy.ID, apart.Copies[0].ID)
	assert.Len(t, apart.Same, 1, "it is asked again")
	require.NoError(t, lib.SayApart(ctx, apart.Name, joined.Name, "bryn"))
	apart, err = lib.World(ctx, apart.Name)
	require.NoError(t, err)
	assert.Empty(t, apart.Same, "a person has said that it is not")
	_, err = lib.SplitCopy(ctx, other.Copy.ID)
	assert.ErrorIs(t, err, fault.WrongState.As(), "its only copy")

	list, next, err := lib.Worlds(ctx, wire.WorldQuery{Part: wire.Part{Limit: 2}, Order: "name"})
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.NotEmpty(t, next)
	rest, next, err := lib.Worlds(ctx, wire.WorldQuery{Part: wire.Part{Limit: 2, After: next}, Order: "name"})
	require.NoError(t, err)
	assert.Len(t, rest, 1)
	assert.Empty(t, next)
	found, _, err := lib.Worlds(ctx, wire.WorldQuery{Seed: "7"})
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, other.Copy.World, found[0].Name)
}

// A copy goes by three steps, of which the first two can be taken back: it is not pinned,
// it is set aside, and its time is over.
func TestACopySetAside(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	lib := setup(t)
	id := keep(t, lib, world(t, quarrymoss.Options{Title: "Fen Garden", Seed: 4711}), "fen.zip").Copy.ID

	pinned := change(t, lib, id, wire.ChangeCopy{Pinned: yes()}, "bryn")
	assert.True(t, pinned.Pinned)
	_, err := lib.ChangeCopy(ctx, id, wire.ChangeCopy{Aside: yes()}, "bryn")
	require.ErrorIs(t, err, fault.WrongState.As())
	_, next := fault.Words(err)
	assert.Contains(t, next, "worlds unpin")
	aside := change(t, lib, id, wire.ChangeCopy{Pinned: no(), Aside: yes()}, "ada")
	assert.Equal(t, "ada", aside.AsideBy)
	require.NotNil(t, aside.Goes)
	assert.Equal(t, aside.AsideAt.Add(time.Millisecond), *aside.Goes)
	_, err = lib.ChangeCopy(ctx, id, wire.ChangeCopy{Pinned: yes()}, "bryn")
	require.ErrorIs(t, err, fault.WrongState.As(), "what goes is not pinned")
	back := change(t, lib, id, wire.ChangeCopy{Aside: no()}, "bryn")
	assert.Nil(t, back.AsideAt)
	gone, err := lib.Tidy(ctx)
	require.NoError(t, err)
	assert.Zero(t, gone, "it was brought back")

	change(t, lib, id, wire.ChangeCopy{Aside: yes()}, "ada")
	require.Eventually(t, func() bool {
		gone, err = lib.Tidy(ctx)
		return err == nil && gone == 1
	}, 5*time.Second, 5*time.Millisecond)
	_, err = lib.World(ctx, id)
	assert.ErrorIs(t, err, fault.NotFound.As())
	again := keep(t, lib, world(t, quarrymoss.Options{Title: "Fen Garden", Seed: 4711}), "fen.zip")
	assert.Nil(t, again.Copy.AsideAt, "what is sent again is there again")
}

// What a person says of a world: words on record, and a title that is written into the
// world itself, which makes another copy and leaves the first as it was.
func TestWhatIsSaidOfAWorld(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	lib := setup(t)
	first := keep(t, lib, world(t, quarrymoss.Options{Title: "Fen Garden", Seed: 4711}), "fen.zip").Copy
	note, title, tags := "  the barn is ada's ", "Fen Garden at last", []string{"kept ", "kept", " autumn"}
	w, err := lib.ChangeWorld(ctx, first.World, wire.ChangeWorld{Note: &note, Tags: &tags}, "bryn")
	require.NoError(t, err)
	assert.Equal(t, "the barn is ada's", w.Note)
	assert.Equal(t, []string{"autumn", "kept"}, w.Tags)
	assert.Len(t, w.Copies, 1)

	w, err = lib.ChangeWorld(ctx, first.World, wire.ChangeWorld{Title: &title}, "bryn")
	require.NoError(t, err)
	require.Len(t, w.Copies, 2)
	assert.Equal(t, title, w.Title)
	assert.Equal(t, title, w.Copies[0].Facts.Title)
	assert.Equal(t, "edited", w.Copies[0].Kind)
	assert.Equal(t, "Fen Garden", w.Copies[1].Facts.Title)
	assert.Equal(t, "the barn is ada's", w.Note, "what was left out stays")
	for _, c := range w.Copies {
		_, err := lib.VerifyCopy(ctx, c.ID)
		assert.NoError(t, err)
	}
	many := []string{"a", strings.Repeat("long", 11)}
	_, err = lib.ChangeWorld(ctx, first.World, wire.ChangeWorld{Tags: &many}, "bryn")
	assert.ErrorIs(t, err, fault.Invalid.As())
	_, err = lib.ChangeWorld(ctx, "nowhere", wire.ChangeWorld{Note: &note}, "bryn")
	assert.ErrorIs(t, err, fault.NotFound.As())
}
