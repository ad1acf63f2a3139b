package fit_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/core/capability"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

var update = flag.Bool("update", false, "write the golden files")

// stage is a server's folder and a world on disk, which a case changes before they
// are read and compared.
type stage struct {
	t       *testing.T
	game    string
	root    string // the server's
	own     string // the folder that holds the world to be put
	world   string // its path in own
	machine server.Machine
	live    fit.Live
	choices fit.Choices
	alone   bool
}

func (s *stage) write(name, text string) {
	s.t.Helper()
	file := filepath.Join(s.root, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(s.t, os.WriteFile(file, []byte(text), 0o644))
}

func (s *stage) remove(name string) {
	s.t.Helper()
	require.NoError(s.t, os.RemoveAll(filepath.Join(s.root, name)))
}

// replace changes text in a file of the server.
func (s *stage) replace(name, old, with string) {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.root, name))
	require.NoError(s.t, err)
	require.Contains(s.t, string(data), old)
	s.write(name, strings.Replace(string(data), old, with, 1))
}

// bring makes the world that is to be put.
func (s *stage) bring(o quarrymoss.Options, folder string) {
	s.t.Helper()
	require.NoError(s.t, os.MkdirAll(s.own, 0o755))
	require.NoError(s.t, quarrymoss.Make(filepath.Join(s.own, folder), o))
	s.world = folder
}

func newStage(t *testing.T, gameID string) *stage {
	t.Helper()
	dir := t.TempDir()
	s := &stage{
		t: t, game: gameID, root: filepath.Join(dir, "server"), own: filepath.Join(dir, "own"), choices: fit.Choices{},
		live: fit.Live{
			State:          life.Running,
			FreeBytes:      1 << 40,
			SameFilesystem: true,
			Can:            capability.All(),
			Owner:          "1000:1000",
			OwnerKept:      true,
			Players:        -1,
		},
	}
	s.machine.Roots = []string{s.root}
	switch gameID {
	case "quarrymoss":
		mods := []quarrymoss.Mod{{Name: "rain-butts", Version: "0.9"}}
		s.machine.Kind = "plain"
		require.NoError(t, quarrymoss.MakeServer(s.root, quarrymoss.Config{Version: "2.5.1", Kind: "plain", Mods: mods},
			"winter", 7, 7000))
		require.NoError(t, quarrymoss.Make(filepath.Join(s.root, "worlds", "winter"),
			quarrymoss.Options{Title: "Winter Beds", Seed: 7, Version: "2.5.1", Tiles: 1}))
	case "saltmarch":
		s.machine.Kind = "marsh"
		require.NoError(t, saltmarch.MakeServer(s.root, "1.3.2", "eels.smm"))
		name, err := saltmarch.Make(filepath.Join(s.root, saltmarch.WorldsFolder),
			saltmarch.Options{Name: "Old Quay", Seed: 5})
		require.NoError(t, err)
		require.NoError(t, saltmarch.WriteSettings(s.root, name, 7000))
		s.world, err = saltmarch.Make(
			s.own, saltmarch.Options{
				Name: "Sedge Landing",
				Seed: -77,
				Folk: []string{"Bryn"},
				Mods: []string{"eels.smm"},
			})
		require.NoError(t, err)
	case "emberlode":
		s.machine.Kind = "camp"
		s.live.ConsoleVersion = "0.9.2"
		require.NoError(t, emberlode.MakeServer(s.root, "/opt/standin", "frostfall", true, 3, 7000, ""))
		require.NoError(t, emberlode.Make(filepath.Join(s.root, emberlode.SavesFolder), "frostfall",
			emberlode.Save{Expedition: "Frostfall", Seed: 3}, 1))
		require.NoError(t, emberlode.Make(s.own, "kettle",
			emberlode.Save{
				Expedition: "Kettle Moraine",
				Seed:       18446744073709551615,
				Party:      []emberlode.Member{{ID: 1001, Name: "Ada"}},
			}, 2))
		s.world = "kettle.002.ember"
	case "minetest":
		s.machine.Kind = "minetest"
		s.write("minetest.conf", "# the shed\nmap-dir = worlds/shed\nfixed_map_seed = 1954\nport = 30000\n")
		minetestWorld(t, filepath.Join(s.root, "worlds", "shed"), "Shed", "1954")
		minetestWorld(t, filepath.Join(s.own, "barn"), "Barn", "77")
		s.world = "barn"
	case "openttd":
		s.machine.Kind = "openttd"
		s.live.ConsoleVersion = "13.0"
		s.write("start.sh", "#!/bin/sh\nexec /usr/games/openttd -D 127.0.0.1:3979 -c openttd.cfg -g save/first.sav\n")
		s.write("save/first.sav", "OTTX\x01\x2e\x00\x00data")
		require.NoError(t, os.MkdirAll(s.own, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(s.own, "Valley Line.sav"), []byte("OTTX\x01\x2e\x00\x00other"),
			0o644))
		s.world = "Valley Line.sav"
	}
	return s
}

