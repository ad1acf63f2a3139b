package game_test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/game"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(game.Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("profile.json", doc))
	s, err := c.Compile("profile.json")
	require.NoError(t, err)
	return s
}

func document(t *testing.T, text string) any {
	t.Helper()
	data, err := yaml.YAMLToJSON([]byte(text))
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	return doc
}

func TestSchemaTakesWhatTheLintTakes(t *testing.T) {
	t.Parallel()
	s := schema(t)
	texts := map[string]string{}
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		require.NoError(t, err)
		texts[p.ID] = string(source)
	}
	sixth, err := os.ReadFile("../plan/testdata/tidewrack.yaml")
	require.NoError(t, err)
	texts["tidewrack"] = string(sixth)
	for id, text := range texts {
		assert.NoError(t, s.Validate(document(t, text)), id)
	}
	for name, c := range map[string]struct{ old, with string }{
		"unknown key":  {"  locks:", "  loks:"},
		"unknown word": {"shape: folder", "shape: foldr"},
		"missing key":  {"title: Quarrymoss\n", ""},
		"wrong kind":   {"longest: 48", "longest: long"},
	} {
		text := strings.Replace(texts["quarrymoss"], c.old, c.with, 1)
		require.NotEqual(t, texts["quarrymoss"], text, name)
		assert.Error(t, s.Validate(document(t, text)), name)
		_, complaints := game.Lint([]byte(text))
		assert.NotEmpty(t, complaints, name)
	}
}

var update = flag.Bool("update", false, "write the keys into docs/profiles.md")

const keysMark = "<!-- written by: go test ./internal/core/game -update -->\n"

// keysOf writes a table for each mapping of the language.
func keysOf(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	seen := map[reflect.Type]bool{}
	var walk func(title string, typ reflect.Type)
	walk = func(title string, typ reflect.Type) {
		for typ.Kind() == reflect.Pointer || typ.Kind() == reflect.Slice || typ.Kind() == reflect.Map {
			typ = typ.Elem()
		}
		if typ.Kind() != reflect.Struct || seen[typ] || typ == reflect.TypeFor[game.Pattern]() {
			return
		}
		seen[typ] = true
		fmt.Fprintf(&b, "\n### %s\n\n| key | means |\n|---|---|\n", title)
		for _, k := range game.Keys(typ) {
			needed := ""
			if k.Needed {
				needed = " (needed)"
			}
			fmt.Fprintf(&b, "| `%s`%s | %s |\n", k.Name, needed, strings.ReplaceAll(k.Doc, "|", "\\|"))
		}
		for _, k := range game.Keys(typ) {
			name := k.Name
			if title != "A profile" {
				name = strings.Split(title, ": ")[0] + "." + k.Name
			}
			walk(name, k.Type)
		}
	}
	walk("A profile", reflect.TypeFor[game.Profile]())
	return b.String()
}

func TestReferenceHoldsTheKeys(t *testing.T) {
	file := "../../../docs/profiles.md"
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	before, after, ok := strings.Cut(string(data), keysMark)
	require.True(t, ok)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(before+keysMark+keysOf(t)), 0o644))
		return
	}
	assert.True(t, keysOf(t) == after, "docs/profiles.md is behind the language: go test ./internal/core/game -update")
}

// Every whole profile in the guides is one that the lint takes.
func TestProfilesInTheGuides(t *testing.T) {
	t.Parallel()
	found := 0
	for _, file := range []string{"../../../docs/profile-tutorial.md", "../../../docs/profiles.md"} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, block := range strings.Split(string(data), "```yaml\n")[1:] {
			text, _, _ := strings.Cut(block, "```")
			if !strings.Contains(text, "reshard: game/1") {
				continue
			}
			found++
			_, complaints := game.Lint([]byte(text))
			assert.Empty(t, complaints, file)
		}
	}
	assert.GreaterOrEqual(t, found, 2)
}

// Every key of the language has words for people, and stands in the reference and
// in the schema file that editors read.
func TestEveryKeyIsTold(t *testing.T) {
	t.Parallel()
	reference, err := os.ReadFile("../../../docs/profiles.md")
	require.NoError(t, err)
	seen := map[reflect.Type]bool{}
	var walk func(reflect.Type)
	walk = func(typ reflect.Type) {
		for typ.Kind() == reflect.Pointer || typ.Kind() == reflect.Slice || typ.Kind() == reflect.Map {
			typ = typ.Elem()
		}
		if typ.Kind() != reflect.Struct || seen[typ] || typ == reflect.TypeFor[game.Pattern]() {
			return
		}
		seen[typ] = true
		for _, k := range game.Keys(typ) {
			assert.NotEmpty(t, k.Doc, typ.Name()+"."+k.Name)
			assert.True(t, strings.Contains(string(reference), "`"+k.Name+"`"),
				"docs/profiles.md does not tell of "+k.Name+" ("+typ.Name()+")")
			walk(k.Type)
		}
	}
	walk(reflect.TypeFor[game.Profile]())
	assert.Greater(t, len(seen), 20)
	for _, words := range [][]string{game.Unwraps, game.Decoders, game.Types, game.Numbers, game.Checksums,
		game.IDFormats} {
		for _, w := range words {
			assert.True(t, strings.Contains(string(reference), "`"+w+"`"), "docs/profiles.md does not tell of "+w)
		}
	}
	file, err := os.ReadFile("../../../docs/profile.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(game.Schema()), string(file), "make api writes it anew")
}
