// Package hostile makes files as somebody would who wants to harm whoever reads them: worlds
// of every game that ships, profiles, settings in every format, archives, listings. None is
// kept anywhere: each is made when it is asked for. Tests read them as the service does and
// hold what they cost against what docs/security.md promises.
package hostile

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"github.com/klauspost/compress/flate"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Kind says how a file reaches the service.
type Kind string

// The kinds.
const (
	World    Kind = "world"    // sent in an archive, or as the file that it is
	Profile  Kind = "profile"  // sent to be checked
	Settings Kind = "settings" // in the folder of a server that is looked at
	Archive  Kind = "archive"  // sent
	Listing  Kind = "listing"  // what a browser sends of a folder
)

// File is one hostile file.
type File struct {
	Kind Kind
	// Format is the game of a world, the format of settings, the ending of an archive.
	Format string
	What   string
	// At is where in an honest world of its game it goes; "": it is the world.
	At   string
	Make func() []byte
	// Unpacked is what it truly unpacks to, in bytes, where that is much.
	Unpacked int64
}

// Name tells files apart.
func (f File) Name() string { return fmt.Sprintf("%s/%s/%s", f.Kind, f.Format, f.What) }

// All gives every file.
func All() []File {
	var out []File
	for _, more := range [][]File{worlds(), strange(), profiles(), settingsFiles(), archives(), listings()} {
		out = append(out, more...)
	}
	return out
}

const mega = 1 << 20

// rep writes something until there are that many bytes.
func rep(s string, size int) string { return strings.Repeat(s, max(1, size/len(s))) }

// numbered writes lines with a number in each, until there are that many bytes.
func numbered(format string, size int) string {
	var b strings.Builder
	for i := 0; b.Len() < size; i++ {
		fmt.Fprintf(&b, format, i)
	}
	return b.String()
}

func gz(data []byte) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is one
	_, _ = w.Write(data)                            // a buffer takes everything
	_ = w.Close()
	return b.Bytes()
}

// quickly makes a zip writer that packs no better than it must.
func quickly(b *bytes.Buffer) *zip.Writer {
	z := zip.NewWriter(b)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w, flate.BestSpeed)
	})
	return z
}

func zl(data []byte) []byte {
	var b bytes.Buffer
	w, _ := zlib.NewWriterLevel(&b, zlib.BestSpeed) // the level is one
	_, _ = w.Write(data)                            // a buffer takes everything
	_ = w.Close()
	return b.Bytes()
}

func zst(data []byte) []byte {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		panic(err) // no option is given
	}
	return w.EncodeAll(data, nil)
}

func xzip(data []byte, window int) []byte {
	var b bytes.Buffer
	w, err := xz.WriterConfig{DictCap: window}.NewWriter(&b)
	if err != nil {
		panic(err) // the window is one
	}
	_, _ = w.Write(data) // a buffer takes everything
	_ = w.Close()
	return b.Bytes()
}

// sealed puts the header of Saltmarch's files before compressed bytes; what it states may be
// a lie.
func sealed(inside []byte, lie func(header []byte)) []byte {
	stored := zl(inside)
	head := make([]byte, 24)
	copy(head, "SMW1")
	for i, n := range []int{24, len(inside), len(stored), int(crc32.ChecksumIEEE(stored)), 3} {
		binary.LittleEndian.PutUint32(head[4+4*i:], uint32(n))
	}
	if lie != nil {
		lie(head)
	}
	return append(head, stored...)
}

// cborHead writes the beginning of an item (RFC 8949, section 3).
func cborHead(kind byte, n uint64) []byte {
	return binary.BigEndian.AppendUint64([]byte{kind<<5 | 27}, n)
}

func cborText(s string) []byte { return append(cborHead(3, uint64(len(s))), s...) }

// cborMap writes a mapping with a title and one more key.
func cborMap(key string, value []byte) []byte {
	out := []byte{0xa2}
	out = append(out, cborText("title")...)
	out = append(out, cborText("Fen")...)
	return append(append(out, cborText(key)...), value...)
}

