package fit

// lastExitRule: does the server run as it should? It is asked of a server alone.
var lastExitRule = Rule{Concern: "state", Title: "Running state", check: func(in Input, r *Row) {
	r.Server = Cell{Text: in.Live.State}
	switch {
	case in.Live.Exited:
		r.Server.Text = "exited"
		r.block("The server should run and has exited on its own.", "Read its log, then start it: reshard servers start SERVER.")
	case in.Live.State == "starting":
		r.adjust("The server has been started and is not ready yet.", "Wait, or read its log.")
	default:
		r.say("The server is " + in.Live.State + ", as it should be.")
	}
}}
