package fact_test

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	_ "reshard/internal/sqlite"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

func words(names ...string) []game.Layer {
	out := make([]game.Layer, len(names))
	for i, n := range names {
		out[i].Word = n
	}
	return out
}

func packed(t *testing.T, layer string, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	switch layer {
	case "gzip":
		w := gzip.NewWriter(&b)
		_, err := w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	case "zlib":
		w := zlib.NewWriter(&b)
		_, err := w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	case "zstd":
		w, err := zstd.NewWriter(&b)
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	}
	return b.Bytes()
}

func TestLayersAndPicks(t *testing.T) {
	t.Parallel()
	encoded, err := cbor.Marshal(map[string]any{
		"seed": uint64(18446744073709551615),
		"list": []any{1, 2},
		"deep": map[string]any{"a/b": "x"},
	})
	require.NoError(t, err)
	tree := fstest.MapFS{
		"a.json": {
			Data: []byte(`{"seed": -9223372036854775808, "when": 1700000000,
				"nested": {"list": [{"n": "b", "v": 1.5}, {"n": "a"}, {"v": 9}]}}`),
		},
		"a.gz":    {Data: packed(t, "gzip", encoded)},
		"a.zz":    {Data: packed(t, "zstd", packed(t, "zlib", encoded))},
		"a.props": {Data: []byte("k = v\n")},
		"a.ini":   {Data: []byte("[World]\nName=\"v\"\n")},
		"a.txt":   {Data: []byte("one\nversion 1.2.3\n")},
		"big.gz":  {Data: packed(t, "gzip", make([]byte, 65<<20))},
	}
	for _, c := range []struct {
		name string
		s    game.Source
		want string
		why  string
	}{
		{
			"json int",
			game.Source{Read: "a.json", Through: words("json"), Pick: "/seed", Type: "int64"},
			"-9223372036854775808",
			"",
		},
		{
			"unix time",
			game.Source{Read: "a.json", Through: words("json"), Pick: "/when", Type: "time"},
			"2023-11-14T22:13:20Z",
			"",
		},
		{
			"cbor in gzip, unsigned",
			game.Source{Read: "a.gz", Through: words("gzip", "cbor"), Pick: "/seed", Type: "int64"},
			"18446744073709551615",
			"",
		},
		{"two layers", game.Source{Read: "a.zz", Through: words("zstd", "zlib", "cbor"), Pick: "/list/1"}, "2", ""},
		{"escaped pointer", game.Source{Read: "a.gz", Through: words("gzip", "cbor"), Pick: "/deep/a~1b"}, "x", ""},
		{"properties", game.Source{Read: "a.props", Through: words("properties"), Pick: "/k"}, "v", ""},
		{"ini", game.Source{Read: "a.ini", Through: words("ini"), Pick: "/World/Name"}, "v", ""},
		{"missing file", game.Source{Read: "none", Through: words("json"), Pick: "/x"}, "", "there is no none"},
		{"missing key", game.Source{Read: "a.json", Through: words("json"), Pick: "/none"}, "", `there is no "none"`},
		{
			"not a number",
			game.Source{Read: "a.props", Through: words("properties"), Pick: "/k", Type: "int64"},
			"",
			"not a whole number",
		},
		{
			"not a single value",
			game.Source{Read: "a.json", Through: words("json"), Pick: "/nested"},
			"",
			"not a single value",
		},
		{"wrong layer", game.Source{Read: "a.json", Through: words("gzip", "json"), Pick: "/x"}, "", "is not gzip"},
		{"bomb", game.Source{Read: "big.gz", Through: words("gzip", "text")}, "", "unwraps to more than"},
		{
			"below a value",
			game.Source{Read: "a.json", Through: words("json"), Pick: "/seed/x"},
			"",
			"below a single value",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			f := fact.NewReader(tree, budget.World()).Read("f", game.Sources{c.s})
			assert.Equal(t, c.want, f.Text)
			assert.Contains(t, f.Why, c.why)
			assert.Equal(t, c.why == "", f.Known())
			assert.Equal(t, c.s.Read, f.File)
		})
	}
	list := fact.NewReader(tree, budget.World()).Read(
		"mods", game.Sources{
			{Read: "a.json", Through: words("json"), Pick: "/nested/list/*", Type: "list", Name: "/n", Version: "/v"},
		})
	assert.Equal(t, []fact.Item{{Name: "a"}, {Name: "b", Version: "1.5"}}, list.Items)
	second := fact.NewReader(tree, budget.World()).Read(
		"f", game.Sources{{Read: "none"}, {Read: "a.props", Through: words("properties"), Pick: "/k"}})
	assert.Equal(t, "v", second.Text, "the first that reads wins")
}

func TestSQLiteIsReadAndNeverWritten(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "p.sqlite")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE player (name TEXT); INSERT INTO player VALUES ('ada'), ('bryn')")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	r := fact.NewReader(os.DirFS(dir), budget.World())
	rows, err := r.Rows(game.Source{Read: "p.sqlite", Query: "SELECT name FROM player ORDER BY name"}, 10)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"ada"}, {"bryn"}}, rows)
	_, err = r.Rows(game.Source{Read: "p.sqlite", Query: "DELETE FROM player"}, 10)
	assert.ErrorContains(t, err, "only select")
	_, err = r.Rows(game.Source{Read: "p.sqlite", Query: "SELECT 1 FROM missing"}, 10)
	assert.ErrorContains(t, err, "no such table")
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "no journal is left beside a world's database")
}
