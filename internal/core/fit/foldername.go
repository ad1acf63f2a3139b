package fit

import (
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"reshard/internal/core/server"
)

// folderNameRule: would the settings name exactly the folder that the world
// will stand in? A difference of one capital makes a server generate an empty
// world without a word.
var folderNameRule = Rule{Concern: "folder-name", Title: "Folder name", check: func(in Input, r *Row) {
	target, active := in.Target(), in.Server.Active
	setting := in.Server.Keys["active-world"]
	r.World = Cell{Text: quote(in.World.Folder), From: "the folder on disk"}
	if in.World.Title != "" && in.World.Title != in.World.Folder {
		r.World.Text += ", title " + quote(in.World.Title)
	}
	if setting.Found {
		r.Settings = Cell{Text: quote(setting.Value), From: settingFrom(setting)}
	} else {
		r.Settings = Cell{Text: "not set", From: setting.File}
	}
	r.Server = Cell{Text: foldersText(in), From: in.Profile.Server.Worlds}

	_, taken := in.Server.World(target)
	if !taken {
		taken = slices.Contains(in.Server.Folders, target)
	}
	value := server.ValueFor(setting, in.Profile.Server.Worlds, target)
	rule := in.Profile.World.FolderName
	switch {
	case in.Server.WorldsWhy != "":
		r.block("The server's worlds folder cannot be read: "+in.Server.WorldsWhy+".",
			"It must be a folder inside of the server's own folder, not a link that leads out of it. Give the server's real folder as its root.")
	case server.Outside(setting, in.Profile.Server.Worlds, in.Live.Roots):
		r.block("The setting points outside the server's worlds folder "+in.Profile.Server.Worlds+". A world placed there would not be the one that runs.",
			"Move the server's worlds into "+in.Profile.Server.Worlds+" below its root and let "+setting.Key+" point there.")
	case len(rule.BadRunes(target)) > 0 || rule.TooLong(target):
		r.say("Waits for a folder name that the game allows.")
	case taken && target != active && in.Choices["replace"] != "yes":
		r.choose("The server already has a folder "+quote(target)+" that is not its active world.",
			"Take another name, or set that folder aside.",
			Option{Answer: freeName(in, target), Say: "Place the world under this name; the folder " + quote(target) + " stays as it is."},
			Option{Choice: "replace", Answer: "yes", Say: "Set the folder " + quote(target) + " aside as well. Undo brings it back."})
	case setting.Found && setting.Value == value:
		if slices.Contains(in.Server.Folders, target) {
			r.say("The setting names " + quote(target) + " exactly. The old world of that name is set aside.")
		} else {
			r.say("The setting names " + quote(target) + " exactly.")
		}
	case setting.Found && nearly(active, target):
		r.adjust("The setting says "+quote(active)+", the folder would be "+quote(target)+": "+difference(active, target)+". The server would say nothing and make an empty world.",
			"Write "+setting.Key+"="+value+" into "+setting.File+".")
	default:
		r.adjust("The setting does not name "+quote(target)+".", "Write "+setting.Key+"="+value+" into "+setting.File+".")
	}
}}

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

// freeName proposes a name that is not taken, by counting.
func freeName(in Input, target string) string {
	for i := 2; ; i++ {
		suffix := "-" + itoa(i)
		base := target
		for in.Profile.World.FolderName.TooLong(base + suffix) {
			base = base[:len(base)-1]
		}
		if name := base + suffix; !slices.Contains(in.Server.Folders, name) {
			return name
		}
	}
}

func fold(s string) string {
	return strings.ToLower(strings.Join(strings.Fields(norm.NFKC.String(s)), ""))
}

func nearly(a, b string) bool { return a != b && fold(a) == fold(b) }

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
	return "they differ by capitals, blanks or look-alike characters"
}
