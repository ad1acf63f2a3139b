package fit_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/capability"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// situation is a world and a server that fit but for what a case changes.
func situation(t *testing.T) fit.Input {
	t.Helper()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	known := func(name, text string) fact.Fact { return fact.Fact{Name: name, Text: text, File: "heart.cbor.gz"} }
	mods := fact.Fact{Name: "mods", Type: "list", Items: []fact.Item{{Name: "rain-butts", Version: "0.9"}}}
	return fit.Input{
		Profile: p,
		World: world.Facts{
			Game: "quarrymoss", Title: "Fen Garden", Folder: "fen", Layout: "nested", Realms: []string{"caverns"},
			Files: 3, Bytes: 3000,
			Facts: map[string]fact.Fact{
				"seed":    known("seed", "-5"),
				"version": known("version", "2.5.1"),
				"family":  known("family", "moss"),
				"mods":    mods,
			},
		},
		Server: server.State{
			Game: "quarrymoss", Kind: "plain", Realms: "nested", WorldsFolder: "worlds",
			Version: known("version", "2.5.1"), Mods: mods, Active: "fen",
			Keys: map[string]server.Setting{
				"active-world": {
					Given: server.Given{
						Key:    "world.folder",
						Value:  "fen",
						In:     "main",
						File:   "quarry.properties",
						Line:   4,
						Writes: "name",
					},
					Found: true,
				},
				"seed": {
					Given: server.Given{Key: "world.seed", Value: "-5", In: "main", File: "quarry.properties", Line: 6},
					Found: true,
				},
			},
			Settings: []server.Document{{Name: "main", File: "quarry.properties", Format: "properties", Hash: "x"}},
			Worlds:   []server.Present{{Folder: "fen", Title: "Old Fen", Seed: "9"}}, Folders: []string{"fen"},
		},
		Live: fit.Live{
			State:          life.Stopped,
			FreeBytes:      1 << 40,
			SameFilesystem: true,
			Can:            capability.All(),
			Players:        -1,
		},
		Choices: fit.Choices{},
	}
}

// assertRow checks a row's verdict and what it says.
func assertRow(t *testing.T, sheet fit.Sheet, concern string, verdict fit.Verdict, words string) fit.Row {
	t.Helper()
	row, ok := sheet.Row(concern)
	require.True(t, ok)
	assert.Equal(t, verdict, row.Verdict, row.Say)
	assert.Contains(t, row.Say+" "+row.Mend, words)
	return row
}

func setting(in *fit.Input, key string, change func(*server.Setting)) {
	s := in.Server.Keys[key]
	change(&s)
	in.Server.Keys[key] = s
}

func resumeOff(s *server.Setting) {
	s.With = []server.Held{
		{
			Given: server.Given{Key: "/resume", File: "server.json", In: "main", Value: "false"},
			Want:  "true",
			Found: true,
		},
	}
}

func hidesOther(s *server.Setting) {
	s.Hides = []server.Given{{Key: "/load", File: "server.json", In: "main", Value: "bog", Line: 3, Writes: "name"}}
}

func neverStarted(in *fit.Input) {
	p := *in.Profile
	p.Server.FirstStart = []string{"saves/"}
	in.Profile, in.Server.NotYet = &p, []string{"saves/"}
}

// hosted makes the first player record that of who played alone.
func hosted(in *fit.Input) {
	p := *in.Profile
	p.World.Players = &game.Players{Each: "folk/{id}.json", ID: "hex", Host: "01"}
	in.Profile = &p
	in.World.Players = []world.Player{{ID: "01", Name: "Ada", Host: true}, {ID: "02", Name: "Bryn"}}
}

func overriding(in *fit.Input) {
	p := *in.Profile
	p.World.Overrides = []game.Override{{File: "rules", Says: "the rules"}}
	in.Profile, in.World.Overrides = &p, []string{"rules"}
}