func minetestWorld(t *testing.T, dir, name, seed string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "worldmods", "sheds"), 0o755))
	for file, text := range map[string]string{
		"world.mt":     "gameid = minetest\nworld_name = " + name + "\n",
		"map_meta.txt": "seed = " + seed + "\n[end_of_params]\n", "map.sqlite": "x",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
	}
}

// input reads what there is, as the service does.
func (s *stage) input() fit.Input {
	s.t.Helper()
	p, err := games.Find(s.game)
	require.NoError(s.t, err)
	state, err := server.Read(os.DirFS(s.root), p, s.machine)
	require.NoError(s.t, err)
	s.live.Roots = s.machine.Roots
	in := fit.Input{Profile: p, Server: state, Live: s.live, Choices: s.choices}
	if s.alone {
		found, err := world.Direct(os.DirFS(s.root), state.WorldsFolder, p)
		if err == nil {
			for _, f := range found {
				if f.Folder == state.Active {
					in.World, err = world.Read(os.DirFS(s.root), f)
					require.NoError(s.t, err)
				}
			}
		}
		return in
	}
	in.World, _, err = world.Inspect(os.DirFS(s.own), s.world, s.world, "", []*game.Profile{p})
	require.NoError(s.t, err)
	heads, err := server.ReadHeads(os.DirFS(s.root), p, s.machine)
	require.NoError(s.t, err)
	in.Unwritable = plan.Documents(heads.Documents).Unwritable(in, nil)
	return in
}

// text writes a sheet so that a person can read the difference of two.
func text(s fit.Sheet, root string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s as %q\n", s.Verdict, s.Folder)
	for _, r := range s.Rows {
		if r.Idle {
			continue
		}
		fmt.Fprintf(&b, "\n%-6s %s\n", r.Verdict, r.Title)
		for _, c := range []struct {
			name string
			cell fit.Cell
		}{{"world", r.World}, {"settings", r.Settings}, {"server", r.Server}} {
			if c.cell.Text != "" {
				fmt.Fprintf(&b, "  %-9s %s", c.name, c.cell.Text)
				if c.cell.From != "" {
					fmt.Fprintf(&b, "  [%s]", c.cell.From)
				}
				b.WriteString("\n")
			}
		}
		fmt.Fprintf(&b, "  %s\n", r.Say)
		if r.Mend != "" {
			fmt.Fprintf(&b, "  > %s\n", r.Mend)
		}
		for _, todo := range r.Todo {
			fmt.Fprintf(&b, "  - %s\n", todo)
		}
		if r.Verdict == fit.Choose {
			for _, o := range r.Options {
				fmt.Fprintf(&b, "  ? %s=%s: %s\n", o.Choice, o.Answer, o.Say)
			}
		}
	}
	return strings.ReplaceAll(b.String(), root, "ROOT")
}

type goldenCase struct {
	game, name string
	verdict    fit.Verdict
	change     func(s *stage)
}

