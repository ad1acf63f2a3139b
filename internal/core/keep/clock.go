package keep

import "time"

// Clock is the clock that rules count by. It goes as the machine's does, but not by leaps: what the
// machine's clock has leapt ahead is made up for at twice the speed, and while it is behind, it stands.
// So a clock that was set wrongly makes nothing older than it is, and time in which no service
// watched counts no sooner than in as much time again.
type Clock struct {
	// Counted is the time that rules count with.
	Counted time.Time `json:"counted"`
}

// slack is how much a clock may differ from the one beside it without having leapt: clocks are set by
// small steps all the time.
const slack = 2 * time.Second

// Advance gives the clock after time has passed: wall is what the machine's clock says now, passed how
// much time has gone by since the last advance, by a clock that nobody sets.
func (c Clock) Advance(wall time.Time, passed time.Duration) Clock {
	if c.Counted.IsZero() {
		return Clock{wall}
	}
	passed = max(0, passed)
	ahead := wall.Sub(c.Counted)
	switch {
	case ahead <= 0:
		return c
	case ahead <= passed+slack:
		return Clock{wall}
	}
	return Clock{c.Counted.Add(min(ahead, 2*passed))}
}

// Behind is how far the clock is behind the machine's; 0 when it is not.
func (c Clock) Behind(wall time.Time) time.Duration {
	if d := wall.Sub(c.Counted); d > slack && !c.Counted.IsZero() {
		return d
	}
	return 0
}

// Ahead is how far the clock is ahead of the machine's: that one was set back.
func (c Clock) Ahead(wall time.Time) time.Duration {
	if d := c.Counted.Sub(wall); d > slack {
		return d
	}
	return 0
}

// Again reports whether it is time to do again what was done last at a time, by the machine's clock: after so long, or
// when that clock has been set back to before then.
func Again(last, wall time.Time, every time.Duration) bool {
	since := wall.Sub(last)
	return since >= every || since < -slack
}

// ByWall gives when a time of the clock that rules count by will be by the machine's, as far as that can be
// told now.
func ByWall(at, counted, wall time.Time) time.Time {
	if apart := wall.Sub(counted); apart.Abs() > slack {
		return at.Add(apart)
	}
	return at
}
