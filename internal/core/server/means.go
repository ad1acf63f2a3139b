package server

// Means are how a server is started, stopped, watched and spoken to.
type Means struct {
	// By says which way it is; "" is the host's own: a process of the service on its own
	// machine, and elsewhere a session where commands can be given, else people.
	By By `json:"by,omitempty" enum:"process,session,unit,commands,hand" doc:"how it is controlled; left out: what the host allows"`
	// Session names the terminal multiplexer's session, Unit the systemd unit; UserUnit: of the
	// account's own manager.
	Session  string `json:"session,omitempty" doc:"of the terminal multiplexer that the server's command runs in"`
	Unit     string `json:"unit,omitempty" doc:"systemd unit"`
	UserUnit bool   `json:"userUnit,omitempty" doc:"the unit is one of the account's own manager"`
	// Start, Stop, State, Say, Signal and Log are commands; see docs/far-hosts.md.
	Start  string `json:"start,omitempty" doc:"command that starts it and returns"`
	Stop   string `json:"stop,omitempty" doc:"command that asks it to end; left out: as the game's profile says"`
	State  string `json:"state,omitempty" doc:"command that ends with 0 when it runs, with 1 or 3 when it does not"`
	Say    string `json:"say,omitempty" doc:"command that gets a line for the console on its input"`
	Signal string `json:"signal,omitempty" doc:"command that sends it the signal $signal"`
	Log    string `json:"log,omitempty" doc:"command that prints the log of the present run from its beginning"`
	// LogFile is where its log is written, from its folder or absolute.
	LogFile string `json:"logFile,omitempty" doc:"file with its log, from its folder or absolute"`
}

// By is a way of control.
type By string

// The ways of control.
const (
	ByProcess  By = "process"  // a process of the service itself
	BySession  By = "session"  // a process in a named session of a terminal multiplexer
	ByUnit     By = "unit"     // a systemd unit
	ByCommands By = "commands" // commands that a person has given
	ByHand     By = "hand"     // people, whose word is taken
)

// Hears reports whether a server's log can be read; file is where its game writes it, "" for its
// output.
func (m Means) Hears(file string) bool {
	switch m.By {
	case ByCommands:
		return m.Log != "" || m.LogFile != "" || file != ""
	case ByHand:
		return false
	case ByProcess, BySession, ByUnit, "":
	}
	return true
}

// Speaks reports whether a line can be said to a server's console.
func (m Means) Speaks() bool {
	switch m.By {
	case ByUnit, ByCommands:
		return m.Say != ""
	case ByHand:
		return false
	case ByProcess, BySession, "":
	}
	return true
}
