package fact_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"github.com/vmihailenco/msgpack/v5"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// sources reads facts as a profile writes them, so that these tests hold the
// language and not only its types.
func sources(t *testing.T, facts ...string) map[string]game.Sources {
	t.Helper()
	doc := `
reshard: game/1
id: g
title: G
world:
  shape: folder
  recognise: {require: [a]}
  facts:
    ` + strings.Join(facts, "\n    ") + `
server:
  kinds: {g: {}}
  worlds: w/
  settings: {main: {file: s, format: ini}}
  keys: {active-world: [{in: main, key: k}]}
  console: {ready: r, stop: {signal: SIGINT}}
`
	p, complaints := game.Lint([]byte(doc))
	require.Empty(t, complaints, doc)
	return p.World.Facts
}

// sealed is a payload behind a header of 24 bytes: magic, the header's own size,
// the lengths inside and behind, a checksum and a number.
func sealed(t *testing.T, inside []byte, stored []byte) []byte {
	t.Helper()
	head := make([]byte, 24)
	copy(head, "SEAL")
	binary.LittleEndian.PutUint32(head[4:], 24)
	binary.LittleEndian.PutUint32(head[8:], uint32(len(inside)))
	binary.LittleEndian.PutUint32(head[12:], uint32(len(stored)))
	binary.LittleEndian.PutUint32(head[16:], crc32.ChecksumIEEE(stored))
	binary.BigEndian.PutUint16(head[20:], 302)
	return append(head, stored...)
}