func fails(why string) fact.Fact { return fact.Fact{Why: why} }

func listed(in *fit.Input, worlds string) {
	p := *in.Profile
	p.Server.Accepts = game.Accepts{Version: "listed", Versions: map[string][]string{"2.*": {worlds}}}
	in.Profile = &p
}

// hexNames gives the game a rule that only a parsed profile has.
func hexNames(t *testing.T, in *fit.Input) {
	t.Helper()
	source, err := games.Source("quarrymoss")
	require.NoError(t, err)
	text := strings.Replace(string(source), `folder-name: {allow: "A-Za-z0-9_-", longest: 48}`,
		`folder-name: {pattern: "[0-9A-F]{32}"}`, 1)
	in.Profile, err = game.Parse("hex", []byte(text))
	require.NoError(t, err)
}

func TestRules(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		change  func(in *fit.Input)
		concern string
		verdict fit.Verdict
		words   string
		choice  string // a choice that must be offered, key=answer
	}{
		{"all fits", func(*fit.Input) {}, "folder-name", fit.Fits, "exactly", ""},
		{
			"other game",
			func(in *fit.Input) { in.World.Game = "minetest" },
			"game",
			fit.Blocks,
			"the server runs quarrymoss",
			"",
		},
		{
			"other family",
			func(in *fit.Input) { in.Server.Kind = "mossling" },
			"game",
			fit.Blocks,
			"does not read the family",
			"",
		},
		{
			"family unknown",
			func(in *fit.Input) { in.World.Facts["family"] = fails("damaged") },
			"game",
			fit.Choose,
			"could not be read",
			"game=go-on",
		},
		{
			"one capital",
			func(in *fit.Input) { in.World.Folder = "Fen" },
			"folder-name",
			fit.Adjust,
			"differ by a capital",
			"",
		},
		{"a blank at the end", func(in *fit.Input) {
			setting(in, "active-world", func(s *server.Setting) { s.Value = "fen " })
			in.Server.Active, in.Server.Folders, in.Server.Worlds = "fen ", []string{"fen "}, nil
		}, "folder-name", fit.Adjust, "a blank at an end", ""},
		{"composed characters", func(in *fit.Input) {
			p := *in.Profile
			p.World.FolderName = game.FolderName{}
			in.Profile = &p
			in.World.Folder, in.Server.Active, in.Server.Folders = "caf\u00e9", "cafe\u0301", []string{"cafe\u0301"}
			setting(in, "active-world", func(s *server.Setting) { s.Value = "cafe\u0301" })
		}, "folder-name", fit.Adjust, "composed of other characters", ""},
		{"waits for a name", func(in *fit.Input) { in.World.Folder = "a b" }, "folder-name", fit.Fits, "Waits", ""},
		{"setting points elsewhere", func(in *fit.Input) {
			in.Live.Roots = []string{"/srv/north"}
			setting(in, "active-world", func(s *server.Setting) { s.Writes, s.Value = "path", "/var/games/worlds/fen" })
		}, "folder-name", fit.Blocks, "outside the server's worlds folder", ""},
		{"setting points there by its whole path", func(in *fit.Input) {
			in.Live.Roots = []string{"/srv/north"}
			setting(in, "active-world", func(s *server.Setting) { s.Writes, s.Value = "path", "/srv/north/worlds/fen" })
		}, "folder-name", fit.Fits, "exactly", ""},
		{
			"worlds folder unreadable",
			func(in *fit.Input) { in.Server.WorldsWhy = "path escapes" },
			"folder-name",
			fit.Blocks,
			"cannot be used",
			"",
		},
		{"setting absent", func(in *fit.Input) {
			setting(in, "active-world", func(s *server.Setting) { s.Found, s.Value = false, "" })
		}, "folder-name", fit.Adjust, "Write world.folder=fen", ""},
		{
			"name taken",
			func(in *fit.Input) { in.Server.Active, in.Server.Folders = "other", []string{"fen", "other"} },
			"folder-name",
			fit.Choose,
			"already has",
			"folder-name=fen-2",
		},
		{
			"name taken, replace offered",
			func(in *fit.Input) { in.Server.Active, in.Server.Folders = "other", []string{"fen", "other"} },
			"folder-name",
			fit.Choose,
			"already",
			"replace=yes",
		},
		{"name taken, replaced", func(in *fit.Input) {
			in.Server.Active, in.Server.Folders = "other", []string{"fen", "other"}
			in.Choices["replace"] = "yes"
		}, "folder-name", fit.Fits, "exactly", ""},
		{
			"emoji",
			func(in *fit.Input) { in.World.Folder = "Orchard 🍎" },
			"characters",
			fit.Choose,
			"does not allow",
			"folder-name=Orchard",
		},
		{
			"too long",
			func(in *fit.Input) { in.World.Folder = strings.Repeat("a", 60) },
			"characters",
			fit.Choose,
			"longer",
			"folder-name=" + strings.Repeat("a", 48),
		},
		{
			"chosen name is bad too",
			func(in *fit.Input) { in.Choices["folder-name"] = "a b" },
			"characters",
			fit.Choose,
			"a blank",
			"folder-name=a-b",
		},
		{
			"chosen name is empty",
			func(in *fit.Input) { in.World.Folder = " " },
			"characters",
			fit.Choose,
			"cannot be empty",
			"folder-name=world",
		},
		{
			"newer world",
			func(in *fit.Input) { in.World.Facts["version"] = fact.Fact{Name: "version", Text: "2.10.0"} },
			"version",
			fit.Blocks,
			"newer than the server's",
			"",
		},
		{
			"older world",
			func(in *fit.Input) { in.World.Facts["version"] = fact.Fact{Name: "version", Text: "2.4"} },
			"version",
			fit.Adjust,
			"upgrades the world for good",
			"",
		},
		{
			"version unknown",
			func(in *fit.Input) { in.Server.Version = fails("gone") },
			"version",
			fit.Choose,
			"server's version is not known",
			"version=go-on",
		},
		{
			"version declared",
			func(in *fit.Input) { in.Server.Version, in.Live.DeclaredVersion = fails("gone"), "2.5.1" },
			"version",
			fit.Fits,
			"same version",
			"",
		},
		{
			"version answered",
			func(in *fit.Input) { in.Server.Version = fails("gone"); in.Choices["version"] = "go-on" },
			"version",
			fit.Adjust,
			"not known",
			"",
		},
		{
			"realms elsewhere",
			func(in *fit.Input) { in.Server.Realms, in.Server.Kind = "split", "terrace" },
			"realms",
			fit.Adjust,
			"caverns as fen~caverns beside the world",
			"",
		},
		{
			"realms back inside",
			func(in *fit.Input) { in.World.Layout = "split" },
			"realms",
			fit.Adjust,
			"caverns as fen/realms/caverns",
			"",
		},
		{
			"realms of the name stand there",
			func(in *fit.Input) { in.Server.Folders = []string{"fen", "fen~aurora"} },
			"leftovers",
			fit.Adjust,
			"Set them aside",
			"",
		},
		{
			"one source beats another",
			func(in *fit.Input) { setting(in, "active-world", hidesOther) },
			"sources",
			fit.Adjust,
			"Write the same into both",
			"",
		},
		{"two sources say the same", func(in *fit.Input) {
			setting(in, "active-world", func(s *server.Setting) {
				s.Hides = []server.Given{{Key: "l", File: "f", In: "main", Value: "worlds/fen", Writes: "path"}}
			})
		}, "sources", fit.Fits, "say the same", ""},
		{"the worlds folder is moved", func(in *fit.Input) {
			in.Server.Redirected, in.Server.WorldsFolder = true, "other"
			in.Server.Keys["worlds-folder"] = server.Setting{
				Given: server.Given{In: "main", File: "go.sh", Key: "--dir", Value: "other"},
				Found: true,
			}
		}, "sources", fit.Fits, "moves the worlds folder to other/", ""},
		{"only the start command names it", func(in *fit.Input) {
			setting(in, "active-world", func(s *server.Setting) { s.In, s.Value = "command", "bog" })
		}, "folder-name", fit.Blocks, "Take world.folder out of", ""},
		{
			"nothing can be written",
			func(in *fit.Input) { in.Server.Keys["active-world"] = server.Setting{} },
			"folder-name",
			fit.Blocks,
			"only the start command",
			"",
		},
		{"the one name that is opened", func(in *fit.Input) {
			in.Server.Keys["active-world"] = server.Setting{
				Given:   server.Given{Value: "save"},
				Default: true,
				Fixed:   true,
			}
		}, "folder-name", fit.Adjust, "under the name “save”", ""},
		{
			"no name of the game's form",
			func(in *fit.Input) { hexNames(t, in) },
			"characters",
			fit.Blocks,
			"wants names of the form",
			"",
		},
		{
			"a flag is off",
			func(in *fit.Input) { setting(in, "active-world", resumeOff) },
			"flags",
			fit.Adjust,
			"Write /resume=true into server.json",
			"",
		},
		{"a file beats the server", overriding, "overrides", fit.Choose, "rules decides the rules", "overrides=leave"},
		{
			"and is left behind",
			func(in *fit.Input) { overriding(in); in.Choices["overrides"] = "leave" },
			"overrides",
			fit.Adjust,
			"leave them behind",
			"",
		},
		{"the host's record", hosted, "players", fit.Choose, "finds an empty character", "players=strip"},
		{
			"the host's record, stripped",
			func(in *fit.Input) { hosted(in); in.Choices["players"] = "strip" },
			"players",
			fit.Adjust,
			"everybody starts anew",
			"",
		},
		{
			"records without a host",
			func(in *fit.Input) { in.World.Players = []world.Player{{ID: "1"}} },
			"players",
			fit.Fits,
			"1 record is carried",
			"",
		},
		{"records left behind", func(in *fit.Input) {
			in.World.Players, in.Choices["players"] = []world.Player{{ID: "1"}}, "strip"
		}, "players", fit.Adjust, "leave them behind", ""},
		{
			"a part is missing",
			func(in *fit.Input) { in.World.Missing = []string{"ground/"} },
			"completeness",
			fit.Choose,
			"lacks it",
			"completeness=go-on",
		},
		{"a file is damaged", func(in *fit.Input) {
			in.World.Facts["title"] = fact.Fact{Name: "title", Why: "x: its checksum is off", Damaged: true}
		}, "completeness", fit.Choose, "its checksum is off (so title cannot be read)", "completeness=go-on"},
		{
			"wrappers are told",
			func(in *fit.Input) { in.World.Wrappers = []string{"from Ada", "saves"} },
			"completeness",
			fit.Fits,
			"inside of from Ada/saves",
			"",
		},
		{
			"sent while open",
			func(in *fit.Input) { in.World.Locks = []string{"held.lock"} },
			"locks",
			fit.Choose,
			"last minutes may be missing",
			"locks=go-on",
		},
		{"never started", neverStarted, "first-start", fit.Choose, "never been started", "first-start=make"},
		{
			"an edit that cannot be made",
			func(in *fit.Input) { in.Unwritable = []string{"f: no"} },
			"settings",
			fit.Blocks,
			"cannot be: f: no",
			"",
		},
		{
			"a file marked read-only",
			func(in *fit.Input) { in.Server.Settings[0].ReadOnly = true },
			"settings",
			fit.Fits,
			"marked read-only",
			"",
		},
		{
			"another system's file is there",
			func(in *fit.Input) { in.Server.Settings[0].Others = []string{"w.ini"} },
			"settings",
			fit.Fits,
			"w.ini is there as well",
			"",
		},
		{"the same bits without a sign", func(in *fit.Input) {
			setting(in, "seed", func(s *server.Setting) { s.Value = "18446744073709551611" })
		}, "seed", fit.Fits, "the same number", ""},
		{
			"a seed in words",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "marrow" }) },
			"seed",
			fit.Adjust,
			"a seed in words",
			"",
		},
		{
			"version from the log",
			func(in *fit.Input) { in.Server.Version, in.Live.ConsoleVersion = fails("gone"), "2.5.1" },
			"version",
			fit.Fits,
			"same version",
			"",
		},
		{
			"version in the list",
			func(in *fit.Input) { listed(in, "2.5.*") },
			"version",
			fit.Fits,
			"opens worlds of",
			"",
		},
		{"version not in the list", func(in *fit.Input) { listed(in, "1.*") }, "version", fit.Blocks, "opens 1.*", ""},
		{
			"no list for this server",
			func(in *fit.Input) { listed(in, "x"); in.Server.Version.Text = "9" },
			"version",
			fit.Choose,
			"does not list",
			"version=go-on",
		},
		{"realms mixed", func(in *fit.Input) { in.World.Layout = "mixed" }, "realms", fit.Blocks, "leftover", ""},
		{
			"no realms",
			func(in *fit.Input) { in.World.Layout, in.World.Realms = "", nil },
			"realms",
			fit.Fits,
			"no realms yet",
			"",
		},
		{
			"other seed",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "7" }) },
			"seed",
			fit.Adjust,
			"Write world.seed=-5",
			"",
		},
		{
			"seed unknown",
			func(in *fit.Input) { in.World.Facts["seed"] = fails("damaged") },
			"seed",
			fit.Choose,
			"could not be read",
			"seed=go-on",
		},
		{
			"seed left open",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "" }) },
			"seed",
			fit.Fits,
			"leave the seed open",
			"",
		},
		{
			"mod missing",
			func(in *fit.Input) { in.Server.Mods.Items = nil },
			"mods",
			fit.Choose,
			"lacks rain-butts 0.9",
			"mods=go-on",
		},
		{
			"mod in another version",
			func(in *fit.Input) { in.Server.Mods.Items = []fact.Item{{Name: "rain-butts", Version: "1.0"}} },
			"mods",
			fit.Choose,
			"world 0.9, server 1.0",
			"mods=go-on",
		},
		{"mod extra", func(in *fit.Input) {
			in.Server.Mods.Items = append([]fact.Item{{Name: "sheds"}}, in.Server.Mods.Items...)
		}, "mods", fit.Fits, "beside it sheds", ""},
		{
			"mods unreadable",
			func(in *fit.Input) { in.Server.Mods = fails("no server.json") },
			"mods",
			fit.Choose,
			"cannot be compared",
			"mods=go-on",
		},
		{
			"settings unreadable",
			func(in *fit.Input) { in.Server.Settings[0].Why = "there is no quarry.properties" },
			"settings",
			fit.Blocks,
			"there is no",
			"",
		},
		{
			"key repeated",
			func(in *fit.Input) { setting(in, "active-world", func(s *server.Setting) { s.Repeats = []int{2} }) },
			"settings",
			fit.Fits,
			"line 4, the last",
			"",
		},
		{"running", func(in *fit.Input) { in.Live.State = life.Running }, "running", fit.Adjust, "stop it cleanly", ""},
		{"starting", func(in *fit.Input) { in.Live.State = life.Starting }, "running", fit.Blocks, "starting", ""},
		{"unknown", func(in *fit.Input) {
			in.Live.State, in.Live.Cause = life.Unknown, "its host does not answer"
		}, "running", fit.Blocks, "It cannot be told whether the server runs: its host does not answer", ""},
		{"somebody else is there", func(in *fit.Input) {
			in.Live.Working = []string{"quarry (process 7), which works in this folder"}
		}, "processes", fit.Choose, "quarry (process 7)", "processes=go-on"},
		{"somebody else may go on", func(in *fit.Input) {
			in.Live.Working, in.Choices["processes"] = []string{"rsync (process 7)"}, "go-on"
		}, "processes", fit.Adjust, "nothing to do with the worlds", ""},
		{"a shell is there", func(in *fit.Input) {
			in.Live.Passing = []string{"bash (process 8), which works in this folder"}
		}, "processes", fit.Fits, "somebody's shell: bash (process 8)", ""},
		{
			"some cannot be seen",
			func(in *fit.Input) { in.Live.Hidden = 3 },
			"processes",
			fit.Fits,
			"3 processes of other accounts could not be looked into",
			"",
		},
		{
			"none can be seen",
			func(in *fit.Input) { in.Live.Unseen = "no answer" },
			"processes",
			fit.Fits,
			"cannot be seen: no answer",
			"",
		},
		{"owner not known", func(in *fit.Input) {}, "owner", fit.Fits, "not known", ""},
		{
			"owner is kept",
			func(in *fit.Input) { in.Live.Owner, in.Live.OwnerKept = "7:7", true },
			"owner",
			fit.Fits,
			"whom the worlds there belong to",
			"",
		},
		{
			"owner is not kept",
			func(in *fit.Input) { in.Live.Owner = "7:7" },
			"owner",
			fit.Choose,
			"not to 7:7",
			"owner=go-on",
		},
		{
			"a host without sync",
			func(in *fit.Input) { in.Live.Can.Sync = false },
			"host",
			fit.Fits,
			"A power cut on the host",
			"",
		},
		{
			"a host with coarse times",
			func(in *fit.Input) { in.Live.Can.TimePrecision = time.Minute },
			"host",
			fit.Fits,
			"Times are kept to 1m0s only",
			"",
		},
		{
			"a host that cannot rename folders",
			func(in *fit.Input) {
				in.Live.Can.RenameFolders, in.Live.RoundTrip, in.World.Files = false, 50*time.Millisecond, 300
			},
			"host",
			fit.Fits,
			"this world's 300 files that is about 45s",
			"",
		},
		{
			"a host that renames nothing",
			func(in *fit.Input) { in.Live.Can.RenameFolders, in.Live.Can.NoRename = false, true },
			"host",
			fit.Blocks,
			"The host renames nothing",
			"",
		},
		{"no room", func(in *fit.Input) { in.Live.FreeBytes = 5000 }, "space", fit.Blocks, "to spare", ""},
		{"room unknown", func(in *fit.Input) { in.Live.FreeBytes = -1 }, "space", fit.Fits, "does not tell", ""},
		{
			"other file system",
			func(in *fit.Input) { in.Live.SameFilesystem = false },
			"space",
			fit.Blocks,
			"another file system",
			"",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			in := situation(t)
			c.change(&in)
			sheet := fit.Compare(in)
			row := assertRow(t, sheet, c.concern, c.verdict, c.words)
			takesItsAnswers(t, sheet)
			if c.choice != "" {
				var offered []string
				for _, o := range row.Options {
					offered = append(offered, o.Choice+"="+o.Answer)
				}
				assert.Contains(t, offered, c.choice)
			}
		})
	}
}

