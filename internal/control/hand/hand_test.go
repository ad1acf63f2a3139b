package hand_test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/control/hand"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
)

func TestAServerInPeoplesHands(t *testing.T) {
	t.Parallel()
	shipped, err := games.Find("quarrymoss")
	require.NoError(t, err)
	p := *shipped
	p.Server.Waits = game.Waits{Start: 300 * time.Millisecond, Stop: 300 * time.Millisecond, Settle: time.Millisecond}
	c := control.New("north", hand.New("north"), &p)
	ctx := context.Background()

	st := c.Status(ctx)
	assert.Equal(t, life.Unknown, st.State, "nobody has said anything")
	assert.Contains(t, st.Cause, "only people can see whether it runs")
	_, err = c.Start(ctx)
	assert.ErrorIs(t, err, fault.StateUnknown.As())

	require.NoError(t, c.TakeWord(ctx, "Edda", life.Running, false))
	st = c.Status(ctx)
	assert.Equal(t, life.Running, st.State)
	assert.Equal(t, "the word of Edda", st.Process)
	assert.True(t, st.Unheard)
	assert.True(t, st.Told)
	assert.Equal(t, "Edda", st.Word, "a proof names it")

	// A stop asks a person, and what they are asked to do is what the state says.
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As())
	st = c.Status(ctx)
	assert.Equal(t, life.Unknown, st.State)
	assert.Contains(t, st.Cause, "a person has been asked to stop it")
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As(), "it is not taken for stopped")
	require.NoError(t, c.TakeWord(ctx, "Runa", life.Stopped, false))
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.Equal(t, life.Word, end.Evidence)
	assert.Equal(t, "Runa", end.By)
	assert.False(t, end.Clean)

	// Likewise a start, also while it is waited for.
	go func() {
		time.Sleep(100 * time.Millisecond)
		_ = c.TakeWord(ctx, "Edda", life.Running, false)
	}()
	_, err = c.Start(ctx)
	require.NoError(t, err)
	assert.Equal(t, life.Running, c.Status(ctx).State)
	assert.ErrorIs(t, c.Tell(ctx, game.Exchange{Say: "hold"}, time.Second), fault.Unsupported.As())
}

// eyes see what a test has them see.
type eyes struct {
	mu    sync.Mutex
	signs control.Signs
	log   string
	kept  []byte
}

func (e *eyes) set(change func(*control.Signs)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	change(&e.signs)
}

func (e *eyes) Signs(context.Context, control.Signs) (control.Signs, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.signs, nil
}

func (e *eyes) ReadLog(_ context.Context, p []byte, at int64) (int, error) {
	return copy(p, e.log[min(at, int64(len(e.log))):]), nil
}

func (e *eyes) Says(_ context.Context, done control.Asked, from int64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return strings.Contains(e.log[from:], string(done))
}

func (e *eyes) Keep(raw []byte) func() {
	e.kept = raw
	return func() {}
}
func (e *eyes) Kept() []byte { return e.kept }

