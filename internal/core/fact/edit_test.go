package fact_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	_ "reshard/internal/sqlite"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// A title is written through gzip and CBOR, a sealed header with zlib, JSON and keys
// with values; every other fact stays, and the file still opens as the game's own.
func TestATitleIsWrittenInItsPlace(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen Garden", Seed: -9, Mods: []quarrymoss.Mod{{Name: "a", Version: "1"}}}))
	salt, err := saltmarch.Make(dir, saltmarch.Options{Name: "Sedge", Seed: -77, Host: "Ada"})
	require.NoError(t, err)
	require.NoError(t, emberlode.Make(dir, "kettle", emberlode.Save{Expedition: "Kettle", Seed: 18446744073709551615},
		1))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "world.mt"),
		[]byte("# mine\ngameid = minetest\nworld_name = Shed\n"), 0o644))
	for id, at := range map[string]string{"quarrymoss": "fen", "saltmarch": salt, "emberlode": ".", "minetest": "."} {
		profile, err := games.Find(id)
		require.NoError(t, err)
		source := profile.World.Facts["title"][0]
		file := source.Read
		if id == "emberlode" {
			file = "kettle.001.ember"
		}
		name := filepath.Join(dir, at, file)
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		facts := func() map[string]string {
			r := fact.NewReader(os.DirFS(filepath.Join(dir, at)), budget.World())
			r.File, r.Name = file, "kettle"
			out := map[string]string{}
			for n, s := range profile.World.Facts {
				out[n] = r.Read(n, s).Text
			}
			return out
		}
		want := facts()
		for _, title := range []string{
			"Ŵinter “Beds”, long enough to need a longer head in every coding there is: 0123456789", "x"} {
			after, err := fact.Edit(file, data, source, title)
			require.NoError(t, err, id)
			require.NoError(t, os.WriteFile(name, after, 0o644))
			want["title"] = title
			assert.Equal(t, want, facts(), id)
		}
	}
	var level saltmarch.Level
	require.NoError(t, saltmarch.Open(filepath.Join(dir, salt, "Level.smw"), &level), "lengths and checksum are right")
	assert.Equal(t, "x", level.Name)
	mt, err := os.ReadFile(filepath.Join(dir, "world.mt"))
	require.NoError(t, err)
	assert.Equal(t, "# mine\ngameid = minetest\nworld_name = x\n", string(mt))
}

func TestWhatCannotBeWrittenIsRefused(t *testing.T) {
	t.Parallel()
	layer := func(words ...string) (out []game.Layer) {
		for _, w := range words {
			out = append(out, game.Layer{Word: w})
		}
		return out
	}
	nested, err := cbor.Marshal(map[string]any{"a": []any{1, map[string]any{"t": "old", "n": 7}}, "z": "end"})
	require.NoError(t, err)
	after, err := fact.Edit("f", nested, game.Source{Through: layer("cbor"), Pick: "/a/1/t"}, "new")
	require.NoError(t, err)
	var got map[string]any
	require.NoError(t, cbor.Unmarshal(after, &got))
	assert.Equal(t, "end", got["z"])
	assert.Contains(t, string(after), "cnew")
	open := append([]byte{0xbf, 0x61, 't', 0x7f, 0x61, 'o', 0x61, 'l', 0xff}, 0xff) // {_ "t": (_ "o", "l")}
	after, err = fact.Edit("f", open, game.Source{Through: layer("cbor"), Pick: "/t"}, "new")
	require.NoError(t, err)
	assert.True(t, bytes.Contains(after, []byte("cnew")) && after[len(after)-1] == 0xff)
	for words, c := range map[string]struct {
		source game.Source
		data   string
	}{
		"cannot be written":   {game.Source{Through: layer("sqlite"), Query: "x"}, ""},
		"layer xz":            {game.Source{Through: layer("xz", "cbor"), Pick: "/t"}, ""},
		"not decoded":         {game.Source{Pick: "/t"}, ""},
		"is no text":          {game.Source{Through: layer("cbor"), Pick: "/z"}, "\xa1az\x07"},
		"there is no \"q\"":   {game.Source{Through: layer("cbor"), Pick: "/q"}, "\xa1az\x07"},
		"ends too early":      {game.Source{Through: layer("cbor"), Pick: "/q"}, "\xbbaz"},
		"nothing below \"b\"": {game.Source{Through: layer("cbor"), Pick: "/z/b"}, "\xa1az\x07"},
		"is not gzip":         {game.Source{Through: layer("gzip", "cbor"), Pick: "/t"}, "plain"},
		"there is no /t":      {game.Source{Through: layer("json"), Pick: "/t"}, `{"a":1}`},
	} {
		_, err := fact.Edit("f", []byte(c.data), c.source, "new")
		assert.ErrorContains(t, err, words)
	}
	_, err = fact.Edit("f", nested, game.Source{Through: layer("cbor"), Pick: "/z"}, "two\nlines")
	assert.ErrorContains(t, err, "one line")
	assert.ErrorContains(t, fact.Editable(game.Source{Through: layer("cbor"), Pick: "/t"}), "does not say")
}

// Whatever the bytes are, an edit ends with an error or with a value that reads.
func FuzzEditCBOR(f *testing.F) {
	good, err := cbor.Marshal(map[string]any{"t": "old", "a": []any{1, 2}})
	require.NoError(f, err)
	f.Add(good)
	f.Add([]byte{0xbf, 0x61, 't', 0x7f, 0xff, 0xff})
	source := game.Source{Through: []game.Layer{{Word: "cbor"}}, Pick: "/t"}
	f.Fuzz(func(t *testing.T, data []byte) {
		after, err := fact.Edit("f", data, source, "new")
		if err != nil {
			return
		}
		again, err := fact.Edit("f", after, source, "newer")
		require.NoError(t, err)
		assert.True(t, bytes.Contains(again, []byte("newer")))
	})
}
