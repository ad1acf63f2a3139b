package plan

import (
	"fmt"
	"strings"
)

// Part is a part of the story of a changeover: a heading, and what is to be said below it.
type Part struct {
	Title string   `json:"title"`
	Says  []string `json:"says"`
}

// Told is what a story is told from: a changeover as the journal has it.
type Told struct {
	ID    int64
	Plan  Plan
	State State
	Steps []StepState
	// Notes say how steps went, by their numbers.
	Notes map[int]string
	Proof *Proof
	// What and Next are the cause of its end and the advice that goes with it; "": none.
	What, Next string
}

// Story tells a changeover that did not end done, for a person who was not there: what was meant, what was seen,
// what was done, what stands where, and what to do. One that is done, or was never begun, has none.
func (t Told) Story() []Part {
	switch t.State {
	case Undone, Held, Undoing:
	case Drafted, Staging, Waiting, Switching, Proving, Done:
		return nil
	}
	return []Part{
		{Title: "What was meant", Says: t.meant()}, {Title: "What was seen", Says: t.seen()},
		{Title: "What was done", Says: t.done()}, {Title: "What stands where", Says: t.stands()},
		{Title: "What to do", Says: t.todo()},
	}
}

func (t Told) meant() []string {
	return []string{fmt.Sprintf("To %s on %s.", t.Plan.Title(), t.Plan.Server)}
}

func (t Told) seen() (out []string) {
	if t.What != "" {
		out = append(out, t.What)
	}
	if t.Proof != nil {
		for _, c := range t.Proof.Failed() {
			out = append(out, fmt.Sprintf("%s: expected %s, seen %s", c.What, c.Expected, c.Seen))
		}
		for _, c := range t.Proof.Unseen() {
			out = append(out, "Not seen: "+c)
		}
	}
	if len(out) == 0 {
		out = append(out, "The journal holds no cause.")
	}
	return out
}

func (t Told) done() (out []string) {
	for n, s := range t.Plan.Steps {
		state := StepPlanned
		if n < len(t.Steps) {
			state = t.Steps[n]
		}
		say := strings.TrimSuffix(s.Say, ".")
		switch state {
		case StepDone:
			say = "Done: " + say
		case StepUndone:
			say = "Done or begun, and taken back: " + say
		case StepIntended:
			say = "Begun, and how far it came cannot be told: " + say
		case StepPlanned:
			say = "Not begun: " + say
		}
		if note := t.Notes[n]; note != "" {
			say += ". " + strings.TrimSuffix(note, ".")
		}
		out = append(out, say+".")
	}
	return out
}

func (t Told) stands() (out []string) {
	switch t.State {
	case Undone:
		out = append(out, GoneBack(t.Plan, t.Steps))
		if !untouched(t.Plan, t.Steps) {
			out = append(out, "What the server made meanwhile, if anything, is kept in "+t.Plan.Work+" of "+
				t.Plan.Server+" until it is tidied: reshard tidy "+t.Plan.Server+".")
		}
	case Held, Undoing, Drafted, Staging, Waiting, Switching, Proving, Done:
		for n, s := range t.Plan.Steps {
			if n >= len(t.Steps) || t.Steps[n] != StepDone && t.Steps[n] != StepIntended {
				continue
			}
			switch s.Kind {
			case Move:
				out = append(out, fmt.Sprintf("%s was to go to %s: look in both.", s.From, s.To))
			case Write:
				out = append(out, fmt.Sprintf("%s was to be written; as it was it is kept in %s.", s.File, s.Keep))
			case Stop:
				out = append(out, t.Plan.Server+" was stopped for this, and may be down.")
			}
		}
	}
	if len(out) == 0 {
		out = append(out, "Nothing live was touched.")
	}
	return out
}

// GoneBack says what there is when a changeover is undone.
func GoneBack(p Plan, steps []StepState) string {
	if untouched(p, steps) {
		return "Nothing live was touched: Reshard did nothing to " + p.Server + "."
	}
	return "What was there before is there again."
}

// untouched reports whether no step inside the stop window was begun.
func untouched(p Plan, steps []StepState) bool {
	for n, s := range p.Steps {
		if s.Switch && n < len(steps) && steps[n] != StepPlanned {
			return false
		}
	}
	return true
}

func (t Told) todo() (out []string) {
	if t.Next != "" {
		out = append(out, t.Next)
	}
	switch t.State {
	case Undone:
		if !strings.HasPrefix(t.Next, "Make it again") {
			out = append(out, "Then make it again: a new draft is worked out from what is there now.")
		}
	case Held:
		out = append(out, fmt.Sprintf("To have it go back once more: reshard undo %d.", t.ID),
			fmt.Sprintf("When you have put it right by hand: reshard changeovers settle %d.", t.ID))
	case Undoing:
		out = append(out, fmt.Sprintf("It is going back: reshard changeovers show %d.", t.ID))
	case Drafted, Staging, Waiting, Switching, Proving, Done:
	}
	return out
}
