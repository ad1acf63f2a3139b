// Package controltest is the suite that every driver of package control has to pass.
package controltest

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
)

// Harness is a driver under test. The game that it runs writes "opened NAME" with what
// it was started for, then "ready"; it answers "seed" with "seed is -7", ends with code 0
// on "halt" after "all written", and with code 3 on "crash"; SIGINT and SIGTERM end it.
type Harness struct {
	// Open gives a driver of a server of its own that is not running.
	Open func(t *testing.T) control.Driver
	// Down is how a server that was never started is known to be down.
	Down life.Evidence
	// Again gives another driver of the same server, as another life of the service
	// has it; nil where there are no other lives.
	Again func(t *testing.T, d control.Driver) control.Driver
	// Break has the next starts fail; nil where that cannot be had.
	Break func(t *testing.T, d control.Driver) (mend func())
	// Away makes the host go away, and come back when back is called.
	Away func(t *testing.T, d control.Driver) (back func())
}

type suite struct {
	Harness
	*testing.T
	d   control.Driver
	ctx context.Context
}

// Run runs the whole suite.
func Run(t *testing.T, h Harness) {
	for name, check := range map[string]func(s *suite){
		"a server that was never started":               (*suite).never,
		"start, say, end":                               (*suite).whole,
		"how it ended":                                  (*suite).exits,
		"signals":                                       (*suite).signals,
		"it is not started twice":                       (*suite).twice,
		"one starter among many":                        (*suite).many,
		"each run has its log":                          (*suite).logs,
		"another life finds it":                         (*suite).again,
		"a start that fails changes nothing":            (*suite).broken,
		"an ended context ends a call":                  (*suite).cancelled,
		"a host that goes away shows nothing":           (*suite).away,
		"a line with a break in it is not two commands": (*suite).breaks,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			check(&suite{Harness: h, T: t, d: h.Open(t), ctx: context.Background()})
		})
	}
}

func (s *suite) look() control.Sight {
	s.Helper()
	seen, err := s.d.Look(s.ctx)
	require.NoError(s, err)
	return seen
}

func (s *suite) start() {
	s.Helper()
	require.NoError(s, s.d.Start(s.ctx))
	s.until("ready")
}

// until waits for a line in the log of the present run.
func (s *suite) until(line string) {
	s.Helper()
	require.Eventually(s, func() bool { return strings.Contains(s.log(s.look().Run), line+"\n") }, 5*time.Second,
		s.d.Pace())
}

func (s *suite) untilDown() control.Sight {
	s.Helper()
	require.Eventually(s, func() bool { return s.look().Process == nil }, 5*time.Second, s.d.Pace())
	return s.look()
}

func (s *suite) log(run string) string {
	s.Helper()
	var out strings.Builder
	buf := make([]byte, 7) // small, so that it is read in parts
	for {
		n, err := s.d.ReadLog(s.ctx, run, buf, int64(out.Len()))
		require.NoError(s, err)
		if n == 0 {
			return out.String()
		}
		out.Write(buf[:n])
	}
}

func (s *suite) never() {
	seen := s.look()
	assert.Nil(s, seen.Process)
	assert.Equal(s, s.Down, seen.Evidence)
	assert.Empty(s, seen.Run)
	assert.Nil(s, seen.Exit)
	assert.ErrorIs(s, s.d.Say(s.ctx, "seed"), fault.WrongState.As())
	assert.NoError(s, s.d.Signal(s.ctx, control.Terminate), "what is not there needs no end")
	assert.Positive(s, s.d.Pace())
}

func (s *suite) whole() {
	s.start()
	seen := s.look()
	require.NotNil(s, seen.Process)
	assert.NotEmpty(s, seen.Process.Says)
	assert.WithinDuration(s, time.Now(), seen.Process.Since, 10*time.Second)
	assert.Equal(s, life.NoneYet, seen.Evidence)
	require.NoError(s, s.d.Say(s.ctx, "seed"))
	s.until("seed is -7")
	require.NoError(s, s.d.Say(s.ctx, "halt"))
	down := s.untilDown()
	assert.Equal(s, life.SawEnd, down.Evidence)
	assert.Equal(s, seen.Run, down.Run, "its log is still that of the last run")
	assert.Contains(s, s.log(down.Run), "all written\n")
}

func (s *suite) exits() {
	for line, code := range map[string]int{"halt": 0, "crash": 3} {
		s.start()
		require.NoError(s, s.d.Say(s.ctx, line))
		down := s.untilDown()
		require.NotNil(s, down.Exit, line)
		assert.Equal(s, code, down.Exit.Code, line)
		assert.WithinDuration(s, time.Now(), down.Exit.At, 10*time.Second)
	}
}

