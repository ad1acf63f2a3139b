package hostile

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Database makes a database of a script.
func Database(script []string) []byte {
	dir, err := os.MkdirTemp("", "reshard-hostile-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
	file := filepath.Join(dir, "db")
	db, err := sql.Open("sqlite", file)
	if err != nil {
		panic(err)
	}
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		panic(err)
	}
	for _, s := range append([]string{"PRAGMA journal_mode = OFF", "BEGIN"}, append(script, "COMMIT")...) {
		if _, err := conn.ExecContext(ctx, s); err != nil {
			panic(fmt.Sprintf("%s: %v", s, err))
		}
	}
	if err := conn.Close(); err != nil {
		panic(err)
	}
	if err := db.Close(); err != nil {
		panic(err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		panic(err)
	}
	return data
}

// xzWindow states another dictionary in an xz file's one block (the xz file format, 5.3.1),
// with the header's checksum made anew.
func xzWindow(data []byte, size byte) []byte {
	out := bytes.Clone(data)
	const block = 12
	length := (int(out[block]) + 1) * 4
	at := bytes.Index(out[block:block+length], []byte{0x21, 0x01})
	out[block+at+2] = size
	binary.LittleEndian.PutUint32(out[block+length-4:], crc32.ChecksumIEEE(out[block:block+length-4]))
	return out
}

// honest is a profile in which one thing is to be replaced.
const honest = `reshard: game/1
id: honest
title: Honest
world:
  shape: folder
  recognise: {require: [a.json]}
  facts:
    title: {read: a.json, through: [json], pick: /title}
server:
  kinds: {plain: {}}
  worlds: worlds/
  settings: {main: {file: server.env, format: env}}
  keys: {active-world: [{in: main, key: WORLD}]}
  console: {ready: ready, stop: {say: stop}}
`

func profiles() []File {
	var out []File
	add := func(what string, make func() string) {
		out = append(out, File{
			Kind:   Profile,
			Format: "game",
			What:   what,
			Make:   func() []byte { return []byte(make()) },
		})
	}
	fact := func(source string) func() string {
		return func() string {
			return strings.Replace(honest, "{read: a.json, through: [json], pick: /title}", source, 1)
		}
	}
	for _, d := range yamlDocuments("title") {
		add("yaml-"+d.what, func() string { return string(d.data()[:min(len(d.data()), 250_000)]) })
	}
	add("a-pattern-of-160-KB", fact(`{read: a, match: "`+rep("(a|b)", 160_000)+`"}`))
	add("a-pattern-of-repetitions", fact(`{read: a, match: "((((a{100}){100}){100}){100})"}`))
	add("a-pattern-of-classes", fact(`{read: a, match: "[[:^alpha:]]{1000}[[:^digit:]]{1000}"}`))
	add("many-patterns", func() string {
		return strings.Replace(honest, "    title:",
			numbered("    f%d: {read: a, match: 'x{900}'}\n", 200_000)+"    title:", 1)
	})
	add("a-place-at-the-end-of-numbers", fact(
		`{read: a, through: [{fields: {v: {at: 9223372036854775807, as: u8}}}], pick: /v}`))
	add("a-header-of-2-GB", fact(`{read: a, through: [{header: {size: 2147483647}}, json], pick: /v}`))
	add("a-negative-place", fact(`{read: a, through: [{fields: {v: {at: -1, as: u8}}}], pick: /v}`))
	add("compressions-within-each-other", fact(`{read: a, through: [`+rep("xz, ", 4_000)+`json], pick: /v}`))
	add("a-query-that-attaches", fact(
		`{read: a, through: [sqlite], query: "PRAGMA query_only=0; ATTACH '/tmp/x' AS x"}`))
	add("a-query-of-100-KB", fact(`{read: a, through: [sqlite], query: "SELECT 1`+rep("+1", 100_000)+`"}`))
	add("twenty-thousand-unknown-keys", func() string { return honest + numbered("x%d: 1\n", 200_000) })
	add("twenty-thousand-complaints", func() string {
		return strings.Replace(honest, "    title:", numbered("    F%d: {read: /x}\n", 200_000)+"    title:", 1)
	})
	add("a-word-of-200-KB", func() string {
		return strings.Replace(honest, "format: env", "format: "+rep("e", 200_000), 1)
	})
	add("paths-out-of-the-tree", fact(`{read: ../../etc/passwd, through: [text], match: "(?P<value>.*)"}`))
	add("a-pattern-of-a-name", func() string {
		return strings.Replace(honest, "  facts:", "  folder-name: {pattern: '(x+x+)+y{1000}'}\n  facts:", 1)
	})
	return out
}

func settingsFiles() []File {
	var out []File
	add := func(format string, documents ...document) {
		for _, d := range documents {
			out = append(out, File{Kind: Settings, Format: format, What: d.what, Make: d.data})
		}
	}
	const whole = 4_000_000
	lines := func(what, one string) document { return lazy(what, func() string { return rep(one, whole) }) }
	keys := func(what, one string) document { return lazy(what, func() string { return numbered(one, whole) }) }
	add("json", jsonDocuments("x")[:6]...)
	add("json", lazy("a-long-name-of-many", func() string {
		return `{"` + rep("a", 2_000_000) + `": [` + rep("0,", 180_000) + "0]}"
	}))
	add("yaml", yamlDocuments("x")...)
	add("yaml", lazy("a-long-name-of-many", func() string {
		return rep("a", 500_000) + ":\n" + numbered(" k%d: 1\n", 400_000)
	}))
	add("toml", tomlDocuments("x")...)
	add("xml", xmlDocuments("x")...)
	add("properties", keys("many-keys", "k%d=1\n"), lines("continued-without-end", "a\\\n"), lines("escapes", `\u0000`),
		lines("empty-lines", "\n"))
	add("key-value", keys("many-keys", "k%d = 1\n"), lines("groups-within-groups", "a = {\n"),
		lines("texts-without-end", "a = \"\"\"\n"))
	add("ini", keys("many-keys", "k%d=1\n"), keys("many-sections", "[s%d]\nk=1\n"),
		lazy("a-long-section-of-many", func() string {
			return "[" + rep("s", 2_000_000) + "]\n" + numbered("k%d=1\n", 2_000_000)
		}))
	add("env", keys("many-keys", "K%d=1\n"), lines("quotes-without-end", "A='\n"))
	add("shell", keys("many-arguments", "game --k%d 1\n"), lines("quotes-without-end", "\"\n"),
		lines("continued-without-end", "a \\\n"), lines("one-line", "--a "))
	add("batch", keys("many-variables", "set K%d=1\n"), lines("continued-without-end", "a ^\n"))
	add("lines", keys("many-keys", "set k%d 1\n"), lines("one-line", "set a "))
	add("env", lazy("a-file-of-a-gigabyte", func() string { return "" })) // sparse: see Sparse
	return out
}

// Sparse is how long a settings file is that takes no room on a disk.
const Sparse = 1 << 30

func archives() []File {
	var out []File
	add := func(format, what string, data func() []byte) {
		out = append(out, File{Kind: Archive, Format: format, What: what, Make: data})
	}
	zipOf := func(fill func(z *zip.Writer)) func() []byte {
		return func() []byte {
			var b bytes.Buffer
			z := quickly(&b)
			fill(z)
			_ = z.Close() // a buffer takes everything
			return b.Bytes()
		}
	}
	names := func(n int, name func(i int) string) func() []byte {
		return zipOf(func(z *zip.Writer) {
			for i := range n {
				_, _ = z.CreateHeader(&zip.FileHeader{Name: name(i)}) // a buffer takes everything
			}
		})
	}
	one := func(h zip.FileHeader, data []byte) func() []byte {
		return zipOf(func(z *zip.Writer) {
			w, err := z.CreateHeader(&h)
			if err == nil {
				_, _ = w.Write(data) // a buffer takes everything
			}
		})
	}
	add("zip", "two-hundred-thousand-names", names(199_999, func(i int) string { return fmt.Sprintf("w/%d", i) }))
	add("zip", "long-names", names(90_000, func(i int) string { return fmt.Sprintf("w/%s%d", rep("n", 240), i) }))
	add("zip", "deep-names", names(60_000, func(i int) string { return rep("a/", 1000) + fmt.Sprint(i) }))
	add("zip", "folders-of-their-own", names(60_000, func(i int) string { return fmt.Sprintf("%d/a/b/c/d/e", i) }))
	add("zip", "the-folder-comes-last", func() []byte {
		return names(150_001, func(i int) string {
			if i == 150_000 {
				return "a/"
			}
			return fmt.Sprintf("a/%d", i)
		})()
	})
	add("zip", "names-out-of-the-tree", names(1, func(int) string { return "../../etc/cron.d/x" }))
	add("zip", "a-name-with-NUL", names(1, func(int) string { return "a\x00b" }))
	add("zip", "a-bomb", one(zip.FileHeader{Name: "w/heart.cbor.gz", Method: zip.Deflate}, make([]byte, 1<<30+1)))
	add("zip", "announces-four-billion-entries", func() []byte {
		data := names(1, func(int) string { return "a" })()
		at := bytes.LastIndex(data, []byte("PK\x05\x06"))
		binary.LittleEndian.PutUint16(data[at+8:], 0xffff)
		binary.LittleEndian.PutUint16(data[at+10:], 0xffff)
		return data
	})
	add("zip", "zip-in-zip-in-zip", func() []byte {
		data := []byte("x")
		for range 30 {
			data = one(zip.FileHeader{Name: "w.zip", Method: zip.Deflate}, data)()
		}
		return data
	})
	tarOf := func(fill func(w *tar.Writer)) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		fill(w)
		_ = w.Close() // a buffer takes everything
		return b.Bytes()
	}
	add("tar.gz", "two-hundred-thousand-names", func() []byte {
		return gz(tarOf(func(w *tar.Writer) {
			for i := range 200_000 {
				_ = w.WriteHeader(&tar.Header{Name: fmt.Sprintf("w/%d", i), Mode: 0o644, Typeflag: tar.TypeReg})
			}
		}))
	})
	out[len(out)-1].Unpacked = 200_000 * 512 // a header each
	add("tar", "a-link-out-of-the-tree", func() []byte {
		return tarOf(func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "w", Linkname: "/etc", Typeflag: tar.TypeSymlink})
			_ = w.WriteHeader(&tar.Header{Name: "w/x", Mode: 0o644, Typeflag: tar.TypeReg})
		})
	})
	add("tar", "a-device", func() []byte {
		return tarOf(func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "w/zero", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 5})
		})
	})
	add("tar", "records-without-end", func() []byte {
		return tarOf(func(w *tar.Writer) {
			for i := range 2000 {
				_ = w.WriteHeader(&tar.Header{Name: fmt.Sprintf("w/%d", i), Mode: 0o644, Typeflag: tar.TypeReg,
					PAXRecords: map[string]string{"GAME.x": rep("x", 30_000)}})
			}
		})
	})
	sparse := func() []byte {
		return tarOf(func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "w/x", Mode: 0o644, Size: 1 << 36, Typeflag: tar.TypeReg})
		})
	}
	add("tar", "announces-64-GB", sparse)
	add("tar.gz", "a-gigabyte-of-nothing", func() []byte {
		return gz(tarOf(func(w *tar.Writer) {
			_ = w.WriteHeader(&tar.Header{Name: "w/x", Mode: 0o644, Size: 1<<30 + 1, Typeflag: tar.TypeReg})
			for range 1 << 10 {
				_, _ = w.Write(make([]byte, mega))
			}
			_, _ = w.Write([]byte{0})
		}))
	})
	add("tar.zst", "a-window-of-2-GB", func() []byte {
		return append([]byte{0x28, 0xb5, 0x2f, 0xfd, 0x00, 0xa8}, make([]byte, 64)...)
	})
	add("tar.xz", "a-window-of-2-GB", func() []byte { return xzWindow(xzip(make([]byte, 2048), mega), 39) })
	add("7z", "a-list-of-four-billion", func() []byte {
		return seven([]byte{0x01, 0x05, 0xf0, 0xff, 0xff, 0xff, 0xff})
	})
	add("7z", "streams-of-four-billion", func() []byte {
		return seven([]byte{0x01, 0x04, 0x06, 0x00, 0xf0, 0xff, 0xff, 0xff, 0x7f, 0x09})
	})
	add("rar", "nothing-but-its-mark", func() []byte {
		return append([]byte("Rar!\x1a\x07\x01\x00"), make([]byte, 64)...)
	})
	return out
}

