package fit

import (
	"strings"

	"golang.org/x/text/unicode/norm"

	"reshard/internal/core/doclang"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
)

// folderNameRule: would the settings name exactly the folder that the world
// will stand in? A difference of one capital makes a server generate an empty
// world without a word.
var folderNameRule = Rule{Concern: "folder-name", Title: "Name on disk", check: func(in Input, r *Row) {
	target, active := in.Target(), in.Server.Active
	setting := in.Server.Keys[game.KeyActiveWorld]
	r.World = Cell{Text: quote(in.World.Folder), From: "the name on disk"}
	if in.World.Title != "" && in.World.Title != in.World.Folder {
		r.World.Text += ", title " + quote(in.World.Title)
	}
	r.Settings = settingCell(setting)
	r.Server = Cell{Text: foldersText(in), From: in.Server.WorldsFolder + "/"}

	value := server.ValueFor(setting.Given, in.Server.WorldsFolder, target, in.Profile)
	switch {
	case unusable(in, r, value):
	case !in.Profile.World.FolderName.Usable(target):
		r.say("Waits for a name that the game allows.")
	case in.Purpose == ForSwitch && target == active && in.World.Folder == active:
		r.block("The server's settings name "+quote(active)+" already.",
			"Start the server if it does not run: reshard servers start "+in.server()+".")
	case in.Purpose == ForSwitch && setting.Fixed:
		r.adjust("The server always opens "+quote(target)+": the worlds exchange their names.",
			"Call "+quote(active)+" "+quote(FreeName(in, active))+" from now on, and "+quote(in.World.Folder)+" "+quote(
				target)+".")
	case in.Purpose == ForRename && setting.Fixed:
		r.block("The server always opens "+quote(target)+", so its world cannot have another name.",
			"Rename nothing here; another server may open worlds of any name.")
	case in.Purpose == ForRename && target == in.World.Folder:
		r.block("The world is called "+quote(target)+" already.", "Give another name.")
	case in.Purpose == ForRename && len(in.Server.Named(in.Profile, target)) > 0:
		r.block("The name "+quote(target)+" is taken on this server.",
			"Give another, such as "+FreeName(in, target)+".")
	case in.Purpose == ForRename:
		r.adjust("The world "+quote(in.World.Folder)+" becomes "+quote(target)+" on disk. Its title stays "+quote(
			in.World.Title)+".", writeText(
			setting.Given, value))
	case in.Purpose == ForBeside && len(in.Server.Taken(in.Profile, target)) > 0:
		r.choose("The server already has "+quote(target)+".", "Take another name.",
			Option{
				Answer: FreeName(in, target),
				Say:    "Place the world under this name; " + quote(target) + " stays as it is.",
			})
	case in.Purpose == ForBeside:
		r.say("The name is free. The settings are left alone: " + quote(active) + " stays the active world.")
	case !in.here() && len(in.Server.Named(in.Profile, target)) > 0 && target != active &&
		in.Choices["replace"] != "yes":
		r.choose("The server already has "+quote(target)+", and it is not its active world.",
			"Take another name, or set what is there aside.",
			Option{
				Answer: FreeName(in, target),
				Say:    "Place the world under this name; " + quote(target) + " stays as it is.",
			},
			Option{
				Choice: "replace",
				Answer: "yes",
				Say:    "Set " + quote(target) + " aside as well. Undo brings it back.",
			})
		if alike(active, target) {
			r.Say += " The setting says " + quote(active) + ": " + difference(active, target) + "."
		}
	case setting.Fixed && in.World.Folder == target:
		r.say("The server always opens " + quote(target) + ", and that is the world's name.")
	case setting.Fixed:
		r.adjust("The server always opens "+quote(target)+", whatever it holds.",
			"Place the world under the name "+quote(target)+". Its title stays "+quote(in.World.Title)+".")
	case setting.Found && setting.Value == value:
		r.say("The setting names " + quote(target) + " exactly.")
		if len(in.Server.Named(in.Profile, target)) > 0 {
			r.Say += " The old world of that name is set aside."
		}
	case setting.Found && alike(active, target):
		r.adjust("The setting says "+quote(active)+", on disk it would be "+quote(target)+": "+difference(active,
			target)+". The server would say nothing and make an empty world.",
			writeText(setting.Given, value))
	default:
		r.adjust("The setting does not name "+quote(target)+".", writeText(setting.Given, value))
	}
}}

func writeText(g server.Given, value string) string {
	return "Write " + g.Key + "=" + value + " into " + g.File + "."
}

func foldersText(in Input) string {
	if len(in.Server.Worlds) == 0 {
		return "no worlds yet"
	}
	names := make([]string, 0, len(in.Server.Worlds))
	for _, w := range in.Server.Worlds {
		if w.Folder == in.Server.Active {
			names = append([]string{quote(w.Folder) + " (active)"}, names...)
		} else {
			names = append(names, quote(w.Folder))
		}
	}
	return list(names, 4)
}

// FreeName proposes a name that is not taken, by counting.
func FreeName(in Input, target string) string {
	for i := 2; ; i++ {
		suffix := "-" + itoa(i)
		base := target
		for in.Profile.World.FolderName.TooLong(base + suffix) {
			base = base[:len(base)-1]
		}
		if name := base + suffix; len(in.Server.Taken(in.Profile, name)) == 0 {
			return name
		}
	}
}

func fold(s string) string {
	return strings.ToLower(strings.Join(strings.Fields(norm.NFKC.String(s)), ""))
}

// alike reports whether two names look alike and are not the same.
func alike(a, b string) bool { return a != b && fold(a) == fold(b) }

// nearly reports whether two names look alike, or differ by one letter in four at
// most, and no more than two.
func nearly(a, b string) bool {
	if a == b || a == "" || b == "" {
		return false
	}
	x, y := fold(a), fold(b)
	d := doclang.EditDistance(x, y)
	return d == 0 || (d <= 2 && 4*d <= max(len(x), len(y)))
}

// difference says in words how two names differ that look alike.
func difference(a, b string) string {
	switch {
	case strings.TrimSpace(a) == strings.TrimSpace(b):
		return "they differ by a blank at an end"
	case strings.EqualFold(a, b):
		return "they differ by a capital"
	case norm.NFC.String(a) == norm.NFC.String(b):
		return "they look the same but are composed of other characters"
	}
	if fold(a) != fold(b) {
		return "they differ by a letter or two"
	}
	return "they differ by capitals, blanks or look-alike characters"
}