// takesItsAnswers shows that a sheet takes every answer that it offers.
func takesItsAnswers(t *testing.T, sheet fit.Sheet) {
	t.Helper()
	for _, r := range sheet.Rows {
		for _, o := range r.Options {
			assert.NoError(t, sheet.Check(fit.Choices{o.Choice: o.Answer}))
		}
	}
}

// A choice that there is not, or an answer that its row does not offer, is refused with those that there are.
func TestChoicesThatTheSheetDoesNotOffer(t *testing.T) {
	t.Parallel()
	in := situation(t)
	sheet := fit.Compare(in)
	for choice, c := range map[string]struct {
		answer, says, next string
	}{
		"nonsense": {"1", "there is no such choice", "players, "},
		"players":  {"stripp", `"stripp" is not one of its answers`, "players=keep, players=strip"},
		"locks":    {"yes", "is not one of its answers", "locks=go-on"},
	} {
		err := sheet.Check(fit.Choices{"title": "My own words", choice: c.answer})
		what, next := fault.Words(err)
		assert.ErrorIs(t, err, fault.Invalid.As(), choice)
		assert.Contains(t, what, c.says)
		assert.Contains(t, next, c.next)
	}
	assert.NoError(t, sheet.Check(fit.Choices{"folder-name": "anything", "players": "strip", "seed": "a word"}))
	assert.NoError(t, sheet.Check(nil))
}

