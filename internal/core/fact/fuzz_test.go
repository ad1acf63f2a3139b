package fact_test

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"reshard/internal/core/budget"
	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// Whatever the bytes: a decoder gives a value or a reason, within bounds. make fuzz
// runs each target for a minute; go test runs their seeds.

func FuzzDecodeJSON(f *testing.F)       { fuzzDecode(f, "json", `{"seed": 1, "a": [{"b": 2}]}`) }
func FuzzDecodeYAML(f *testing.F)       { fuzzDecode(f, "yaml", "seed: 1\nb: &x [1]\nc: *x") }
func FuzzDecodeTOML(f *testing.F)       { fuzzDecode(f, "toml", "seed = 1\n[[a]]\nb = 2") }
func FuzzDecodeXML(f *testing.F)        { fuzzDecode(f, "xml", "<seed a='1'>2<b/></seed>") }
func FuzzDecodeMsgpack(f *testing.F)    { fuzzDecode(f, "msgpack", "\x81\xa4seed\x01") }
func FuzzDecodeProperties(f *testing.F) { fuzzDecode(f, "properties", "seed=1") }
func FuzzDecodeKeyValue(f *testing.F)   { fuzzDecode(f, "key-value", "seed = {\n}\n") }
func FuzzDecodeINI(f *testing.F)        { fuzzDecode(f, "ini", "seed=1\n[s]\nseed=2") }
func FuzzDecodeEnv(f *testing.F)        { fuzzDecode(f, "env", "seed='1'") }

func FuzzDecodeCBOR(f *testing.F) {
	encoded, err := cbor.Marshal(map[string]any{"seed": 1})
	if err != nil {
		f.Fatal(err)
	}
	fuzzDecode(f, "cbor", string(encoded))
}

func FuzzUnwrapGzip(f *testing.F) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte("seed: 1"))
	_ = w.Close()
	fuzzDecode(f, "gzip", b.String())
}

func FuzzUnwrapZlib(f *testing.F) {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	_, _ = w.Write([]byte("seed: 1"))
	_ = w.Close()
	fuzzDecode(f, "zlib", b.String())
}

func FuzzUnwrapZstd(f *testing.F) {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		f.Fatal(err)
	}
	fuzzDecode(f, "zstd", string(w.EncodeAll([]byte("seed: 1"), nil)))
}

func FuzzUnwrapXZ(f *testing.F) {
	var b bytes.Buffer
	w, err := xz.NewWriter(&b)
	if err != nil {
		f.Fatal(err)
	}
	_, _ = w.Write([]byte("seed: 1"))
	_ = w.Close()
	fuzzDecode(f, "xz", b.String())
}

func fuzzDecode(f *testing.F, layer, seed string) {
	f.Helper()
	f.Add([]byte(seed))
	f.Fuzz(func(t *testing.T, data []byte) {
		tree := fstest.MapFS{"f": {Data: data}}
		var got fact.Fact
		budgettest.Within(t, func() {
			b := budget.World()
			defer b.Done()
			got = fact.NewReader(tree, b).Read("seed",
				game.Sources{{Read: "f", Through: words(layer), Pick: "/seed", Type: "int64"}})
		})
		if got.Known() && strings.TrimLeft(got.Text, "-0123456789") != "" {
			t.Fatalf("an int64 reads as %q", got.Text)
		}
	})
}

// A header and fields are told by the profile and read from a stranger's file: neither
// may make the other reach beyond the data.
func FuzzBinary(f *testing.F) {
	f.Add([]byte("SEAL\x08\x00\x00\x00rest"), 4, "u32le", 8, "text", 3, "")
	f.Add([]byte("\x03abc"), 0, "u8", 0, "text", 0, "u8")
	f.Fuzz(func(t *testing.T, data []byte, sizeAt int, sizeAs string, at int, as string, width int, length string) {
		source := game.Source{Read: "f", Pick: "/v", Through: []game.Layer{
			{
				Header: &game.Header{
					Size:     game.Measure{At: sizeAt, As: sizeAs},
					Checksum: &game.Checksum{At: sizeAt, As: sizeAs, Kind: "crc32"},
				},
			},
			{Fields: map[string]game.Field{"v": {At: at, As: as, Width: width, Length: length}}},
		}}
		if sizeAt < 0 || sizeAt > 1<<20 || at < 0 || width < 0 || !known(sizeAs) ||
			(!known(as) && as != "text" && as != "hex") || (length != "" && !known(length)) {
			return // the lint refuses such a profile
		}
		fact.NewReader(fstest.MapFS{"f": {Data: data}}, budget.World()).Read("v", game.Sources{source})
	})
}

func known(number string) bool {
	for _, n := range game.Numbers {
		if n == number {
			return true
		}
	}
	return false
}
