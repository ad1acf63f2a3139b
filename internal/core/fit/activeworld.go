package fit

import (
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
)

// activeWorldRule: does the world that the settings name stand on the server,
// under exactly that name? It is asked of a server alone, before its next start
// makes an empty world without a word.
var activeWorldRule = Rule{Concern: "active-world", Title: "Active world", check: func(in Input, r *Row) {
	setting := in.Server.Keys[game.KeyActiveWorld]
	folder := in.Server.WorldsFolder
	r.Server = Cell{Text: foldersText(in), From: folder + "/"}
	r.Settings = settingCell(setting)
	if in.World.Folder != "" {
		r.World = Cell{Text: quote(in.World.Folder) + ", title " + quote(in.World.Title)}
	}
	active := in.Server.Active
	_, there := in.Server.World(active)
	near := nearest(active, in.Server.Worlds)
	taken := in.Server.Named(in.Profile, active)
	switch {
	case in.Server.WorldsWhy != "":
		r.block("The worlds folder cannot be used: "+in.Server.WorldsWhy+".",
			"Let the setting point inside of the server's folder, or give the server's real folder as its root.")
	case !setting.Found && !setting.Default && len(in.Server.NotYet) > 0:
		r.block("The settings name no world yet: the server has never been started.",
			"Start it once: its first start makes what is missing, and a new world.")
	case !setting.Found && !setting.Default:
		r.block("The settings name no world: the server opens whatever it opens by default.",
			"Set "+setting.Key+" in "+setting.File+".")
	case server.Outside(setting, folder, in.Live.Roots):
		r.block("The setting points outside the server's worlds folder "+folder+"/.",
			"Let "+setting.Key+" point there.")
	case there:
		r.say("The world that the settings name is there, under exactly that name.")
	case near != "" && !setting.Fixed:
		r.block("The settings say "+quote(active)+", on the disk stands "+quote(near)+": "+difference(active,
			near)+". At its next start the server would make an empty world.",
			"Stop the server, then: "+writeText(setting.Given,
				server.ValueFor(setting.Given, folder, near, in.Profile)))
	case len(taken) > 0:
		r.block("There is "+quote(list(taken, 2))+", and it is no world of this game.",
			"Put a world there: reshard put WORLD "+in.server()+".")
	case in.Live.State == life.Running:
		r.block("The server is running, and its world "+quote(active)+" is not in "+folder+"/. The next start "+
			"would make an empty one.",
			"Bring it back, or put a world there: reshard put WORLD "+in.server()+".")
	default:
		r.block("There is no world "+quote(active)+" on the server. At its next start it would make an empty one.",
			"Put a world there: reshard put WORLD "+in.server()+".")
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