func (s *suite) signals() {
	for _, sig := range []control.Signal{control.Interrupt, control.Terminate, control.Kill} {
		s.start()
		require.NoError(s, s.d.Signal(s.ctx, sig))
		down := s.untilDown()
		require.NotNil(s, down.Exit)
		assert.NotZero(s, down.Exit.Code, sig)
	}
}

func (s *suite) twice() {
	s.start()
	before := s.look()
	assert.ErrorIs(s, s.d.Start(s.ctx), fault.WrongState.As())
	assert.Equal(s, before.Run, s.look().Run)
	assert.Equal(s, before.Process.Says, s.look().Process.Says)
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}

func (s *suite) many() {
	var wg sync.WaitGroup
	var mu sync.Mutex
	wins := 0
	for range 8 {
		wg.Go(func() {
			if s.d.Start(s.ctx) == nil {
				mu.Lock()
				wins++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	assert.Equal(s, 1, wins)
	s.until("ready")
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}

func (s *suite) logs() {
	var runs []string
	for range 2 {
		s.start()
		runs = append(runs, s.look().Run)
		require.NoError(s, s.d.Say(s.ctx, "halt"))
		s.untilDown()
	}
	assert.NotEqual(s, runs[0], runs[1])
	for _, run := range runs {
		assert.Equal(s, 1, strings.Count(s.log(run), "ready\n"), "a run's log is its own")
	}
	assert.Empty(s, s.log("no such run"))
}

func (s *suite) again() {
	if s.Again == nil {
		return
	}
	s.start()
	before := s.look()
	s.d = s.Again(s.T, s.d)
	after := s.look()
	require.NotNil(s, after.Process)
	assert.Equal(s, before.Process.Says, after.Process.Says)
	assert.WithinDuration(s, before.Process.Since, after.Process.Since, 2*time.Second)
	assert.Equal(s, before.Run, after.Run)
	assert.ErrorIs(s, s.d.Start(s.ctx), fault.WrongState.As())
	require.NoError(s, s.d.Say(s.ctx, "halt"))
	down := s.untilDown()
	assert.Contains(s, s.log(down.Run), "all written\n")
	s.start()
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}

func (s *suite) broken() {
	if s.Break == nil {
		return
	}
	s.start()
	require.NoError(s, s.d.Say(s.ctx, "halt"))
	before := s.untilDown()
	mend := s.Break(s.T, s.d)
	assert.Error(s, s.d.Start(s.ctx))
	after := s.look()
	assert.Nil(s, after.Process)
	assert.Equal(s, before.Run, after.Run, "the log of the last run is still that of the run before")
	mend()
	s.start()
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}

func (s *suite) cancelled() {
	s.start()
	ctx, cancel := context.WithCancel(s.ctx)
	cancel()
	_, err := s.d.Look(ctx)
	assert.ErrorIs(s, err, context.Canceled)
	assert.ErrorIs(s, s.d.Start(ctx), context.Canceled)
	assert.ErrorIs(s, s.d.Say(ctx, "halt"), context.Canceled)
	assert.ErrorIs(s, s.d.Signal(ctx, control.Kill), context.Canceled)
	_, err = s.d.ReadLog(ctx, s.look().Run, make([]byte, 1), 0)
	assert.ErrorIs(s, err, context.Canceled)
	assert.NotNil(s, s.look().Process, "nothing was done")
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}

func (s *suite) away() {
	if s.Away == nil {
		return
	}
	s.start()
	back := s.Away(s.T, s.d)
	_, err := s.d.Look(s.ctx)
	assert.True(s, fault.Passing(err), "that nothing is seen does not mean that it is not there: %v", err)
	assert.Error(s, s.d.Start(s.ctx), "what cannot be seen is not started")
	back()
	require.NotNil(s, s.look().Process)
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
	back = s.Away(s.T, s.d)
	_, err = s.d.Look(s.ctx)
	assert.True(s, fault.Passing(err), "also of one that was stopped a moment ago: %v", err)
	back()
	assert.Nil(s, s.look().Process)
}

func (s *suite) breaks() {
	s.start()
	assert.ErrorIs(s, s.d.Say(s.ctx, "seed\nhalt"), fault.Invalid.As())
	require.NoError(s, s.d.Say(s.ctx, "seed"))
	s.until("seed is -7")
	require.NoError(s, s.d.Signal(s.ctx, control.Kill))
	s.untilDown()
}
