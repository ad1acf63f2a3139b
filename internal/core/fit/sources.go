package fit

import (
	"maps"
	"slices"

	"reshard/internal/core/game"
	"reshard/internal/core/server"
)

// sourcesRule: does one source of a setting silently beat another, such as a
// launch argument the settings file, or move the worlds folder?
var sourcesRule = Rule{Concern: "sources", Title: "Where settings come from", check: func(in Input, r *Row) {
	var beaten []string
	command, differ := false, false
	for _, key := range slices.Sorted(maps.Keys(in.Server.Keys)) {
		s := in.Server.Keys[key]
		for _, h := range s.Hides {
			beaten = append(beaten, s.Where()+" ("+quote(s.Value)+") beats "+h.Where()+" ("+quote(h.Value)+")")
			differ = differ || meaning(in, key, s.Given) != meaning(in, key, h)
			command = command || s.In == game.InCommand
		}
	}
	folder := in.Server.Keys[game.KeyWorldsFolder]
	r.Server = Cell{Text: in.Server.WorldsFolder + "/", From: "game profile"}
	r.Settings = Cell{Text: "each key stands in one place"}
	if in.Server.Redirected {
		r.Server.From = folder.Where()
	}
	if len(beaten) > 0 {
		r.Settings.Text = list(beaten, 2)
	}
	moved := ""
	if in.Server.Redirected {
		moved = folder.Where() + " moves the worlds folder to " + in.Server.WorldsFolder +
			"/, and that is where the world goes. "
	}
	switch {
	case differ && in.Alone:
		r.choose(moved+"What a person edits is not what the server reads: "+list(beaten, 3)+".",
			"Let both say the same, or take one away.",
			Option{Answer: "go-on", Say: "Leave it: " + "the first one counts."})
		answered(in, r)
	case differ && command:
		r.adjust(moved+"What stands in a settings file does not count: "+list(beaten, 3)+".",
			"Write the world's name into the settings files; the start command stays as it is.")
	case differ:
		r.adjust(moved+"What stands in one place is beaten by another: "+list(beaten, 3)+".",
			"Write the same into both, so that no edit of the hidden one surprises anybody.")
	case len(beaten) > 0:
		r.say(moved + "Two sources say the same: " + list(beaten, 2) + ".")
	case moved != "":
		r.say(moved + "Nothing else is hidden.")
	default:
		r.idle("No source hides another.")
	}
}}

// meaning makes values of different sources comparable: a name is not a path.
func meaning(in Input, key string, g server.Given) string {
	if key == game.KeyActiveWorld {
		return server.FolderOf(g, in.Profile)
	}
	return g.Value
}
