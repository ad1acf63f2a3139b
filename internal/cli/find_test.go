package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
)

func TestFindLooksWhereGamesKeepWorlds(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	env := map[string]string{"HOME": home}
	code, out, _ := run(t, env, "find")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "No world of a known game. Looked in:")
	assert.Contains(t, out, filepath.Join(home, ".local/share/quarrymoss/worlds"))

	moss := filepath.Join(home, ".local/share/quarrymoss/worlds")
	require.NoError(t, os.MkdirAll(filepath.Join(moss, "no world"), 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(moss, "Fen"), quarrymoss.Options{Title: "Fen Garden", Tiles: 1}))
	_, err := saltmarch.Make(filepath.Join(home, ".config/saltmarch/Saved/Worlds/u-17"),
		saltmarch.Options{Name: "Sedge Landing"})
	require.NoError(t, err)
	require.NoError(t, emberlode.Make(filepath.Join(home, ".local/share/emberlode/saves/u-17"), "kettle",
		emberlode.Save{Expedition: "Kettle Moraine"}, 3))
	code, out, _ = run(t, env, "find", "--json")
	assert.Equal(t, 0, code)
	var found struct {
		Worlds []struct {
			At    string
			World struct{ Game, Title string }
		}
		Unfamiliar []struct{ At, Why string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	titles := map[string]string{}
	for _, f := range found.Worlds {
		titles[f.World.Title] = f.World.Game
	}
	assert.Equal(t, map[string]string{
		"Fen Garden":     "quarrymoss",
		"Sedge Landing":  "saltmarch",
		"Kettle Moraine": "emberlode",
	}, titles)
	assert.Len(t, found.Worlds, 3, "the checkpoints of a session are one world")
	require.Len(t, found.Unfamiliar, 1)
	assert.Equal(t, "it has no heart.cbor.gz", found.Unfamiliar[0].Why)
	_, out, _ = run(t, env, "find")
	assert.Contains(t, out, "most likely the one you mean, because it was played last")
	assert.Contains(t, out, "seems to be open in the game (its files were written")
	code, out, _ = run(t, nil, "find", home)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Kettle Moraine")
	_, out, _ = run(t, env, "find", "--game", "saltmarch")
	assert.NotContains(t, out, "Fen Garden")
	assert.Contains(t, out, "Next: reshard send")
	code, _, errs := run(t, env, "find", "--game", "saltmrch")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "saltmrch")
	code, out, _ = run(t, env, "inspect", found.Worlds[0].At)
	assert.Equal(t, 0, code, "what find lists can be looked at")
	assert.True(t, strings.Contains(out, "world, because it"))
}
