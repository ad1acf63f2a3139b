package local_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/archive/archivetest"
	"reshard/internal/core/fault"
	"reshard/internal/local"
)

// Refresh the golden file with: go test ./internal/local -update
var update = flag.Bool("update", false, "write golden files anew")

type (
	file  = archivetest.File
	files = []archivetest.File
)

// arrival is something that comes in: a file of that name, or a folder.
type arrival struct {
	name   string
	data   []byte
	folder files
	root   string
}

// trees makes the worlds that arrive.
type trees struct{ t *testing.T }

func (m trees) quarry(folder string, o quarrymoss.Options) files {
	m.t.Helper()
	dir := m.t.TempDir()
	if o.Title == "" {
		o.Title = "Fen Garden"
	}
	o.Seed, o.Tiles = -471, 4
	require.NoError(m.t, quarrymoss.Make(filepath.Join(dir, "w"), o))
	out := archivetest.Read(m.t, filepath.Join(dir, "w"), folder)
	for _, realm := range o.Realms {
		if beside := filepath.Join(dir, "w~"+realm); o.Split {
			out = append(out, archivetest.Read(m.t, beside, strings.TrimSuffix(folder, "/")+"~"+realm+"/")...)
		}
	}
	return out
}

func (m trees) salt(below string, o saltmarch.Options) files {
	m.t.Helper()
	dir := m.t.TempDir()
	_, err := saltmarch.Make(dir, o)
	require.NoError(m.t, err)
	return archivetest.Read(m.t, dir, below)
}

func (m trees) ember(name string, checkpoints int) files {
	m.t.Helper()
	dir := m.t.TempDir()
	require.NoError(m.t, emberlode.Make(dir, name, emberlode.Save{Expedition: "The " + name, Seed: 7}, checkpoints))
	return archivetest.Read(m.t, dir, "")
}

func with(list files, more ...file) files { return append(append(files{}, list...), more...) }

func without(list files, name string) (out files) {
	for _, f := range list {
		if path.Base(f.Name) != name {
			out = append(out, f)
		}
	}
	return out
}

func changed(list files, name string, change func([]byte) []byte) files {
	out := append(files{}, list...)
	for i, f := range out {
		if path.Base(f.Name) == name {
			out[i].Content = change(bytes.Clone(f.Content))
		}
	}
	return out
}

func below(list files, folder string) (out files) {
	for _, f := range list {
		f.Name = folder + f.Name
		out = append(out, f)
	}
	return out
}

func half(b []byte) []byte { return b[:len(b)/2] }
func flip(b []byte) []byte { b[len(b)/2] ^= 0x40; return b }

