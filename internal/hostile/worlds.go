package hostile

import (
	"encoding/binary"
	"fmt"
	"strings"
)

func worlds() []File {
	var out []File
	add := func(game, what, at string, data func() []byte) {
		out = append(out, File{Kind: World, Format: game, What: what, At: at, Make: data})
	}
	for _, d := range cborDocuments() {
		add("quarrymoss", "heart-"+d.what, "heart.cbor.gz", func() []byte { return gz(d.data()) })
	}
	for _, d := range cborDocuments()[:9] {
		add("saltmarch", "level-"+d.what, "Level.smw", func() []byte { return sealed(d.data(), nil) })
	}
	for _, d := range jsonDocuments("expedition") {
		add("emberlode", d.what, "", func() []byte {
			// as its saves begin, or nobody looks into it
			return append([]byte("{\n \"emberlode\": 4, "), d.data()[1:]...)
		})
	}
	for _, d := range jsonDocuments("name")[:3] {
		add("quarrymoss", "a-player-"+d.what, "folk/00000000-0000-4000-8000-000000000001.json", d.data)
	}
	add("quarrymoss", "heart-of-a-gigabyte", "heart.cbor.gz", func() []byte { return gz(make([]byte, 1<<30)) })
	add("quarrymoss", "ten-thousand-players", "folk/", nil)
	add("quarrymoss", "sixteen-thousand-tiles", "ground/", nil)
	add("quarrymoss", "mods-without-end", "heart.cbor.gz", func() []byte {
		n := 400_000
		mods := cborHead(4, uint64(n))
		for i := range n {
			one := append([]byte{0xa1}, cborText("name")...)
			mods = append(mods, append(one, cborText(fmt.Sprint("mod ", i))...)...)
		}
		return gz(cborMap("mods", mods))
	})
	for what, at := range map[string]int{"header-size": 4, "inner-length": 8, "stored-length": 12} {
		add("saltmarch", "a-lie-about-the-"+what, "Level.smw", func() []byte {
			return sealed(cborMap("x", []byte{0}), func(h []byte) { binary.LittleEndian.PutUint32(h[at:], 0xfffffff0) })
		})
	}
	add("saltmarch", "a-player-of-a-million-maps", "Folk/70569C0E954550D5801917142E39169F.smw",
		func() []byte { return sealed(cborDocuments()[0].data(), nil) })
	add("openttd", "a-header-and-nothing-else", "", func() []byte { return []byte("OTTN\x01") })
	add("openttd", "a-file-of-40-MB", "", func() []byte {
		return append([]byte("OTTN\x01\x00"), make([]byte, 40*mega)...)
	})
	add("minetest", "world-mt-of-keys", "world.mt", func() []byte {
		return []byte("gameid = minetest\nworld_name = x\n" + numbered("k%d = 1\n", 4_000_000))
	})
	add("minetest", "world-mt-of-groups", "world.mt", func() []byte { return []byte(rep("a = {\n", 4_000_000)) })
	add("minetest", "map-meta-of-30-MB", "map_meta.txt", func() []byte { return []byte(rep("seed = x\n", 30*mega)) })
	add("minetest", "a-name-of-2-MB", "world.mt", func() []byte {
		return []byte("gameid = minetest\nworld_name = " + rep("fen", 2*mega) + "\n")
	})
	for what, script := range databases() {
		add("minetest", "players-"+what, "players.sqlite", func() []byte { return Database(script) })
	}
	return out
}

// databases are scripts that make databases; Database runs one.
func databases() map[string][]string {
	rows := func(n int, value string) string {
		return fmt.Sprintf("WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c WHERE n < %d) "+
			"INSERT INTO player SELECT %s FROM c", n, value)
	}
	return map[string][]string{
		"a-view-without-end": {
			"CREATE VIEW player AS WITH RECURSIVE c(name) AS (SELECT 'x' UNION ALL SELECT name || name " +
				"FROM c) SELECT name FROM c",
		},
		"a-view-of-a-gigabyte": {"CREATE VIEW player AS SELECT hex(zeroblob(500000000)) AS name"},
		"views-of-views":       viewsOfViews(),
		"a-virtual-table":      {"CREATE VIRTUAL TABLE player USING fts5(name)"},
		"a-generated-column": {
			"CREATE TABLE player (a)", "INSERT INTO player VALUES (1)",
			"ALTER TABLE player ADD COLUMN name AS (printf('%900000000d', 1))",
		},
		"half-a-million-rows":  {"CREATE TABLE player (name)", rows(500_000, "'player ' || n")},
		"a-value-of-100-MB":    {"CREATE TABLE player (name)", "INSERT INTO player VALUES (zeroblob(100000000))"},
		"many-values-of-a-MB":  {"CREATE TABLE player (name)", rows(200, "hex(zeroblob(500000))")},
		"five-thousand-tables": manyTables(),
		"no-such-table":        {"CREATE TABLE other (name)"},
		"an-expression-indexed": {
			"CREATE TABLE player (name)",
			"CREATE INDEX i ON player(upper(name))",
			rows(1000, "n"),
		},
	}
}

