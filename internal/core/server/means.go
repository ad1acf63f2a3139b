package server

// Means are how a server is started, stopped, watched and spoken to.
type Means struct {
	// By says which way it is; left out is the host's own: a process of the service on its own
	// machine, and elsewhere a session where commands can be given, else people.
	By By `json:"by,omitempty" enum:"process,session,unit,commands,provider,hand"`
	// Session names the terminal multiplexer's session, Unit the systemd unit; UserUnit: of the
	// account's own manager.
	Session  string `json:"session,omitempty"`
	Unit     string `json:"unit,omitempty"`
	UserUnit bool   `json:"userUnit,omitempty"`
	// Start, Stop, State, Say, Signal and Log are commands; see docs/far-hosts.md.
	Start  string `json:"start,omitempty"`
	Stop   string `json:"stop,omitempty"`
	State  string `json:"state,omitempty"`
	Say    string `json:"say,omitempty"`
	Signal string `json:"signal,omitempty"`
	Log    string `json:"log,omitempty"`
	// Machine is what the provider calls the server.
	Machine string `json:"machine,omitempty"`
	// LogFile is where its log is written, from its folder or absolute.
	LogFile string `json:"logFile,omitempty"`
}

// By is a way of control.
type By string

// The ways of control.
const (
	ByProcess  By = "process"  // a process of the service itself
	BySession  By = "session"  // a process in a named session of a terminal multiplexer
	ByUnit     By = "unit"     // a systemd unit
	ByCommands By = "commands" // commands that a person has given
	ByProvider By = "provider" // the provider's own interface
	ByHand     By = "hand"     // people, whose word is taken
)

// Hears reports whether a server's log can be read; file is where its game writes it, "" for its
// output.
func (m Means) Hears(file string) bool {
	switch m.By {
	case ByCommands:
		return m.Log != "" || m.LogFile != "" || file != ""
	case ByHand: // as a file beside its others
		return m.LogFile != "" || file != ""
	case ByProcess, BySession, ByUnit, ByProvider, "":
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
	case ByProcess, BySession, ByProvider, "":
	}
	return true
}
