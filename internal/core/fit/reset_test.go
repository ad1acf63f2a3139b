package fit_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
)

// The seed and the name of a new world: what is asked, what is adjusted, what cannot be.
func TestResetRules(t *testing.T) {
	t.Parallel()
	choose := func(k, v string) func(*fit.Input) { return func(in *fit.Input) { in.Choices[k] = v } }
	for _, c := range []struct {
		name    string
		change  func(in *fit.Input)
		concern string
		verdict fit.Verdict
		words   string
	}{
		{
			"the settings bring the old ground back",
			func(*fit.Input) {},
			"seed",
			fit.Choose,
			"would have the same ground",
		},
		{
			"the settings hold another",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "77" }) },
			"seed",
			fit.Fits,
			"the seed that the settings hold: 77",
		},
		{
			"the settings leave it open",
			func(in *fit.Input) { setting(in, "seed", func(s *server.Setting) { s.Value = "" }) },
			"seed",
			fit.Fits,
			"the server draws one",
		},
		{"a number", choose("seed", "-9000000000"), "seed", fit.Adjust, "the seed -9000000000"},
		{
			"as large as 64 bits without a sign",
			choose("seed", "18446744073709551615"),
			"seed",
			fit.Adjust,
			"the seed -1.",
		},
		{"words", choose("seed", "three marrows"), "seed", fit.Adjust, "a seed in words"},
		{"words that are an answer otherwise", choose("seed", "text:random"), "seed", fit.Adjust, "a seed in words"},
		{"the same", choose("seed", "same"), "seed", fit.Adjust, "the seed -5"},
		{
			"the same, and it is not known",
			func(in *fit.Input) { in.Choices["seed"] = "same"; delete(in.World.Facts, "seed") },
			"seed",
			fit.Blocks,
			"not known",
		},
		{"as set", choose("seed", "as-set"), "seed", fit.Adjust, "that the settings hold: -5"},
		{"random", choose("seed", "random"), "seed", fit.Adjust, "a random seed"},
		{
			"random, drawn",
			func(in *fit.Input) { in.Choices["seed"] = "random"; in.Drawn = "12" },
			"seed",
			fit.Adjust,
			"the seed 12",
		},
		{"words where only numbers are taken", func(in *fit.Input) {
			in.Choices["seed"] = "leeks"
			p := *in.Profile
			p.Server.Seeds = game.Seeds{Bits: 64}
			in.Profile = &p
		}, "seed", fit.Blocks, "whole numbers only"},
		{
			"no setting for a seed",
			func(in *fit.Input) { in.Choices["seed"] = "7"; delete(in.Server.Keys, "seed") },
			"seed",
			fit.Blocks,
			"no setting for a seed",
		},
		{
			"no setting, and none is asked",
			func(in *fit.Input) { delete(in.Server.Keys, "seed") },
			"seed",
			fit.Fits,
			"draws a seed of its own",
		},
		{"the start command holds it", func(in *fit.Input) {
			in.Choices["seed"] = "7"
			setting(in, "seed", func(s *server.Setting) { s.In = game.InCommand })
		}, "seed", fit.Blocks, "start command holds the seed"},

		{"the same name", func(*fit.Input) {}, "new-world", fit.Adjust, "leaves its place, and is kept"},
		{"another name", choose("folder-name", "spring"), "new-world", fit.Adjust, "stays where it is"},
		{"a taken name", func(in *fit.Input) {
			in.Choices["folder-name"] = "bog"
			in.Server.Folders = append(in.Server.Folders, "bog")
		}, "new-world", fit.Blocks, "is taken"},
		{
			"a name that is not allowed",
			choose("folder-name", "sp ring"),
			"characters",
			fit.Choose,
			"does not allow a blank",
		},
		{"a fixed name", func(in *fit.Input) {
			in.Choices["folder-name"] = "spring"
			setting(in, "active-world", func(s *server.Setting) { s.Fixed = true })
		}, "new-world", fit.Blocks, "always opens"},
		{
			"no world there",
			func(in *fit.Input) { in.Server.Worlds, in.Server.Folders = nil, nil },
			"new-world",
			fit.Adjust,
			"nothing is set aside",
		},
		{"named by the server, which writes back", func(in *fit.Input) {
			p := *in.Profile
			p.Server.NewWorld.Named = "own"
			in.Profile = &p
		}, "new-world", fit.Blocks, "writes its settings back"},
		{"only the start command names the world", func(in *fit.Input) {
			in.Choices["folder-name"] = "spring"
			setting(in, "active-world", func(s *server.Setting) { s.In = game.InCommand })
		}, "new-world", fit.Blocks, "start command says"},
		{"never started", neverStarted, "first-start", fit.Blocks, "never been started"},
		{"realms lie about", func(in *fit.Input) {
			in.Choices["folder-name"] = "spring"
			in.Server.Folders = append(in.Server.Folders, "spring~aurora")
		}, "leftovers", fit.Adjust, "spring~aurora"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			in := situation(t)
			in.Purpose = fit.ForReset
			c.change(&in)
			assertRow(t, fit.Compare(in), c.concern, c.verdict, c.words)
		})
	}
}