// document is something that a decoder must not take at its word.
type document struct {
	what string
	data func() []byte
}

func text(what, s string) document { return document{what, func() []byte { return []byte(s) }} }

func lazy(what string, make func() string) document {
	return document{what, func() []byte { return []byte(make()) }}
}

func cborDocuments() []document {
	many := func(kind byte, n int, item string) func() []byte {
		return func() []byte { return cborMap("x", append(cborHead(kind, uint64(n)), strings.Repeat(item, n)...)) }
	}
	return []document{
		{"a-million-empty-maps", many(4, mega, "\xa0")},
		{"a-million-empty-lists", many(4, mega, "\x80")},
		{"eight-million-numbers", many(4, 8*mega, "\x00")},
		{"maps-of-one", many(4, mega, "\xa1\x00\x00")},
		{"a-map-of-a-million", func() []byte {
			out := cborHead(5, mega)
			for i := range mega {
				out = append(binary.BigEndian.AppendUint32(append(out, 0x1a), uint32(i)), 0)
			}
			return cborMap("x", out)
		}},
		{"announces-a-map-of-2-to-the-32", func() []byte { return cborMap("x", cborHead(5, 1<<32)) }},
		{"announces-a-list-of-2-to-the-63", func() []byte { return cborMap("x", cborHead(4, 1<<63)) }},
		{"announces-bytes-of-2-to-the-40", func() []byte { return cborMap("x", cborHead(2, 1<<40)) }},
		{"deep-lists", func() []byte { return cborMap("x", bytes.Repeat([]byte{0x81}, mega)) }},
		{"deep-maps", func() []byte { return cborMap("x", bytes.Repeat([]byte{0xa1, 0x00}, mega)) }},
		{"deep-tags", func() []byte { return cborMap("x", bytes.Repeat([]byte{0xc6}, mega)) }},
		{"text-in-a-million-pieces", func() []byte {
			return cborMap("x", append(append([]byte{0x7f}, strings.Repeat("\x61a", mega)...), 0xff))
		}},
		{"a-bignum-of-16-MB", func() []byte {
			return cborMap("x", append([]byte{0xc2}, append(cborHead(2, 16*mega), make([]byte, 16*mega)...)...))
		}},
		{"a-title-of-30-MB", func() []byte {
			return append(append([]byte{0xa1}, cborText("title")...), cborText(rep("fen ", 30*mega))...)
		}},
		{"a-title-of-a-list", func() []byte {
			return append(append([]byte{0xa1}, cborText("title")...), many(4, mega, "\x80")()...)
		}},
		{"no-end-to-a-list", func() []byte { return cborMap("x", append([]byte{0x9f}, make([]byte, 4*mega)...)) }},
	}
}

func jsonDocuments(key string) []document {
	wrap := func(v string) string { return fmt.Sprintf(`{%q: "Fen", "x": %s}`, key, v) }
	return []document{
		lazy("eight-million-zeros", func() string { return wrap("[" + rep("0,", 16*mega) + "0]") }),
		lazy("empty-objects", func() string { return wrap("[" + rep("{},", 12*mega) + "0]") }),
		lazy("objects-of-one", func() string { return wrap("[" + rep(`{"a":0},`, 12*mega) + "0]") }),
		lazy("many-keys", func() string { return wrap("{" + numbered(`"k%d":0,`, 12*mega) + `"z":0}`) }),
		lazy("deep-lists", func() string { return wrap(rep("[", 8*mega)) }),
		lazy("deep-objects", func() string { return wrap(rep(`{"a":`, 8*mega)) }),
		lazy("a-title-of-30-MB", func() string { return fmt.Sprintf(`{%q: %q}`, key, rep("fen ", 30*mega)) }),
		lazy("escapes", func() string { return fmt.Sprintf(`{%q: "%s"}`, key, rep(`\u0000`, 12*mega)) }),
		lazy("a-number-of-10-MB", func() string { return wrap(rep("9", 10*mega)) }),
		lazy("no-end-to-a-text", func() string { return `{"x": "` + rep("a", 30*mega) }),
	}
}

