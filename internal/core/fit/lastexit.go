package fit

import "reshard/internal/core/life"

// lastExitRule: does the server run as it should? It is asked of a server alone.
var lastExitRule = Rule{Concern: "state", Title: "Running state", check: func(in Input, r *Row) {
	r.Server = Cell{Text: string(in.Live.State)}
	if in.Live.Exited {
		r.Server.Text = "exited"
		r.block("The server should run and has exited on its own.",
			"Read its log, then start it: reshard servers start "+in.server()+".")
		return
	}
	switch in.Live.State {
	case life.Starting:
		r.adjust("The server has been started and is not ready yet.", "Wait, or read its log.")
	case life.Stopping:
		r.adjust("The server has been told to stop and is not down yet.", "Wait, or read its log.")
	case life.Unknown:
		r.block(unknownWords(in))
	case life.Running, life.Stopped:
		r.say("The server is " + string(in.Live.State) + ", as it should be.")
	}
}}