func tree(t *testing.T) fstest.MapFS {
	t.Helper()
	id := bytes.Repeat([]byte{0xab}, 16)
	payload, err := cbor.Marshal(map[string]any{"seed": -5, "folk": []any{map[string]any{"id": id, "name": "Ada"}}})
	require.NoError(t, err)
	var xzed bytes.Buffer
	w, err := xz.NewWriter(&xzed)
	require.NoError(t, err)
	_, err = w.Write([]byte("seed is 77\nmod a\nmod b\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	packedMap, err := msgpack.Marshal(map[string]any{"seed": int64(math.MinInt64), "ratio": float32(0.5)})
	require.NoError(t, err)
	stored := packed(t, "zlib", payload)
	whole := sealed(t, payload, stored)
	bad := bytes.Clone(whole)
	bad[len(bad)-1] ^= 1
	fields := append([]byte("MAGC"), 0x2e, 0x01, 5, 0, 'h', 'e', 'l', 'l', 'o', 0xfe, 'o', 'n', 'e', 0, 0, 0x3f, 0x80,
		0, 0)
	return fstest.MapFS{
		"seal.bin":  {Data: whole},
		"bad.bin":   {Data: bad},
		"short.bin": {Data: whole[:len(whole)-3]},
		"cut.bin":   {Data: whole[:10]},
		"t.xz":      {Data: xzed.Bytes()},
		"m.mp":      {Data: packedMap},
		"a.yaml":    {Data: []byte("world: {name: Fen, seed: 0x10, on: yes, 7: seven}\nmods:\n- {name: x, v: 1}\n")},
		"a.toml":    {Data: []byte("[world]\nname = 'Fen'\nplayed = 2026-11-20T21:15:00Z\n")},
		"a.xml": {
			Data: []byte("<s><world id='ab cd'><name>Fen &amp; Co</name></world><p name='seed' value='-3'/></s>"),
		},
		"a.env":       {Data: []byte("export WORLD='fen'\n")},
		"f.bin":       {Data: fields},
		"c/1.txt":     {Data: []byte("old")},
		"c/2.txt":     {Data: []byte("new")},
		"mods/b.jar":  {Data: nil},
		"mods/a.jar":  {Data: nil},
		"mods/sub/x":  {Data: nil},
		"fen.7.ember": {Data: []byte("in the session")},
	}
}

func TestEveryWayToReadAFact(t *testing.T) {
	t.Parallel()
	const seal = "{header: {size: {at: 4, as: u32le}, checksum: {at: 16, as: u32le, kind: crc32}, lengths: [{at: 8, " +
		"as: u32le, of: inside}, {at: 12, as: u32le, of: follows}]}}"
	const fields = "{fields: {version: {at: 4, as: u16le}, name: {at: 6, as: text, length: u16le}, depth: {at: 13, " +
		"as: i8}, code: {at: 14, as: text, width: 5}, ratio: {at: 19, as: f32be}, raw: {at: 0, as: hex, width: 4}, " +
		"far: {at: 90, as: u8}}}"
	for _, c := range []struct{ name, source, want, why string }{
		{"sealed payload", "{read: seal.bin, through: [" + seal + ", zlib, cbor], pick: /seed, type: int64}", "-5", ""},
		{"a fixed header alone", "{read: seal.bin, through: [{header: {size: 24}}, zlib, cbor], pick: /seed, type: " +
			"int64}", "-5", ""},
		{"a changed byte", "{read: bad.bin, through: [" + seal + ", zlib, cbor], pick: /seed}", "", "checksum is"},
		{
			"the end is missing",
			"{read: short.bin, through: [" + seal + ", zlib, cbor], pick: /seed}",
			"",
			"damaged or half written",
		},
		{
			"less than a header",
			"{read: cut.bin, through: [" + seal + ", zlib, cbor], pick: /seed}",
			"",
			"shorter than its header",
		},
		{"bytes as an id", "{read: seal.bin, through: [{header: {size: 24}}, zlib, cbor], pick: /folk/0/id, type: " +
			"uuid}", "abababab-abab-abab-abab-abababababab", ""},
		{"xz and a pattern", "{read: t.xz, through: [xz, text], match: 'seed is (?P<value>\\d+)', type: int64}", "77",
			""},
		{"msgpack", "{read: m.mp, through: [msgpack], pick: /seed, type: int64}", "-9223372036854775808", ""},
		{"msgpack float", "{read: m.mp, through: [msgpack], pick: /ratio, type: float}", "0.5", ""},
		{"yaml", "{read: a.yaml, through: [yaml], pick: /world/name}", "Fen", ""},
		{"yaml number", "{read: a.yaml, through: [yaml], pick: /world/seed, type: int64}", "16", ""},
		{"yaml key that is a number", "{read: a.yaml, through: [yaml], pick: /world/7}", "seven", ""},
		{"yaml truth", "{read: a.yaml, through: [yaml], pick: /world/on, type: bool}", "true", ""},
		{"toml", "{read: a.toml, through: [toml], pick: /world/name}", "Fen", ""},
		{"toml time", "{read: a.toml, through: [toml], pick: /world/played, type: time}", "2026-11-20T21:15:00Z", ""},
		{"xml element", "{read: a.xml, through: [xml], pick: /s/world/name}", "Fen & Co", ""},
		{"xml attribute", "{read: a.xml, through: [xml], pick: \"/s/p[@name='seed']/@value\", type: int64}", "-3", ""},
		{"xml attribute of an element", "{read: a.xml, through: [xml], pick: /s/world/@id}", "ab cd", ""},
		{"env", "{read: a.env, through: [env], pick: /WORLD}", "fen", ""},
		{"binary number", "{read: f.bin, through: [" + fields + "], pick: /version, type: int64}", "302", ""},
		{"binary signed", "{read: f.bin, through: [" + fields + "], pick: /depth, type: int64}", "-2", ""},
		{"binary float", "{read: f.bin, through: [" + fields + "], pick: /ratio, type: float}", "1", ""},
		{"length-prefixed text", "{read: f.bin, through: [" + fields + "], pick: /name}", "hello", ""},
		{"text of a width", "{read: f.bin, through: [" + fields + "], pick: /code}", "one", ""},
		{"bytes as digits", "{read: f.bin, through: [" + fields + "], pick: /raw, type: hex}", "4d414743", ""},
		{"beyond the end", "{read: f.bin, through: [" + fields + "], pick: /far}", "", `there is no "far"`},
		{"fields behind a header", "{read: seal.bin, through: [{header: {size: 20}}, {fields: {v: {at: 0, as: " +
			"u16be}}}], pick: /v, type: int64}", "302", ""},
		{"the last of several files", "{read: c/*.txt}", "new", ""},
		{"the world's own file", "{read: '{name}.7.ember'}", "in the session", ""},
		{"no number", "{read: a.env, through: [env], pick: /WORLD, type: float}", "", "is no number"},
		{"no truth", "{read: a.env, through: [env], pick: /WORLD, type: bool}", "", "neither true nor false"},
		{"no uuid", "{read: a.env, through: [env], pick: /WORLD, type: uuid}", "", "not hexadecimal"},
		{"several places, the first that reads",
			"[{read: none}, {read: a.env, through: [env], pick: /NO}, {read: a.env, through: [env], pick: /WORLD}]",
			"fen", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			r := fact.NewReader(tree(t), budget.World())
			r.Name = "fen"
			f := r.Read("f", sources(t, "f: "+c.source)["f"])
			assert.Equal(t, c.want, f.Text)
			assert.Contains(t, f.Why, c.why)
			assert.Equal(t, c.why == "", f.Known(), f.Why)
		})
	}
}

func TestLists(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		source string
		want   []fact.Item
	}{
		"files of a folder": {
			"{read: mods/, through: [files], type: list}",
			[]fact.Item{{Name: "a.jar"}, {Name: "b.jar"}},
		},
		"folders": {"{read: mods/, through: [folders], type: list}", []fact.Item{{Name: "sub"}}},
		"lines of a text": {
			"{read: t.xz, through: [xz, text], match: '(?m)^mod (?P<value>\\S+)$', type: list}",
			[]fact.Item{{Name: "a"}, {Name: "b"}},
		},
		"elements of XML": {
			"{read: a.xml, through: [xml], pick: /s/p, type: list, name: /@name, version: /@value}",
			[]fact.Item{{Name: "seed", Version: "-3"}},
		},
		"items of YAML": {
			"{read: a.yaml, through: [yaml], pick: '/mods/*', type: list, name: /name, version: /v}",
			[]fact.Item{{Name: "x", Version: "1"}},
		},
		"ids as bytes": {
			"{read: seal.bin, through: [{header: {size: 24}}, zlib, cbor], pick: '/folk/*', type: list, id: /id, " +
				"name: /name}",
			[]fact.Item{{ID: strings.Repeat("ab", 16), Name: "Ada"}},
		},
		"a folder that is not there": {"{read: none/, through: [files], type: list}", []fact.Item{}},
	} {
		f := fact.NewReader(tree(t), budget.World()).Read("f", sources(t, "f: "+c.source)["f"])
		require.Empty(t, f.Why, name)
		assert.Equal(t, c.want, f.Items, name)
	}
}

