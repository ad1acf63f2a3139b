package sketch_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/sketch"
	"reshard/internal/core/world"
)

// draw sketches a profile from a server and one of its worlds, which must lint, and
// reads both with it.
func draw(t *testing.T, root, example string) (sketch.Proposal, world.Facts, server.State) {
	t.Helper()
	p, err := sketch.Draw(sketch.Input{
		World: os.DirFS(root), WorldPath: example, Server: os.DirFS(root), Roots: []string{root},
	})
	require.NoError(t, err)
	require.Empty(t, p.Complaints, p.Profile)
	profile, err := game.Parse("sketch", []byte(p.Profile))
	require.NoError(t, err)
	w, _, err := world.Inspect(os.DirFS(root), example, filepath.Base(example), "", []*game.Profile{profile})
	require.NoError(t, err, p.Profile)
	s, err := server.Read(os.DirFS(root), profile, server.Machine{Kind: profile.KindNames()[0], Roots: []string{root}})
	require.NoError(t, err)
	return p, w, s
}

func part(t *testing.T, p sketch.Proposal, key string) sketch.Part {
	t.Helper()
	for _, one := range p.Parts {
		if one.Key == key {
			return one
		}
	}
	require.Fail(t, "no part "+key)
	return sketch.Part{}
}

func TestSketchReadsWhatTheShippedProfileReads(t *testing.T) {
	t.Parallel()
	root := filepath.Join(t.TempDir(), "mossgame")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter-beds", 7,
		7000))
	for _, name := range []string{"winter-beds", "spring"} {
		require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", name),
			quarrymoss.Options{Title: "Winter Beds", Seed: -7, Tiles: 100, Folk: []string{"Ada"}}))
	}
	log := "12:00:01.123 opening world \"winter-beds\"\n12:00:02.000 ready on port 7000\n12:01:00.000 all tiles " +
		"written\n"
	require.NoError(t, os.WriteFile(filepath.Join(root, "server.log"), []byte(log), 0o644))
	p, w, s := draw(t, root, "worlds/winter-beds")
	assert.Contains(t, p.Profile, "id: mossgame")
	assert.Equal(t, "Winter Beds", w.Title)
	assert.Equal(t, "-7", w.Fact("seed").Text)
	assert.Equal(t, "2.4.0", w.Fact("version").Text)
	assert.Equal(t, "winter-beds", s.Active)
	assert.Equal(t, "2.5.1", s.Version.Text)
	assert.Len(t, s.Worlds, 2)
	assert.Equal(t, sketch.Sure, part(t, p, "server.keys.active-world").Sure)
	profile, err := game.Parse("sketch", []byte(p.Profile))
	require.NoError(t, err)
	groups, ok := profile.Server.Console.Opened.Find(`08:15:00.001 opening world "fen"`)
	assert.True(t, ok)
	assert.Equal(t, "fen", groups["world"])
	_, ok = profile.Server.Console.Ready.Find("08:15:00.001 ready on port 9999")
	assert.True(t, ok)
	assert.Equal(t, sketch.Guess, part(t, p, "server.console.stop").Sure)
}

func TestSketchOfASession(t *testing.T) {
	t.Parallel()
	root := filepath.Join(t.TempDir(), "ember")
	require.NoError(t, emberlode.MakeServer(root, "/x", "frostfall", true, 3, 7000, "--load frostfall"))
	require.NoError(t, emberlode.Make(filepath.Join(root, "saves/host"), "frostfall",
		emberlode.Save{Expedition: "Frost Fall", Seed: 3}, 2))
	p, w, s := draw(t, root, "saves/host/frostfall.001.ember")
	assert.Equal(t, []string{"frostfall.001.ember", "frostfall.002.ember"}, w.Members)
	assert.Equal(t, "Frost Fall", w.Title, "it resembles the file's name")
	assert.Equal(t, "frostfall", s.Active)
	assert.Equal(t, "saves/host", s.WorldsFolder)
	assert.Len(t, s.Keys["active-world"].Hides, 1, "both the script and the file hold the name")
	assert.Equal(t, sketch.Likely, part(t, p, "server.keys.active-world").Sure)
}

func TestSketchSeesBehindAHeader(t *testing.T) {
	t.Parallel()
	root := filepath.Join(t.TempDir(), "marsh")
	require.NoError(t, saltmarch.MakeServer(root, "1.3.2"))
	name, err := saltmarch.Make(filepath.Join(root, saltmarch.WorldsFolder),
		saltmarch.Options{Name: "Old Quay", Seed: 5})
	require.NoError(t, err)
	require.NoError(t, saltmarch.WriteSettings(root, name, 7000))
	_, w, s := draw(t, root, saltmarch.WorldsFolder+"/"+name)
	assert.Equal(t, "5", w.Fact("seed").Text)
	assert.Equal(t, "Old Quay", w.Title)
	assert.Equal(t, name, s.Active)
}

// Where there is nothing to find, the sketch says so and is still a profile.
func TestSketchOfNothing(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "w"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "w", "a.bin"), []byte{1, 2, 3, 0xff}, 0o644))
	p, err := sketch.Draw(sketch.Input{World: os.DirFS(root), WorldPath: "w", Server: os.DirFS(root)})
	require.NoError(t, err)
	assert.Empty(t, p.Complaints)
	guesses := 0
	for _, one := range p.Parts {
		if one.Sure == sketch.Guess {
			guesses++
		}
	}
	assert.Greater(t, guesses, 5)
	assert.Contains(t, p.Profile, "# guess")
	_, err = sketch.Draw(sketch.Input{World: os.DirFS(root), WorldPath: "none"})
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.True(t, strings.HasPrefix(p.Profile, "# A first sketch"))
}

// Keys that say nothing: the values are told by how they look, and never as sure.
func TestSketchTellsValuesByTheirLook(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "saves", "hazel"), 0o755))
	tree := `{"called": "Hazel Wood", "seed": 4021, "made": {"by": "1.4.0"}, "seen": 1763672100}`
	require.NoError(t, os.WriteFile(filepath.Join(root, "saves", "hazel", "tree.json"), []byte(tree), 0o644))
	p, err := sketch.Draw(sketch.Input{World: os.DirFS(root), WorldPath: "saves/hazel"})
	require.NoError(t, err)
	for fact, want := range map[string]string{"title": "/called", "version": "/made/by", "last-played": "/seen"} {
		one := part(t, p, "world.facts."+fact)
		assert.Contains(t, one.Text, want)
		assert.Equal(t, sketch.Likely, one.Sure, fact)
	}
	assert.Equal(t, sketch.Sure, part(t, p, "world.facts.seed").Sure)
}
