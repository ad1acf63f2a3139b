package fit

// overridesRule: does the world bring files that beat the server's settings?
var overridesRule = Rule{Concern: "overrides", Title: "Files that beat the server", check: func(in Input, r *Row) {
	r.World = Cell{Text: orNone(list(in.World.Overrides, 3), "none")}
	if len(in.World.Overrides) == 0 {
		r.idle("Nothing in the world beats the server's settings.")
		return
	}
	var says []string
	for _, o := range in.Profile.World.Overrides {
		for _, file := range in.World.Overrides {
			if file == o.File {
				says = append(says, o.File+" decides "+o.Says)
			}
		}
	}
	words := "The world brings files that beat the server: " + list(says, 3) + ", whatever the server's settings say."
	if in.Alone || in.here() {
		r.say(words)
		return
	}
	r.choose(words, "Decide whose rules hold.",
		Option{Answer: "keep", Say: "Bring them along: the world's own rules hold on the server."},
		Option{Answer: "leave", Say: "Leave them behind: the server's rules hold. The library's copy keeps them."})
	answered(in, r)
}}

// Left lists the files of the world that the choices leave behind.
func (in Input) Left() []string {
	var out []string
	if in.Choices["overrides"] == "leave" {
		out = append(out, in.World.Overrides...)
	}
	if pl := in.Profile.World.Players; in.Choices["players"] == "strip" && pl != nil && pl.Each != "" {
		out = append(out, eachPattern(pl.Each))
	}
	return out
}
