package fit

import "strings"

// realmsRule: do the world's realms stand where this kind of server looks for
// them? A server that does not find a realm generates it anew in silence.
var realmsRule = Rule{Concern: "realms", Title: "Realm layout", check: func(in Input, r *Row) {
	r.World = Cell{Text: "none"}
	if len(in.World.Realms) > 0 {
		r.World = Cell{Text: in.World.Layout + ": " + strings.Join(in.World.Realms, ", ")}
	}
	r.Server = Cell{Text: in.Server.Realms, From: "kind " + in.Server.Kind}
	switch {
	case len(in.Profile.World.Realms) == 0:
		r.Server = Cell{Text: "none"}
		r.say("The game has no realms.")
	case in.World.Layout == "":
		r.say("The world has no realms yet; the server makes them when somebody goes there.")
	case in.World.Layout == "mixed":
		r.block("Realms stand both inside and beside the world; one set is a leftover, and only a person can say which.",
			"Take the wrong set out of the source and send the world again.")
	case in.World.Layout != in.Server.Realms:
		r.block("The world keeps its realms "+in.World.Layout+", a "+in.Server.Kind+" server looks for them "+in.Server.Realms+": it would make "+strings.Join(in.World.Realms, " and ")+" anew and empty.",
			"Choose a server whose kind keeps realms "+in.World.Layout+". Converting the layout is not built yet.")
	default:
		r.say("World and server keep realms in the same way.")
	}
}}
