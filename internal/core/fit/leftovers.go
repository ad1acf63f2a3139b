package fit

import (
	"slices"
	"strings"

	"reshard/internal/core/game"
)

// leftoversRule: do parts of worlds that are gone stand where the world would take
// them for its own? For a put they are set aside; on a server alone they are told.
var leftoversRule = Rule{Concern: "leftovers", Title: "Leftovers", check: func(in Input, r *Row) {
	left := orphans(in)
	if !in.Alone {
		active, _ := in.Server.World(in.Server.Active)
		left = slices.DeleteFunc(in.Server.Taken(in.Profile, in.Target()), func(name string) bool {
			return name == in.Target() || in.Profile.World.Shape != game.ShapeFolder ||
				(in.Purpose == ForReset && slices.Contains(active.Members, name))
		})
	}
	r.Server = Cell{Text: orNone(list(left, 4), "none")}
	switch {
	case len(left) == 0:
		r.idle("No realm folders of worlds that are gone.")
	case !in.Alone:
		r.adjust("Realm folders of the name stand there already: "+list(left,
			6)+". The world would take them for its own.", "Set them aside.")
	default:
		r.choose("Realm folders whose world is gone: "+list(left,
			6)+". A world that gets their name would mix with them.",
			"Move them away by hand when you are sure; a put of a world with their name sets them aside.",
			Option{Answer: "go-on", Say: "Leave them where they are."})
		answered(in, r)
	}
}}

// orphans lists realm folders whose world is not there.
func orphans(in Input) []string {
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
	return left
}
