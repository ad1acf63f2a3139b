package control_test

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/control/memory"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
)

// moss says what the profile of Quarrymoss knows.
type moss struct{ quiet bool }

func (moss) Begin(say func(string)) int {
	say(`opening world "fen"`)
	say("ready on port 1")
	return memory.On
}

func (m moss) Hear(line string, say func(string)) int {
	switch line {
	case "halt":
		if !m.quiet {
			say("all tiles written")
		}
		return 0
	case "seed":
		say("seed is -7")
	}
	return memory.On
}

func (moss) Feel(control.Signal, func(string)) int { return 130 }

func setup(t *testing.T) (*control.Control, *memory.Server, *game.Profile) {
	t.Helper()
	shipped, err := games.Find("quarrymoss")
	require.NoError(t, err)
	p := *shipped
	p.Server.Waits = game.Waits{Start: time.Second, Stop: 100 * time.Millisecond, Settle: time.Millisecond}
	p.Server.Console.Say = "" // what is said to stop it is counted
	s := memory.New(moss{})
	return control.New("north", s, &p), s, &p
}

var errGone = fault.New(fault.Unreachable, "", "", "the line was cut")

// A server that cannot be seen is neither stopped nor started; when it can be seen again
// it is what it was.
func TestUnknownIsAState(t *testing.T) {
	t.Parallel()
	c, s, _ := setup(t)
	ctx := context.Background()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	s.Before = func(string) error { return errGone }
	st := c.Status(ctx)
	assert.Equal(t, life.Unknown, st.State)
	assert.Contains(t, st.Cause, "the line was cut")
	since := st.UnknownSince
	assert.WithinDuration(t, time.Now(), since, time.Second)
	time.Sleep(2 * time.Millisecond)
	assert.Equal(t, since, c.Status(ctx).UnknownSince, "since when is remembered")
	for name, act := range map[string]func() error{
		"stop":  func() error { _, err := c.Stop(ctx, control.Clean); return err },
		"force": func() error { _, err := c.Stop(ctx, control.Force); return err },
		"start": func() error { _, err := c.Start(ctx); return err },
	} {
		err := act()
		assert.ErrorIs(t, err, fault.StateUnknown.As(), name)
		assert.True(t, fault.Passing(err), name)
	}
	assert.True(t, s.Running(), "nothing was done to it")
	s.Before = nil
	st = c.Status(ctx)
	assert.Equal(t, life.Running, st.State)
	assert.Zero(t, st.UnknownSince)
}

// It was asked to stop and then cannot be seen any more: that is no stop, and asking
// again later finds it down, with evidence.
func TestAStopThatNobodySaw(t *testing.T) {
	t.Parallel()
	c, s, _ := setup(t)
	ctx := context.Background()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	said := false
	s.Before = func(op string) error {
		if said && op == "look" {
			return errGone
		}
		said = said || op == "say"
		return nil
	}
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As())
	s.Before = nil
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.Equal(t, control.Ending{Already: true, Clean: true, Evidence: life.SawEnd}, end)
}

// A game that was killed before it was asked to stop has not stopped cleanly.
func TestAKilledGameDidNotStopCleanly(t *testing.T) {
	t.Parallel()
	c, s, p := setup(t)
	ctx := context.Background()
	for range 2 { // what an earlier run said does not count for a later one
		_, err := c.Start(ctx)
		require.NoError(t, err)
		end, err := c.Stop(ctx, control.Clean)
		require.NoError(t, err)
		assert.True(t, end.Clean)
		assert.False(t, end.Already)
	}
	_, err := c.Start(ctx)
	require.NoError(t, err)
	s.Die()
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.True(t, end.Already)
	assert.False(t, end.Clean)
	p.Server.Console.Stop.Expect = game.Pattern{} // of a game that says nothing the exit code tells
	end, err = c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.False(t, end.Clean)
}

// What others start while a stop is waited for was never asked to, and is asked as well; those who never give it a
// rest are let have it.
func TestAStopThatOthersUndo(t *testing.T) {
	t.Parallel()
	for again, stops := range map[int]bool{1: true, 3: true, 100: false} {
		c, s, _ := setup(t)
		ctx := context.Background()
		_, err := c.Start(ctx)
		require.NoError(t, err)
		started := 0
		s.After = func(op string) error {
			if op != "say" || started == again {
				return nil
			}
			started++
			time.Sleep(time.Millisecond) // it is another time
			return s.Behind().Start(ctx)
		}
		end, err := c.Stop(ctx, control.Clean)
		if !stops {
			assert.ErrorIs(t, err, fault.NotStopped.As())
			assert.Equal(t, 4, started)
			continue
		}
		require.NoError(t, err, again)
		assert.True(t, end.Clean)
		assert.Equal(t, again, started)
	}
}

// A person's word stands in for what cannot be seen, is named, and is worth nothing once
// something can be seen.
func TestAPersonsWord(t *testing.T) {
	t.Parallel()
	c, s, _ := setup(t)
	ctx := context.Background()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	assert.ErrorIs(t, c.TakeWord(ctx, "ada", life.Stopped, false), fault.WrongState.As(), "it can be seen to run")
	s.Before = func(string) error { return errGone }
	require.NoError(t, c.TakeWord(ctx, "ada", life.Stopped, false))
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.Equal(t, life.Word, end.Evidence)
	assert.Equal(t, "the word of ada", end.Evidence.Say(end.By))
	assert.False(t, end.Clean, "nobody saw it say that all was written")
	s.Before = nil
	assert.Equal(t, life.Running, c.Status(ctx).State)
	s.Before = func(string) error { return errGone }
	assert.Equal(t, life.Unknown, c.Status(ctx).State, "the word is used up")
}