// A file may ask for a dictionary of gigabytes; it is refused instead of served.
func TestAnXZFileCannotAskForAllMemory(t *testing.T) {
	t.Parallel()
	data := tree(t)["t.xz"].Data
	// The block header (xz file format, 3.1): its LZMA2 filter is 21 01 and the
	// dictionary's size; 37 stands for 1.5 GiB. Its CRC-32 ends the header.
	big := bytes.Clone(data)
	at := bytes.Index(big[12:], []byte{0x21, 0x01}) + 12
	big[at+2] = 37
	end := 12 + (int(big[12])+1)*4
	binary.LittleEndian.PutUint32(big[end-4:], crc32.ChecksumIEEE(big[12:end-4]))
	r := fact.NewReader(fstest.MapFS{"t.xz": {Data: big}}, budget.World())
	f := r.Read("f", sources(t, "f: {read: t.xz, through: [xz, text]}")["f"])
	assert.Contains(t, f.Why, "t.xz")
	assert.True(t, f.Damaged)
}

// A few lines of YAML that refer to each other stand for billions of values.
func TestAYAMLFileCannotAskForAllTime(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [%s]\n", i, i,
			strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 10), ","))
	}
	r := fact.NewReader(fstest.MapFS{"f.yaml": {Data: []byte(b.String())}}, budget.World())
	f := r.Read("f", sources(t, "f: {read: f.yaml, through: [yaml], pick: /a0/0}")["f"])
	assert.Contains(t, f.Why, "stands for more than")
}
