package executor_test

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
)

// die lets the runner's goroutines stop for ever at a point, as a process that is
// killed there: nothing of it acts any more, and no deferred call runs.
func (s *stage) die(at int64) (dead chan struct{}) {
	var n atomic.Int64
	var gone atomic.Bool
	dead = make(chan struct{})
	hit := func(string) {
		if n.Add(1) == at {
			gone.Store(true)
			close(dead)
		}
		if gone.Load() {
			select {}
		}
	}
	s.log.hit, s.runner.Trace = hit, hit
	s.trouble.before = func(string, string) error {
		if gone.Load() {
			select {}
		}
		return nil
	}
	return dead
}

// The service dies at every journal write (before it and after it), between and inside
// of all steps, in every kind of changeover, forward and going back. Its next life
// finds exactly one whole world, the server running it, and closes the journal.
func TestKilledAtEveryPointOfEveryKind(t *testing.T) {
	everyKind(t, "points", func(t *testing.T, kind string, tried *atomic.Int64) {
		first, before, after, points := clean(t, kind)
		ranAfter := first.servers["north"].Running()
		for at := 1; at <= len(points); at++ {
			s := newStage(t, kind)
			ran := s.servers["north"].Running()
			dead := s.die(int64(at))
			ended := make(chan error, 1)
			go func() {
				if err := s.runner.Begin(context.Background(), s.job); err != nil {
					ended <- err
					return
				}
				ended <- s.runner.Carry(context.Background())
			}()
			select {
			case <-dead:
			case err := <-ended:
				require.Fail(t, "it did not die", "point %d, %s: %v", at, points[at-1], err)
			case <-time.After(30 * time.Second):
				require.Fail(t, "it hangs", "point %d, %s", at, points[at-1])
			}
			s.comeBack(t, points[at-1], ran, ranAfter, before, after)
			tried.Add(1)
		}
	})
}

// comeBack gives the stage its next life and looks at what it makes of it.
func (s *stage) comeBack(t *testing.T, point string, ran, ranAfter bool, before, after map[string]string) {
	t.Helper()
	time.Sleep(time.Millisecond) // whatever was in the midst of a call has ended it
	s.log.hit = nil
	s.life()
	job := s.log.job(s.plan)
	if job.State.Open() {
		_ = s.runner.Resume(context.Background(), job)
	}
	switch s.log.state {
	case plan.Drafted, plan.Undone:
		assert.Equal(t, before, s.tree(), "killed at %s, then %s", point, s.log.state)
		s.assertRuns(ran, "killed at %s", point)
	case plan.Done:
		assert.Equal(t, after, s.tree(), "killed at %s, then done", point)
		s.assertRuns(ranAfter, "killed at %s", point)
	default:
		assert.Fail(t, "the journal is open", "killed at %s: %s", point, s.log.state)
	}
	for n, state := range s.log.steps {
		assert.NotEqual(t, plan.StepIntended, state, "killed at %s: step %d (%s)", point, n, s.plan.Steps[n].Kind)
	}
	for name := range s.tree() {
		assert.NotContains(t, name, hostfs.TemporaryPrefix, "a temporary file is left")
	}
}
