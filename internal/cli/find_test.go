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
	assert.Contains(t, out, filepath.Join(home, ".local/share/quarrymoss/worlds/*"))

	moss := filepath.Join(home, ".local/share/quarrymoss/worlds")
	require.NoError(t, os.MkdirAll(filepath.Join(moss, "no world"), 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(moss, "Fen"), quarrymoss.Options{Title: "Fen Garden", Tiles: 1}))
	_, err := saltmarch.Make(filepath.Join(home, ".config/saltmarch/Saved/Worlds/u-17"), saltmarch.Options{Name: "Sedge Landing"})
	require.NoError(t, err)
	require.NoError(t, emberlode.Make(filepath.Join(home, ".local/share/emberlode/saves/u-17"), "kettle", emberlode.Save{Expedition: "Kettle Moraine"}, 3))
	code, out, _ = run(t, env, "find", "--json")
	assert.Equal(t, 0, code)
	var found []struct{ Game, Title, Path string }
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	titles := map[string]string{}
	for _, f := range found {
		titles[f.Title] = f.Game
	}
	assert.Equal(t, map[string]string{"Fen Garden": "quarrymoss", "Sedge Landing": "saltmarch", "Kettle Moraine": "emberlode"}, titles)
	assert.Len(t, found, 3, "the checkpoints of a session are one world")
	_, out, _ = run(t, env, "find", "--game", "saltmarch")
	assert.NotContains(t, out, "Fen Garden")
	assert.Contains(t, out, "Next: reshard send")
	code, _, errs := run(t, env, "find", "--game", "saltmrch")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "saltmrch")
	code, out, _ = run(t, env, "inspect", found[0].Path)
	assert.Equal(t, 0, code, "what find lists can be looked at")
	assert.True(t, strings.Contains(out, "world, because it"))
}