func TestGoldenSheets(t *testing.T) {
	t.Parallel()
	cases := goldenCases()
	require.GreaterOrEqual(t, len(cases), 40)
	seen := map[string]bool{}
	for _, c := range cases {
		name := c.game + "-" + strings.ReplaceAll(c.name, " ", "-")
		require.False(t, seen[name], name)
		seen[name] = true
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStage(t, c.game)
			c.change(s)
			in := s.input()
			sheet := fit.Compare(in)
			if s.alone {
				sheet = fit.Check(in)
			}
			assert.Equal(t, c.verdict, sheet.Verdict)
			takesItsAnswers(t, sheet)
			got := text(sheet, s.root)
			file := filepath.Join("testdata", "sheets", name+".txt")
			if *update {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
	t.Cleanup(func() {
		left, err := os.ReadDir(filepath.Join("testdata", "sheets"))
		require.NoError(t, err)
		assert.Len(t, left, len(cases), "a golden file without its case")
	})
}

func goldenCases() []goldenCase {
	moss := func(o quarrymoss.Options, folder string) func(*stage) {
		return func(s *stage) { s.bring(o, folder) }
	}
	fen := quarrymoss.Options{
		Title:   "Fen Garden",
		Seed:    -9,
		Version: "2.5.1",
		Tiles:   1,
		Folk:    []string{"Ada"},
		Mods:    []quarrymoss.Mod{{Name: "rain-butts", Version: "0.9"}},
	}
	with := func(change func(o *quarrymoss.Options)) quarrymoss.Options {
		o := fen
		change(&o)
		return o
	}
	q, m, e, n, o := "quarrymoss", "saltmarch", "emberlode", "minetest", "openttd"
	return []goldenCase{
		{q, "fits but for the name", fit.Adjust, moss(fen, "fen")},
		{q, "fits", fit.Fits, func(s *stage) {
			s.bring(with(func(o *quarrymoss.Options) { o.Seed = 7 }), "winter")
			s.live.State = life.Stopped
		}},
		{q, "one capital", fit.Adjust, moss(fen, "Winter")},
		{q, "blank at the end of the setting", fit.Choose, func(s *stage) {
			s.bring(fen, "winter")
			s.replace("quarry.properties", "world.folder=winter", "world.folder=winter ")
		}},
		{q, "name that is not allowed", fit.Choose, moss(fen, "Orchard 🍎 ")},
		{q, "name that is taken", fit.Choose, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, quarrymoss.Make(filepath.Join(s.root, "worlds", "fen"),
				quarrymoss.Options{Title: "Another", Tiles: 1}))
		}},
		{q, "newer world", fit.Blocks, moss(with(func(o *quarrymoss.Options) { o.Version = "2.6.0" }), "fen")},
		{q, "older world", fit.Adjust, moss(with(func(o *quarrymoss.Options) { o.Version = "2.4.0" }), "fen")},
		{q, "another family", fit.Blocks, func(s *stage) { s.bring(fen, "fen"); s.machine.Kind = "mossling" }},
		{q, "realms inside, server keeps them beside", fit.Adjust, func(s *stage) {
			s.bring(with(func(o *quarrymoss.Options) { o.Realms = []string{"caverns", "aurora"} }), "fen")
			s.machine.Kind = "terrace"
		}},
		{
			q,
			"realms beside, server keeps them inside",
			fit.Adjust,
			moss(with(func(o *quarrymoss.Options) { o.Realms, o.Split = []string{"caverns"}, true }), "fen"),
		},
		{q, "realms in both places", fit.Blocks, func(s *stage) {
			s.bring(with(func(o *quarrymoss.Options) { o.Realms = []string{"caverns"} }), "fen")
			require.NoError(s.t, os.Mkdir(filepath.Join(s.own, "fen~caverns"), 0o755))
		}},
		{q, "leftover realms of the name", fit.Adjust, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, os.Mkdir(filepath.Join(s.root, "worlds", "fen~caverns"), 0o755))
		}},
		{q, "mods missing and other", fit.Choose, moss(with(func(o *quarrymoss.Options) {
			o.Mods = []quarrymoss.Mod{{Name: "rain-butts", Version: "1.0"}, {Name: "sheds", Version: "2"}}
		}), "fen")},
		{q, "damaged heart", fit.Choose, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, os.Truncate(filepath.Join(s.own, "fen", "heart.cbor.gz"), 40))
		}},
		{q, "ground missing", fit.Choose, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, os.RemoveAll(filepath.Join(s.own, "fen", "ground")))
		}},
		{q, "sent while open", fit.Choose, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, os.WriteFile(filepath.Join(s.own, "fen", "held.lock"), nil, 0o644))
		}},
		{q, "no settings file", fit.Blocks, func(s *stage) { s.bring(fen, "fen"); s.remove("quarry.properties") }},
		{q, "key stands twice", fit.Adjust, func(s *stage) {
			s.bring(fen, "fen")
			s.replace("quarry.properties", "world.seed=7", "world.seed=7\nworld.folder=spare")
		}},
		{q, "file marked read-only", fit.Adjust, func(s *stage) {
			s.bring(fen, "fen")
			require.NoError(s.t, os.Chmod(filepath.Join(s.root, "quarry.properties"), 0o444))
		}},
		{q, "no space", fit.Blocks, func(s *stage) { s.bring(fen, "fen"); s.live.FreeBytes = 1 << 20 }},
		{q, "nine problems", fit.Blocks, func(s *stage) {
			s.bring(with(func(o *quarrymoss.Options) {
				o.Version, o.Mods = "2.6.0", []quarrymoss.Mod{{Name: "sheds", Version: "2"}}
			}), "Orchard 🍎 ")
			require.NoError(s.t, os.RemoveAll(filepath.Join(s.own, "Orchard 🍎 ", "ground")))
			require.NoError(s.t, os.WriteFile(filepath.Join(s.own, "Orchard 🍎 ", "held.lock"), nil, 0o644))
			s.live.FreeBytes, s.live.State = 1<<20, life.Starting
			s.replace("quarry.properties", "world.folder=winter", "world.folder=wintr")
		}},
		{q, "alone and well", fit.Fits, func(s *stage) { s.alone = true }},
		{q, "alone, the setting is off by a capital", fit.Blocks, func(s *stage) {
			s.alone = true
			s.replace("quarry.properties", "world.folder=winter", "world.folder=Winter")
		}},
		{q, "alone, a seed and realms left behind", fit.Choose, func(s *stage) {
			s.alone = true
			s.replace("quarry.properties", "world.seed=7", "world.seed=99")
			require.NoError(s.t, os.Mkdir(filepath.Join(s.root, "worlds", "old~aurora"), 0o755))
		}},

		{m, "fits but for the name", fit.Adjust, func(*stage) {}},
		{
			m,
			"the host's record",
			fit.Choose,
			func(s *stage) { s.salt(saltmarch.Options{Name: "Mine", Host: "Ada", Folk: []string{"Bryn"}}) },
		},
		{m, "the host's record, kept", fit.Adjust, func(s *stage) {
			s.salt(saltmarch.Options{Name: "Mine", Host: "Ada", Folk: []string{"Bryn"}, Mods: []string{"eels.smm"}})
			s.choices["players"] = "keep"
		}},
		{
			m,
			"rules of the world's own",
			fit.Choose,
			func(s *stage) { s.salt(saltmarch.Options{Name: "Mine", Rules: "9", Mods: []string{"eels.smm"}}) },
		},
		{
			m,
			"another minor version",
			fit.Blocks,
			func(s *stage) { s.salt(saltmarch.Options{Name: "Mine", Version: "1.4.0"}) },
		},
		{m, "damaged level", fit.Choose, func(s *stage) {
			file := filepath.Join(s.own, s.world, "Level.smw")
			data, err := os.ReadFile(file)
			require.NoError(s.t, err)
			data[len(data)-1] ^= 1
			require.NoError(s.t, os.WriteFile(file, data, 0o644))
		}},
		{m, "never started", fit.Choose, func(s *stage) { s.remove("Saved") }},
		{m, "settings of another system", fit.Adjust, func(s *stage) {
			s.write("Saved/Config/Windows/Marsh.ini", "[Host]\r\nWorld=elsewhere\r\n")
		}},
		{m, "settings of another system only", fit.Adjust, func(s *stage) {
			require.NoError(s.t, os.Rename(filepath.Join(s.root, "Saved/Config/Linux"),
				filepath.Join(s.root, "Saved/Config/Windows")))
		}},
		{m, "a name that is none of the game's", fit.Blocks, func(s *stage) {
			require.NoError(s.t, os.Rename(filepath.Join(s.own, s.world), filepath.Join(s.own, "my marsh")))
			s.world = "my marsh"
		}},

		{e, "fits but for the name", fit.Adjust, func(*stage) {}},
		{e, "the flag to resume is off", fit.Adjust, func(s *stage) { s.replace("server.json", "true", "false") }},
		{
			e,
			"a launch argument beats the file",
			fit.Adjust,
			func(s *stage) { s.replace("launch.sh", "serve .", "serve . --load bog") },
		},
		{
			e,
			"the save folder is moved",
			fit.Adjust,
			func(s *stage) { s.replace("launch.sh", "serve .", "serve . --saves elsewhere") },
		},
		{
			e,
			"the save folder is moved out",
			fit.Blocks,
			func(s *stage) { s.replace("launch.sh", "serve .", "serve . --saves /mnt/saves") },
		},
		{
			e,
			"the script works the name out",
			fit.Blocks,
			func(s *stage) { s.replace("launch.sh", "serve .", `serve . --load "$1"`) },
		},
		{e, "a name that the script would run", fit.Blocks, func(s *stage) {
			s.replace("launch.sh", "exec", "eval exec")
			s.replace("launch.sh", "serve .", "serve . --load frostfall")
			require.NoError(s.t, emberlode.Make(s.own, "kettle $(id)", emberlode.Save{Expedition: "Kettle"}, 1))
			s.world = "kettle $(id).001.ember"
		}},
		{e, "a format that the server does not open", fit.Blocks, func(s *stage) {
			require.NoError(s.t, emberlode.Make(s.own, "old", emberlode.Save{Emberlode: 2, Expedition: "Old"}, 1))
			s.world = "old.001.ember"
		}},
		{e, "no launch script", fit.Adjust, func(s *stage) { s.remove("launch.sh") }},
		{
			e,
			"alone, the flag is off",
			fit.Blocks,
			func(s *stage) { s.alone = true; s.replace("server.json", "true", "false") },
		},
		{e, "settings that do not read", fit.Blocks, func(s *stage) { s.write("server.json", "{ \"load\": ") }},

		{n, "fits but for the name", fit.Adjust, func(*stage) {}},
		{
			n,
			"the setting points outside",
			fit.Blocks,
			func(s *stage) { s.replace("minetest.conf", "worlds/shed", "/var/games/shed") },
		},
		{
			n,
			"the setting is absolute",
			fit.Adjust,
			func(s *stage) { s.replace("minetest.conf", "worlds/shed", s.root+"/worlds/shed") },
		},
		{n, "no setting", fit.Adjust, func(s *stage) { s.replace("minetest.conf", "map-dir", "# map-dir") }},
		{n, "another game's rules", fit.Blocks, func(s *stage) {
			file := filepath.Join(s.own, "barn", "world.mt")
			require.NoError(s.t, os.WriteFile(file, []byte("gameid = other\nworld_name = Barn\n"), 0o644))
		}},
		{n, "no seed and no map", fit.Choose, func(s *stage) {
			require.NoError(s.t, os.WriteFile(filepath.Join(s.own, "barn", "map_meta.txt"), nil, 0o644))
			require.NoError(s.t, os.Remove(filepath.Join(s.own, "barn", "map.sqlite")))
		}},
		{
			n,
			"alone, no such world",
			fit.Blocks,
			func(s *stage) { s.alone = true; s.replace("minetest.conf", "worlds/shed", "worlds/shd") },
		},

		{o, "fits but for the name", fit.Adjust, func(*stage) {}},
		{o, "a newer save format", fit.Blocks, func(s *stage) {
			require.NoError(s.t, os.WriteFile(filepath.Join(s.own, s.world), []byte("OTTX\x01\x38\x00\x00other"),
				0o644))
		}},
		{o, "the server's version is not known", fit.Choose, func(s *stage) { s.live.ConsoleVersion = "" }},
		{o, "the script names no save", fit.Adjust, func(s *stage) { s.replace("start.sh", " -g save/first.sav", "") }},
		{
			o,
			"a save of that name is there",
			fit.Choose,
			func(s *stage) { s.write("save/Valley Line.sav", "OTTZ\x01\x2e\x00\x00old") },
		},
		{o, "alone, the save is gone", fit.Blocks, func(s *stage) { s.alone = true; s.remove("save/first.sav") }},
	}
}

// salt brings another Saltmarch world.
func (s *stage) salt(o saltmarch.Options) {
	s.t.Helper()
	var err error
	s.world, err = saltmarch.Make(filepath.Join(s.own, "other"), o)
	require.NoError(s.t, err)
	s.own = filepath.Join(s.own, "other")
}
