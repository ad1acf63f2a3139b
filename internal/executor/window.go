package executor

import (
	"fmt"
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
			if DetailOf(rec).ByPeople() { // who stopped it took their time, and players played until then
				begun, w.Stopping = done, 0
			}
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

// longestOurs is how long Reshard's own part of a stop window may take before it is said why.
const longestOurs = time.Second

// WhyLong says what took the time when Reshard's own part of a stop window was longer than a second; "" when it was
// not.
func WhyLong(steps []plan.Step, records []plan.StepRecord, w plan.Window) string {
	ours := time.Duration(w.Ours) * time.Millisecond
	if ours <= longestOurs {
		return ""
	}
	var longest, all time.Duration
	say := ""
	for n, s := range steps {
		switch {
		case s.Server != "" || !s.Switch:
			continue
		case s.Kind == plan.Stop:
			longest, all = 0, 0
			continue
		case s.Kind == plan.Start:
			continue
		}
		took := at(records[n].Done).Sub(at(records[n].Intended))
		if all += took; took > longest {
			longest, say = took, s.Say
		}
	}
	between := ours - all
	says := fmt.Sprintf("Reshard's own part took %.1f s, longer than it should.", ours.Seconds())
	if longest >= between/2 && say != "" {
		return says + fmt.Sprintf(" The longest step took %.1f s: %s", longest.Seconds(), say)
	}
	return says + " Most of it passed between the steps. Check how fast the host and the database answer."
}

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
