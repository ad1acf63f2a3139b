package world_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	_ "reshard/internal/sqlite"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/core/fault"
	"reshard/internal/core/world"
)

func made(t *testing.T, folder string, o quarrymoss.Options) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, folder), o))
	return dir
}

func TestInspectReadsEveryFact(t *testing.T) {
	t.Parallel()
	dir := made(t, "Fen", quarrymoss.Options{
		Title: "Fen Garden", Seed: -9223372036854775808, Version: "2.4.0", Folk: []string{"Ada", "Bryn"},
		Realms: []string{"caverns", "aurora"},
		Mods:   []quarrymoss.Mod{{Name: "rain-butts", Version: "0.9"}, {Name: "marrow-scales", Version: "1.2"}},
	})
	w, found, err := world.Inspect(os.DirFS(dir), "Fen", "Fen", "", games.All())
	require.NoError(t, err)
	assert.Equal(t, "quarrymoss", w.Game)
	assert.Equal(t, "Fen Garden", w.Title)
	assert.Equal(t, "Fen", w.Folder)
	assert.Equal(t, "-9223372036854775808", w.Fact("seed").Text)
	assert.Equal(t, "heart.cbor.gz", w.Fact("seed").File)
	assert.Equal(t, "/seed", w.Fact("seed").Place)
	assert.Equal(t, "2026-11-14T20:30:00Z", w.Fact("last-played").Text)
	assert.Equal(t, "marrow-scales", w.Fact("mods").Items[0].Name, "lists are in order")
	assert.Equal(t, "nested", found.Layout)
	assert.Equal(t, []string{"aurora", "caverns"}, w.Realms)
	require.Len(t, w.Players, 2)
	for _, p := range w.Players {
		require.NotNil(t, p.At, "%s stands somewhere", p.Name)
	}
	assert.NotEqual(t, *w.Players[0].At, *w.Players[1].At)
	assert.Empty(t, w.Warnings)
	assert.False(t, w.Fact("favourite-colour").Known())
}

func TestDamageGivesAReasonAndStopsNothingElse(t *testing.T) {
	t.Parallel()
	for name, harm := range map[string]func(heart string) error{
		"truncated":  func(h string) error { return os.Truncate(h, 30) },
		"empty":      func(h string) error { return os.Truncate(h, 0) },
		"other data": func(h string) error { return os.WriteFile(h, []byte("not a heart at all"), 0o600) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := made(t, "Fen", quarrymoss.Options{Title: "Fen", Folk: []string{"Ada"}})
			require.NoError(t, harm(filepath.Join(dir, "Fen", "heart.cbor.gz")))
			w, _, err := world.Inspect(os.DirFS(dir), "Fen", "Fen", "", games.All())
			require.NoError(t, err)
			assert.Contains(t, w.Fact("seed").Why, "heart.cbor.gz")
			assert.Len(t, w.Players, 1)
			assert.NotEmpty(t, w.Warnings)
		})
	}
}

func TestLockEmptyFolderAndLinks(t *testing.T) {
	t.Parallel()
	dir := made(t, "Fen", quarrymoss.Options{Title: " Fen"})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Fen", "held.lock"), nil, 0o600))
	w, found, err := world.Inspect(os.DirFS(dir), "Fen", "Fen", "", games.All())
	require.NoError(t, err)
	assert.Len(t, w.Warnings, 2, "the lock, and the blank in the title")
	entries, err := world.Parts(os.DirFS(dir), found)
	require.NoError(t, err)
	names := map[string]bool{}
	for _, e := range entries {
		names[e.Path] = e.Dir
	}
	assert.NotContains(t, names, "held.lock")
	assert.True(t, names["folk/"], "an empty folder is carried")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "Fen", "ground", "way-out")))
	_, _, err = world.Inspect(os.DirFS(dir), "Fen", "Fen", "", games.All())
	assert.ErrorIs(t, err, fault.Invalid.As())
	assert.ErrorContains(t, err, "link")
}

func zipFS(t *testing.T, root string, names ...string) fs.FS {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, folder := range names {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, filepath.Base(folder)),
			func(p string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				rel, _ := filepath.Rel(filepath.Join(root, filepath.Base(folder)), p)
				w, err := z.Create(filepath.Join(folder, rel))
				if err != nil {
					return err
				}
				data, err := os.ReadFile(p)
				if err == nil {
					_, err = w.Write(data)
				}
				return err
			}))
	}
	require.NoError(t, z.Close())
	r, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	return r
}

