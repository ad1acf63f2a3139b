package fit

import (
	"reshard/internal/core/game"
)

// seedRule: does the seed in the settings agree with the world's? The world's
// own seed rules while it is there; a different one left in the settings
// decides what the next reset, or a mistyped name, generates.
var seedRule = Rule{Concern: "seed", Title: "Seed", check: func(in Input, r *Row) {
	seed := in.World.Fact("seed")
	setting, has := in.Server.Keys[game.KeySeed]
	r.World = Cell{Text: orNone(seed.Text, "not known"), From: seed.File}
	if !seed.Known() {
		r.World.From = seed.Why
	}
	if active, ok := in.Server.World(in.Server.Active); ok {
		r.Server = Cell{Text: orNone(active.Seed, "not known"), From: "active world " + quote(active.Folder)}
	}
	if !has || !setting.Found {
		r.Settings = Cell{Text: "not set", From: setting.File}
		r.say("The settings name no seed; the world keeps its own.")
		return
	}
	r.Settings = Cell{Text: orNone(setting.Value, "empty"), From: setting.Where()}
	_, numeric := in.Profile.Server.Seeds.Number(setting.Value)
	switch {
	case setting.Value == "":
		r.say("The settings leave the seed open; the world keeps its own.")
	case !seed.Known():
		r.choose("The world's seed could not be read ("+seed.Why+"), so it cannot be proven after the start.",
			"Go on without the proof of the seed, or mend the world first.",
			Option{Answer: "go-on", Say: "Prove the world by its name and files only."})
		answered(in, r)
	case setting.Value == seed.Text:
		r.say("World and settings have the same seed.")
	case in.Profile.Server.Seeds.Same(seed.Text, setting.Value):
		r.say("World and settings have the same seed: " + seed.Text + " and " + setting.Value +
			" are the same number.")
	case !numeric:
		r.adjust("The settings hold a seed in words, which the game turns into a number of its own. It would decide "+
			"what a later reset generates.",
			writeText(setting.Given, seed.Text))
	default:
		r.adjust("The settings hold another seed. It would decide what a later reset generates.",
			writeText(setting.Given, seed.Text))
	}
}}
