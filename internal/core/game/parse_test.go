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
	require.Len(t, games.All(), 5)
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
		"unknown key":     {"steady:", "stedy:", `unknown field "stedy" (meant: steady?)`},
		"far-fetched key": {"steady:", "zebra-crossing:", `unknown field "zebra-crossing"`},
		"key in the wrong place": {"world:\n", "world:\n  console: {ready: x}\n",
			`unknown field "console" here: it belongs in server`},
		"text for a number": {"longest: 48", "longest: many", "a text stands where a whole number belongs"},
		"list for a text":   {"shape: folder", "shape: [folder]", "a list stands where a text belongs"},
		"number for keys": {"waits:", "waits: 5\n  xx:",
			"a whole number stands where a mapping of keys to values belongs"},
		"no time": {"start: 60s", "start: soon", `line 72, column 18: "soon" is no length of time`},
		"place of rows": {"    each: \"folk/{id}.json\"", "    rows: {read: x, through: [json], pick: /a, id: /b}",
			"the two columns between id and name say where players stand"},
		"wrong language": {"game/1", "game/2", `this program reads "game/1"`},
		"bad layer":      {"through: [json], pick: /name", "through: [jsn], pick: /name", `"jsn" is none of`},
		"bad layer, meant": {"through: [json], pick: /version", "through: [gzi], pick: /version",
			"(meant: gzip?)"},
		"bad pattern":   {`'ready on port \d+'`, `'ready on port (\d+'`, "not a regular expression"},
		"group missing": {`(?P<world>[^"]+)`, `(?P<folder>[^"]+)`, `needs a group named "world"`},
		"no such settings": {"{in: main, key: world.folder}", "{in: mian, key: world.folder}",
			`no settings document "mian"`},
		"worlds is the root":   {"worlds: worlds/", "worlds: ./", "is not a path below the root"},
		"escaping path":        {"require: [heart.cbor.gz]", "require: [../heart]", "is not a path below the root"},
		"split without folder": {`split: "{folder}~caverns"`, `split: "caverns"`, "must hold {folder}"},
		"a placeholder that nothing fills": {"expect: 'all tiles written'", "expect: 'all of {name} written'",
			"server.console.stop.expect: nothing fills in {name}; it would stand there as it is"},
		"a placeholder that is none": {"split: \"{folder}~caverns\"", "split: \"{folder}~{realm}\"",
			"nothing fills in {realm}; what is filled in there is {folder}"},
		"members of a folder": {"  recognise:\n", "  recognise:\n    members: ['{name}.index']\n",
			"members go with the shape session"},
		"told nothing": {`say:     "announce {text}"`, "say: announce", "the line must hold {text}"},
		"two ways to stop": {"stop:    {say: halt,", "stop:    {say: halt, signal: SIGINT,",
			"either a line to say or a signal"},
		"version rule": {"not-newer", "newest", `"newest" is none of any, exact, same-minor, not-newer`},
		"characters":   {`allow: "A-Za-z0-9_-"`, `allow: "z-a"`, "not the inside of a character class"},
		"shape":        {"shape: folder", "shape: foldr", "(meant: folder?)"},
		"files of a folder": {"shape: folder", "shape: folder\n  files: [a]",
			"go with the shapes file and session"},
		"a file without a name": {"shape: folder", "shape: file\n  files: [a.sav]", "holds {name} once"},
		"require of a file":     {"shape: folder", "shape: file\n  files: ['{name}.sav']", "go with the shape folder"},
		"star in a file":        {"shape: folder", "shape: file\n  files: ['{name}*.sav']", "are the shape session"},
		"name pattern":          {`longest: 48`, `pattern: "("`, "not a regular expression"},
		"packed":                {"endings: [.qworld]", "endings: [qworld]", "begins with a dot"},
		"store system":          {"  windows: ", "  windos: ", "(meant: windows?)"},
		"store path":            {"%APPDATA%/Quarrymoss/", "%APPDATA%/../Quarrymoss/", "forward slashes"},
		"two decoders": {"through: [json], pick: /name", "through: [json, text], pick: /name",
			"json decodes, so it stands last"},
		"field width": {"through: [json], pick: /name",
			"through: [{fields: {a: {at: 0, as: text}}}], pick: /name", "needs either width"},
		"number width": {"through: [json], pick: /name",
			"through: [{fields: {a: {at: 0, as: u8, width: 2}}}], pick: /name", "has its width in its name"},
		"header size": {"through: [json], pick: /name", "through: [{header: {}}], pick: /name",
			"size is missing"},
		"header length": {"through: [json], pick: /name",
			"through: [{header: {size: 4, lengths: [{as: u8, of: all}]}}], pick: /name",
			`"all" is none of follows, inside`},
		"checksum": {"through: [json], pick: /name",
			"through: [{header: {size: 4, checksum: {as: u32le, kind: crc}}}], pick: /name", `"crc" is none of`},
		"two ways to find": {"pick: /title", "pick: /title, match: '(?P<value>x)'", "one of them"},
		"id format":        {"    id: uuid\n", "    id: guid\n", `"guid" is none of uuid`},
		"host id":          {"    id: uuid\n", "    id: hex\n    host: xyz\n", "is no id of the form hex"},
		"derived id":       {"  players:\n", "  players:\n    derive: {uuid5: x}\n", "is no UUID"},
		"reference": {"  players:\n", "  players:\n    references: [{read: a}]\n",
			"either by pick or as bytes"},
		"override":     {"  steady:", "  overrides: [{file: a}]\n  steady:", "say for people"},
		"picture":      {"ground/t.{x}.{z}.qt", "ground/t.{x}.qt", "holds {x} and {z}"},
		"two pictures": {"    tiles:", "    image: b\n    tiles:", "one of them"},
		"palette":      {"\"#2b4a6f\"", "red", "a colour is #rrggbb"},
		"line without format": {"format: properties", "format: properties, line: 'set {key} {value}'",
			"line goes with the format lines"},
		"encoding": {"format: properties", "format: properties, encoding: utf8", "(meant: utf-8?)"},
		"include": {"format: properties", "format: properties, include: '^include (.*)'",
			`needs a group named "value"`},
		"file per system": {"file: quarry.properties", "file: {linx: a}", "(meant: linux?)"},
		"default not last": {"[{in: main, key: world.folder}]", "[{default: x}, {in: main, key: world.folder}]",
			"stands alone and last"},
		"companion": {"key: world.folder}", "key: world.folder, with: [{in: man, key: a, value: b}]}",
			"(meant: main?)"},
		"writes": {"key: world.folder}", "key: world.folder, writes: folder}",
			`"folder" is none of name, file, path`},
		"listed without list":   {"version: not-newer", "version: listed", "and the other way round"},
		"hold without release":  {"    release:", "    load:", "hold and release go together"},
		"load without a name":   {"    refused:", "    load: {say: load}\n    refused:", "must hold {name} or {file}"},
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
		"Fen-Garden": "Fen-Garden", "Fen Garden": "Fen-Garden", " Orchard 🍎 ": "Orchard", "🍎🍎": "world",
		"":       "world",
		"a/b\\c": "a-b-c", strings.Repeat("x", 90): strings.Repeat("x", 48), "é": "world", "..": "world",
	} {
		got := rule.Safe(name)
		assert.Equal(t, want, got, name)
		assert.Empty(t, rule.BadRunes(got))
		assert.False(t, rule.TooLong(got))
	}
	assert.Equal(t, []rune{' ', '🍎'}, rule.BadRunes("O 🍎 🍎"))
}