// arrivals are what people send: good, unusual, broken and hostile.
func arrivals(t *testing.T) map[string]arrival { //nolint:funlen // a table
	m := trees{t}
	fen := m.quarry("fen/", quarrymoss.Options{Folk: []string{"Ada", "Oke"}})
	zipped := func(list files) []byte { return archivetest.Zip(t, list, nil) }
	tarred := archivetest.Tar(t, fen)
	salt := saltmarch.Options{Name: "Reed House", Seed: 9, Host: "Ada", Folk: []string{"Oke"}}
	note := file{Name: "readme.txt", Content: []byte("take this one")}
	nested := m.quarry("fen/", quarrymoss.Options{Realms: []string{"caverns", "aurora"}})
	split := m.quarry("fen/", quarrymoss.Options{Realms: []string{"caverns"}, Split: true})
	minetest := files{
		{Name: "shed/world.mt", Content: []byte("gameid = minetest\nworld_name = The Shed\nbackend = sqlite3\n")},
		{Name: "shed/map_meta.txt", Content: []byte("seed = 12345\n[end_of_params]\n")},
		{Name: "shed/map.sqlite", Content: []byte("SQLite format 3\x00")},
	}
	return map[string]arrival{
		// what every packer makes of the same world
		"folder": {name: "fen", folder: fen},
		"zip":    {name: "fen.zip", data: zipped(fen)},
		"zip, stored": {
			name: "fen.zip",
			data: archivetest.Zip(t, fen, func(h *zip.FileHeader) { h.Method = zip.Store }),
		},
		"zip, names not in UTF-8": {
			name: "fen.zip",
			data: archivetest.Zip(t, below(fen, "G\x84rten/"), func(h *zip.FileHeader) { h.NonUTF8 = true }),
		},
		"zip, folders listed": {
			name: "fen.zip",
			data: zipped(with(files{{Name: "fen/"}, {Name: "fen/ground/"}}, fen...)),
		},
		"tar":                 {name: "fen.tar", data: tarred},
		"tar, begins with ./": {name: "fen.tar", data: archivetest.Tar(t, below(fen, "./"))},
		"tar.gz":              {name: "fen.tar.gz", data: archivetest.Gzip(t, tarred)},
		"tar.xz":              {name: "fen.tar.xz", data: archivetest.Xz(t, tarred)},
		"tar.zst":             {name: "fen.tar.zst", data: archivetest.Zstd(t, tarred)},
		"tar.bz2":             {name: "fen.tar.bz2", data: archivetest.Tool(t, fen, "tar", "-cjf", "OUT", "fen")},
		"7z":                  {name: "fen.7z", data: archivetest.Tool(t, fen, "7z", "a", "-t7z", "OUT", "fen")},
		"7z, not solid, deflate": {
			name: "fen.7z",
			data: archivetest.Tool(t, fen, "7z", "a", "-t7z", "-ms=off", "-m0=Deflate", "OUT", "fen"),
		},
		"zip of another packer": {name: "fen.zip", data: archivetest.Tool(t, fen, "7z", "a", "-tzip", "OUT", "fen")},
		"rar":                   {name: "fen.rar", data: archivetest.Rar(with(files{{Name: "fen/"}}, fen...))},
		"known by content":      {name: "fen.zip", data: archivetest.Xz(t, tarred)},
		"without an ending":     {name: "download", data: zipped(fen)},
		"zip in zip": {
			name: "backup.zip",
			data: zipped(files{{Name: "inner/fen.zip", Content: zipped(fen)}}),
		},
		"7z in zip": {
			name: "backup.zip",
			data: zipped(files{{Name: "fen.7z", Content: archivetest.Tool(t, fen, "7z", "a", "-t7z", "OUT", "fen")}}),
		},
		"zip in zip in zip": {
			name: "backup.zip",
			data: zipped(files{{Name: "a.zip", Content: zipped(files{{Name: "b.zip", Content: zipped(fen)}})}}),
		},

		// where the world stands
		"world at the top": {name: "Fen of Ada.zip", data: zipped(m.quarry("", quarrymoss.Options{}))},
		"one wrapper":      {name: "x.zip", data: zipped(below(fen, "saves/"))},
		"four wrappers":    {name: "x.zip", data: zipped(below(fen, "home/ada/quarry/saves/"))},
		"notes beside":     {name: "x.zip", data: zipped(with(fen, note))},
		"stray folders beside": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "screens/1.png", Content: []byte("x")},
				file{Name: "logs/a.log", Content: []byte("x")})),
		},
		"resource forks": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "__MACOSX/fen/._heart.cbor.gz", Content: []byte("x")},
				file{Name: "fen/.DS_Store", Content: []byte("x")})),
		},
		"two worlds": {
			name: "x.zip",
			data: zipped(with(fen, m.quarry("moor/", quarrymoss.Options{Title: "Moor"})...)),
		},
		"two worlds, one chosen": {
			name: "x.zip",
			root: "moor",
			data: zipped(with(fen, m.quarry("moor/", quarrymoss.Options{Title: "Moor"})...)),
		},
		"two worlds, a third chosen": {
			name: "x.zip",
			root: "heath",
			data: zipped(with(fen, m.quarry("moor/", quarrymoss.Options{Title: "Moor"})...)),
		},
		"worlds of two games": {name: "x.zip", data: zipped(with(fen, m.salt("", salt)...))},
		"realms inside":       {name: "x.zip", data: zipped(nested)},
		"realms beside":       {name: "x.zip", data: zipped(split)},
		"realms inside and beside": {
			name: "x.zip",
			data: zipped(with(nested, below(files{{Name: "c.0.0.qt", Content: []byte("x")}}, "fen~caverns/")...)),
		},
		"realms beside, below a wrapper": {name: "x.zip", data: zipped(below(split, "worlds/"))},
		"realm folder without its world": {
			name: "x.zip",
			data: zipped(below(files{{Name: "c.0.0.qt", Content: []byte("x")}}, "fen~caverns/")),
		},
		"the packed export":              {name: "fen.qworld", data: zipped(m.quarry("", quarrymoss.Options{}))},
		"the packed export, called zip":  {name: "fen.zip", data: zipped(m.quarry("", quarrymoss.Options{}))},
		"a zip called the packed export": {name: "fen.qworld", data: zipped(below(fen, "deep/"))},
		"folder, from within":            {name: "fen", folder: m.quarry("", quarrymoss.Options{})},
		"folder of worlds": {
			name:   "worlds",
			folder: with(below(fen, "worlds/"), m.quarry("worlds/moor/", quarrymoss.Options{Title: "Moor"})...),
		},

		// names
		"a blank at the end":  {name: "x.zip", data: zipped(m.quarry("fen /", quarrymoss.Options{}))},
		"a name nobody sees":  {name: "x.zip", data: zipped(m.quarry("fen\u200b/", quarrymoss.Options{}))},
		"a title with blanks": {name: "x.zip", data: zipped(m.quarry("f/", quarrymoss.Options{Title: " Fen "}))},
		"decomposed letters": {
			name: "x.zip",
			data: zipped(m.quarry("Ga\u0308rten/", quarrymoss.Options{Title: "Gärten"})),
		},
		"names for devices": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "fen/notes/aux.txt", Content: []byte("x")},
				file{Name: "fen/notes/why?.txt", Content: []byte("x")})),
		},
		"names that are one": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "fen/Notes/a", Content: []byte("x")},
				file{Name: "fen/notes/a", Content: []byte("y")})),
		},
		"backslashes": {name: "x.zip", data: zipped(files{{Name: `fen\heart.cbor.gz`, Content: []byte("x")}})},

		// what is wrong with it
		"open in the game": {name: "x.zip", data: zipped(with(fen, file{Name: "fen/held.lock", Content: []byte("1")}))},
		"a part is missing": {name: "x.zip", data: zipped(func() (out files) {
			for _, f := range fen {
				if !strings.Contains(f.Name, "ground/") {
					out = append(out, f)
				}
			}
			return out
		}())},
		"the mark is missing":   {name: "x.zip", data: zipped(without(fen, "heart.cbor.gz"))},
		"the mark is cut short": {name: "x.zip", data: zipped(changed(fen, "heart.cbor.gz", half))},
		"the mark is damaged":   {name: "x.zip", data: zipped(changed(fen, "heart.cbor.gz", flip))},
		"the mark is empty": {
			name: "x.zip",
			data: zipped(changed(fen, "heart.cbor.gz", func([]byte) []byte { return nil })),
		},
		"a player is damaged": {
			name: "x.zip",
			data: zipped(with(fen, file{
				Name:    "fen/folk/0b0c2f2e-9d7c-4a55-8a3e-2f1f4b0f9a11.json",
				Content: []byte("{"),
			})),
		},

		// other games
		"saltmarch":                     {name: "reed.zip", data: zipped(m.salt("", salt))},
		"saltmarch, the account folder": {name: "saves.zip", data: zipped(m.salt("4d2a9f00aa/", salt))},
		"saltmarch, two worlds": {
			name: "saves.zip",
			data: zipped(with(m.salt("acc/", salt),
				m.salt("acc/", saltmarch.Options{Name: "Mud House", Seed: 3, Host: "Ada"})...)),
		},
		"saltmarch, with rules": {
			name: "reed.zip",
			data: zipped(m.salt("", saltmarch.Options{Name: "Reed House", Seed: 9, Host: "Ada", Rules: "spring"})),
		},
		"saltmarch, damaged":   {name: "reed.zip", data: zipped(changed(m.salt("", salt), "Level.smw", flip))},
		"saltmarch, cut short": {name: "reed.zip", data: zipped(changed(m.salt("", salt), "Level.smw", half))},
		"emberlode, a session": {name: "e.zip", data: zipped(m.ember("frostfall", 3))},
		"emberlode, two sessions": {
			name: "e.zip",
			data: zipped(with(m.ember("frostfall", 2), m.ember("kettle", 1)...)),
		},
		"emberlode, one chosen": {
			name: "e.zip",
			root: "kettle",
			data: zipped(with(m.ember("frostfall", 2), m.ember("kettle", 1)...)),
		},
		"emberlode, its one file": {name: "frostfall.002.ember", data: m.ember("frostfall", 2)[1].Content},
		"emberlode, the last is cut": {
			name: "e.zip",
			data: zipped(changed(m.ember("frostfall", 3), "frostfall.003.ember", half)),
		},
		"minetest":                  {name: "m.zip", data: zipped(minetest)},
		"minetest, from its folder": {name: "m.tar", data: archivetest.Tar(t, below(minetest, "worlds/"))},
		"minetest, without its map": {name: "m.zip", data: zipped(without(minetest, "map.sqlite"))},
		"openttd": {
			name: "Tollen Rail.sav",
			data: append([]byte("OTTN\x01\x2c\x00\x00"), make([]byte, 64)...),
		},
		"openttd, not a save": {name: "Tollen Rail.sav", data: []byte("GIF89a")},

		// what is no archive, or not whole
		"nothing":       {name: "fen.zip", data: []byte{}},
		"an error page": {name: "fen.zip", data: []byte("<!doctype html><title>404 Not Found</title>")},
		"pictures": {
			name: "pictures.zip",
			data: zipped(files{{Name: "1.png", Content: []byte("x")}, {Name: "2.png", Content: []byte("y")}}),
		},
		"an empty folder":   {name: "empty", folder: files{{Name: "empty/.keep"}}},
		"zip cut short":     {name: "fen.zip", data: half(zipped(fen))},
		"tar cut short":     {name: "fen.tar", data: half(tarred)},
		"tar.gz cut short":  {name: "fen.tar.gz", data: half(archivetest.Gzip(t, tarred))},
		"tar.zst cut short": {name: "fen.tar.zst", data: half(archivetest.Zstd(t, tarred))},
		"7z cut short":      {name: "fen.7z", data: half(archivetest.Tool(t, fen, "7z", "a", "-t7z", "OUT", "fen"))},
		"rar cut short":     {name: "fen.rar", data: half(archivetest.Rar(fen))},
		"rar, a byte wrong": {name: "fen.rar", data: flip(archivetest.Rar(fen))},
		"zip with a password": {
			name: "fen.zip",
			data: archivetest.Tool(t, fen, "7z", "a", "-tzip", "-psecret", "OUT", "fen"),
		},
		"7z with a password": {
			name: "fen.7z",
			data: archivetest.Tool(t, fen, "7z", "a", "-t7z", "-psecret", "OUT", "fen"),
		},
		"7z, names locked": {
			name: "fen.7z",
			data: archivetest.Tool(t, fen, "7z", "a", "-t7z", "-psecret", "-mhe=on", "OUT", "fen"),
		},
		"rar with a password": {
			name: "fen.rar",
			data: archivetest.Rar(files{{Name: "fen/a", Content: []byte("x"), Locked: true}}),
		},
		"zip by a rare method": {
			name: "fen.zip",
			data: archivetest.Tool(t, fen, "7z", "a", "-tzip", "-mm=LZMA", "OUT", "fen"),
		},

		// what wants to do harm
		"zip leaves its folder": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "../../etc/cron.d/x", Content: []byte("x")})),
		},
		"tar leaves its folder": {
			name: "x.tar",
			data: archivetest.Tar(t, with(fen, file{Name: "fen/../../x", Content: []byte("x")})),
		},
		"rar leaves its folder": {
			name: "x.rar",
			data: archivetest.Rar(with(fen, file{Name: "../x", Content: []byte("x")})),
		},
		"zip, absolute": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "/etc/passwd", Content: []byte("x")})),
		},
		"zip, a drive": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "C:/Windows/x", Content: []byte("x")})),
		},
		"zip, a link": {name: "x.zip", data: zipped(with(fen, file{Name: "fen/l", Link: "/etc/passwd"}))},
		"tar, a link": {
			name: "x.tar",
			data: archivetest.Tar(
				t, with(fen, file{Name: "fen/l", Link: "/etc"}, file{Name: "fen/l/passwd", Content: []byte("x")})),
		},
		"tar, a hard link": {
			name: "x.tar",
			data: archivetest.Tar(t, with(fen, file{Name: "fen/l", Hard: "../../secret"})),
		},
		"rar, a link":      {name: "x.rar", data: archivetest.Rar(with(fen, file{Name: "fen/l", Link: "/etc/passwd"}))},
		"rar, a hard link": {name: "x.rar", data: archivetest.Rar(with(fen, file{Name: "fen/l", Hard: "/etc/passwd"}))},
		"7z, a link": {
			name: "x.7z",
			data: archivetest.Tool(t, with(fen, file{Name: "fen/l", Link: "/etc/passwd"}), "7z", "a", "-t7z", "-snl",
				"OUT", "fen"),
		},
		"folder with a link": {name: "fen", folder: with(fen, file{Name: "fen/l", Link: "/etc/passwd"})},
		"the same name twice": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "fen/heart.cbor.gz", Content: []byte("x")})),
		},
		"a file and a folder": {
			name: "x.rar",
			data: archivetest.Rar(with(fen, file{Name: "fen/ground", Content: []byte("x")})),
		},
		"a name without end": {
			name: "x.rar",
			data: archivetest.Rar(with(fen, file{Name: "fen/" + strings.Repeat("n", 300), Content: []byte("x")})),
		},
		"a path without end": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "fen/" + strings.Repeat("deep/", 300) + "x", Content: []byte("x")})),
		},
		"control characters": {
			name: "x.zip",
			data: zipped(with(fen, file{Name: "fen/\x1b[2Jx", Content: []byte("x")})),
		},
	}
}

