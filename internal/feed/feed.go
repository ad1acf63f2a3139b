// Package feed hands what has changed to whoever watches. An event is told once for all
// who watch; one who is slow finds the newest of each thing, and never keeps anybody
// waiting.
package feed

import (
	"context"
	"sync"
)

// Kind is what an event is about.
type Kind string

// The kinds of events.
const (
	Server     Kind = "server"     // a server as it is now
	Gone       Kind = "gone"       // a server is forgotten
	Changeover Kind = "changeover" // a changeover as it is now
	Arrivals   Kind = "arrivals"   // all that is arriving
	Backup     Kind = "backup"     // a backup as it is now
	Alerts     Kind = "alerts"     // all that needs a person
)

// Event is something as it is now. Key names it among those of its kind: a later event
// stands for an earlier one of the same kind and key.
type Event struct {
	Kind  Kind
	Key   string
	Value any
}

type name struct {
	kind Kind
	key  string
}

// Feed is where events go through. The zero value is ready; it is safe for concurrent use.
type Feed struct {
	mu   sync.Mutex
	subs map[*Subscription]bool
	// asked is told that somebody has begun to watch.
	asked chan struct{}
}

// Subscription is one who watches.
type Subscription struct {
	feed *Feed
	want func(Kind, string) bool
	wake chan struct{}

	// under the feed's mu
	pending map[name]Event
	order   []name
}

// Watch begins to watch what want names. Close ends it.
func (f *Feed) Watch(want func(Kind, string) bool) *Subscription {
	s := &Subscription{feed: f, want: want, wake: make(chan struct{}, 1), pending: map[name]Event{}}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.subs == nil {
		f.subs = map[*Subscription]bool{}
	}
	f.subs[s] = true
	select {
	case f.begun() <- struct{}{}:
	default: // it has been said, and nobody has heard it yet
	}
	return s
}

// Begun is told when somebody begins to watch.
func (f *Feed) Begun() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.begun()
}

func (f *Feed) begun() chan struct{} {
	if f.asked == nil {
		f.asked = make(chan struct{}, 1)
	}
	return f.asked
}

// Watched reports whether anybody watches a thing: what nobody watches need not be told.
func (f *Feed) Watched(k Kind, key string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for s := range f.subs {
		if s.want(k, key) {
			return true
		}
	}
	return false
}

// Tell hands an event on. It never waits. Its value must not change any more.
func (f *Feed) Tell(e Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for s := range f.subs {
		if !s.want(e.Kind, e.Key) {
			continue
		}
		n := name{e.Kind, e.Key}
		if _, waits := s.pending[n]; !waits {
			s.order = append(s.order, n)
		}
		s.pending[n] = e
		select {
		case s.wake <- struct{}{}:
		default: // it is awake already
		}
	}
}

// Next waits for events and gives all that have come, in the order of their things' first
// change, each as it is now; none when ctx has ended.
func (s *Subscription) Next(ctx context.Context) []Event {
	for {
		if out := s.take(); len(out) > 0 {
			return out
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.wake:
		}
	}
}

func (s *Subscription) take() []Event {
	s.feed.mu.Lock()
	defer s.feed.mu.Unlock()
	out := make([]Event, 0, len(s.order))
	for _, n := range s.order {
		out = append(out, s.pending[n])
	}
	s.order = s.order[:0]
	clear(s.pending)
	return out
}

// Close ends the watching.
func (s *Subscription) Close() {
	s.feed.mu.Lock()
	defer s.feed.mu.Unlock()
	delete(s.feed.subs, s)
}
