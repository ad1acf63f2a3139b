// Package life holds the states of a server's process, for everything that reads or
// shows them.
package life

import (
	"fmt"
	"slices"
	"strings"
)

// State is what is known of a server's process at a moment. The zero value is no state:
// whoever meets it has forgotten to ask.
type State string

// The states. Nothing may be moved, written or started while it is Unknown: a process
// that cannot be seen is not a process that is not there.
const (
	Running  State = "running"  // ready for players
	Starting State = "starting" // the process runs and is not ready yet
	Stopping State = "stopping" // told to stop and still running
	Stopped  State = "stopped"  // by evidence: all was looked at, and it is not there
	Unknown  State = "unknown"  // it cannot be told
)

// States lists all states.
func States() []State { return []State{Running, Starting, Stopping, Stopped, Unknown} }

// Valid reports whether a state is one of them.
func (s State) Valid() bool { return slices.Contains(States(), s) }

// Up reports whether a process is known to run.
func (s State) Up() bool {
	switch s {
	case Running, Starting, Stopping:
		return true
	case Stopped, Unknown:
		return false
	}
	panic(fmt.Sprintf("life: %q is no state", string(s)))
}

// Evidence says how it is known that a server is down. Each class stands for itself: a
// proof names the one it relies on.
type Evidence string

// The classes of evidence, from what was seen to what was said.
const (
	SawEnd  Evidence = "saw-end" // its process was seen to end
	Absent  Evidence = "absent"  // all processes were looked at, and none is the server's
	SaidSo  Evidence = "said-so" // its own interface says that it is down
	Sign    Evidence = "sign"    // something has changed that only its end changes
	Word    Evidence = "word"    // a person has said so
	NoneYet Evidence = ""        // it is not known to be down
)

// Say puts a class of evidence in words. by is who said so, where somebody did.
func (e Evidence) Say(by string) string {
	switch e {
	case SawEnd:
		return "its process was seen to end"
	case Absent:
		return "no process of it is there"
	case SaidSo:
		return "its own interface says so"
	case Sign:
		return strings.TrimSpace("seen by " + by)
	case Word:
		return strings.TrimSpace("the word of " + by)
	case NoneYet:
		return "it is not known"
	}
	return string(e)
}
