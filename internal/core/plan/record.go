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
	Left       Left       `db:"detail"`
	IntendedAt *time.Time `db:"intended_at"`
	DoneAt     *time.Time `db:"done_at"`
	UndoneAt   *time.Time `db:"undone_at"`
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
