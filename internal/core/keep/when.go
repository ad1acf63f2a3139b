package keep

import (
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"reshard/internal/core/fault"
)

// When says when a rule is due: at times of a clock, or every so often while somebody plays.
type When struct {
	// Cron is a cron expression of five fields (minute, hour, day of the month, month, day of the
	// week), as on any Unix machine, or one of @hourly, @daily, @weekly and @monthly. "": Every counts.
	Cron string `json:"cron,omitempty"`
	// Zone is the time zone of Cron, and of the days and months that are kept, as in the tz
	// database: Europe/Oslo. "" is UTC.
	Zone string `json:"zone,omitempty"`
	// Every is how often, in seconds, while somebody plays.
	Every int64 `json:"every,omitempty"`
}

// shortest is how often a rule may be due.
const shortest = 60 * time.Second

// Check says what is wrong with it, nil when nothing is.
func (w When) Check() error {
	bad := func(format string, args ...any) *fault.Error {
		return fault.New(fault.Invalid, "read", "when a backup is due", format, args...)
	}
	switch {
	case w.Cron == "" && w.Every == 0:
		return bad("it says neither times nor how often").
			With("Give a cron expression such as “0 4 * * *”, or how often while somebody plays.")
	case w.Cron != "" && w.Every != 0:
		return bad("it says both times and how often while somebody plays").With("Make two rules of it.")
	case w.Cron == "" && time.Duration(w.Every)*time.Second < shortest, w.Every > int64(366*24*3600):
		return bad("every %d seconds is not between a minute and a year", w.Every)
	}
	if _, err := w.Location(); err != nil {
		return bad("there is no time zone %q", w.Zone).
			With("Names are those of the tz database, such as Europe/Oslo or UTC.")
	}
	if w.Cron == "" {
		return nil
	}
	s, err := w.schedule()
	if err != nil {
		return bad("“%s” is no cron expression: %s", w.Cron, strings.TrimSpace(err.Error())).
			With("It has five fields: minute, hour, day of the month, month, day of the week. 0 4 * * * is each day " +
				"at four.")
	}
	if s.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return bad("“%s” names no day that there is", w.Cron)
	}
	return nil
}

// Location is the time zone.
func (w When) Location() (*time.Location, error) {
	if strings.EqualFold(w.Zone, "local") { // the machine's own says another thing on another machine
		return nil, fmt.Errorf("unknown time zone %s", w.Zone)
	}
	return time.LoadLocation(w.Zone)
}

var fields = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor)

func (w When) schedule() (cron.Schedule, error) {
	if strings.Contains(w.Cron, "=") || strings.HasPrefix(w.Cron, "@every") { // a zone of its own; no times
		return nil, fmt.Errorf("only times stand in it, and the zone beside it")
	}
	return fields.Parse(w.Cron)
}

// Next is the first time after now at which the rule is due by the clock; the zero time for none, or
// where it is due while somebody plays. Times that daylight saving skips are due once, when the clock
// goes on; of times that come twice only the first counts.
func (w When) Next(now time.Time) time.Time {
	s, err := w.schedule()
	zone, zerr := w.Location()
	if w.Cron == "" || err != nil || zerr != nil {
		return time.Time{}
	}
	// The expression is asked about what clocks on the wall say, as if there were no daylight saving; just
	// after the clock has gone on or back it begins early enough to see what was skipped.
	wall := onWall(now.In(zone))
	if _, then := now.Add(-4 * time.Hour).In(zone).Zone(); then != offsetAt(now, zone) {
		wall = wall.Add(-4 * time.Hour)
	}
	for range 10000 {
		wall = s.Next(wall)
		if wall.IsZero() {
			return time.Time{}
		}
		if at := atWall(wall, zone); at.After(now) {
			return at
		}
	}
	return time.Time{}
}

func offsetAt(t time.Time, zone *time.Location) int {
	_, offset := t.In(zone).Zone()
	return offset
}

// onWall is what a clock on the wall says, as a time of a zone that knows no daylight saving.
func onWall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// atWall is when a clock on the wall says that time first, or goes past it.
func atWall(wall time.Time, zone *time.Location) time.Time {
	at := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	// Which of the two a doubled time is, and where a skipped one lies, package time leaves open: both are
	// found by the offset that was in force before.
	_, before := at.Add(-26 * time.Hour).Zone()
	first := wall.Add(-time.Duration(before) * time.Second).In(zone)
	if onWall(first).Equal(wall) {
		return first
	}
	if onWall(at).Equal(wall) {
		return at
	}
	// It is skipped: due when the clock goes on.
	low, high := first.Add(-26*time.Hour), first
	for high.Sub(low) > time.Millisecond {
		mid := low.Add(high.Sub(low) / 2)
		if onWall(mid.In(zone)).Before(wall) {
			low = mid
		} else {
			high = mid
		}
	}
	return high.Truncate(time.Second)
}

// String says when, in words.
func (w When) String() string {
	if w.Cron == "" {
		return "every " + Words(time.Duration(w.Every)*time.Second) + " while somebody plays"
	}
	zone := w.Zone
	if zone == "" {
		zone = "UTC"
	}
	return "at " + w.Cron + " (" + zone + ")"
}

// Words is a length of time in the largest units that say it exactly.
func Words(d time.Duration) string {
	for _, u := range []struct {
		of   time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if d >= u.of && d%u.of == 0 {
			n := d / u.of
			if n == 1 {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return d.String()
}

// Spread is how long after its time a rule begins, so that rules of one time do not all begin at once:
// a twentieth of its step, at most five minutes, by its number.
func (w When) Spread(id int64, now time.Time) time.Duration {
	if w.Cron == "" {
		return 0
	}
	next := w.Next(now)
	step := w.Next(next).Sub(next)
	return time.Duration(id*7919%100) * min(step/20, 5*time.Minute) / 100
}