// Every verdict must come with words, and every one that is not "fits" with what
// would mend it; every rule stands in a file of its own and in the docs.
func TestEveryRuleHasWordsAndAFile(t *testing.T) {
	t.Parallel()
	guide, err := os.ReadFile("../../../docs/fit-sheet.md")
	require.NoError(t, err)
	declared := map[string]bool{}
	files, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".go") || strings.HasSuffix(f.Name(), "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), f.Name(), nil, 0)
		require.NoError(t, err)
		rules := 0
		ast.Inspect(file, func(n ast.Node) bool {
			if spec, ok := n.(*ast.ValueSpec); ok && strings.HasSuffix(spec.Names[0].Name, "Rule") {
				rules++
				declared[spec.Names[0].Name] = true
			}
			return true
		})
		assert.LessOrEqual(t, rules, 1, f.Name())
	}
	listed := map[string]bool{}
	for _, r := range append(append([]fit.Rule{}, fit.Rules...), fit.ServerRules...) {
		listed[r.Concern] = true
	}
	for _, r := range fit.ResetRules {
		listed[r.Concern] = true
	}
	over := situation(t)
	over.Purpose = fit.ForSwitch
	for _, r := range fit.Compare(over).Rows {
		listed[r.Concern] = true
	}
	assert.Len(t, declared, len(
		listed)+
		1, "of the seed there are two, for a world and for a new one; else a rule is declared and not in a list")
	for _, r := range fit.Compare(situation(t)).Rows {
		assert.NotEmpty(t, r.Title)
		assert.NotEmpty(t, r.Say, r.Concern)
	}
	for _, r := range slices.Concat(fit.Rules, fit.ServerRules, fit.ResetRules) {
		assert.True(t, strings.Contains(string(guide), "`"+r.Concern+"`"),
			"docs/fit-sheet.md does not tell of "+r.Concern)
	}
}