// One that asks and is not answered does not keep others waiting longer than they want.
func TestNobodyWaitsForOneWhoWaits(t *testing.T) {
	t.Parallel()
	c, s, _ := setup(t)
	release := make(chan struct{})
	var stuck atomic.Bool
	s.Before = func(string) error {
		if stuck.CompareAndSwap(false, true) {
			<-release
		}
		return nil
	}
	go c.Status(context.Background())
	require.Eventually(t, stuck.Load, time.Second, time.Millisecond)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	begun := time.Now()
	assert.Equal(t, life.Unknown, c.Status(ctx).State)
	assert.Less(t, time.Since(begun), 5*time.Second)
	close(release)
	assert.Equal(t, life.Stopped, c.Status(context.Background()).State)
}

// Waiting for a start that cannot be watched ends as unknown, and not as a failure.
func TestAStartThatCannotBeWatched(t *testing.T) {
	t.Parallel()
	c, s, p := setup(t)
	p.Server.Waits.Start = 30 * time.Millisecond
	started := false
	s.Before = func(op string) error {
		if started && op == "look" {
			return errGone
		}
		return nil
	}
	s.After = func(op string) error { started = started || op == "start"; return nil }
	_, err := c.Start(context.Background())
	assert.ErrorIs(t, err, fault.StateUnknown.As())
	s.Before = nil
	_, err = c.Start(context.Background())
	require.NoError(t, err, "it is only waited for")
}

// Its cause is told when a person ends a wait.
func TestCancelledWait(t *testing.T) {
	t.Parallel()
	c, _, p := setup(t)
	p.Server.Console.Ready = game.Pattern{}
	ctx, cancel := context.WithCancelCause(context.Background())
	why := errors.New("somebody said so")
	time.AfterFunc(10*time.Millisecond, func() { cancel(why) })
	_, err := c.Start(ctx)
	assert.ErrorIs(t, err, why)
	assert.ErrorIs(t, err, fault.Interrupted.As())
}

// Each line says where it ends, so that one who asks again can tell what is new.
func TestALogsLinesSayWhereTheyEnd(t *testing.T) {
	t.Parallel()
	c, s, _ := setup(t)
	_, err := c.Start(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Say(t.Context(), "seed"))
	ctx, done := context.WithTimeout(t.Context(), 5*time.Second)
	defer done()
	var whole string
	ends := map[int64]bool{}
	enough := errors.New("enough")
	err = c.Follow(ctx, 100, func(lines []control.Line) error {
		for _, l := range lines {
			whole += l.Text + "\n"
			assert.EqualValues(t, len(whole), l.Offset, l.Text)
			assert.False(t, ends[l.Offset], "%s: another line ends there", l.Text)
			ends[l.Offset] = true
			assert.NotEmpty(t, l.Run)
		}
		if len(ends) >= 3 {
			return enough
		}
		return nil
	})
	require.ErrorIs(t, err, enough)
}

// saver loses what was played when it stops, and saves when it is told to.
type saver struct {
	mute   bool
	heard  []string
	saved  int
	played int
}

func (*saver) Begin(say func(string)) int { say("ready on port 1"); return memory.On }

func (s *saver) Hear(line string, say func(string)) int {
	s.heard = append(s.heard, line)
	switch {
	case line == "halt":
		say("all tiles written")
		return 0
	case strings.HasPrefix(line, "save ") && !s.mute:
		s.saved = s.played
		say("saved " + strings.TrimPrefix(line, "save "))
	}
	return memory.On
}

func (*saver) Feel(control.Signal, func(string)) int { return 130 }

// Every clean stop tells players and saves before, where a stop loses what was played; what does not save is not
// stopped, unless that is wanted.
func TestStopMeansSaved(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		mute  bool
		mode  control.StopMode
		heard []string
		stops bool
	}{
		"it saves":                  {false, control.Clean, []string{"tell " + told, "save frost", "halt"}, true},
		"it does not save":          {true, control.Clean, []string{"tell " + told, "save frost"}, false},
		"it does not save, and may": {true, control.Unsaved, []string{"halt"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			shipped, err := games.Find("quarrymoss")
			require.NoError(t, err)
			p := *shipped
			p.Server.Waits = game.Waits{Start: time.Second, Stop: 100 * time.Millisecond, Settle: time.Millisecond}
			p.Server.Console.Say, p.Server.Console.Stop.Loses = "tell {text}", true
			p.Server.Console.Flush = game.Exchange{Say: "save {name}"}
			p.Server.Console.Flush.Expect = game.Pattern{Text: "^saved {name}$"}
			require.NoError(t, err)
			g := &saver{mute: c.mute, played: 100}
			s := memory.New(g)
			ctl := control.New("north", s, &p)
			ctl.Active = func(context.Context) (string, error) { return "frost", nil }
			ctx := context.Background()
			_, err = ctl.Start(ctx)
			require.NoError(t, err)
			_, err = ctl.Stop(ctx, c.mode)
			assert.Equal(t, c.stops, err == nil, "%v", err)
			assert.Equal(t, c.heard, g.heard)
			assert.Equal(t, !c.stops, s.Running())
			if !c.mute {
				assert.Equal(t, 100, g.saved)
			}
			if !c.stops {
				assert.ErrorIs(t, err, fault.NotStopped.As())
				what, next := fault.Words(err)
				assert.Contains(t, what, "what was played is not saved")
				assert.Contains(t, next, "--unsaved")
			}
		})
	}
}

const told = "The server stops now. What was built is saved."
