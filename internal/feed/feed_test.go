package feed_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/feed"
)

func servers(k feed.Kind, _ string) bool { return k == feed.Server }

func TestTheSlowFindTheNewestOfEachThing(t *testing.T) {
	t.Parallel()
	var f feed.Feed
	s := f.Watch(servers)
	defer s.Close()
	for i := range 1000 {
		f.Tell(feed.Event{Kind: feed.Server, Key: "north", Value: i})
	}
	f.Tell(feed.Event{Kind: feed.Arrivals, Value: "not asked for"})
	f.Tell(feed.Event{Kind: feed.Server, Key: "south", Value: "s"})
	f.Tell(feed.Event{Kind: feed.Server, Key: "north", Value: "last"})
	assert.Equal(t, []feed.Event{
		{Kind: feed.Server, Key: "north", Value: "last"}, {Kind: feed.Server, Key: "south", Value: "s"},
	}, s.Next(t.Context()))
	ended, end := context.WithCancel(t.Context())
	end()
	assert.Empty(t, s.Next(ended), "nothing more has come")
}

func TestWatched(t *testing.T) {
	t.Parallel()
	var f feed.Feed
	assert.False(t, f.Watched(feed.Server, "north"))
	s := f.Watch(servers)
	assert.True(t, f.Watched(feed.Server, "north"))
	assert.False(t, f.Watched(feed.Changeover, "1"))
	select {
	case <-f.Begun():
	default:
		assert.Fail(t, "nobody was told that somebody watches")
	}
	s.Close()
	s.Close()
	assert.False(t, f.Watched(feed.Server, "north"))
	f.Tell(feed.Event{Kind: feed.Server}) // nobody is there
}

func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	var f feed.Feed
	ctx, done := context.WithTimeout(t.Context(), 10*time.Second)
	defer done()
	var all sync.WaitGroup
	for range 50 {
		s := f.Watch(servers)
		all.Go(func() {
			defer s.Close()
			for {
				events := s.Next(ctx)
				require.NotEmpty(t, events)
				if events[len(events)-1].Value == 999 {
					return
				}
			}
		})
	}
	for i := range 1000 {
		f.Tell(feed.Event{Kind: feed.Server, Key: "north", Value: i})
	}
	all.Wait()
}
