package fit

import (
	"slices"

	"reshard/internal/core/server"
)

// activeWorldRule: does the world that the settings name stand on the server,
// under exactly that name? It is asked of a server alone, before its next start
// makes an empty world without a word.
var activeWorldRule = Rule{Concern: "active-world", Title: "Active world", check: func(in Input, r *Row) {
	setting := in.Server.Keys["active-world"]
	r.Server = Cell{Text: foldersText(in), From: in.Profile.Server.Worlds}
	r.Settings = Cell{Text: "not set", From: setting.File}
	if setting.Found {
		r.Settings = Cell{Text: quote(setting.Value), From: settingFrom(setting)}
	}
	if in.World.Folder != "" {
		r.World = Cell{Text: quote(in.World.Folder) + ", title " + quote(in.World.Title)}
	}
	active := in.Server.Active
	_, there := in.Server.World(active)
	near := nearest(active, in.Server.Worlds)
	switch {
	case in.Server.WorldsWhy != "":
		r.block("The worlds folder cannot be read: "+in.Server.WorldsWhy+".", "Give the server's real folder as its root.")
	case !setting.Found:
		r.block("The settings name no world: the server opens whatever it opens by default.", "Set "+setting.Key+" in "+setting.File+".")
	case server.Outside(setting, in.Profile.Server.Worlds, in.Live.Roots):
		r.block("The setting points outside the server's worlds folder "+in.Profile.Server.Worlds+".", "Let "+setting.Key+" point there.")
	case there:
		r.say("The world that the settings name is there, under exactly that name.")
	case near != "":
		r.block("The settings say "+quote(active)+", on the disk stands "+quote(near)+": "+difference(active, near)+". At its next start the server would make an empty world.",
			"Stop the server and write "+setting.Key+"="+server.ValueFor(setting, in.Profile.Server.Worlds, near)+" into "+setting.File+".")
	case slices.Contains(in.Server.Folders, active):
		r.block("There is a folder "+quote(active)+", and it is no world of this game.", "Put a world there: reshard put WORLD SERVER.")
	default:
		r.block("There is no world "+quote(active)+" on the server. At its next start it would make an empty one.",
			"Put a world there: reshard put WORLD SERVER.")
	}
}}

// nearest finds a world whose folder name is nearly the given one.
func nearest(name string, worlds []server.Present) string {
	for _, w := range worlds {
		if nearly(name, w.Folder) {
			return w.Folder
		}
	}
	return ""
}
