package keep_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/keep"
)

const sentence = "all for 2 days, then one a day for 3 weeks, then one a week for 6 months, then one a month for ever"

func long(t testing.TB, s string) keep.Long {
	l, err := keep.ParseLong(s)
	require.NoError(t, err)
	return l
}

func TestHowLongReadsAsASentence(t *testing.T) {
	for _, s := range []string{
		sentence, "all for ever", "all for 1 hour, then one every 6 hours for 1 day", "one a year for ever",
		"one an hour for 36 hours, then one every 2 days for 1 month",
	} {
		assert.Equal(t, s, long(t, s).String())
	}
	assert.Equal(t, sentence, long(t, "  All for 2 DAYS,one a day for 3 weeks, then one  a week for 6 months,"+
		" then one a month for ever.").String())
	for _, s := range []string{
		"", "for ever", "all", "all for ever, then one a day for 2 days", "all for 0 days", "one every 0 days for ever",
		"7 a day for ever", "all for 99999999 years", "all for 200 years", "all for 2 days; one a day for 2 days",
		"all for 2 days, then", "all for -1 days",
	} {
		_, err := keep.ParseLong(s)
		assert.ErrorContains(t, err, "how long backups are kept", s)
	}
}

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// every gives good backups, one every step, for so long until now.
func every(step, span time.Duration) (out []keep.Backup) {
	for at := now.Add(-span); !at.After(now); at = at.Add(step) {
		n := int64(len(out) + 1)
		out = append(out, keep.Backup{ID: n, Counted: at, Good: true, Bytes: 1000, Written: 1000 + 10*n})
	}
	return out
}

