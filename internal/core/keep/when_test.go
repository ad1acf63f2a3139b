package keep_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/keep"
)

// In Oslo the clock goes from 2:00 to 3:00 on 29 March 2026, and from 3:00 to 2:00 on 25 October.
func TestARuleIsDueByTheClockOnTheWall(t *testing.T) {
	for _, c := range []struct {
		name, cron, zone, from string
		want                   []string
	}{
		{
			"each day", "0 4 * * *", "Europe/Oslo", "2026-06-01T12:00:00+02:00",
			[]string{"2026-06-02T04:00:00+02:00", "2026-06-03T04:00:00+02:00"},
		},
		{"no zone is UTC", "0 4 * * *", "", "2026-06-01T12:00:00Z", []string{"2026-06-02T04:00:00Z"}},
		{
			"a skipped time is due once, when the clock goes on", "30 2 * * *", "Europe/Oslo",
			"2026-03-28T12:00:00+01:00",
			[]string{"2026-03-29T03:00:00+02:00", "2026-03-30T02:30:00+02:00"},
		},
		{
			"a skipped hour of several times is due once", "*/15 * * * *", "Europe/Oslo", "2026-03-29T01:40:00+01:00",
			[]string{"2026-03-29T01:45:00+01:00", "2026-03-29T03:00:00+02:00", "2026-03-29T03:15:00+02:00"},
		},
		{
			"a doubled time is due the first time", "30 2 * * *", "Europe/Oslo", "2026-10-25T01:00:00+02:00",
			[]string{"2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
		},
		{
			"a doubled hour counts once", "*/30 * * * *", "Europe/Oslo", "2026-10-25T02:10:00+02:00",
			[]string{"2026-10-25T02:30:00+02:00", "2026-10-25T03:00:00+01:00"},
		},
		{
			"asked within the doubled hour's second half", "15 2 * * *", "Europe/Oslo", "2026-10-25T02:05:00+01:00",
			[]string{"2026-10-26T02:15:00+01:00"},
		},
		{
			"half an hour of daylight saving", "15 2 * * *", "Australia/Lord_Howe", "2026-10-03T12:00:00+10:30",
			[]string{"2026-10-04T02:30:00+11:00", "2026-10-05T02:15:00+11:00"},
		},
		{"a leap day", "0 4 29 2 *", "UTC", "2026-06-01T12:00:00Z", []string{"2028-02-29T04:00:00Z"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := keep.When{Cron: c.cron, Zone: c.zone}
			require.NoError(t, w.Check())
			at, err := time.Parse(time.RFC3339, c.from)
			require.NoError(t, err)
			for _, want := range c.want {
				at = w.Next(at)
				zone, err := w.Location()
				require.NoError(t, err)
				assert.Equal(t, want, at.In(zone).Format(time.RFC3339))
			}
		})
	}
}

func TestWhatIsNoTimeIsRefused(t *testing.T) {
	for _, w := range []keep.When{
		{}, {Cron: "0 4 * * *", Every: 3600}, {Cron: "4 o'clock"}, {Cron: "0 4 * *"}, {Cron: "@every 1s"},
		{Cron: "TZ=Europe/Oslo 0 4 * * *"}, {Cron: "0 4 30 2 *"}, {Cron: "0 4 * * *", Zone: "Atlantis/Deep"},
		{Cron: "0 4 * * *", Zone: "Local"}, {Every: 5}, {Every: -1}, {Every: 1 << 60},
	} {
		assert.Error(t, w.Check(), "%+v", w)
	}
}

func TestADueTimeIsAlwaysAfterNow(t *testing.T) {
	for _, zone := range []string{"Europe/Oslo", "America/St_Johns", "Pacific/Apia", "Africa/Cairo", "UTC"} {
		for _, expression := range []string{"*/7 * * * *", "30 2 * * *", "0 0 * * *", "0 */5 1-7 * 0"} {
			w := keep.When{Cron: expression, Zone: zone}
			at := time.Date(2025, 12, 1, 0, 0, 0, 0, time.UTC)
			for range 3000 {
				next := w.Next(at)
				require.True(t, next.After(at), "%s %s: %s after %s", zone, expression, next, at)
				at = next
			}
		}
	}
}

func TestRulesOfOneTimeAreSpread(t *testing.T) {
	w := keep.When{Cron: "0 4 * * *"}
	seen := map[time.Duration]bool{}
	for id := range int64(50) {
		d := w.Spread(id, time.Now())
		assert.True(t, d >= 0 && d < 5*time.Minute)
		seen[d] = true
	}
	assert.Greater(t, len(seen), 40)
	assert.Less(t, keep.When{Cron: "*/10 * * * *"}.Spread(33, time.Now()), 30*time.Second)
}
