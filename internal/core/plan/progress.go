package plan

import (
	"time"

	"reshard/internal/core/spelling"
)

// Progress is what a running changeover reports. It is a snapshot: the newest
// one says all.
type Progress struct {
	ID    int64 `json:"id"`
	State State `json:"state"`
	// Step counts from 0; StepKind and Say describe it.
	Step     int    `json:"step"`
	StepKind string `json:"stepKind"`
	Say      string `json:"say"`
	Going    string `json:"going"` // forward or back
	// Since is when the step began, SinceMS how long it has gone on, in milliseconds: another machine's
	// clock may say something else.
	Since   time.Time `json:"since,omitzero"`
	SinceMS int64     `json:"sinceMs"`
	// Bytes and Files of the stage step.
	Bytes      int64 `json:"bytes"`
	TotalBytes int64 `json:"totalBytes"`
	Files      int   `json:"files"`
	TotalFiles int   `json:"totalFiles"`
	// StoppedAt is when players were locked out, ReadyAt when they could come back, LockedOutMS how long
	// they have been, in milliseconds.
	StoppedAt   time.Time `json:"stoppedAt,omitzero"`
	ReadyAt     time.Time `json:"readyAt,omitzero"`
	LockedOutMS int64     `json:"lockedOutMs"`
	// Waiting says what it waits for, if anything (the database, a host).
	Waiting string `json:"waiting,omitempty"`
	// Asks is what a person is to do now at a server that only people can start and stop.
	Asks Asks `json:"asks,omitzero"`
}

// By gives the progress as it is told at a time.
func (p Progress) By(now time.Time) Progress {
	if !p.Since.IsZero() {
		p.SinceMS = now.Sub(p.Since).Milliseconds()
	}
	if !p.StoppedAt.IsZero() {
		if !p.ReadyAt.IsZero() {
			now = p.ReadyAt
		}
		p.LockedOutMS = now.Sub(p.StoppedAt).Milliseconds()
	}
	return p
}

// SayBack says what is done to take a step back.
func (s Step) SayBack() string {
	of := "the server"
	if s.Server != "" {
		of = s.Server
	}
	switch s.Kind {
	case Stop:
		return "Start " + of + " again."
	case Start:
		return "Stop " + of + "."
	case Write:
		return "Put " + s.File + " back as it was."
	}
	return "Take back: " + s.Say
}

// Asks is what a person is to do at a server; the zero value is nothing.
type Asks struct {
	Server string `json:"server"`
	What   string `json:"what" enum:"start,stop"`
	// Say is that in a sentence, with what to wait for; Watch by what the service sees that it was
	// done, so that nobody has to say so.
	Say   string `json:"say"`
	Watch string `json:"watch"`
	// Type is what a provider's page may hold in fields of its own, and is to be set there before a start:
	// nobody but a person sees them.
	Type []Typed `json:"type,omitempty"`
}

// Typed is a setting that a person may have to type.
type Typed struct {
	Label string `json:"label"` // as its settings file calls it
	Value string `json:"value"`
	// Spelled says how it is typed, letter by letter.
	Spelled string `json:"spelled"`
}

// Typing is what a person may have to type on a provider's page before a server is started: what the plan sets in
// its settings files, or, going back, what stood there before.
func (p Plan) Typing(back bool) (out []Typed) {
	for _, s := range p.Steps {
		if s.Kind != Write || s.Server != "" {
			continue
		}
		for _, e := range s.Edits {
			value := e.Value
			if back {
				value = e.Was
			}
			if e.Opened == "" && (!back || e.WasSet) {
				out = append(out, Typed{Label: e.Key, Value: value, Spelled: spelling.Say(value)})
			}
		}
	}
	return out
}