// Every arrival has its outcome: what it was recognised as, where its root is, which
// warnings; or why it is refused. The golden file is read by people when it changes.
func TestArrivals(t *testing.T) {
	t.Parallel()
	outcomes := map[string]any{}
	for name, a := range arrivals(t) {
		outcomes[name] = outcome(t, a)
	}
	assert.GreaterOrEqual(t, len(outcomes), 60)
	got, err := json.MarshalIndent(outcomes, "", " ")
	require.NoError(t, err)
	golden := filepath.Join("testdata", "arrivals.json")
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(golden, append(got, '\n'), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(got))
}

func outcome(t *testing.T, a arrival) map[string]any {
	t.Helper()
	dir := t.TempDir()
	at := filepath.Join(dir, a.name)
	if a.folder == nil {
		require.NoError(t, os.WriteFile(at, a.data, 0o644))
	}
	for _, f := range a.folder {
		p := filepath.Join(dir, filepath.FromSlash(f.Name))
		if !strings.HasPrefix(f.Name, a.name+"/") {
			p = filepath.Join(at, filepath.FromSlash(f.Name))
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		if f.Link != "" {
			require.NoError(t, os.Symlink(f.Link, p))
			continue
		}
		require.NoError(t, os.WriteFile(p, f.Content, 0o644))
	}
	w, err := local.Open(at, a.root, games.All())
	if err != nil {
		var e *fault.Error
		require.True(t, errors.As(err, &e), err)
		out := map[string]any{"refused": string(fault.CodeOf(err)), "why": strings.ReplaceAll(err.Error(), dir+"/", "")}
		if options := fault.Options(err); len(options) > 0 {
			out["options"] = options
		}
		return out
	}
	defer w.Close()
	out := map[string]any{
		"game":   w.World.Game,
		"title":  w.World.Title,
		"folder": w.World.Folder,
		"root":   w.World.Root,
		"files":  fmt.Sprintf("%d of %d bytes", w.World.Files, w.World.Bytes),
	}
	for key, list := range map[string][]string{
		"warnings": w.World.Warnings,
		"ignored":  w.Ignored,
		"wrappers": w.World.Wrappers,
		"realms":   w.World.Realms,
		"members":  w.World.Members,
		"missing":  w.World.Missing,
	} {
		if len(list) > 0 {
			out[key] = list
		}
	}
	return out
}
