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
		r.idle("The game has no realms.")
	case in.World.Layout == "":
		r.idle("The world has no realms yet; the server makes them when somebody goes there.")
	case in.World.Layout == "mixed":
		r.block("Realms stand both inside and beside the world; one set is a leftover, and only a person can say "+
			"which.",
			"Take the wrong set out of the source and send the world again.")
	case in.World.Layout != in.Server.Realms:
		r.adjust("The world keeps its realms "+in.World.Layout+", a "+in.Server.Kind+" server looks for them "+
			in.Server.Realms+": it would make "+strings.Join(
			in.World.Realms, " and ")+" anew and empty.",
			"Place "+strings.Join(realmPlaces(in), " and ")+". The library's copy stays as it is.")
		if in.Alone || in.here() {
			r.block(r.Say, "Put the world again from the library: the plan places its realms where this server looks.")
		}
	default:
		r.say("World and server keep realms in the same way.")
	}
}}

// realmPlaces says where each realm goes on this server.
func realmPlaces(in Input) []string {
	out := make([]string, 0, len(in.World.Realms))
	for _, name := range in.World.Realms {
		realm := in.Profile.World.Realms[name]
		to := in.Target() + "/" + realm.Nested
		if in.Server.Realms == "split" {
			to = realm.SplitFor(in.Target()) + " beside the world"
		}
		out = append(out, name+" as "+to)
	}
	return out
}
