package plan_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"github.com/vmihailenco/msgpack/v5"

	"reshard/internal/core/capability"
	"reshard/internal/core/fact"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
)

// tidewrack is the sixth game: a profile and files that exist only in this test.
func tidewrack(t *testing.T, old, with string) *game.Profile {
	t.Helper()
	data, err := os.ReadFile("testdata/tidewrack.yaml")
	require.NoError(t, err)
	text := string(data)
	if old != "" {
		require.Contains(t, text, old)
		text = strings.Replace(text, old, with, 1)
	}
	p, err := game.Parse("tidewrack.yaml", []byte(text))
	require.NoError(t, err)
	return p
}

var (
	hostID = bytes.Repeat([]byte{0xff}, 16)
	adaID  = append(bytes.Repeat([]byte{0x11}, 15), 0x22)
)

func wrackFile(t *testing.T, title string, seed int64) []byte {
	t.Helper()
	inside, err := msgpack.Marshal(map[string]any{
		"title": title, "seed": seed, "uid": adaID, "when": int64(1763672100), "depth": float32(2.5), "hard": true,
		"plugins": []any{map[string]any{"n": "buoys", "v": "3"}},
		"crew":    []any{map[string]any{"id": hostID, "name": "Ada"}, map[string]any{"id": adaID, "name": "Bryn"}},
		"owner":   hostID,
	})
	require.NoError(t, err)
	var xzed bytes.Buffer
	w, err := xz.NewWriter(&xzed)
	require.NoError(t, err)
	_, err = w.Write(inside)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	head := []byte("WRK1\x00\x07........")[:12]
	return append(head, enc.EncodeAll(xzed.Bytes(), nil)...)
}

func utf16le(text string) string {
	var b bytes.Buffer
	for _, u := range utf16.Encode([]rune(text)) {
		_ = binary.Write(&b, binary.LittleEndian, u)
	}
	return b.String()
}

// wrackServer writes a server and a world of a person's own, and gives their roots.
func wrackServer(t *testing.T) (root, own string) {
	t.Helper()
	root, own = filepath.Join(t.TempDir(), "server"), filepath.Join(t.TempDir(), "own")
	files := map[string]string{
		"conf/tide.toml":     "[drift]\r\nopen = 'tide.wrack' # which\r\nport = 1\r\n",
		"conf/extra.yaml":    "# more\ndrift: {continue: no}\nmotto: \"Mind the weed\"\n",
		"conf/tide.cfg":      utf16le("// lines\r\nset fresh 1\r\ninclude more/seed.cfg\r\n"),
		"conf/more/seed.cfg": utf16le("set seed \"-3\"\r\n"),
		"start.bat": "@echo off\r\nrem -drift no\r\ntidewrack.exe -port 4 ^\r\n -drift \"old " +
			"one.wrack\"\r\n",
		"tide.env":                "export DRIFT='data/drift/tide.wrack'\n",
		"plugins.xml":             `<plugins><plugin id="nets" version="1"/><plugin id="buoys" version="3"/></plugins>`,
		"data/drift/tide.wrack":   string(wrackFile(t, "Old Tide", 9)),
		"data/drift/notes.txt":    "not a world",
		"data/drift/fake.wrack":   "no magic here",
		"data/drift/b.wrack.bak":  string(wrackFile(t, "Backup", 1)),
		"data/drift/deep/x.wrack": "",
	}
	for name, data := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(data), 0o644))
	}
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(own, "kelp.wrack"), wrackFile(t, "Kelp Sound", -5), 0o644))
	return root, own
}

func TestSixthGameWorld(t *testing.T) {
	t.Parallel()
	p := tidewrack(t, "", "")
	_, own := wrackServer(t)
	w, found, err := world.Inspect(os.DirFS(own), ".", "x", "", []*game.Profile{p})
	require.NoError(t, err)
	assert.Equal(t, "kelp", w.Folder)
	assert.Equal(t, []string{"kelp.wrack"}, w.Members)
	assert.Contains(t, w.Why, "hex=57524b31")
	for name, want := range map[string]string{
		"title": "Kelp Sound", "seed": "-5", "world-id": "11111111-1111-1111-1111-111111111122",
		"last-played": "2025-11-20T20:55:00Z", "depth": "2.5", "hard": "true", "version": "7",
	} {
		assert.Equal(t, want, w.Fact(name).Text, name+": "+w.Fact(name).Why)
	}
	assert.Equal(t, "buoys", w.Fact("mods").Items[0].Name)
	require.Len(t, w.Players, 2)
	hosts := 0
	for _, pl := range w.Players {
		if pl.Host {
			hosts++
			assert.Equal(t, "Ada", pl.Name)
		}
	}
	assert.Equal(t, 1, hosts)
	refs, warnings := world.References(os.DirFS(own), found, w.Players)
	assert.Empty(t, warnings)
	assert.Contains(t, refs, world.Reference{
		File:  "kelp.wrack",
		Place: "bytes",
		ID:    strings.Repeat("ff", 16),
		Count: 2,
	})
	id, ok := p.World.Players.ServerID("ada@example")
	assert.True(t, ok)
	assert.True(t, game.ValidID("uuid", id))
	assert.Equal(t, byte('5'), id[14], "a UUID of version 5")
}