func TestWorldsUnderWrappersAndSeveralAtOnce(t *testing.T) {
	t.Parallel()
	dir := made(t, "Fen", quarrymoss.Options{Title: "Fen", Realms: []string{"caverns"}, Split: true})
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "West"), quarrymoss.Options{Title: "West"}))
	w, found, err := world.Inspect(zipFS(t, dir, "a/b c/Fen", "a/b c/Fen~caverns"), ".", "x", "", games.All())
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b c"}, found.Wrappers)
	assert.Equal(t, "split", w.Layout)
	assert.Contains(t, w.Warnings[0], "a/b c")

	two := zipFS(t, dir, "p/Fen", "p/West")
	_, _, err = world.Inspect(two, ".", "two.zip", "", games.All())
	assert.ErrorIs(t, err, fault.ManyWorlds.As())
	assert.Equal(t, []string{"p/Fen", "p/West"}, fault.Options(err))
	w, _, err = world.Inspect(two, ".", "two.zip", "p/West", games.All())
	require.NoError(t, err)
	assert.Equal(t, "West", w.Title)
	_, _, err = world.Inspect(two, ".", "two.zip", "p/East", games.All())
	assert.ErrorIs(t, err, fault.NotFound.As())

	// A world at the very top takes the archive's name.
	top, err := fs.Sub(os.DirFS(dir), "West")
	require.NoError(t, err)
	w, _, err = world.Inspect(top, ".", "named-by-archive", "", games.All())
	require.NoError(t, err)
	assert.Equal(t, "named-by-archive", w.Folder)
}

func TestWhatIsNoWorldIsExplained(t *testing.T) {
	t.Parallel()
	tree := fstest.MapFS{"holiday/beach.jpg": {}, "shed/world.mt": {}}
	_, _, err := world.Inspect(tree, ".", "pictures.zip", "", games.All())
	assert.ErrorIs(t, err, fault.NotAWorld.As())
	for _, words := range []string{"heart.cbor.gz", "Found instead: holiday/, shed/",
		"shed is nearly a world of minetest: it has world.mt but no map_meta.txt"} {
		assert.ErrorContains(t, err, words)
	}
}

func TestMinetestFacts(t *testing.T) {
	t.Parallel()
	tree := fstest.MapFS{
		"shed/world.mt": {
			Data: []byte("gameid = minetest\nworld_name = the shed\nload_mod_x = true\n"),
		},
		"shed/map_meta.txt": {
			Data: []byte("mgv7_np = {\n\tseed = 52534\n}\nseed = 18446744073709551615\n[end_of_params]\n"),
		},
		"shed/map.sqlite":                  {},
		"shed/worldmods/rockeries/mod.cfg": {},
		"shed/players.sqlite":              {Data: []byte("not a database")},
	}
	w, _, err := world.Inspect(tree, ".", "x", "", games.All())
	require.NoError(t, err)
	assert.Equal(t, "the shed", w.Title)
	assert.Equal(t, "shed", w.Folder)
	assert.Equal(t, "18446744073709551615", w.Fact("seed").Text)
	assert.Equal(t, "rockeries", w.Fact("mods").Items[0].Name)
	assert.Contains(t, fmt.Sprint(w.Warnings), "player records do not read")
}

func TestMatch(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"held.lock", "held.lock", true}, {"held.lock", "a/held.lock", false}, {"ground/**", "ground/t.0.0.qt", true},
		{"ground/**", "ground/a/b", true}, {"**/x", "x", true}, {"**/x", "a/b/x", true}, {"*.qt", "a/b.qt", false},
		{"a/*/c", "a/b/c", true},
	} {
		assert.Equal(t, c.want, world.Match(c.pattern, c.name), c.pattern+" "+c.name)
	}
}

// A save file that was cut to nothing is told as nearly one, with what it lacks.
func TestAFileWithoutItsBeginning(t *testing.T) {
	t.Parallel()
	tree := fstest.MapFS{"save/a.sav": {Data: nil}, "save/b.sav": {Data: []byte("OTTX\x01\x2e\x00\x00")}}
	_, _, err := world.Inspect(tree, "save/a.sav", "a.sav", "", games.All())
	assert.ErrorIs(t, err, fault.NotAWorld.As())
	assert.ErrorContains(t, err, "nearly a world of openttd: it has the name but no such beginning as OTTX")
	w, _, err := world.Inspect(tree, "save", "save", "", games.All())
	require.NoError(t, err)
	assert.Equal(t, "b", w.Folder)
	assert.Equal(t, "302", w.Fact("version").Text)
}
