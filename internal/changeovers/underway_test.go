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

// What is read of a changeover while it moves may say of its state less than its progress does. Who watches is told of
// the state all the same, also when nothing moves after it, and when a reading has failed.
func TestAStateThatNothingFollowsIsTold(t *testing.T) {
	t.Parallel()
	staging, waiting := plan.Progress{ID: 7, Step: 1, State: plan.Staging}, plan.Progress{
		ID: 7, Step: 2, State: plan.Waiting,
	}
	torn := wire.Changeover{ID: 7, State: plan.Staging, Progress: &waiting}
	whole := wire.Changeover{ID: 7, State: plan.Waiting, Progress: &waiting}
	slow := fault.New(fault.TooSlow, "read", "7", "its host takes long")
	for name, read := range map[string]func(n int, moves func()) (wire.Changeover, error){
		"torn for who begins to watch": func(n int, moves func()) (wire.Changeover, error) {
			if n == 1 {
				moves()
				return torn, nil
			}
			return whole, nil
		},
		"failed": func(n int, moves func()) (wire.Changeover, error) {
			switch n {
			case 1:
				return wire.Changeover{ID: 7, State: plan.Staging, Progress: &staging}, nil
			case 2:
				moves()
				return wire.Changeover{}, slow
			case 3:
				return wire.Changeover{}, slow
			}
			return whole, nil
		},
		"torn": func(n int, moves func()) (wire.Changeover, error) {
			switch n {
			case 1, 2:
				return wire.Changeover{ID: 7, State: plan.Staging, Progress: &staging}, nil
			case 3:
				moves()
				return torn, nil
			}
			return whole, nil
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx, done := context.WithTimeout(context.Background(), 5*time.Second)
			defer done()
			co := New(Config{Feed: &feed.Feed{}, Life: ctx})
			u := &underway{progress: staging, moved: make(chan struct{}, 1), ended: make(chan struct{})}
			co.board.now[7] = u
			reads := 0
			co.read = func(context.Context, int64) (wire.Changeover, error) {
				reads++
				return read(reads, func() {
					co.board.mu.Lock()
					defer co.board.mu.Unlock()
					u.progress = waiting
					wake(u.moved)
				})
			}
			co.running.Go(func() { co.tellOf(7, u) })
			time.Sleep(2 * recordLags) // it has gone on for a while, and nobody watched
			watching := co.feed.Watch(func(feed.Kind, string) bool { return true })
			defer watching.Close()
			seen, err := co.known(ctx, 7)
			require.NoError(t, err)
			require.Equal(t, plan.Staging, seen.State)
			wake(u.moved)
			for seen.State != plan.Waiting {
				events := watching.Next(ctx)
				require.NotEmpty(t, events, "that it waits is never told")
				seen = events[len(events)-1].Value.(wire.Changeover)
			}
			close(u.ended)
		})
	}
}

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
