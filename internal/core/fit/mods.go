package fit

import (
	"fmt"
	"strings"

	"reshard/internal/core/fact"
)

// modsRule: which mods does the world want that the server lacks, has in
// another version, or has beside?
var modsRule = Rule{Concern: "mods", Title: "Mods", check: func(in Input, r *Row) {
	wm, sm := in.World.Fact("mods"), in.Server.Mods
	r.World = Cell{Text: modsText(wm), From: wm.File}
	r.Server = Cell{Text: modsText(sm), From: sm.File}
	if _, told := in.Profile.World.Facts["mods"]; !told && len(in.Profile.Server.Mods) == 0 {
		r.World, r.Server = Cell{}, Cell{}
		r.idle("The game profile knows of no mods.")
		return
	}
	if !wm.Known() || !sm.Known() {
		if wm.Known() && !sm.Known() && len(in.Profile.Server.Mods) == 0 {
			r.say("The world brings its mods with it.")
			return
		}
		r.choose("The mods cannot be compared: "+strings.Trim(wm.Why+"; "+sm.Why, "; ")+".",
			"Check by hand, then go on.", Option{Answer: "go-on", Say: "Go on without comparing mods."})
		answered(in, r)
		return
	}
	missing, other, extra := compareMods(wm.Items, sm.Items)
	for _, m := range missing {
		r.Todo = append(r.Todo, "Install "+m+" on the server.")
	}
	for _, m := range other {
		r.Todo = append(r.Todo, "Bring to one version: "+m+".")
	}
	for _, m := range extra {
		r.Todo = append(r.Todo, "Only the server has "+m+": the world meets it for the first time.")
	}
	switch {
	case len(missing) > 0:
		r.choose("The server lacks "+list(missing,
			6)+". Things of these mods would vanish from the world when it is opened.",
			"Install them on the server, or go on without.",
			append(awaited(in), Option{
				Answer: "go-on",
				Say:    "Open the world without them. The library's copy keeps everything.",
			})...)
		answered(in, r)
	case len(other) > 0:
		r.choose("Other versions: "+list(other, 6)+".", "Bring them to the same version, or go on.",
			append(awaited(in), Option{Answer: "go-on", Say: "Open the world with the server's versions."})...)
		answered(in, r)
	case len(extra) > 0:
		r.say("The server has everything, and beside it " + list(extra, 6) + ", which the world has not seen yet.")
	case len(wm.Items) == 0:
		r.idle("Neither has mods.")
	default:
		r.say("The same mods in the same versions.")
	}
}}

// Awaited is the answer of who mends a concern while a changeover waits before its
// switch.
const Awaited = "install"

// awaited offers to wait for a person in the midst of a changeover, where one stages
// before it switches.
func awaited(in Input) []Option {
	if in.Purpose != ForPut || in.Alone {
		return nil
	}
	return []Option{{Answer: Awaited, Say: "Stage the world now, and wait with the switch until the mods are there."}}
}

func modsText(f fact.Fact) string {
	if !f.Known() {
		return "not known"
	}
	if len(f.Items) == 0 {
		return "none"
	}
	names := make([]string, 0, len(f.Items))
	for _, it := range f.Items {
		names = append(names, modText(it))
	}
	return list(names, 4)
}

func modText(it fact.Item) string {
	if it.Version == "" {
		return it.Name
	}
	return it.Name + " " + it.Version
}

func compareMods(world, server []fact.Item) (missing, other, extra []string) {
	has := map[string]fact.Item{}
	for _, it := range server {
		has[it.Name] = it
	}
	for _, it := range world {
		s, ok := has[it.Name]
		switch {
		case !ok:
			missing = append(missing, modText(it))
		case s.Version != it.Version:
			other = append(other, fmt.Sprintf("%s (world %s, server %s)", it.Name, orNone(it.Version, "?"),
				orNone(s.Version, "?")))
		}
		delete(has, it.Name)
	}
	for _, it := range server {
		if _, left := has[it.Name]; left {
			extra = append(extra, modText(it))
		}
	}
	return missing, other, extra
}
