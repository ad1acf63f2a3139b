package compare_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/compare"
	"reshard/internal/core/fact"
	"reshard/internal/core/world"
)

func said(title, seed, version string, players ...world.Player) world.Facts {
	known := func(name, text string) fact.Fact { return fact.Fact{Name: name, Text: text} }
	return world.Facts{
		Game: "quarrymoss", Title: title, Folder: "fen", Players: players, LastPlayed: time.Unix(1e9, 0),
		Facts: map[string]fact.Fact{
			"title":   known("title", title),
			"seed":    known("seed", seed),
			"version": known("version", version),
		},
	}
}

func TestWhatHasBecomeOfAWorld(t *testing.T) {
	t.Parallel()
	profile, err := games.Find("quarrymoss")
	require.NoError(t, err)
	ada, oke, una := world.Player{ID: "a1", Name: "Ada"}, world.Player{ID: "o1", Name: "Oke"}, world.Player{ID: "u1"}
	before := compare.State{World: said("Fen", "7", "2.4.0", ada, oke), Files: map[string]compare.File{
		"heart.cbor.gz": {100, "h1"}, "folk/a1.json": {20, "a"}, "folk/o1.json": {20, "o"}, "gone.txt": {7, "g"},
		"same": {1000, "s"},
	}}
	before.World.Settings = map[string]string{"difficulty": "easy", "pvp": "no"}
	after := compare.State{World: said("Fen", "7", "2.5.1", ada, una), Files: map[string]compare.File{
		"heart.cbor.gz": {120, "h2"}, "folk/a1.json": {25, "a2"}, "folk/u1.json": {30, "u"}, "same": {1000, "s"},
	}}
	after.World.Settings = map[string]string{"difficulty": "hard", "welcome": "hello"}
	c := compare.Of(before, after, profile)
	assert.Equal(t, []compare.Difference{{Name: "version", Before: "2.4.0", After: "2.5.1"}}, c.Facts)
	assert.Equal(t, []compare.Difference{{"difficulty", "easy", "hard"}, {"pvp", "no", ""}, {"welcome", "", "hello"}},
		c.Settings)
	assert.Equal(t, compare.Players{
		Added:   []world.Player{una},
		Lost:    []world.Player{oke},
		Changed: []world.Player{ada},
	}, c.Players)
	assert.Equal(t, compare.Files{
		Added:   compare.Count{Files: 1, Bytes: 30},
		Changed: compare.Count{Files: 2, Bytes: 145},
		Lost:    compare.Count{Files: 2, Bytes: 27},
		Same:    compare.Count{Files: 1, Bytes: 1000},
	}, c.Files)
	assert.Equal(t, compare.FileChange{Path: "heart.cbor.gz", What: "changed", Before: 100, After: 120}, c.Changes[0],
		"the largest first")
	assert.Len(t, c.Changes, 5)
	c.Map = &world.Differences{Lost: 9, Same: 1}
	c.Say()
	assert.Equal(t, []string{
		"On the map 9 lost tiles and 1 tile as it was.", "Most of what was explored is not there any more.",
		"Players: u1 came, Ada changed and Oke is gone.", "The version was “2.4.0” and is “2.5.1”.",
		"The setting difficulty was “easy” and is “hard”.", "The setting pvp was “no” and is not told.",
		"The setting welcome was not told and is “hello”.",
		"Of the files 1 is new, 2 are changed, 2 are lost and 1 is the same.",
	}, c.Words)
}

func TestNothingAndTwoWorlds(t *testing.T) {
	t.Parallel()
	profile, err := games.Find("quarrymoss")
	require.NoError(t, err)
	one := compare.State{World: said("Fen", "7", "2.4.0"), Files: map[string]compare.File{"a": {1, "x"}}}
	same := compare.Of(one, one, profile)
	same.Say()
	assert.Equal(t, []string{"Every file is the same in both."}, same.Words)
	many := map[string]compare.File{}
	for i := range 1500 {
		many[fmt.Sprint(i)] = compare.File{Size: 1, Content: "x"}
	}
	other := compare.Of(one, compare.State{World: said("Fen", "8", "2.4.0"), Files: many}, profile)
	other.Say()
	assert.Equal(t, "They are two worlds: the seed was 7 and is 8.", other.Words[0])
	assert.Len(t, other.Changes, 1000)
	assert.Equal(t, 1500, other.Files.Added.Files)
}
