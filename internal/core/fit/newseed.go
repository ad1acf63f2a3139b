package fit

import (
	"strings"

	"reshard/internal/core/game"
)

// The answers to the seed of a new world that are no seeds themselves.
const (
	SeedSame   = "same"   // the old world's again
	SeedRandom = "random" // drawn by Reshard, so that it can be compared
	SeedAsSet  = "as-set" // what the settings hold
	// SeedText before an answer takes the rest for words, whatever they are.
	SeedText = "text:"
)

// NewSeed is the seed of a new world: the value to write; number says that it is
// one that the running server's can be compared with. write is false when the
// settings stay as they are. The error says why the wish cannot be had.
func (in Input) NewSeed() (value string, number, write bool, err error) {
	setting := in.Server.Keys[game.KeySeed]
	wish := in.Choices["seed"]
	switch {
	case setting.In == "":
		return "", false, false, nil // the server draws one
	case wish == "" || wish == SeedAsSet:
		if setting.Value == "" {
			return "", false, false, nil
		}
		value, number, err = in.Profile.Server.Seeds.Written(setting.Value)
		return value, number, in.lost(setting.In), err
	case wish == SeedSame:
		wish = in.World.Fact("seed").Text
	case wish == SeedRandom:
		if wish = in.Drawn; wish == "" {
			return "", true, true, nil
		}
	case strings.HasPrefix(wish, SeedText):
		wish = strings.TrimPrefix(wish, SeedText)
	}
	value, number, err = in.Profile.Server.Seeds.Written(wish)
	return value, number, true, err
}

// newSeedRule: which seed will the new world have? One that is left in the settings
// brings the same ground back.
var newSeedRule = Rule{Concern: "seed", Title: "Seed", check: func(in Input, r *Row) {
	old := in.World.Fact("seed")
	setting := in.Server.Keys[game.KeySeed]
	wish := in.Choices["seed"]
	r.World = Cell{Text: "old world: " + orNone(old.Text, "not known"), From: old.File}
	r.Settings = Cell{Text: orNone(setting.Value, "not set"), From: setting.File}
	if setting.Found {
		r.Settings.From = setting.Where()
	}
	if setting.In == "" {
		r.Settings = Cell{Text: "no setting"}
		if wish == "" || wish == SeedRandom {
			r.say("The server draws a seed of its own; there is no setting for it.")
			return
		}
		r.block("The game has no setting for a seed: the server draws one of its own.", "Leave the seed out.")
		return
	}
	options := []Option{{Answer: SeedRandom, Say: "Write a new random seed: new ground."}}
	if old.Known() {
		options = append(options, Option{
			Answer: SeedSame,
			Say:    "Write " + old.Text + ", the old world's: the same ground again, without what was built on it.",
		})
	}
	options = append(options, Option{
		Answer: SeedAsSet,
		Say:    "Leave the settings as they are (" + orNone(setting.Value, "no seed") + ").",
	})
	value, number, write, err := in.NewSeed()
	switch {
	case wish == SeedSame && !old.Known():
		r.block("The old world's seed is not known ("+old.Why+").", "Give the seed itself, or have a random one.")
	case err != nil && wish != "":
		r.block("The seed cannot be "+quote(wish)+": "+err.Error()+".", "Give another seed, or have a random one.")
	case write && setting.In == game.InCommand:
		r.block("The start command holds the seed, and Reshard does not write it.",
			"Change it there: reshard servers remove, then add.")
	case wish == "" && err == nil && setting.Value != "" && old.Known() &&
		in.Profile.Server.Seeds.Same(setting.Value, old.Text):
		r.choose("The settings hold "+setting.Value+
			", the seed of the world that goes: the new one would have the same ground.",
			"Choose the new world's seed, or give one of your own.", options...)
	case wish == "":
		r.say("The new world gets the seed that the settings hold: " + orNone(setting.Value,
			"none, so the server draws one") + ".")
	case wish == SeedRandom && value == "":
		r.adjust("The new world gets a random seed.",
			"Draw one when the plan is made, and write it into "+setting.File+".")
	case !write:
		r.adjust("The new world gets the seed that the settings hold: "+orNone(setting.Value,
			"none, so the server draws one")+".", "Leave the settings as they are.")
	case number:
		r.adjust("The new world gets the seed "+value+".", writeText(setting.Given, value))
	default:
		r.adjust("The new world gets a seed in words, which the game turns into a number of its own.",
			writeText(setting.Given, value))
	}
	for _, o := range options {
		if o.Answer == wish {
			r.Options, r.Chosen = options, wish
		}
	}
}}