// A place that a profile names is read up to: none may be so far away that reading it, or
// adding a width to it, ends the service.
func TestPlacesHaveBounds(t *testing.T) {
	t.Parallel()
	source, err := games.Source("quarrymoss")
	require.NoError(t, err)
	family := "through: [gzip, cbor], pick: /family"
	for name, c := range map[string]struct{ old, new, words string }{
		"a field beyond all files": {family, "through: [{fields: {f: {at: 9223372036854775807, as: u8}}}], pick: /f",
			"this one is 9223372036854775807"},
		"a field before the file": {family, "through: [{fields: {f: {at: -1, as: u8}}}], pick: /f", "this one is -1"},
		"a wide text": {family, "through: [{fields: {f: {at: 0, as: text, width: 9223372036854775807}}}], pick: /f",
			"a place or a width"},
		"a huge header": {family, "through: [{header: {size: 9223372036854775807}}, cbor], pick: /family",
			"a place or a width"},
		"a size far away": {family, "through: [{header: {size: {at: 9223372036854775807, as: u8}}}, cbor], pick: " +
			"/family",
			"a place or a width"},
		"a checksum far away": {
			family,
			"through: [{header: {size: 8, checksum: {at: 99999999999, as: u32le, kind: crc32}}}, " +
				"cbor], pick: /family",
			"a place or a width",
		},
		"a length before it": {
			family,
			"through: [{header: {size: 8, lengths: [{at: -8, as: u32le, of: follows}]}}, cbor], " +
				"pick: /family",
			"a place or a width",
		},
		"colours far away": {"colours: {at: 16, width: 16,", "colours: {at: 99999999999, width: 16,",
			"a place or a width"},
		"more than they say": {"colours: {at: 16, width: 16,", "colours: {at: 16, width: 1152921504606846976,",
			"colours together"},
	} {
		text := strings.Replace(string(source), c.old, c.new, 1)
		require.NotEqual(t, string(source), text, name)
		_, complaints := game.Lint([]byte(text))
		require.NotEmpty(t, complaints, name)
		told := ""
		for _, said := range complaints {
			told += said.What + "\n"
		}
		assert.Contains(t, told, c.words, name)
	}
}
