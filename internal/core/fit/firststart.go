package fit

// firstStartRule: has the server been started once, so that the folders exist that it
// makes for itself?
var firstStartRule = Rule{Concern: "first-start", Title: "First start", check: func(in Input, r *Row) {
	r.Server = Cell{Text: "made"}
	if len(in.Profile.Server.FirstStart) == 0 {
		r.idle("The game needs no start before a world is put.")
		return
	}
	if len(in.Server.NotYet) == 0 {
		r.say("The server has been started before.")
		return
	}
	r.Server = Cell{Text: "missing: " + list(in.Server.NotYet, 3)}
	r.block("The server has never been started: "+list(in.Server.NotYet, 3)+" is missing, which only a first start makes.",
		"Start it once and stop it again (reshard servers start SERVER, reshard servers stop SERVER), then look at the fit again.")
}}
