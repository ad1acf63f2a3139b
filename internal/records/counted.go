package records

import (
	"context"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
)

// Counted is the clock that rules count by (keep.Clock), kept in the database so that it goes on where it
// was in another life of the service. It is safe for concurrent use.
type Counted struct {
	r    *Records
	wall func() time.Time

	mu    sync.Mutex
	clock keep.Clock
	last  time.Duration // on the clock that nobody sets
}

// countedEvery is how often the clock is written down.
const countedEvery = 30 * time.Second

// Counted opens the clock; wall is the machine's, nil for that itself.
func (r *Records) Counted(ctx context.Context, wall func() time.Time) (*Counted, error) {
	if wall == nil {
		wall = time.Now
	}
	c := &Counted{r: r, wall: wall, last: awake()}
	err := classify("read", "clock", r.db.GetContext(ctx, &c.clock.Counted, `SELECT at FROM counted`))
	if fault.CodeOf(err) == fault.NotFound {
		err = nil
	}
	c.Now()
	return c, err
}

// Now gives the time that rules count with.
func (c *Counted) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := awake()
	c.clock = c.clock.Advance(c.wall(), now-c.last)
	c.last = now
	return c.clock.Counted
}

// Wall gives the machine's time.
func (c *Counted) Wall() time.Time { return c.wall() }

// Careful gives the earlier of the machine's time and the one that rules count with: what is older than something
// by it is so by both.
func (c *Counted) Careful() time.Time {
	counted, wall := c.Now(), c.wall()
	if wall.Before(counted) {
		return wall
	}
	return counted
}

// Age gives how old something is that is removed for its age, by the machine's clock and by the one that does not
// leap, whichever is less; since is its time by the machine's clock when it came to be. The other counts from when
// it was asked for first, which is kept under what's name.
func (c *Counted) Age(ctx context.Context, what string, since time.Time) (time.Duration, error) {
	now := c.Now()
	var first time.Time
	err := c.r.db.GetContext(ctx, &first, mineCTE+`INSERT INTO first_seen (what, at) SELECT $3, $4
		WHERE EXISTS (SELECT FROM mine) ON CONFLICT (what) DO UPDATE SET what = first_seen.what RETURNING at`,
		c.r.lease.holder, c.r.lease.epoch, what, now)
	if err != nil {
		return 0, classify("keep", "ages", err)
	}
	return min(now.Sub(first), c.wall().Sub(since)), nil
}

// about is a length of time as precise as a person wants it.
func about(d time.Duration) time.Duration {
	for _, unit := range []time.Duration{24 * time.Hour, time.Hour} {
		if d > 3*unit {
			return d.Round(unit)
		}
	}
	return d.Round(time.Minute)
}

// Trouble says what is odd about the machine's clock, "" when nothing is.
func (c *Counted) Trouble() string {
	counted, wall := c.Now(), c.wall()
	clock := keep.Clock{Counted: counted}
	if d := about(clock.Behind(wall)); d > 0 {
		return "The machine's clock has gone on by " + keep.Words(
			d) + " that nobody has watched. Until that is made up for, at " +
			"twice the speed, nothing goes for its age that would not have gone before."
	}
	if d := about(clock.Ahead(wall)); d > 0 {
		return "The machine's clock was set back by " + keep.Words(d) + ". Nothing grows older until it is there again."
	}
	return ""
}

// Trust takes the machine's clock for right: a person has looked at it.
func (c *Counted) Trust(ctx context.Context) error {
	c.mu.Lock()
	c.clock = keep.Clock{Counted: c.wall()}
	c.mu.Unlock()
	return c.write(ctx)
}

// Run writes the clock down now and then, until ctx ends.
func (c *Counted) Run(ctx context.Context) {
	tick := time.NewTicker(countedEvery)
	defer tick.Stop()
	for {
		_ = c.write(ctx) // it is written again; what is lost counts as time that nobody watched
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (c *Counted) write(ctx context.Context) error {
	_, err := c.r.db.ExecContext(
		ctx, mineCTE+`INSERT INTO counted (at) SELECT $3::timestamptz WHERE EXISTS (SELECT FROM mine)
		ON CONFLICT (one) DO UPDATE SET at = $3`, c.r.lease.holder, c.r.lease.epoch, c.Now())
	return classify("keep", "clock", err)
}
