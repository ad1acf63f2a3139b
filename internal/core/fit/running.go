package fit

// runningRule: is the server in a state in which a changeover can begin? A
// running one is stopped cleanly by the plan: changed files under a running
// server are written over on its way down.
var runningRule = Rule{Concern: "running", Title: "Running state", check: func(in Input, r *Row) {
	r.Server = Cell{Text: in.Live.State}
	switch in.Live.State {
	case "running":
		switch {
		case in.Purpose == ForSwitch && in.CanLoad():
			r.say("The server is running, and can load another world without a stop.")
		case in.Purpose == ForPut:
			r.adjust("The server is running.", "Stage while people play, then stop it cleanly, and start it again.")
		default:
			r.adjust("The server is running.", "Stop it cleanly, and start it again.")
		}
	case "stopped":
		r.say("The server is stopped. The plan starts it to prove the world, and leaves it running.")
	default:
		r.block("The server is "+in.Live.State+".", "Wait until it is running or stopped.")
	}
}}
