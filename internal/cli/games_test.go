package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/core/world"
)

func profileFile(t *testing.T, old, new string) string {
	t.Helper()
	source, err := games.Source("quarrymoss")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "mygame.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(source), old, new, 1)), 0o600))
	return file
}

func TestGamesLint(t *testing.T) {
	t.Parallel()
	code, out, _ := run(t, nil, "games", "lint", profileFile(t, "", ""))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "is a profile of Quarrymoss")
	code, out, _ = run(t, nil, "games", "lint", profileFile(t, "worlds: worlds/", "wrlds: worlds/"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `unknown field "wrlds" (meant: worlds?)`)
	code, out, _ = run(t, nil, "games", "lint", "--json", profileFile(t, "realms: nested,", "realms: nestd,"))
	assert.Equal(t, 1, code)
	var complaints []struct{ Line, Column int }
	require.NoError(t, json.Unmarshal([]byte(out), &complaints))
	require.Len(t, complaints, 1)
	source, err := games.Source("quarrymoss")
	require.NoError(t, err)
	before, _, _ := strings.Cut(string(source), "realms: nested,")
	assert.Equal(t, 1+strings.Count(before, "\n"), complaints[0].Line)
	code, _, errs := run(t, nil, "games", "lint", "/no/such/file.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "/no/such/file.yaml")
}

func TestGamesTry(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	root := filepath.Join(dir, "server")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "fen", 7, 7000))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "fen"),
		quarrymoss.Options{Title: "Fen Garden", Seed: -7, Folk: []string{"Ada"}}))
	file := profileFile(t, "pick: /seed", "pick: /sed")
	code, out, errs := run(t, nil, "games", "try", file, "--world", filepath.Join(root, "worlds", "fen"), "--server",
		root, "--kind", "plain")
	require.Equal(t, 0, code, errs)
	for _, words := range []string{"✓ title", "Fen Garden", "✕ seed", `there is no "sed"`, "✓ active-world",
		"line 4, world.folder", "✓ version", "1 record: Ada"} {
		assert.Contains(t, out, words)
	}
	code, out, _ = run(t, nil, "games", "try", file, "--json", "--world", filepath.Join(root, "worlds", "fen"))
	assert.Equal(t, 0, code)
	var got struct{ World world.Facts }
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "Fen Garden", got.World.Title)
	code, _, errs = run(t, nil, "games", "try", file, "--server", root)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "mossling, plain, terrace")
	code, _, errs = run(t, nil, "games", "try", file, "--world", dir)
	assert.Equal(t, 0, code, errs)
	code, _, errs = run(t, nil, "games", "try", file, "--world", t.TempDir())
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "heart.cbor.gz")
}
