package changeovers

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/feed"
	"reshard/internal/wire"
)

// Whoever watches a changeover is told of its end also when it could not be read at that moment.
func TestTheEndIsTold(t *testing.T) {
	t.Parallel()
	ctx, done := context.WithTimeout(context.Background(), 5*time.Second)
	defer done()
	co := New(Config{Feed: &feed.Feed{}, Life: ctx})
	reads := 0
	co.read = func(context.Context, int64) (wire.Changeover, error) {
		reads++
		switch {
		case reads == 1:
			p := plan.Progress{ID: 7, State: plan.Proving}
			return wire.Changeover{ID: 7, State: plan.Proving, Progress: &p}, nil
		case reads < 4:
			return wire.Changeover{}, fault.New(fault.TooSlow, "read", "7", "its host takes long")
		}
		return wire.Changeover{ID: 7, State: plan.Done}, nil
	}
	u := &underway{
		progress: plan.Progress{ID: 7, State: plan.Proving}, moved: make(chan struct{}, 1), ended: make(chan struct{}),
	}
	co.board.now[7] = u
	watching := co.feed.Watch(func(feed.Kind, string) bool { return true })
	defer watching.Close()
	co.running.Go(func() { co.tellOf(7, u) })
	wake(u.moved)
	var last wire.Changeover
	see := func() bool {
		for _, e := range watching.Next(ctx) {
			last = e.Value.(wire.Changeover)
		}
		return ctx.Err() == nil
	}
	require.True(t, see())
	assert.Equal(t, plan.Proving, last.State)
	close(u.ended)
	for !rests(last) {
		require.True(t, see(), "the end is never told")
	}
	co.Wait()
}