func TestSixthGameServer(t *testing.T) {
	t.Parallel()
	p := tidewrack(t, "", "")
	root, own := wrackServer(t)
	machine := server.Machine{Kind: "buoy", System: "linux", Roots: []string{root}}
	s, err := server.Read(os.DirFS(root), p, machine)
	require.NoError(t, err)
	active := s.Keys["active-world"]
	assert.Equal(t, "old one", s.Active, "a launch argument, named with its ending")
	require.Len(t, active.Hides, 2)
	assert.Equal(t, "-3", s.Keys["seed"].Value, "from the file that is taken in")
	assert.Equal(t, "conf/more/seed.cfg", s.Keys["seed"].File)
	assert.Equal(t, "Mind the weed", s.Keys["motto"].Value)
	assert.Equal(t, []string{"b.wrack.bak", "fake.wrack", "tide.wrack"}, s.Folders)
	require.Len(t, s.Worlds, 2, "a file without the magic is no world")
	assert.Equal(t, []fact.Item{{Name: "buoys", Version: "3"}, {Name: "nets", Version: "1"}}, s.Mods.Items)

	w, _, err := world.Inspect(os.DirFS(own), ".", "x", "", []*game.Profile{p})
	require.NoError(t, err)
	in := fit.Input{
		Profile: p,
		World:   w,
		Server:  s,
		Choices: fit.Choices{"players": "keep"},
		Live: fit.Live{
			State:           life.Running,
			DeclaredVersion: "7",
			FreeBytes:       -1,
			SameFilesystem:  true,
			Can:             capability.All(),
			Roots:           machine.Roots,
		},
	}
	docs := documents(t, os.DirFS(root), p, machine)
	in.Unwritable = docs.Unwritable(in, nil)
	sheet := fit.Compare(in)
	draft, err := plan.DraftPut(plan.Input{
		Kind:      plan.Put,
		Fit:       in,
		Sheet:     sheet,
		Server:    "sound",
		Copy:      "c",
		Parts:     []string{""},
		Work:      "data/.reshard/1",
		Documents: docs,
	})
	require.NoError(t, err)
	assert.Contains(t, brief(draft), "| move data/.reshard/1/staged/kelp.wrack > data/drift/kelp.wrack")
	got := map[string]string{}
	for _, step := range draft.Steps {
		if step.Kind != plan.Write {
			continue
		}
		before, err := os.ReadFile(filepath.Join(root, step.File))
		require.NoError(t, err)
		after, err := plan.Apply(step.File, step.Syntax, before, step.Edits)
		require.NoError(t, err)
		got[step.File] = string(after)
	}
	assert.Equal(t, map[string]string{
		"start.bat":          "@echo off\r\nrem -drift no\r\ntidewrack.exe -port 4 ^\r\n -drift \"kelp.wrack\"\r\n",
		"tide.env":           "export DRIFT='data/drift/kelp.wrack'\n",
		"conf/tide.toml":     "[drift]\r\nopen = 'kelp.wrack' # which\r\nport = 1\r\n",
		"conf/more/seed.cfg": utf16le("set seed \"-5\"\r\n"),
	}, got)
}

