package fit

import (
	"slices"
	"strings"
)

// leftoversRule: do realm folders stand beside the worlds whose world is gone? A
// world that gets that name later would take them for its own.
var leftoversRule = Rule{Concern: "leftovers", Title: "Leftovers", check: func(in Input, r *Row) {
	var left []string
	for _, name := range in.Server.Folders {
		for _, realm := range in.Profile.RealmNames() {
			before, after, _ := strings.Cut(in.Profile.World.Realms[realm].Split, "{folder}")
			world, ok := strings.CutPrefix(name, before)
			if !ok || !strings.HasSuffix(world, after) {
				continue
			}
			world = strings.TrimSuffix(world, after)
			if world != "" && !slices.Contains(in.Server.Folders, world) {
				left = append(left, name)
			}
		}
	}
	r.Server = Cell{Text: orNone(list(left, 4), "none")}
	if len(left) == 0 {
		r.say("No realm folders of worlds that are gone.")
		return
	}
	r.choose("Realm folders whose world is gone: "+list(left, 6)+". A world that gets their name would mix with them.",
		"Move them away by hand when you are sure; a put of a world with their name sets them aside.",
		Option{Answer: "go-on", Say: "Leave them where they are."})
	answered(in, r)
}}
