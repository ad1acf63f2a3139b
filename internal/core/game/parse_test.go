package game_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/game"
)

func TestShippedProfilesAreValid(t *testing.T) {
	t.Parallel()
	require.Len(t, games.All(), 2)
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		require.NoError(t, err)
		_, complaints := game.Lint(source)
		assert.Empty(t, complaints)
	}
}

func TestLintNamesLineAndMeaning(t *testing.T) {
	t.Parallel()
	source, err := games.Source("quarrymoss")
	require.NoError(t, err)
	for name, c := range map[string]struct{ old, new, words string }{
		"unknown key":           {"leave-behind:", "leave-behnd:", `unknown field "leave-behnd" (meant: leave-behind?)`},
		"far-fetched key":       {"leave-behind:", "zebra-crossing:", `unknown field "zebra-crossing"`},
		"wrong language":        {"game/1", "game/2", `this program reads "game/1"`},
		"bad layer":             {"through: [json], pick: /name", "through: [jsn], pick: /name", `"jsn" is none of`},
		"bad layer, meant":      {"through: [json], pick: /version", "through: [gzi], pick: /version", "(meant: gzip?)"},
		"bad pattern":           {`'ready on port \d+'`, `'ready on port (\d+'`, "not a regular expression"},
		"group missing":         {`(?P<world>[^"]+)`, `(?P<folder>[^"]+)`, `needs a group named "world"`},
		"no such settings":      {"{in: main, key: world.folder}", "{in: mian, key: world.folder}", `no settings document "mian"`},
		"worlds is the root":    {"worlds: worlds/", "worlds: ./", "is not a path below the root"},
		"escaping path":         {"require: [heart.cbor.gz]", "require: [../heart]", "is not a path below the root"},
		"split without folder":  {`split: "{folder}~caverns"`, `split: "caverns"`, "must hold {folder}"},
		"two ways to stop":      {"stop:    {say: halt,", "stop:    {say: halt, signal: SIGINT,", "either a line to say or a signal"},
		"version rule":          {"not-newer", "newest", `"newest" is none of any, exact, same-minor, not-newer`},
		"characters":            {`allow: "A-Za-z0-9_-"`, `allow: "z-a"`, "not the inside of a character class"},
		"not YAML":              {"reshard: game/1", "reshard: [", "line"},
		"pointer without slash": {"pick: /title", "pick: title", "a pointer begins with a slash"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text := strings.Replace(string(source), c.old, c.new, 1)
			require.NotEqual(t, string(source), text)
			_, complaints := game.Lint([]byte(text))
			require.NotEmpty(t, complaints)
			assert.Contains(t, complaints[0].String(), c.words)
			assert.Positive(t, complaints[0].Line)
			_, err := game.Parse("x.yaml", []byte(text))
			assert.ErrorContains(t, err, "x.yaml")
		})
	}
}

func TestSafeFolderNames(t *testing.T) {
	t.Parallel()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	rule := p.World.FolderName
	for name, want := range map[string]string{
		"Fen-Garden": "Fen-Garden", "Fen Garden": "Fen-Garden", " Orchard 🍎 ": "Orchard", "🍎🍎": "world", "": "world",
		"a/b\\c": "a-b-c", strings.Repeat("x", 90): strings.Repeat("x", 48), "é": "world", "..": "world",
	} {
		got := rule.Safe(name)
		assert.Equal(t, want, got, name)
		assert.Empty(t, rule.BadRunes(got))
		assert.False(t, rule.TooLong(got))
	}
	assert.Equal(t, []rune{' ', '🍎'}, rule.BadRunes("O 🍎 🍎"))
}

func FuzzLint(f *testing.F) {
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		require.NoError(f, err)
		f.Add(source)
	}
	f.Fuzz(func(_ *testing.T, data []byte) { game.Lint(data) })
}
