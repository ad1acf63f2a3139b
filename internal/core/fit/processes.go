package fit

import "strings"

// processesRule: does anything beside the server work in its folder? Another server on
// the same worlds, started by hand, would write over what is placed.
var processesRule = Rule{Concern: "processes", Title: "Other processes", check: func(in Input, r *Row) {
	r.Server = Cell{Text: orNone(list(in.Live.Working, 2), "none")}
	switch {
	case in.Live.Unseen != "":
		r.Server.Text = "cannot be seen"
		r.say("Whether anything else works in the server's folder cannot be seen: " + in.Live.Unseen + ".")
	case len(in.Live.Working) > 0:
		r.choose("Something else works in the server's folder: "+strings.Join(in.Live.Working,
			"; ")+". If it is a server of the same worlds, it would write over what is placed.",
			"End it, or go on.",
			Option{Answer: "go-on", Say: "It has nothing to do with the worlds."})
		answered(in, r)
	case in.Live.Hidden > 0:
		r.say("Nothing else that Reshard can see works in the server's folder. " + counted(in.Live.Hidden, "process",
			"processes") + " of other accounts could not be looked into.")
	case len(in.Live.Passing) > 0:
		r.say("Nothing but somebody's shell: " + strings.Join(in.Live.Passing, "; ") + ".")
	default:
		r.idle("Nothing else works in the server's folder.")
	}
}}
