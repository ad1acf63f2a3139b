package plan

import (
	"encoding/json"
	"fmt"
	"time"
)

// StepRecord is what the journal knows of one step.
type StepRecord struct {
	N     int       `db:"n"`
	Kind  string    `db:"kind"`
	State StepState `db:"state"`
	// Left is what the step has left for later steps, the proof and people; the executor
	// says what that is.
	Left   Left       `db:"detail"`
	DoneAt *time.Time `db:"done_at"` // by the machine's clock
	// Intended, Done and Undone are when it was, to measure with: by a clock that nobody sets, which
	// other times are not to be compared with. nil: it was not.
	Intended *time.Time `db:"intended_even"`
	Done     *time.Time `db:"done_even"`
	Undone   *time.Time `db:"undone_even"`
}

// Left is a JSON value; empty when a step has left nothing.
type Left json.RawMessage

// Scan reads it from a database.
func (l *Left) Scan(src any) error {
	switch s := src.(type) {
	case nil:
		*l = nil
	case string:
		*l = Left(s)
	case []byte:
		*l = Left(string(s))
	default:
		return fmt.Errorf("cannot read %T as JSON", src)
	}
	return nil
}
