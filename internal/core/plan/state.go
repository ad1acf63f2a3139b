package plan

import (
	"slices"
	"strings"
	"time"

	"reshard/internal/core/life"
	"reshard/internal/core/server"
)

// State is where a changeover stands.
type State string

// The states of a changeover. From staging to proving, undoing and held it
// holds its server: no other changeover of that server can begin.
const (
	Drafted   State = "drafted"   // worked out, nothing done
	Staging   State = "staging"   // writing beside the live world; players still play
	Waiting   State = "waiting"   // for a person; staged, and players still play
	Switching State = "switching" // the stop window
	Proving   State = "proving"   // the server runs again and is being asked
	Done      State = "done"      // proven
	Undoing   State = "undoing"   // going back
	Undone    State = "undone"    // gone back: what was there before is there again
	Held      State = "held"      // neither forward nor back without a person
)

// next lists the states that may follow each state. The journal moves a
// changeover only along these, and only from the state it really has.
var next = map[State][]State{
	Drafted:   {Staging},
	Staging:   {Waiting, Switching, Proving, Undoing},
	Waiting:   {Switching, Proving, Undoing},
	Switching: {Proving, Undoing},
	Proving:   {Done, Undoing},
	Undoing:   {Undone, Held},
	Held:      {Undoing, Undone},
	Done:      {},
	Undone:    {},
}

// May reports whether a changeover may go from one state to another.
func (s State) May(to State) bool {
	for _, n := range next[s] {
		if n == to {
			return true
		}
	}
	return false
}

// Untouched reports whether nothing live has been touched yet, so that a changeover
// in this state can be cancelled.
func (s State) Untouched() bool { return s == Staging || s == Waiting }

// Open reports whether a changeover in this state holds its server.
func (s State) Open() bool {
	return s == Staging || s == Waiting || s == Switching || s == Proving || s == Undoing || s == Held
}

// States lists all states.
func States() []State {
	return []State{Drafted, Staging, Waiting, Switching, Proving, Done, Undoing, Undone, Held}
}

// StepState is where one step stands in the journal.
type StepState string

// The states of a step: intent is on record before the act, done after it.
const (
	StepPlanned  StepState = "planned"
	StepIntended StepState = "intended"
	StepDone     StepState = "done"
	StepUndone   StepState = "undone"
)

// Check is one line of a proof.
type Check struct {
	What     string `json:"what"`
	Expected string `json:"expected"`
	Seen     string `json:"seen"`
	OK       bool   `json:"ok"`
	// Unseen says that it could not be looked at: it is neither proven nor refuted.
	Unseen bool `json:"unseen,omitempty"`
	// Aside: it tells something worth knowing, and the proof does not hang on it.
	Aside bool `json:"aside,omitempty"`
	// Next is what helps against a check that failed.
	Next string `json:"next,omitempty"`
}

// Before is what was in the worlds folder right before the switch. The journal keeps it, so that a later life of the
// service judges by it too.
type Before struct {
	// Names are what could be taken for worlds.
	Names []string `json:"names"`
	// Seen is what those of the names were that the host tells apart, or tells the time of. Builds before did not note
	// it.
	Seen map[string]Seen `json:"seen,omitempty"`
	// Locks are the locks of worlds, by their paths, with their times.
	Locks map[string]time.Time `json:"locks,omitempty"`
}

// Seen is what tells a file or folder from another that has its name later.
type Seen struct {
	// ID is the host's own for it, "" when it tells none, as most far ones do.
	ID       string    `json:"id,omitempty"`
	Modified time.Time `json:"modified,omitzero"`
}

// The checks that show which world a game has opened.
const (
	LogNames   = "the log names the opened world"
	LockIn     = "the game's lock is in the world"
	AnswersTo  = "the console answers "
	NotVisible = "which world the game has opened"
)

// SawWorld reports whether a check has shown which world the game has opened.
func (p Proof) SawWorld() bool {
	return slices.ContainsFunc(p.Checks, func(c Check) bool {
		return c.OK && (c.What == LogNames || c.What == LockIn || strings.HasPrefix(c.What, AnswersTo))
	})
}

// SawRunning reports whether a proof has shown that a plan's world is the one running.
func (p Plan) SawRunning(proof Proof) bool {
	return p.Expect.Placed == "" && (p.Expect.State == "" || p.Expect.State == life.Running) && proof.SawWorld()
}

// Proof is the evidence that the intended world is the one running.
type Proof struct {
	Checks []Check `json:"checks"`
	// World is the world that the server is to run from then on, as the proof has read it.
	World *server.Identity `json:"world,omitempty"`
}

// Holds reports whether no check is refuted and at least one is proven: a proof in which
// nothing was seen proves nothing.
func (p Proof) Holds() bool {
	proven := slices.ContainsFunc(p.Checks, func(c Check) bool { return c.OK && !c.Aside })
	return proven && len(p.Failed()) == 0
}

// Unseen gives what could not be seen, neither proven nor refuted, and would have to be for a proof:
// what rests on a word is not seen.
func (p Proof) Unseen() (out []string) {
	for _, c := range p.Checks {
		if c.Unseen && !c.Aside {
			out = append(out, c.What+" ("+c.Seen+")")
		}
	}
	return out
}

// Failed gives the checks that are refuted.
func (p Proof) Failed() []Check {
	var out []Check
	for _, c := range p.Checks {
		if !c.OK && !c.Unseen && !c.Aside {
			out = append(out, c)
		}
	}
	return out
}