// A switch, a rename and a place beside ask only what can go wrong with them.
func TestOtherPurposes(t *testing.T) {
	t.Parallel()
	locked := func(in *fit.Input) { in.World.Locks = []string{"held.lock"} }
	for _, c := range []struct {
		name    string
		purpose fit.Purpose
		change  func(in *fit.Input)
		concern string
		verdict fit.Verdict
		words   string
	}{
		{
			"switch to the active one",
			fit.ForSwitch,
			func(*fit.Input) {},
			"folder-name",
			fit.Blocks,
			"name “fen” already",
		},
		{
			"switch to another",
			fit.ForSwitch,
			func(in *fit.Input) { in.World.Folder = "bog" },
			"folder-name",
			fit.Adjust,
			"Write world.folder=bog",
		},
		{
			"switch, one capital wrong",
			fit.ForSwitch,
			func(in *fit.Input) { in.World.Folder = "Fen" },
			"folder-name",
			fit.Adjust,
			"they differ by a capital",
		},
		{"switch to a locked one", fit.ForSwitch, locked, "locks", fit.Choose, "open already"},
		{"switch to a newer one", fit.ForSwitch, func(in *fit.Input) {
			in.World.Folder = "bog"
			f := in.World.Facts["version"]
			f.Text = "9.0.0"
			in.World.Facts["version"] = f
		}, "version", fit.Blocks, "newer"},
		{
			"rename",
			fit.ForRename,
			func(in *fit.Input) { in.Choices["folder-name"] = "bog" },
			"folder-name",
			fit.Adjust,
			"becomes “bog” on disk",
		},
		{"rename to a taken name", fit.ForRename, func(in *fit.Input) {
			in.Choices["folder-name"] = "bog"
			in.Server.Folders = append(in.Server.Folders, "bog")
		}, "folder-name", fit.Blocks, "is taken"},
		{
			"rename a world that its server holds",
			fit.ForRename,
			func(in *fit.Input) { in.Choices["folder-name"] = "bog"; locked(in); in.Live.State = life.Running },
			"locks",
			fit.Fits,
			"",
		},
		{"beside, taken", fit.ForBeside, func(*fit.Input) {}, "folder-name", fit.Choose, "already has"},
		{
			"beside",
			fit.ForBeside,
			func(in *fit.Input) { in.Choices["folder-name"] = "bog" },
			"folder-name",
			fit.Fits,
			"stays the active world",
		},
		{"beside, the world of a fixed name", fit.ForBeside, func(in *fit.Input) {
			in.Choices["folder-name"] = "bog"
			setting(in, "active-world", func(s *server.Setting) { s.Fixed = true })
		}, "folder-name", fit.Fits, "The name is free"},
		{"settings that travel", fit.ForPut, func(in *fit.Input) {
			in.World.Settings = map[string]string{"welcome": "Mind the leeks"}
			in.Server.Keys["welcome"] = server.Setting{
				Given: server.Given{In: "main", Key: "welcome", File: "q", Value: "hi"},
				Found: true,
			}
		}, "world-settings", fit.Choose, "welcome = Mind the leeks"},
		{
			"a title",
			fit.ForPut,
			func(in *fit.Input) { in.Choices["title"] = "New" },
			"title",
			fit.Adjust,
			"Write “New” into heart.cbor.gz",
		},
		{
			"a title of two lines",
			fit.ForPut,
			func(in *fit.Input) { in.Choices["title"] = "a\nb" },
			"title",
			fit.Blocks,
			"one line",
		},
		{"a title that may not be edited", fit.ForPut, func(in *fit.Input) {
			in.Choices["title"] = "New"
			p := *in.Profile
			p.World.Facts = map[string]game.Sources{}
			in.Profile = &p
		}, "title", fit.Blocks, "does not say where a title stands"},
		{"settings changed under a running server", fit.ForPut, func(in *fit.Input) {
			in.Live.State, in.Live.Since = life.Running, time.Unix(100, 0)
			in.Server.Settings[0].Modified = time.Unix(200, 0)
		}, "settings", fit.Adjust, "will be lost"},
		{
			"missing mods can be waited for",
			fit.ForPut,
			func(in *fit.Input) { in.Choices["mods"] = "install"; in.Server.Mods.Items = nil },
			"mods",
			fit.Adjust,
			"wait with the switch",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			in := situation(t)
			in.Purpose = c.purpose
			c.change(&in)
			assertRow(t, fit.Compare(in), c.concern, c.verdict, c.words)
		})
	}
}

// What must be written is written even where it stands already, if it will not stand
// there when the server has stopped.
func TestWhatWillBeLostIsWantedAllTheSame(t *testing.T) {
	t.Parallel()
	in := situation(t)
	assert.Empty(t, in.Wants())
	in.Live.State, in.Live.Since = life.Running, time.Unix(100, 0)
	in.Server.Settings[0].Modified = time.Unix(50, 0)
	assert.Empty(t, in.Wants(), "it stood there when the server started")
	in.Server.Settings[0].Modified = time.Unix(200, 0)
	wants := in.Wants()
	assert.Len(t, wants, 2)
	assert.Equal(t, []string{"fen", "-5"}, []string{wants[0].To, wants[1].To})
	in.Live.State = life.Stopped
	assert.Empty(t, in.Wants())
}
