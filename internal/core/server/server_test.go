package server_test

import (
	"path"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/server"
)

func minetest(t *testing.T, files map[string]string) server.State {
	t.Helper()
	p, err := games.Find("minetest")
	require.NoError(t, err)
	tree := fstest.MapFS{}
	for name, data := range files {
		tree[name] = &fstest.MapFile{Data: []byte(data)}
	}
	s, err := server.Read(tree, p, server.Machine{Kind: "minetest"})
	require.NoError(t, err)
	return s
}

func TestReadsEffectiveSettings(t *testing.T) {
	t.Parallel()
	s := minetest(t, map[string]string{
		"minetest.conf":             "map-dir = worlds/old\n# map-dir = worlds/no\nmap-dir = worlds/shed\nport = 1\n",
		"worlds/shed/world.mt":      "gameid = minetest\nworld_name = The Shed\n",
		"worlds/shed/map_meta.txt":  "seed = 7\n",
		"worlds/barn/world.mt":      "gameid = minetest\nworld_name = Barn\n",
		"worlds/barn/map_meta.txt":  "seed = 8\n",
		"worlds/notes/todo.txt":     "x",
		"worlds/deep/in/world.mt":   "gameid = minetest\n",
		"worlds/deep/in/map_meta.t": "",
	})
	active := s.Keys["active-world"]
	assert.Equal(t, "worlds/shed", active.Value)
	assert.Equal(t, 3, active.Line)
	assert.Equal(t, []int{1}, active.Repeats)
	assert.Equal(t, "shed", s.Active)
	assert.False(t, s.Keys["seed"].Found)
	assert.Equal(t, "minetest.conf", s.Keys["seed"].File, "where it would be written")
	require.Len(t, s.Worlds, 2)
	shed, ok := s.World("shed")
	require.True(t, ok)
	assert.Equal(t, "The Shed", shed.Title)
	assert.Equal(t, "7", shed.Seed)
	_, ok = s.World("Shed")
	assert.False(t, ok, "names are exact")
	assert.Equal(t, []string{"barn", "deep", "notes", "shed"}, s.Folders)
}

func TestWhatCannotBeReadIsToldAndStopsNothing(t *testing.T) {
	t.Parallel()
	s := minetest(t, map[string]string{"readme": "x"})
	assert.Contains(t, s.Settings[0].Why, "there is no minetest.conf")
	assert.Empty(t, s.Worlds)
	assert.Empty(t, s.WorldsWhy, "no worlds folder yet is no trouble")
	broken := minetest(t, map[string]string{"minetest.conf": "k = {\n", "worlds": "a file where a folder belongs"})
	assert.Contains(t, broken.Settings[0].Why, "has no end")
	assert.NotEmpty(t, broken.WorldsWhy)
}

// Only what a plan touches counts, and what the settings say; the words name it.
func TestWhatHasChangedOfWhatAPlanTouches(t *testing.T) {
	t.Parallel()
	files := map[string]string{"minetest.conf": "port = 1\n", "worlds/a/x": ""}
	first := minetest(t, files).Stands()
	touched := server.Touched{Files: []string{"minetest.conf"}, Names: []string{"a", "c"}}
	changed := func(by server.Touched) string { return first.Changed(minetest(t, files).Stands(), by) }
	assert.Empty(t, changed(touched))
	files["worlds/a/y"] = "played"
	assert.Empty(t, changed(touched), "play does not matter")
	files["worlds/b/x"] = ""
	assert.Empty(t, changed(touched), "the plan has nothing to do with it")
	assert.NotEqual(t, first.Hash(), minetest(t, files).Stands().Hash())
	files["minetest.conf"] = "port = 2\n"
	assert.Equal(t, "minetest.conf has been written", changed(touched))
	assert.Empty(t, changed(server.Touched{Names: touched.Names}), "it does not write there")
	files["minetest.conf"] = "port = 1\n"
	files["worlds/c/x"] = ""
	assert.Equal(t, "c has come into the worlds folder", changed(touched))
	delete(files, "worlds/c/x")
	delete(files, "worlds/a/x")
	delete(files, "worlds/a/y")
	assert.Equal(t, "a is no longer in the worlds folder", changed(touched))
}

func TestPathsAndFolders(t *testing.T) {
	t.Parallel()
	set := func(v string) server.Setting {
		return server.Setting{Given: server.Given{Value: v, Writes: "path"}, Found: true}
	}
	p, err := games.Find("minetest")
	require.NoError(t, err)
	roots := []string{"/srv/shed", "/mnt/disk/shed"}
	for value, outside := range map[string]bool{
		"worlds/a": false, "./worlds/a": false, "worlds/a/": false, `worlds\a`: false, "/srv/shed/worlds/a": false,
		"/mnt/disk/shed/worlds/a": false,
		"a":                       true, "/a": true, "/srv/other/worlds/a": true, "../worlds/a": true,
		"worlds/a/b": true, "": false,
	} {
		assert.Equal(t, outside, server.Outside(set(value), "worlds", roots), value)
	}
	assert.Equal(t, "a", server.FolderOf(set("/srv/shed/worlds/a/").Given, p))
	assert.Equal(t, "worlds/new", server.ValueFor(set("worlds/a").Given, "worlds", "new", p))
	assert.Equal(t, "/srv/shed/worlds/new", server.ValueFor(set("/srv/shed/worlds/a").Given, "worlds", "new", p),
		"the way the file names it is kept")
	assert.Equal(t, "new", server.ValueFor(server.Given{Writes: "name"}, "worlds", "new", p))
}

// A save of the game's own is no world by itself, and is found by its name: a switch to it samples its file, not all.
func TestAnAutosaveIsFoundByItsName(t *testing.T) {
	t.Parallel()
	shipped, err := games.Find("openttd")
	require.NoError(t, err)
	p := *shipped
	p.World.Autosaves = []string{"autosave*.sav"}
	tree := fstest.MapFS{}
	for _, name := range []string{"valley.sav", "autosave3.sav"} {
		tree[path.Join(p.Server.Worlds, name)] = &fstest.MapFile{Data: []byte("OTTX")}
	}
	s, err := server.Read(tree, &p, server.Machine{Kind: "openttd"})
	require.NoError(t, err)
	assert.Equal(t, []string{"valley.sav"}, s.Folders)
	assert.Equal(t, []string{"autosave3.sav"}, s.Named(&p, "autosave3"))
	assert.Equal(t, []string{"valley.sav"}, s.Named(&p, "valley"))
}