func kept(fates []keep.Fate) (ids []int64) {
	for _, f := range fates {
		if f.Keeps {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

func TestBackupsThinOutWithAge(t *testing.T) {
	s := keep.Series{
		Backups: every(6*time.Hour, 60*24*time.Hour),
		Long: long(t, "all for 2 days, then one a day for 8 days, "+
			"then one a week for 5 weeks"),
	}
	fates := keep.Thin(now, []keep.Series{s}, keep.Totals{})[0]
	count := map[string]int{}
	for i, f := range fates {
		age := now.Sub(s.Backups[i].Counted)
		switch {
		case age < 48*time.Hour:
			assert.True(t, f.Keeps)
			count["all"]++
		case f.Keeps && age < 10*24*time.Hour:
			assert.Equal(t, 0, s.Backups[i].Counted.Hour(), "the first of its day")
			count["day"]++
		case f.Keeps:
			count["week"]++
		case age >= 45*24*time.Hour:
			assert.Contains(t, f.Why, "older than")
		default:
			assert.Contains(t, f.Why, "is kept at this age")
		}
	}
	assert.Equal(t, 8, count["all"])
	assert.InDelta(t, 8, count["day"], 1)
	assert.InDelta(t, 5, count["week"], 1)
}

func TestWhatStandsAboveRules(t *testing.T) {
	list := every(24*time.Hour, 100*24*time.Hour)
	list[3].Held = "pinned"
	for i := 50; i < len(list); i++ {
		list[i].Good = false // whatever came later was never read back
	}
	s := keep.Series{Backups: list, Long: long(t, "all for 1 hour"), Allowance: keep.Allowance{Number: 1}}
	fates := keep.Thin(now, []keep.Series{s}, keep.Totals{Allowance: keep.Allowance{Number: 1}})[0]
	assert.Equal(t, []int64{list[3].ID, list[49].ID}, kept(fates))
	assert.Equal(t, "pinned", fates[3].Why)
	assert.Equal(t, "the last good one", fates[49].Why)
}

func TestAllowances(t *testing.T) {
	t.Run("number", func(t *testing.T) {
		s := keep.Series{
			Backups:   every(time.Hour, 20*time.Hour),
			Long:      long(t, "all for ever"),
			Allowance: keep.Allowance{Number: 5},
		}
		assert.Equal(t, []int64{17, 18, 19, 20, 21}, kept(keep.Thin(now, []keep.Series{s}, keep.Totals{})[0]))
	})
	t.Run("bytes: the newest whole, of older ones what changed since", func(t *testing.T) {
		s := keep.Series{
			Backups:   every(time.Hour, 20*time.Hour),
			Long:      long(t, "all for ever"),
			Allowance: keep.Allowance{Bytes: 1050},
		}
		assert.Len(t, kept(keep.Thin(now, []keep.Series{s}, keep.Totals{})[0]), 6)
	})
	t.Run("for all servers the oldest of all go", func(t *testing.T) {
		old := keep.Series{Backups: every(time.Hour, 20*time.Hour)[:10], Long: long(t, "all for ever")}
		young := keep.Series{Backups: every(time.Hour, 20*time.Hour)[15:], Long: long(t, "all for ever")}
		fates := keep.Thin(now, []keep.Series{old, young},
			keep.Totals{Allowance: keep.Allowance{Number: 4}})
		assert.Equal(t, []int64{10}, kept(fates[0]), "its last good one")
		assert.Equal(t, []int64{19, 20, 21}, kept(fates[1]))
	})
	t.Run("for a server over its rules, and no other", func(t *testing.T) {
		one := keep.Series{Server: "north", Backups: every(time.Hour, 20*time.Hour)[:10], Long: long(t, "all for ever")}
		two := keep.Series{Server: "north", Backups: every(time.Hour, 20*time.Hour)[15:], Long: long(t, "all for ever")}
		other := keep.Series{Server: "south", Backups: every(time.Hour, 20*time.Hour), Long: long(t, "all for ever")}
		fates := keep.Thin(now, []keep.Series{one, two, other},
			keep.Totals{Servers: map[string]keep.Allowance{"north": {Number: 4}}})
		assert.Equal(t, []int64{10}, kept(fates[0]), "its last good one")
		assert.Equal(t, []int64{19, 20, 21}, kept(fates[1]))
		assert.Len(t, kept(fates[2]), 21)
		assert.Contains(t, fates[0][0].Why, "the allowance for north")
	})
}

// A life of random histories: backups made, some bad, some pinned, the machine's clock leaping about,
// the service away for a while, thinning whenever. What a rule keeps must never be gone.
func TestNothingThatARuleKeepsGoes(t *testing.T) {
	for seed := range uint64(20) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { liveThrough(t, rand.New(rand.NewPCG(seed, 7))) })
	}
}

func liveThrough(t *testing.T, r *rand.Rand) {
	l := long(t, []string{sentence, "one a day for 5 days, then one a week for 3 weeks", "all for 3 days"}[r.IntN(3)])
	zone, err := time.LoadLocation([]string{"UTC", "Europe/Oslo", "Pacific/Apia"}[r.IntN(3)])
	require.NoError(t, err)
	real, leap := now, time.Duration(0)
	var clock keep.Clock
	clock = clock.Advance(real, 0)
	truth := map[int64]time.Time{} // when each was really made
	var there []keep.Backup
	for id := int64(1); id < 1200; id++ {
		step := time.Duration(r.Int64N(int64(5 * time.Hour)))
		real = real.Add(step)
		switch r.IntN(40) {
		case 0: // a leap ahead, for longer than anything is kept
			leap = time.Duration(r.Int64N(int64(400 * 24 * time.Hour)))
		case 1:
			leap = -time.Duration(r.Int64N(int64(90 * 24 * time.Hour)))
		case 2:
			leap = 0
		}
		before := clock
		clock = clock.Advance(real.Add(leap), step)
		require.False(t, clock.Counted.Before(before.Counted), "it never goes back")
		require.LessOrEqual(t, clock.Counted.Sub(before.Counted), 2*step+2*time.Second, "it never leaps")
		b := keep.Backup{ID: id, Counted: clock.Counted, Good: r.IntN(8) > 0, Bytes: 1000, Written: 1000 * id}
		if r.IntN(60) == 0 {
			b.Held = "pinned"
		}
		there = append(there, b)
		truth[id] = real
		if r.IntN(3) > 0 {
			continue
		}
		fates := keep.Thin(clock.Counted, []keep.Series{{Backups: there, Long: l, Zone: zone}}, keep.Totals{})[0]
		lastGood, stays := int64(0), []keep.Backup{}
		for i, f := range fates {
			if there[i].Good {
				lastGood = there[i].ID
			}
			require.True(t, f.Keeps || there[i].Held == "", "a pin stands above rules")
			require.NotEmpty(t, f.Why)
			if f.Keeps {
				stays = append(stays, there[i])
			} else {
				require.Greater(t, 2*real.Sub(truth[f.ID])+time.Hour, l[0].Span.Duration()*boolTo(l[0].Each.Count == 0),
					"it went before half of the time in which all are kept, in real time")
			}
		}
		again := keep.Thin(clock.Counted, []keep.Series{{Backups: stays, Long: l, Zone: zone}}, keep.Totals{})[0]
		require.Len(t, kept(again), len(stays), "what is kept is kept when it is looked at again")
		require.True(t, lastGood == 0 || slices.Contains(kept(fates), lastGood), "the last good one never goes")
		there = stays
	}
}

func boolTo(b bool) time.Duration {
	if b {
		return 1
	}
	return 0
}

// Thinning as time goes keeps what thinning at the end would.
func TestAPreviewIsWhatComesOfARule(t *testing.T) {
	l := long(t, "all for 2 days, then one a day for 10 days, then one a week for 8 weeks")
	w := keep.When{Cron: "0 */8 * * *", Zone: "Europe/Oslo"}
	zone, _ := w.Location()
	var there []keep.Backup
	for at := w.Next(now.Add(-120 * 24 * time.Hour)); !at.After(now); at = w.Next(at) {
		there = append(there, keep.Backup{ID: int64(len(there)), Counted: at, Good: true})
		var stays []keep.Backup
		for i, f := range keep.Thin(at, []keep.Series{{Backups: there, Long: l, Zone: zone}}, keep.Totals{})[0] {
			if f.Keeps {
				stays = append(stays, there[i])
			}
		}
		there = stays
	}
	var lived, shown []string
	for i, f := range keep.Thin(now, []keep.Series{{Backups: there, Long: l, Zone: zone}}, keep.Totals{})[0] {
		if f.Keeps {
			lived = append(lived, there[i].Counted.Format(time.RFC3339))
		}
	}
	for _, s := range keep.Preview(w, keep.Series{Long: l, Zone: zone}, now) {
		if s.Keeps {
			shown = append(shown, s.At.Format(time.RFC3339))
		}
	}
	assert.Equal(t, lived, shown)
}

func TestAClockThatLeapsMakesNothingOlder(t *testing.T) {
	c := keep.Clock{}.Advance(now, 0)
	c = c.Advance(now.Add(30*24*time.Hour), time.Minute)
	assert.Equal(t, now.Add(2*time.Minute), c.Counted, "a month ahead counts as twice the minute that passed")
	assert.Equal(t, 30*24*time.Hour-2*time.Minute, c.Behind(now.Add(30*24*time.Hour)))
	back := c.Advance(now.Add(-time.Hour), time.Minute)
	assert.Equal(t, c, back, "it stands while the machine's is behind")
	assert.Positive(t, back.Ahead(now.Add(-time.Hour)))
	for last, again := range map[time.Duration]bool{
		-2 * time.Hour: true, -time.Hour: true, -time.Minute: false, time.Second: false, time.Minute: true,
	} {
		assert.Equal(t, again, keep.Again(now.Add(last), now, time.Hour), last)
	}
	assert.Equal(t, now.Add(time.Hour), keep.Clock{Counted: now}.Advance(now.Add(time.Hour), time.Hour).Counted)
}

// A rule over 10,000 copies: docs/operations.md has the figure.
func BenchmarkThin(b *testing.B) {
	s := keep.Series{
		Backups: every(30*time.Minute, 10000*30*time.Minute), Long: long(b, sentence),
		Allowance: keep.Allowance{Number: 500},
	}
	for b.Loop() {
		keep.Thin(now, []keep.Series{s}, keep.Totals{Allowance: keep.Allowance{Bytes: 1 << 30}})
	}
}
