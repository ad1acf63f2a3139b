package fit

import (
	"slices"

	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
)

// Purpose is what a sheet is made for. It decides which concerns are asked and
// where the world is to stand.
type Purpose string

// The purposes.
const (
	ForPut    Purpose = ""       // the world comes from elsewhere and becomes the active one
	ForBeside Purpose = "beside" // it comes from elsewhere and does not become active
	ForSwitch Purpose = "switch" // it stands on the server and becomes the active one
	ForRename Purpose = "rename" // it is the active one and gets another name
	ForBack   Purpose = "back"   // it stands on the server and stays: settings, or some files, come back
	ForReset  Purpose = "reset"  // it is the active one, and a new one takes its place
)

// here reports whether the world stands on the server already.
func (in Input) here() bool {
	return in.Purpose == ForSwitch || in.Purpose == ForRename || in.Purpose == ForBack
}

// besideRules are the concerns of a world that only is to stand there.
var besideRules = []Rule{
	gameRule, versionRule, folderNameRule, charactersRule, titleRule, overridesRule, realmsRule, leftoversRule,
	modsRule, playersRule, completenessRule,
	firstStartRule, ownerRule, hostRule, comparisonRule, spaceRule,
}

// switchRules are the concerns of a world that stands on the server.
var switchRules = []Rule{
	versionRule, folderNameRule, sourcesRule, flagsRule, overridesRule, realmsRule, seedRule, modsRule, playersRule,
	completenessRule,
	settingsRule, locksRule, runningRule, unsavedRule, providerRule, processesRule, hostRule, roomRule,
}

var renameRules = []Rule{folderNameRule, charactersRule, sourcesRule, flagsRule, leftoversRule, settingsRule, locksRule,
	runningRule, providerRule, processesRule, hostRule, roomRule}

var backRules = []Rule{versionRule, sourcesRule, flagsRule, overridesRule, realmsRule, seedRule, modsRule,
	settingsRule, runningRule, providerRule, processesRule, hostRule, roomRule}

// ResetRules are the concerns of a new world that a server is to make.
var ResetRules = []Rule{newWorldRule, charactersRule, newSeedRule, sourcesRule, leftoversRule, settingsRule,
	firstStartRule, locksRule, runningRule, providerRule, processesRule, hostRule, roomRule}

func rulesFor(in Input) []Rule {
	switch in.Purpose {
	case ForBeside:
		return besideRules
	case ForSwitch:
		return switchRules
	case ForRename:
		return renameRules
	case ForReset:
		return ResetRules
	case ForBack:
		return backRules
	}
	return Rules
}

// CanLoad reports whether a game's server can go over to another world while it runs: it has a
// command for that, and does not write its settings back over what names the world.
func (in Input) CanLoad() bool {
	if in.Profile.Server.Console.Load.Say == "" || in.Live.State != life.Running || in.Choices["restart"] == "yes" {
		return false
	}
	active := in.Server.Keys[game.KeyActiveWorld]
	if active.Fixed || active.In == game.InCommand {
		return false
	}
	return !slices.ContainsFunc(in.Wants(), func(w Want) bool { return in.Profile.Server.Settings[w.In].WritesBack })
}

// SavesFirst reports whether the game must be told to save before it loads another world.
func (in Input) SavesFirst() bool {
	c := in.Profile.Server.Console
	return !c.LoadSaves && c.Flush.Say != ""
}

// unusable tells of a worlds folder or a setting through which no world of this
// server can become the active one.
func unusable(in Input, r *Row, value string) bool {
	setting := in.Server.Keys[game.KeyActiveWorld]
	switch {
	case in.Server.WorldsWhy != "":
		r.block("The server's worlds folder cannot be used: "+in.Server.WorldsWhy+".",
			"It must be a folder inside of the server's own folder. Let the setting point there, or give the "+
				"server's real folder as its root.")
	case in.Purpose == ForBeside:
		return false
	case server.Outside(setting, in.Server.WorldsFolder, in.Live.Roots):
		r.block("The setting points outside the server's worlds folder "+in.Server.WorldsFolder+
			"/. A world placed there would not be the one that runs.",
			"Move the server's worlds into "+in.Server.WorldsFolder+"/ below its root and let "+setting.Key+
				" point there.")
	case !setting.Fixed && setting.In == "":
		r.block("No settings file names the world: only the start command can, and Reshard does not write that.",
			"Add the server again with a start command that names a script or settings file for it.")
	case setting.In == game.InCommand && setting.Value != value:
		r.block("The start command says "+setting.Key+" "+quote(
			setting.Value)+", which beats every settings file, and Reshard does not write it.",
			"Take "+setting.Key+" out of the server's start command: reshard servers remove, then add.")
	default:
		return false
	}
	return true
}

// Naming lists the writable places that name the active world: the effective one and
// those that it hides.
func (in Input) Naming() []server.Given {
	active := in.Server.Keys[game.KeyActiveWorld]
	var out []server.Given
	for _, g := range append([]server.Given{active.Given}, active.Hides...) {
		if g.In != "" && g.In != game.InCommand && !active.Fixed {
			out = append(out, g)
		}
	}
	return out
}