func TestServerAlone(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		change  func(in *fit.Input)
		concern string
		verdict fit.Verdict
		words   string
	}{
		{"all is well", func(*fit.Input) {}, "active-world", fit.Fits, "exactly that name"},
		{
			"one capital",
			func(in *fit.Input) { in.Server.Active, in.World = "Fen", world.Facts{} },
			"active-world",
			fit.Blocks,
			"they differ by a capital",
		},
		{"a typing error", func(in *fit.Input) {
			in.Server.Active, in.World, in.Server.Worlds = "wintre-beds", world.Facts{}, []server.Present{
				{Folder: "winter-beds"},
			}
		}, "active-world", fit.Blocks, "they differ by a letter or two"},
		{
			"no such world",
			func(in *fit.Input) { in.Server.Active, in.World = "gone", world.Facts{} },
			"active-world",
			fit.Blocks,
			"make an empty one",
		},
		{"a folder that is no world", func(in *fit.Input) {
			in.Server.Active, in.Server.Folders, in.World = "notes", []string{"fen", "notes"}, world.Facts{}
		}, "active-world", fit.Blocks, "no world of this game"},
		{
			"no setting",
			func(in *fit.Input) { setting(in, "active-world", func(s *server.Setting) { s.Found = false }) },
			"active-world",
			fit.Blocks,
			"name no world",
		},
		{"points elsewhere", func(in *fit.Input) {
			setting(in, "active-world", func(s *server.Setting) { s.Writes, s.Value = "path", "/x/fen" })
		}, "active-world", fit.Blocks, "outside"},
		{
			"worlds unreadable",
			func(in *fit.Input) { in.Server.WorldsWhy = "denied" },
			"active-world",
			fit.Blocks,
			"cannot be used",
		},
		{
			"realms elsewhere",
			func(in *fit.Input) { in.Server.Realms, in.Server.Kind = "split", "terrace" },
			"realms",
			fit.Blocks,
			"Put the world again",
		},
		{
			"a flag is off",
			func(in *fit.Input) { setting(in, "active-world", resumeOff) },
			"flags",
			fit.Blocks,
			"starts afresh",
		},
		{
			"a lock of a stopped server",
			func(in *fit.Input) { in.Server.Worlds[0].Locks = []string{"held.lock"} },
			"locks",
			fit.Choose,
			"not clean",
		},
		{"a lock of a running server", func(in *fit.Input) {
			in.Server.Worlds[0].Locks, in.Live.State = []string{"held.lock"}, life.Running
		}, "locks", fit.Fits, "as it should"},
		{
			"one source beats another",
			func(in *fit.Input) { setting(in, "active-world", hidesOther) },
			"sources",
			fit.Choose,
			"beats",
		},
		{"never started", func(in *fit.Input) { neverStarted(in) }, "first-start", fit.Blocks, "never been started"},
		{"exited", func(in *fit.Input) { in.Live.Exited = true }, "state", fit.Blocks, "exited on its own"},
		{"starting", func(in *fit.Input) { in.Live.State = life.Starting }, "state", fit.Adjust, "not ready yet"},
		{
			"leftover realms",
			func(in *fit.Input) { in.Server.Folders = []string{"fen", "fen~caverns", "old~aurora"} },
			"leftovers",
			fit.Choose,
			"old~aurora",
		},
		{
			"no leftovers",
			func(in *fit.Input) { in.Server.Folders = []string{"fen", "fen~caverns"} },
			"leftovers",
			fit.Fits,
			"No realm folders",
		},
		{
			"a seed left behind",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "7" }) },
			"seed",
			fit.Adjust,
			"later reset",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			in := situation(t)
			c.change(&in)
			assertRow(t, fit.Check(in), c.concern, c.verdict, c.words)
		})
	}
}