// The other sources in turn: each takes over when those before it are gone, down to
// the one name that the game takes by itself.
func TestSixthGameSourcesInTurn(t *testing.T) {
	t.Parallel()
	root, _ := wrackServer(t)
	p := tidewrack(t, "", "")
	read := func(m server.Machine) server.State {
		m.Kind, m.Roots = "buoy", []string{root}
		s, err := server.Read(os.DirFS(root), p, m)
		require.NoError(t, err)
		return s
	}
	s := read(server.Machine{Command: []string{"tidewrack", "--drift=bay"}})
	assert.Equal(t, "bay", s.Active)
	assert.Equal(t, game.InCommand, s.Keys["active-world"].In)
	require.NoError(t, os.WriteFile(filepath.Join(root, "start.bat"), []byte("tidewrack.exe -data other/place\r\n"),
		0o644))
	s = read(server.Machine{})
	assert.Equal(t, "tide", s.Active, "named by its path")
	assert.Equal(t, "tide.env", s.Keys["active-world"].File)
	assert.Equal(t, "other/place", s.WorldsFolder)
	assert.True(t, s.Redirected)
	require.NoError(t, os.WriteFile(filepath.Join(root, "tide.env"), []byte("X=1\n"), 0o644))
	s = read(server.Machine{})
	with := s.Keys["active-world"].With
	require.Len(t, with, 2)
	assert.False(t, with[0].OK(), "the flag is off")
	require.NoError(t, os.Remove(filepath.Join(root, "conf/tide.toml")))
	s = read(server.Machine{})
	assert.True(t, s.Keys["active-world"].Default)
	assert.Equal(t, "tide", s.Active)
	assert.False(t, s.Keys["active-world"].Fixed)
	require.NoError(t, os.WriteFile(filepath.Join(root, "conf/tide-win.toml"), []byte("[drift]\nopen = 'w.wrack'\n"),
		0o644))
	assert.Equal(t, "w", read(server.Machine{}).Active, "only the other system's file is there")
}

// A server that always opens one name: placing is renaming.
func TestAFixedName(t *testing.T) {
	t.Parallel()
	p := tidewrack(t, "      - {in: command, key: --drift}\n      - {in: launch, key: -drift, writes: file}\n      - "+
		"{in: env, key: DRIFT, writes: path}\n      - {in: main, key: /drift/open, writes: file, with: [{in: extra, "+
		"key: /drift/continue, value: \"yes\"}, {in: lines, key: fresh, value: \"0\"}]}\n", "")
	root, own := wrackServer(t)
	s, err := server.Read(os.DirFS(root), p, server.Machine{Kind: "buoy"})
	require.NoError(t, err)
	require.True(t, s.Keys["active-world"].Fixed)
	w, _, err := world.Inspect(os.DirFS(own), ".", "x", "", []*game.Profile{p})
	require.NoError(t, err)
	in := fit.Input{
		Profile: p,
		World:   w,
		Server:  s,
		Choices: fit.Choices{"players": "keep"},
		Live: fit.Live{
			State:           life.Stopped,
			DeclaredVersion: "7",
			FreeBytes:       -1,
			SameFilesystem:  true,
			Can:             capability.All(),
		},
	}
	draft, err := plan.DraftPut(plan.Input{
		Kind:      plan.Put,
		Fit:       in,
		Sheet:     fit.Compare(in),
		Server:    "sound",
		Copy:      "c",
		Parts:     []string{""},
		Work:      "data/.reshard/1",
		Documents: documents(t, os.DirFS(root), p, server.Machine{Kind: "buoy"}),
	})
	require.NoError(t, err)
	assert.Equal(t, "tide", draft.Folder)
	assert.Equal(t, []string{"data/drift/tide.wrack"}, draft.SetAside)
	assert.Contains(t, brief(draft), "| move data/.reshard/1/staged/tide.wrack > data/drift/tide.wrack")
	for _, step := range draft.Steps {
		if step.Kind == plan.Write {
			assert.NotContains(t, step.Say, "drift", "nothing names the world")
		}
	}
}

