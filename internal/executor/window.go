package executor

import (
	"time"

	"reshard/internal/core/plan"
)

// Window splits the stop window that a job's journal tells of: the game's
// stopping and starting, and what was ours, in milliseconds; ok is false when
// there was none.
func Window(steps []plan.Step, records []plan.StepRecord) (w plan.Window, total time.Duration, ok bool) {
	w = plan.Window{Stopping: -1, Ours: -1, Starting: -1}
	var begun, down, up time.Time
	for n, s := range steps {
		rec := records[n]
		intended, done := at(rec.Intended), at(rec.Done)
		if s.Switch && begun.IsZero() {
			begun, down = intended, intended
		}
		switch s.Kind {
		case plan.Stop:
			if s.Server != "" {
				continue
			}
			begun, down = intended, done // what was said before the stop locked nobody out
			w.Stopping = DetailOf(rec).TookMS
		case plan.Start:
			if s.Server != "" {
				continue
			}
			up = intended
			w.Starting = DetailOf(rec).TookMS
			if done.IsZero() {
				return w, 0, false
			}
		}
	}
	if begun.IsZero() || down.IsZero() || up.IsZero() {
		return w, 0, false
	}
	w.Ours = up.Sub(down).Milliseconds()
	total = up.Sub(begun) + time.Duration(w.Starting)*time.Millisecond
	return w, total, true
}

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
