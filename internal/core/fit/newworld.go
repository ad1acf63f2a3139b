package fit

import (
	"reshard/internal/core/game"
	"reshard/internal/core/server"
)

// newWorldRule: under which name will the new world stand, and what becomes of the
// one that is there? With the same name the old one is set aside; with another it
// stays where it is.
var newWorldRule = Rule{Concern: "new-world", Title: "New world", check: func(in Input, r *Row) {
	target, active := in.Target(), in.Server.Active
	setting := in.Server.Keys[game.KeyActiveWorld]
	own := in.Profile.Server.NewWorld.Named == "own"
	_, there := in.Server.World(active)
	r.World = Cell{Text: "a new one"}
	r.Settings = settingCell(setting)
	r.Server = Cell{Text: foldersText(in), From: in.Server.WorldsFolder + "/"}
	named := "under the name " + quote(target)
	if own {
		named = "under a name that the server finds by itself; the settings are set to it then"
	}
	switch {
	case unusable(in, r, server.ValueFor(setting.Given, in.Server.WorldsFolder, target, in.Profile)):
	case own && in.Profile.Server.Settings[setting.In].WritesBack:
		r.block("The server names a new world by itself and writes its settings back when it stops, so the new name "+
			"cannot be written while it runs.", "Make the new world by hand.")
	case own && in.Profile.Server.Console.Opened.IsZero():
		r.block("The server names a new world by itself, and its log cannot be read here: nobody could tell the name.",
			"Control it in a way by which its log can be read, or make the new world by hand.")
	case in.Profile.Server.NewWorld.Save.Say != "" && !in.Profile.Server.Console.Speaks():
		r.block("A new world stands in memory only until the server is told at its console to write it, and nothing "+
			"can be "+
			"said to it here.", "Control it in a way by which its console can be spoken to, or make the new world by "+
			"hand.")
	case target == "":
		r.block("The settings name no world, so the new one has no name.", "Give it a name.")
	case setting.Fixed && in.Choices["folder-name"] != "" && in.Choices["folder-name"] != target:
		r.block("The server always opens "+quote(target)+": a new world cannot have another name.",
			"Leave the name out; the old world is set aside then.")
	case target == active && !there && len(in.Server.Named(in.Profile, active)) == 0:
		r.adjust("There is no world "+quote(active)+" on the server: nothing is set aside.",
			"Let the server make a new world "+named+".")
	case target == active:
		r.adjust("The old world "+quote(active)+" leaves its place, and is kept.",
			"Set "+quote(active)+" aside; let the server make a new world "+named+".")
	case len(in.Server.Named(in.Profile, target)) > 0:
		r.block("The name "+quote(target)+" is taken on this server.",
			"Give another, such as "+FreeName(in, target)+", or switch to the world that has it.")
	default:
		r.adjust("The old world "+quote(active)+" stays where it is, and can be switched back to.",
			"Let the server make a new world "+named+".")
	}
}}
