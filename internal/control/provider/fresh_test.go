package provider

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What is new in the last part of a log is what follows its longest beginning with which the part before ended, and a
// log of lines that are all alike takes no longer than another.
func TestWhatIsNewInALog(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // the same each time
	lines := func() []string {
		out := make([]string, r.IntN(9))
		for i := range out {
			out[i] = string(rune('a' + r.IntN(2)))
		}
		return out
	}
	for range 2000 {
		before, now := lines(), lines()
		want := now
		for n := min(len(before), len(now)); n > 0; n-- {
			if slices.Equal(before[len(before)-n:], now[:n]) {
				want = now[n:]
				break
			}
		}
		assert.Equal(t, want, fresh(before, now), "%q after %q", now, before)
	}
	alike := slices.Repeat([]string{"a"}, 1_000_000)
	begun := time.Now()
	assert.Len(t, fresh(append(slices.Clone(alike), "b"), append(slices.Clone(alike), "c")), 1_000_001)
	assert.Less(t, time.Since(begun), 10*time.Second, "by comparing each with each it takes hours")
}
