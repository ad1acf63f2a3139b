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
	words := "The server has never been started: " + list(in.Server.NotYet,
		3) + " is missing, which only a first start makes."
	if in.Alone || in.Purpose == ForReset {
		r.block(words, "Start it once and stop it again: reshard servers start "+in.server()+" --new-world, then "+
			"reshard servers stop "+in.server()+".")
		return
	}
	r.choose(words, "Let it be started once, and look at the fit again then.",
		Option{
			Answer: "make",
			Say:    "Start it now, wait until it is ready, and stop it again. Nothing else can be compared before.",
		})
	answered(in, r)
}}

// makesFirstStart reports whether a first start was chosen and is still to be made:
// all else is compared after it.
func (in Input) makesFirstStart() bool {
	return in.Choices["first-start"] == "make" && len(in.Server.NotYet) > 0
}
