package fit

// unsavedRule: is anything lost when the running server loads another world?
var unsavedRule = Rule{Concern: "unsaved", Title: "Unsaved play", check: func(in Input, r *Row) {
	switch c := in.Profile.Server.Console; {
	case !in.CanLoad():
		r.idle("The switch restarts the server, which saves when it stops.")
		if c.Stop.Loses {
			r.idle("The switch restarts the server. Reshard has it save first.")
		}
	case c.LoadSaves:
		r.say("The server saves " + quote(in.Server.Active) + " before it loads another world.")
	case in.SavesFirst():
		r.say("Reshard has the server save " + quote(in.Server.Active) + " first, and waits until it says so.")
	default:
		r.choose("The server loads another world without saving "+quote(in.Server.Active)+
			", and no command makes it save. Everything since its last save is lost, and undo cannot bring it back.",
			"Restart the server instead, or accept the loss.",
			Option{
				Choice: "restart", Answer: "yes",
				Say: "Restart the server: it saves when it stops. Players are locked out meanwhile.",
			},
			Option{Answer: "lose", Say: "Load the other world at once, and lose what was not saved."})
		answered(in, r)
	}
}}