func viewsOfViews() []string {
	out := []string{"CREATE VIEW v0 AS SELECT 1 AS name"}
	for i := 1; i < 40; i++ {
		out = append(out, fmt.Sprintf("CREATE VIEW v%d AS SELECT a.name FROM v%d a, v%d b", i, i-1, i-1))
	}
	return append(out, "CREATE VIEW player AS SELECT name FROM v39")
}

func manyTables() []string {
	out := []string{"CREATE TABLE player (name)"}
	for i := range 5_000 {
		out = append(out, fmt.Sprintf("CREATE TABLE t%d (%s)", i, strings.TrimSuffix(numbered("c%d,", 200), ",")))
	}
	return out
}

// StrangeFormats are the formats that no shipped game's worlds have: a world of each is one
// file, and Strange gives the profile of a game that keeps such.
var StrangeFormats = []string{"yaml", "toml", "xml", "msgpack", "properties", "ini", "env", "text-list", "zstd", "xz"}

// Strange gives the profile of a game whose worlds are files of one format.
func Strange(format string) string {
	read := fmt.Sprintf(`{read: "{file}", through: [%s], pick: /title}`, format)
	switch format {
	case "text-list":
		read = `{read: "{file}", through: [text], type: list, match: "(?P<value>a(?s:.*b)?)"}`
	case "zstd", "xz":
		read = fmt.Sprintf(`{read: "{file}", through: [%s, json], pick: /title}`, format)
	case "properties", "ini", "env":
		read = fmt.Sprintf(`{read: "{file}", through: [%s], pick: title}`, format)
		read = strings.Replace(read, "pick: title", "pick: /title", 1)
	}
	return fmt.Sprintf(`reshard: game/1
id: strange-%[1]s
title: Strange %[1]s
world:
  shape: file
  files: ["{name}.strange-%[1]s"]
  facts:
    title: %[2]s
server:
  kinds: {plain: {}}
  worlds: saves/
  settings: {main: {file: server.env, format: env}}
  keys: {active-world: [{in: main, key: WORLD}]}
  console: {ready: ready, stop: {say: stop}}
`, format, read)
}

func strange() []File {
	var out []File
	add := func(format string, documents ...document) {
		for _, d := range documents {
			out = append(out, File{Kind: World, Format: "strange-" + format, What: d.what, Make: d.data})
		}
	}
	add("yaml", yamlDocuments("title")...)
	add("toml", tomlDocuments("title")...)
	add("xml", xmlDocuments("title")...)
	add("msgpack", msgpackDocuments()...)
	add("properties", lazy("many-keys", func() string { return numbered("k%d=1\n", 4_000_000) }))
	add("ini", lazy("a-long-section-of-many", func() string {
		return "[" + rep("s", 2_000_000) + "]\n" + numbered("k%d=1\n", 2_000_000)
	}))
	add("env", lazy("many-lines", func() string { return rep("\n", 4_000_000) }))
	add("text-list", lazy("each-match-looks-to-the-end", func() string { return rep("a", 2*mega) }))
	add("zstd", document{"a-gigabyte", func() []byte { return zst(make([]byte, 1<<30)) }},
		document{"eight-million-zeros", func() []byte { return zst(jsonDocuments("title")[0].data()) }})
	add("xz", document{"a-window-of-a-gigabyte", func() []byte { return xzWindow(xzip([]byte("{}"), mega), 37) }},
		document{"256-MB", func() []byte { return xzip(make([]byte, 256*mega), mega) }})
	return out
}