// What has changed since a person was asked tells that it was done; what was so before does not.
func TestSigns(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	ask := func(t *testing.T, e *eyes, up bool) *hand.Hand {
		t.Helper()
		h := hand.New("north")
		h.See(e)
		h.Believe(!up, "Edda")
		if up {
			require.NoError(t, h.Start(ctx))
		} else {
			require.NoError(t, h.Stop(ctx))
		}
		_, err := h.Look(ctx)
		require.ErrorIs(t, err, fault.StateUnknown.As())
		return h
	}
	look := func(h *hand.Hand) (control.Sight, error) {
		time.Sleep(1100 * time.Millisecond) // as long as signs count
		return h.Look(ctx)
	}
	for name, c := range map[string]struct {
		before control.Signs
		up     bool
		change func(*control.Signs)
		says   string // "": nothing tells
		opens  string
	}{
		"a lock comes": {
			control.Signs{Log: -1, Looked: true, World: "fen"}, true,
			func(s *control.Signs) { s.Locked = true }, "its lock, which is there now (fen)", "fen",
		},
		"a lock that was there": {
			control.Signs{Log: -1, Looked: true, World: "fen", Locked: true}, true, func(*control.Signs) {}, "", "",
		},
		"another world's lock": {
			control.Signs{Log: -1, Looked: true, World: "fen"}, true,
			func(s *control.Signs) { s.World, s.Locked = "winter", true }, "", "",
		},
		"a lock comes in another world": {
			control.Signs{
				Log: -1, Looked: true, World: "worlds/fen", Around: true,
				Near: map[string]time.Time{"worlds/old/lock": time.Unix(1000, 0)},
			}, true,
			func(s *control.Signs) {
				s.Near = map[string]time.Time{
					"worlds/old/lock": time.Unix(1000, 0), "worlds/winter/db/lock": time.Unix(900, 0),
				}
			},
			"its lock, which is in another world (worlds/winter)", "worlds/winter",
		},
		"a lock in another world that was there": {
			control.Signs{
				Log: -1, Looked: true, World: "worlds/fen", Around: true,
				Near: map[string]time.Time{"worlds/old/lock": time.Unix(1000, 0)},
			}, true, func(*control.Signs) {}, "", "",
		},
		"a lock goes": {
			control.Signs{Log: -1, Looked: true, World: "fen", Locked: true}, false,
			func(s *control.Signs) { s.Locked = false }, "its lock, which has gone (fen)", "",
		},
		"a port opens": {
			control.Signs{Log: -1, Port: 7}, true, func(s *control.Signs) { s.Listens = true }, "its port 7", "",
		},
		"a port that cannot be seen any more": {
			control.Signs{Log: -1, Port: 7, Listens: true}, false, func(s *control.Signs) { s.Port = 0 }, "", "",
		},
		"its world is written": {
			control.Signs{Log: -1, World: "fen", Written: time.Unix(1000, 0)}, true,
			func(s *control.Signs) { s.Written = time.Unix(1060, 0) },
			"its world's files, which are written again (fen)",
			"",
		},
		"its world was written while it was to be stopped": {
			control.Signs{Log: -1, World: "fen", Written: time.Unix(1000, 0)}, false,
			func(s *control.Signs) { s.Written = time.Unix(1060, 0) }, "", "",
		},
		"another world is written": {
			control.Signs{Log: -1, World: "fen", Written: time.Unix(1000, 0)}, true,
			func(s *control.Signs) { s.World, s.Written = "winter", time.Unix(1060, 0) }, "", "",
		},
		"the log goes on, and does not say so": {
			control.Signs{Log: 3}, true, func(s *control.Signs) { s.Log = 5 }, "", "",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			e := &eyes{signs: c.before, log: "old and new"}
			h := ask(t, e, c.up)
			e.set(c.change)
			seen, err := look(h)
			if c.says == "" {
				require.ErrorIs(t, err, fault.StateUnknown.As())
				return
			}
			require.NoError(t, err)
			assert.Contains(t, seen.Says(), c.says)
			assert.Equal(t, c.up, seen.Process != nil)
			if c.up {
				assert.Equal(t, c.opens, seen.Process.Opens)
				assert.Empty(t, seen.Process.Word)
			}
		})
	}
	t.Run("a lock goes, and the log says that it ended well", func(t *testing.T) {
		t.Parallel()
		shipped, err := games.Find("quarrymoss")
		require.NoError(t, err)
		e := &eyes{signs: control.Signs{Log: 3, Looked: true, World: "fen", Locked: true}, log: "old"}
		h := hand.New("north")
		h.See(e)
		h.Believe(true, "Edda")
		c := control.New("north", h, shipped)
		asked, err := c.AskPeople(ctx, control.AskedToStop)
		require.NoError(t, err)
		require.True(t, asked)
		e.set(func(s *control.Signs) { s.Locked = false })
		down := func() bool { return c.Status(ctx).State == life.Stopped }
		require.Eventually(t, down, 5*time.Second, 50*time.Millisecond)
		end, err := c.Stop(ctx, control.Clean)
		require.NoError(t, err)
		assert.False(t, end.Clean, "the log has not said so")
		e.mu.Lock()
		e.log += "stop"
		e.mu.Unlock()
		end, err = c.Stop(ctx, control.Clean)
		require.NoError(t, err)
		assert.True(t, end.Clean)
		assert.Equal(t, life.Sign, end.Evidence)
	})
	t.Run("the log says so, in another life", func(t *testing.T) {
		t.Parallel()
		e := &eyes{signs: control.Signs{Log: 3}, log: "old"}
		ask(t, e, true)
		e.log += "start"
		e.set(func(s *control.Signs) { s.Log = 8 })
		h := hand.New("north")
		h.See(e)
		seen, err := h.Look(ctx)
		require.NoError(t, err)
		assert.Equal(t, "its log", seen.Says())
		buf := make([]byte, 10)
		n, err := h.ReadLog(ctx, seen.Run, buf, 0)
		require.NoError(t, err)
		assert.Equal(t, "start", string(buf[:n]), "the run begins where it was asked for")
		assert.Nil(t, e.kept, "nothing is asked any more")
	})
}
