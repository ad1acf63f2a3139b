package fit

import (
	"maps"
	"slices"
)

// travelling lists the settings that came with the world and are other on the server.
func (in Input) travelling() []string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(in.World.Settings)) {
		if s, ok := in.Server.Keys[key]; ok && s.In != "" && slices.Contains(in.Profile.Server.Travels, key) &&
			s.Value != in.World.Settings[key] {
			out = append(out, key)
		}
	}
	return out
}

// worldSettingsRule: does the world bring settings that belong to it, and are they
// other than the server's?
var worldSettingsRule = Rule{Concern: "world-settings", Title: "Settings of the world", check: func(in Input, r *Row) {
	differ := in.travelling()
	if len(differ) == 0 {
		r.idle("The world brings no settings that differ from the server's.")
		return
	}
	var brings, has []string
	for _, key := range differ {
		s := in.Server.Keys[key]
		brings = append(brings, s.Key+" = "+orNone(in.World.Settings[key], "empty"))
		has = append(has, s.Key+" = "+orNone(s.Value, "not set"))
	}
	r.World = Cell{Text: list(brings, 4), From: "the server that it was copied from"}
	r.Settings = Cell{Text: list(has, 4), From: in.Server.Keys[differ[0]].File}
	r.choose("Where the world was copied from, settings that belong to it were other: "+list(brings, 4)+".",
		"Decide which hold.",
		Option{Answer: "bring", Say: "Write the world's settings on this server too."},
		Option{Answer: "leave", Say: "Leave this server's as they are."})
	answered(in, r)
}}
