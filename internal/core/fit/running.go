package fit

import "reshard/internal/core/life"

// runningRule: is the server in a state in which a changeover can begin? A
// running one is stopped cleanly by the plan: changed files under a running
// server are written over on its way down. One that cannot be seen is not taken for
// stopped.
var runningRule = Rule{Concern: "running", Title: "Running state", check: func(in Input, r *Row) {
	r.Server = Cell{Text: string(in.Live.State)}
	switch in.Live.State {
	case life.Running:
		switch {
		case in.Purpose == ForSwitch && in.CanLoad():
			r.say("The server is running, and can load another world without a stop.")
		case in.Purpose == ForPut:
			r.adjust("The server is running.", "Stage while people play, then stop it cleanly, and start it again.")
		default:
			r.adjust("The server is running.", "Stop it cleanly, and start it again.")
		}
	case life.Stopped:
		if in.Purpose == ForBack {
			r.say("The server is stopped, and stays so.")
			return
		}
		r.say("The server is stopped. The plan starts it to prove the world, and leaves it running.")
	case life.Starting, life.Stopping:
		r.block("The server is "+string(in.Live.State)+".", "Wait until it is running or stopped.")
	case life.Unknown:
		r.block(unknownWords(in))
	}
}}

// unknownWords are the finding and the mend when it cannot be told whether a server runs.
func unknownWords(in Input) (words, mend string) {
	return "It cannot be told whether the server runs: " + in.Live.Cause + ".",
		"Wait until it can be seen again. When you know that it is stopped, say so: " +
			"reshard servers stopped " + in.server() + "."
}