// Where the server always opens one name, a switch exchanges names, and its undo gives
// them back; a rename is refused.
func TestSwitchOfAFixedName(t *testing.T) {
	t.Parallel()
	p := tidewrack(t, "      - {in: command, key: --drift}\n      - {in: launch, key: -drift, writes: file}\n      - "+
		"{in: env, key: DRIFT, writes: path}\n      - {in: main, key: /drift/open, writes: file, with: [{in: extra, "+
		"key: /drift/continue, value: \"yes\"}, {in: lines, key: fresh, value: \"0\"}]}\n", "")
	root, _ := wrackServer(t)
	tree := os.DirFS(root)
	s, err := server.Read(tree, p, server.Machine{Kind: "buoy"})
	require.NoError(t, err)
	found, err := world.Direct(tree, s.WorldsFolder, p)
	require.NoError(t, err)
	var other world.Facts
	for _, f := range found {
		if f.Folder != "tide" {
			other, err = world.Read(tree, f)
			require.NoError(t, err)
		}
	}
	live := fit.Live{
		State:           life.Running,
		DeclaredVersion: "7",
		FreeBytes:       -1,
		SameFilesystem:  true,
		Can:             capability.All(),
	}
	in := fit.Input{
		Profile: p,
		World:   other,
		Server:  s,
		Purpose: fit.ForSwitch,
		Live:    live,
		Choices: fit.Choices{"completeness": "go-on", "version": "go-on", "seed": "go-on", "mods": "go-on"},
	}
	draft, err := plan.DraftSwitch(plan.Input{
		Fit:       in,
		Sheet:     fit.Compare(in),
		Server:    "sound",
		Work:      "data/.reshard/1",
		Documents: documents(t, tree, p, server.Machine{Kind: "buoy"}),
	})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(brief(draft), " "),
		"| move data/drift/tide.wrack > data/drift/tide-2.wrack | move data/drift/b.wrack.bak > "+
			"data/drift/tide.wrack.bak")
	assert.Empty(t, draft.SetAside)
	for _, step := range draft.Steps {
		if step.Kind == plan.Move {
			require.NoError(t, os.Rename(filepath.Join(root, step.From), filepath.Join(root, step.To)))
		}
	}
	now, err := server.Read(tree, p, server.Machine{Kind: "buoy"})
	require.NoError(t, err)
	undo, err := plan.DraftUndo(plan.UndoInput{
		Of:        draft,
		ID:        1,
		Profile:   p,
		State:     now,
		Live:      live,
		Server:    "sound",
		Work:      "data/.reshard/2",
		Tree:      tree,
		Documents: documents(t, tree, p, server.Machine{Kind: "buoy"}),
	})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(brief(undo), " "),
		"| move data/drift/tide.wrack.bak > data/drift/b.wrack.bak | move data/drift/tide-2.wrack > "+
			"data/drift/tide.wrack")
	require.NoError(t, os.Remove(filepath.Join(root, "data/drift/tide-2.wrack")))
	_, err = plan.DraftUndo(plan.UndoInput{
		Of:        draft,
		ID:        1,
		Profile:   p,
		State:     now,
		Live:      live,
		Server:    "sound",
		Work:      "data/.reshard/2",
		Tree:      tree,
		Documents: documents(t, tree, p, server.Machine{Kind: "buoy"}),
	})
	assert.ErrorContains(t, err, "is no longer there")

	in.Purpose, in.Choices = fit.ForRename, fit.Choices{"folder-name": "ebb"}
	row, _ := fit.Compare(in).Row("folder-name")
	assert.Equal(t, fit.Blocks, row.Verdict)
	in.Purpose, in.Choices = fit.ForReset, fit.Choices{"folder-name": "ebb"}
	row, _ = fit.Compare(in).Row("new-world")
	assert.Equal(t, fit.Blocks, row.Verdict, "a new world cannot have another name: %s", row.Say)
}

func TestSixthGameStores(t *testing.T) {
	t.Parallel()
	p := tidewrack(t, "", "")
	vars := map[string]string{"USERPROFILE": `C:\Users\ada`, "XDG_DATA_HOME": "/home/ada/.data"}
	get := func(name string) string { return vars[name] }
	assert.Equal(t, []string{"C:/Users/ada/Tidewrack/*/*"}, p.Stores("windows", "", get),
		"a variable that is not set leaves its place out")
	assert.Equal(t, []string{"/Users/ada/Tidewrack/*/*"}, p.Stores("macos", "/Users/ada", get))
	assert.Equal(t, []string{"/home/ada/.data/tidewrack/*", "/home/ada/.tidewrack/*"},
		p.Stores("linux", "/home/ada", get))
}

// Files that take in each other, or reach out of the server, are told and not read.
func TestIncludesAreBounded(t *testing.T) {
	t.Parallel()
	root, _ := wrackServer(t)
	p := tidewrack(t, "", "")
	for text, why := range map[string]string{
		"include seed.cfg\n":            "more than 4 deep",
		"include ../../../etc/passwd\n": "outside of the server's folder",
		"include none.cfg\n":            "there is no",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(root, "conf/more/seed.cfg"), []byte(utf16le(text)), 0o644))
		s, err := server.Read(os.DirFS(root), p, server.Machine{Kind: "buoy"})
		require.NoError(t, err)
		for _, d := range s.Settings {
			if d.Name == "lines" {
				assert.True(t, strings.Contains(d.Why, why) || strings.Contains(d.Why, "no such file"), d.Why)
				assert.False(t, d.Absent)
			}
		}
	}
	_, err := settings.Parse("f", settings.Syntax{Format: "lines", Line: "set {key} {value}", Encoding: "utf-16le"},
		[]byte("odd"))
	assert.Error(t, err)
}
