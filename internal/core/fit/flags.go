package fit

import (
	"strings"

	"reshard/internal/core/game"
)

// flagsRule: do the values hold without which the game does not look at the setting
// that names the world, such as a flag to resume?
var flagsRule = Rule{Concern: "flags", Title: "Flags beside it", check: func(in Input, r *Row) {
	setting := in.Server.Keys[game.KeyActiveWorld]
	r.Settings = Cell{Text: "none needed"}
	if len(setting.With) == 0 {
		r.idle("The setting that names the world needs no other beside it.")
		return
	}
	var shows, wrong, mends []string
	for _, h := range setting.With {
		shows = append(shows, h.Key+" = "+orNone(h.Value, "not set"))
		r.Settings.From = h.Where()
		if !h.OK() {
			wrong = append(wrong, h.Key+" is "+orNone(h.Value, "not set")+" in "+h.File+" and must be "+h.Want)
			mends = append(mends, writeText(h.Given, h.Want))
		}
	}
	r.Settings.Text = strings.Join(shows, ", ")
	switch {
	case len(wrong) == 0:
		r.say("What must hold beside the world's name does.")
	case in.Alone:
		r.block(list(wrong, 3)+
			": without it the server does not load the world that the settings name, and starts afresh.",
			"Stop the server, then: "+strings.Join(
				mends, " "))
	default:
		r.adjust(list(wrong, 3)+
			": without it the server does not load the world that the settings name, and starts afresh.", strings.Join(
			mends, " "))
	}
}}