// seven writes a 7z archive of a header alone (7zFormat.txt of the LZMA SDK).
func seven(header []byte) []byte {
	var start [20]byte
	binary.LittleEndian.PutUint64(start[8:], uint64(len(header)))
	binary.LittleEndian.PutUint32(start[16:], crc32.ChecksumIEEE(header))
	out := append([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), 0, 0, 0, 0)
	binary.LittleEndian.PutUint32(out[8:], crc32.ChecksumIEEE(start[:]))
	return append(append(out, start[:]...), header...)
}

func listings() []File {
	var out []File
	format := "files"
	add := func(what string, make func() any) {
		out = append(out, File{Kind: Listing, Format: format, What: what, Make: func() []byte {
			data, err := json.Marshal(make())
			if err != nil {
				panic(err)
			}
			return data
		}})
	}
	type file struct {
		Path  string `json:"path"`
		Size  int64  `json:"size"`
		Time  string `json:"modified"`
		Begin []byte `json:"begin,omitempty"`
	}
	const when = "2026-01-01T00:00:00Z"
	list := func(n int, one func(i int) file) any {
		files := make([]file, n)
		for i := range files {
			files[i] = one(i)
		}
		return map[string]any{"name": "fen", "files": files}
	}
	add("many-files", func() any {
		return list(200_000, func(i int) file { return file{Path: fmt.Sprintf("fen/%d", i), Time: when} })
	})
	add("long-paths", func() any {
		return list(20_000, func(i int) file { return file{Path: rep("a", 4_000) + fmt.Sprint(i), Time: when} })
	})
	add("deep-paths", func() any {
		return list(20_000, func(i int) file { return file{Path: rep("a/", 2_000) + fmt.Sprint(i), Time: when} })
	})
	add("a-heart-of-a-million-maps", func() any {
		heart := gz(cborDocuments()[0].data())
		return list(1, func(int) file {
			return file{Path: "fen/heart.cbor.gz", Time: when, Size: int64(len(heart)), Begin: heart}
		})
	})
	add("a-hundred-hearts", func() any {
		heart := gz(cborDocuments()[0].data())
		return list(100, func(i int) file {
			return file{Path: fmt.Sprintf("%d/heart.cbor.gz", i), Time: when, Size: int64(len(heart)), Begin: heart}
		})
	})
	add("negative-sizes", func() any {
		return list(1000, func(i int) file { return file{Path: fmt.Sprintf("fen/%d", i), Time: when, Size: -1 << 60} })
	})
	add("the-same-name", func() any {
		return list(100_000, func(int) file { return file{Path: "fen/heart.cbor.gz", Time: when} })
	})
	format = "chunks"
	chunk := map[string]any{"hash": rep("0123456789abcdef", 64), "size": 1 << 40}
	add("a-file-of-half-a-million-chunks", func() any {
		chunks := make([]any, 500_000)
		for i := range chunks {
			chunks[i] = chunk
		}
		return map[string]any{
			"name":  "fen",
			"files": []any{map[string]any{"path": "fen/x", "modified": when, "chunks": chunks}},
		}
	})
	add("many-files-of-a-chunk", func() any {
		files := make([]any, 150_000)
		for i := range files {
			files[i] = map[string]any{"path": fmt.Sprintf("fen/%d", i), "modified": when, "chunks": []any{chunk}}
		}
		return map[string]any{"name": "fen", "files": files}
	})
	add("deep-json", func() any { return map[string]any{"name": json.RawMessage(rep("[", 5_000) + rep("]", 5_000))} })
	format = "files"
	add("four-thousand-tiles-that-begin", func() any {
		return list(4_000, func(i int) file {
			return file{Path: fmt.Sprintf("fen/ground/t.%d.0.qt", i), Time: when, Size: 4096, Begin: make([]byte, 4096)}
		})
	})
	return out
}