func yamlDocuments(key string) []document {
	return []document{
		lazy("deep-flow", func() string { return key + ": " + rep("[", 200_000) }),
		lazy("deep-dashes", func() string { return rep("- ", 200_000) }),
		lazy("deep-questions", func() string { return rep("? ", 200_000) }),
		lazy("deep-lines", func() string {
			var b strings.Builder
			for i := range 600 {
				fmt.Fprintf(&b, "%s-\n", strings.Repeat(" ", i))
			}
			return b.String()
		}),
		lazy("aliases-of-aliases", func() string {
			var b strings.Builder
			fmt.Fprint(&b, "a0: &a0 [x, x, x, x, x, x, x, x, x]\n")
			for i := 1; i < 12; i++ {
				fmt.Fprintf(&b, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(rep(fmt.Sprintf("*a%d, ", i-1), 50), ", "))
			}
			return b.String()
		}),
		text("an-alias-of-itself", key+": &a [*a, *a]\n"),
		lazy("many-keys", func() string { return numbered("k%d: 1\n", mega) }),
		lazy("many-items", func() string { return key + ": [" + rep("1,", mega-100) + "1]\n" }),
		lazy("merges", func() string { return "b: &b {x: 1}\nc:\n" + rep("  - <<: *b\n", 500_000) }),
		lazy("a-title-of-a-MB", func() string { return key + ": " + rep("fen ", mega-100) + "\n" }),
		lazy("anchors-in-a-row", func() string { return key + ": " + rep("&a ", 500_000) + "x\n" }),
		lazy("no-end-to-a-text", func() string { return key + ": \"" + rep("a\n ", 900_000) }),
	}
}

func tomlDocuments(key string) []document {
	return []document{
		lazy("deep-lists", func() string { return key + " = " + rep("[", 4_000_000) }),
		lazy("deep-tables", func() string { return key + " = " + rep("{a=", 3_000_000) }),
		lazy("a-key-of-a-million-steps", func() string {
			return strings.TrimSuffix(rep("a.", 4_000_000), ".") + " = 1\n"
		}),
		lazy("many-tables", func() string { return numbered("[a.b.c.d.e.f.g.h.i.j.k%d]\n", 4_000_000) }),
		lazy("many-items", func() string { return key + " = [" + rep("1,", 4_000_000) + "1]\n" }),
		lazy("long-table-of-many", func() string {
			return "[" + rep("a", 2_000_000) + "]\n" + numbered("k%d=1\n", 2_000_000)
		}),
	}
}

func xmlDocuments(key string) []document {
	return []document{
		lazy("deep", func() string { return rep("<a>", 4_000_000) }),
		lazy("many-elements", func() string { return "<r>" + rep("<a/>", 4_000_000) + "</r>" }),
		lazy("text-in-pieces", func() string {
			return "<r><" + key + ">" + rep("x<!---->", 4_000_000) + "</" + key + "></r>"
		}),
		text("entities-of-entities", `<!DOCTYPE r [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><r>&b;</r>`),
		lazy("many-attributes", func() string { return "<r " + numbered(`a%d="1" `, 4_000_000) + "/>" }),
		lazy("a-long-name-of-many", func() string {
			name := rep("a", 1_500_000)
			return "<" + name + ">" + rep("<b>1</b>", 1_000_000) + "</" + name + ">"
		}),
	}
}

func msgpackDocuments() []document {
	return []document{
		text("announces-a-list-of-2-to-the-32", "\xdd\xff\xff\xff\xff"),
		text("announces-a-map-of-2-to-the-32", "\xdf\xff\xff\xff\xff"),
		lazy("deep", func() string { return rep("\x91", 8*mega) }),
		lazy("empty-maps", func() string { return "\xdd\x00\x80\x00\x00" + rep("\x80", 8*mega) }),
		lazy("eight-million-nils", func() string { return "\xdd\x00\x80\x00\x00" + rep("\xc0", 8*mega) }),
	}
}
