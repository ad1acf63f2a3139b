package world_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	_ "reshard/internal/sqlite"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/archive/archivetest"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// A sender that gives only what is asked for has its worlds recognised and pictured, and
// sends little of them.
func TestLookAtListing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir() + "/saves"
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen", Seed: 7, Tiles: 30, TileBytes: 20_000, Folk: []string{"Ada"}}))
	content := map[string][]byte{}
	var listed []world.Listed
	for _, f := range archivetest.Read(t, dir, "") {
		content[f.Name] = f.Content
		listed = append(listed, world.Listed{Path: f.Name, Size: int64(len(f.Content)), Modified: time.Unix(1e9, 0)})
	}
	listed = append(listed, world.Listed{Path: "../up", Size: 1}, world.Listed{Path: "fen/huge.log", Size: 1 << 40},
		listed[0])
	sent := int64(0)
	for round := 1; ; round++ {
		require.LessOrEqual(t, round, 5)
		l := world.NewListing(listed)
		s, grounds, needs, err := world.LookAtListing(l, "saves", games.All(), time.Now())
		require.NoError(t, err)
		if len(needs) == 0 {
			require.Len(t, s.Worlds, 1)
			assert.Equal(t, "Fen", s.Worlds[0].World.Title)
			assert.Equal(t, "fen", s.Worlds[0].At)
			assert.Equal(t, "Ada", s.Worlds[0].World.Players[0].Name)
			assert.Empty(t, s.Worlds[0].Damaged)
			g := grounds["fen"]
			img, m, err := g.Draw()
			require.NoError(t, err)
			assert.Equal(t, 30, m.Tiles)
			assert.Equal(t, 96, img.Bounds().Dx())
			break
		}
		for _, n := range needs {
			for i, f := range listed {
				if f.Path == n.Path {
					sent += n.Bytes - int64(len(f.Begin))
					listed[i].Begin = content[n.Path][:n.Bytes]
				}
			}
		}
	}
	assert.Less(t, sent, int64(60_000), "of 600,000 bytes")
}

// A picture that is made of one file is drawn when that file is small, and a large one is
// not asked for: the world may not be the one that is meant.
func TestAPictureOfOneFileInAListing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "m.sqlite"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE m (x, z, v); INSERT INTO m VALUES (-1, 0, 50), (1, 2, 100)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	data, err := os.ReadFile(filepath.Join(dir, "m.sqlite"))
	require.NoError(t, err)
	profiles := []*game.Profile{
		pictured(t, `{query: {read: m.sqlite, through: [sqlite], query: "SELECT x, z, v FROM m"}}`),
	}
	look := func(size int64, begin []byte) (map[string]world.Ground, []world.Need) {
		l := world.NewListing([]world.Listed{{Path: "w/a"}, {Path: "w/m.sqlite", Size: size, Begin: begin}})
		s, grounds, needs, err := world.LookAtListing(l, "saves", profiles, time.Now())
		require.NoError(t, err)
		require.Len(t, s.Worlds, 1)
		return grounds, needs
	}
	_, needs := look(int64(len(data)), nil)
	assert.Equal(t, []world.Need{{Path: "w/m.sqlite", Bytes: int64(len(data))}}, needs, "all of it, at once")
	grounds, needs := look(int64(len(data)), data)
	assert.Empty(t, needs)
	g := grounds["w"]
	_, m, err := g.Draw()
	require.NoError(t, err)
	assert.Equal(t, 2, m.Tiles)
	grounds, needs = look(50<<20, nil)
	assert.Empty(t, needs)
	assert.Empty(t, grounds)
}