func TestWhatIsAmissOnAServerAlone(t *testing.T) {
	t.Parallel()
	in := situation(t)
	in.Server.Active = in.Server.Worlds[0].Folder
	_, found := fit.Amiss(in)
	assert.False(t, found, "what only adjusts, or locks and processes, is nothing that somebody must look at")
	in.World.Missing = []string{"heart.cbor.gz"}
	in.Live.State = life.Running
	_, found = fit.Amiss(in)
	assert.False(t, found, "a game that runs may not have written all of it yet")
	in.Live.State = life.Stopped
	row, found := fit.Amiss(in)
	require.True(t, found)
	assert.Equal(t, "completeness", row.Concern)
	in.Server.Active = "gone"
	in.World = world.Facts{}
	row, found = fit.Amiss(in)
	require.True(t, found)
	assert.Equal(t, fit.Blocks, row.Verdict)
	assert.Contains(t, row.Say, "gone")
}

func TestCompareVersions(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"2.4.0", "2.4.0", 0}, {"2.4", "2.4.0", 0}, {"2.10.0", "2.9.9", 1}, {"1.9", "2.0", -1},
		{"2.0.0-beta", "2.0.0", -1}, {"2.0.0", "2.0.0-rc1", 1}, {"a", "b", -1},
	} {
		assert.Equal(t, c.want, fit.CompareVersions(c.a, c.b), c.a+" "+c.b)
	}
}
