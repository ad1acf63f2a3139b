package world_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// A session whose files begin differently: those that the language calls members belong to it, one that is missing
// is told, and so is what is called like them and stays behind.
func TestMembersOfASession(t *testing.T) {
	t.Parallel()
	page, err := games.Source("emberlode")
	require.NoError(t, err)
	text := strings.Replace(string(page), `files: ["{name}.*.ember"]`, `files: ["{name}.*.ember", "{name}.index"]`, 1)
	text = strings.Replace(text, "recognise: {", "recognise: {members: [\"{name}.index\"], ", 1)
	p, err := game.Parse("emberlode", []byte(text))
	require.NoError(t, err)
	save := "{\n \"emberlode\": \"4\", \"expedition\": \"Fen\", \"seed\": 5, \"turn\": 1}"
	tree := fstest.MapFS{}
	for name, data := range map[string]string{
		"fen.001.ember": save, "fen.index": "\x00\x01index", "fen.002.ember": "\x00cut",
		"bog.001.ember": save,
	} {
		tree["saves/"+name] = &fstest.MapFile{Data: []byte(data)}
	}
	found, err := world.Direct(tree, "saves", p)
	require.NoError(t, err)
	byName := map[string]world.Found{}
	for _, f := range found {
		byName[f.Folder] = f
	}
	assert.Equal(t, []string{"fen.001.ember", "fen.index"}, byName["fen"].Files)
	assert.Equal(t, []string{"fen.002.ember"}, byName["fen"].LeftOut)
	assert.Empty(t, byName["fen"].Missing)
	assert.Equal(t, []string{"bog.index"}, byName["bog"].Missing)
	search, err := world.Find(tree, ".", "", []*game.Profile{p})
	require.NoError(t, err)
	assert.Empty(t, search.Near, "what a session has or leaves behind is told with it")
	search, err = world.Find(tree, "saves/fen.002.ember", "", []*game.Profile{p})
	require.NoError(t, err)
	assert.Len(t, search.Near, 1, "unless it is what was asked for")
	facts, err := world.Read(tree, byName["fen"])
	require.NoError(t, err)
	assert.Contains(t, strings.Join(facts.Warnings, "; "), "so left behind: fen.002.ember")
}
