package executor_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/executor"
	"reshard/internal/hostfs/memory"
)

// everyKind runs a test on each kind of changeover, and tells how much was tried.
func everyKind(t *testing.T, what string, try func(t *testing.T, kind string, tried *atomic.Int64)) {
	t.Parallel()
	var tried atomic.Int64
	t.Run("kinds", func(t *testing.T) {
		for kind := range kinds {
			t.Run(kind, func(t *testing.T) {
				t.Parallel()
				try(t, kind, &tried)
			})
		}
	})
	t.Logf("%d %s tried", tried.Load(), what)
}

// stride is how many points are passed over in a run that is not for all of them.
func stride(of int64) int64 {
	if os.Getenv("RESHARD_EVERY_POINT") != "" {
		return 1
	}
	return of
}

// changing are the calls of a file driver that change something.
var changing = []string{"create", "write", "close", "mkdir", "rename", "remove", "set", "sync"}

// failAt has the n-th of these calls fail; it counts them, and names the one that failed.
func (s *stage) failAt(n int64, cause error) (calls *atomic.Int64, failed *atomic.Value) {
	calls, failed = &atomic.Int64{}, &atomic.Value{}
	s.trouble.before = func(op, name string) error {
		if !slices.Contains(changing, op) || calls.Add(1) != n {
			return nil
		}
		failed.Store(op + " " + name)
		return cause
	}
	return calls, failed
}

// An error, a short write and a full disk at every single file operation of every
// kind of changeover: each time everything is as it was, and the old world runs.
func TestAFaultAtEveryFileOperation(t *testing.T) {
	everyKind(t, "faults", func(t *testing.T, kind string, tried *atomic.Int64) {
		whole := newStage(t, kind)
		before, ran := whole.tree(), whole.servers["north"].Running()
		calls, _ := whole.failAt(0, nil)
		ctx := context.Background()
		require.NoError(t, whole.runner.Begin(ctx, whole.job))
		_ = whole.runner.Carry(ctx) // those that are refused go back
		for _, cause := range []error{
			fault.New(fault.NoSpace, "", "", "the disk is full"),
			fault.New(fault.Internal, "", "", "input/output error"),
		} {
			for at := int64(1); at <= calls.Load() && !strings.HasSuffix(kind, "is refused"); at += stride(3) {
				s := newStage(t, kind)
				_, failed := s.failAt(at, cause)
				require.NoError(t, s.runner.Begin(ctx, s.job))
				err := s.runner.Carry(ctx)
				late := strings.Contains(failed.Load().(string), "/reserve") ||
					strings.HasSuffix(failed.Load().(string), plan.MarkFile)
				if late && s.log.state == plan.Done {
					require.NoError(t, err) // it is proven: what is left of ours takes a little room
					continue
				}
				require.Error(t, err, "operation %d, %v", at, failed.Load())
				require.Equal(t, plan.Undone, s.log.state, "operation %d, %v: %v", at, failed.Load(), err)
				assert.Equal(t, fault.CodeOf(cause), fault.CodeOf(err), "operation %d, %v: %v", at, failed.Load(), err)
				assert.Equal(t, before, s.tree(), "operation %d, %v", at, failed.Load())
				s.assertRuns(ran, "operation %d, %v", at, failed.Load())
				for n, state := range s.log.steps {
					assert.Equal(t, plan.StepUndone, state, "step %d", n)
				}
				tried.Add(1)
			}
		}
	})
}

// vanish has the host go away at its n-th call, of whatever kind, and for some calls
// after it. With answered the call at which it goes still has its effect, and its answer
// is lost.
func (s *stage) vanish(n, calls int64, answered bool) (count *atomic.Int64, at *atomic.Value) {
	count, at = &atomic.Int64{}, &atomic.Value{}
	gone := fault.New(fault.Unreachable, "", "", "the host went away")
	away := func(i int64) bool { return i >= n && (calls < 0 || i < n+calls) }
	s.trouble.before = func(op, name string) error {
		i := count.Add(1)
		if i == n {
			at.Store(op + " " + name)
		}
		if away(i) && !(answered && i == n) {
			if !strings.HasSuffix(name, plan.MarkFile) {
				s.missed.Add(1)
			}
			return gone
		}
		return nil
	}
	s.trouble.after = func(string, string) error {
		if answered && away(count.Load()) {
			return gone
		}
		return nil
	}
	return count, at
}

// The host goes away at each call of every kind of changeover, before the call has had
// its effect or after it, and comes back a little later: the changeover waits, and ends
// as if nothing had been.
func TestAHostThatVanishesAtEveryCall(t *testing.T) {
	everyKind(t, "calls", func(t *testing.T, kind string, tried *atomic.Int64) {
		whole, before, after, _ := clean(t, kind)
		ranAfter := whole.servers["north"].Running()
		counted := newStage(t, kind)
		count, _ := counted.vanish(0, 0, false)
		ran := counted.servers["north"].Running()
		ctx := context.Background()
		require.NoError(t, counted.runner.Begin(ctx, counted.job))
		_ = counted.runner.Carry(ctx) // those that are refused go back
		for _, answered := range []bool{false, true} {
			for n := int64(1); n <= count.Load(); n += stride(3) {
				s := newStage(t, kind)
				_, at := s.vanish(n, 3, answered)
				require.NoError(t, s.runner.Begin(ctx, s.job))
				err := s.runner.Carry(ctx)
				what := "call %d (%v), answered %v: %v"
				if strings.HasSuffix(kind, "is refused") {
					require.Equal(t, plan.Undone, s.log.state, what, n, at.Load(), answered, err)
					require.Equal(t, before, s.tree(), what, n, at.Load(), answered, err)
					s.assertRuns(ran, what, n, at.Load(), answered, err)
				} else {
					require.Equal(t, plan.Done, s.log.state, what, n, at.Load(), answered, err)
					require.Equal(t, after, s.tree(), what, n, at.Load(), answered, err)
					s.assertRuns(ranAfter, what, n, at.Load(), answered, err)
				}
				tried.Add(1)
			}
		}
	})
}

// The host goes away and does not come back while the service lives: the changeover is
// left as it stands, neither undone nor half. The next life ends it when the host is
// back.
func TestAHostThatComesBackInAnotherLife(t *testing.T) {
	everyKind(t, "calls", func(t *testing.T, kind string, tried *atomic.Int64) {
		whole, before, after, _ := clean(t, kind)
		ranAfter := whole.servers["north"].Running()
		counted := newStage(t, kind)
		count, _ := counted.vanish(0, 0, false)
		ran := counted.servers["north"].Running()
		require.NoError(t, counted.runner.Begin(context.Background(), counted.job))
		_ = counted.runner.Carry(context.Background()) // those that are refused go back
		for n := int64(1); n <= count.Load(); n += stride(5) {
			s := newStage(t, kind)
			s.profile.Server.Waits.Start, s.profile.Server.Waits.Stop = 150*time.Millisecond, 150*time.Millisecond
			_, at := s.vanish(n, -1, n%2 == 1)
			ctx, leave := context.WithCancelCause(context.Background())
			var left atomic.Bool
			s.runner.Report = func(p plan.Progress) {
				if p.Waiting != "" && left.CompareAndSwap(false, true) {
					assert.Contains(t, p.Waiting, "goes on when it answers")
					leave(executor.ErrLeft)
				}
			}
			require.NoError(t, s.runner.Begin(ctx, s.job))
			err := s.runner.Carry(ctx)
			leave(nil)
			if at.Load() == nil {
				continue // it was looked at less often this time: there was no such call
			}
			if s.missed.Load() == 0 && !s.log.state.Open() {
				continue // it has ended, and only could not say so there
			}
			require.ErrorIs(t, err, executor.ErrSuspended, "call %d (%v)", n, at.Load())
			require.True(t, s.log.state.Open() && s.log.state != plan.Held, "call %d (%v): %s", n, at.Load(),
				s.log.state)
			s.comeBack(t, "vanished at "+at.Load().(string), ran, ranAfter, before, after)
			tried.Add(1)
		}
	})
}

// A person cancels while the host does not answer and nothing live has been touched: it
// goes back when the host is back.
func TestCancelledWhileTheHostIsAway(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	before := s.tree()
	s.vanish(5, -1, false)
	ctx, cancel := context.WithCancelCause(context.Background())
	s.runner.Report = func(p plan.Progress) {
		if p.Waiting != "" {
			cancel(fault.New(fault.Interrupted, "", "", "a person said so"))
		}
		if p.State == plan.Undoing {
			s.trouble.mu.Lock()
			s.trouble.before = nil
			s.trouble.mu.Unlock()
		}
	}
	require.NoError(t, s.runner.Begin(ctx, s.job))
	assert.ErrorContains(t, s.runner.Carry(ctx), "a person said so")
	assert.Equal(t, plan.Undone, s.log.state)
	assert.Equal(t, before, s.tree())
	s.assertRuns(true, "cancelled")
}

// A service that may not act any more begins no act, at whichever point it learns that:
// it leaves all as it stands, and the next one ends it.
func TestNoActWithoutALease(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"put", "put that is refused", "clone with a stop", "undo of a put"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			whole, before, after, _ := clean(t, kind)
			ranAfter := whole.servers["north"].Running()
			for n := 1; ; n++ {
				s := newStage(t, kind)
				asked := 0
				s.runner.May = func() error {
					if asked++; asked < n {
						return nil
					}
					s.trouble.mu.Lock()
					defer s.trouble.mu.Unlock()
					s.trouble.before = func(op, name string) error {
						if slices.Contains(changing, op) || op == "start" || op == "say" || op == "signal" {
							assert.Fail(t, "it acts", "%s %s after the lease was lost (%d)", op, name, n)
						}
						return nil
					}
					return fault.New(fault.StandsBy, "act on", "records", "the lease is lost")
				}
				require.NoError(t, s.runner.Begin(context.Background(), s.job))
				err := s.runner.Carry(context.Background())
				if asked < n || !s.log.state.Open() { // it has ended, and only could not say so on the host
					return
				}
				require.ErrorIs(t, err, executor.ErrSuspended)
				require.ErrorIs(t, err, fault.StandsBy.As())
				s.comeBack(t, "lease lost", true, ranAfter, before, after)
			}
		})
	}
}

// What a switch asks of the host, from the stop to the start: few round trips, since each
// may take long.
func TestCallsOfTheDriverInASwitch(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	var mu sync.Mutex
	var calls []string
	var counting atomic.Bool
	s.trouble.before = func(op, name string) error {
		mu.Lock()
		defer mu.Unlock()
		if counting.Load() && name != "" {
			calls = append(calls, op+" "+name)
		}
		return nil
	}
	s.runner.Trace = func(point string) {
		switch {
		case strings.HasSuffix(point, "stop done"):
			counting.Store(true)
		case strings.HasSuffix(point, "start before"):
			counting.Store(false)
		}
	}
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	require.NoError(t, s.runner.Carry(ctx))
	moves := 0
	for _, step := range s.plan.Steps {
		if step.Kind == plan.Move {
			moves++
		}
	}
	require.Equal(t, 2, moves)
	calls = slices.DeleteFunc(calls, func(c string) bool { return strings.HasPrefix(c, "read ") })
	t.Logf("%d calls for two moves and one write:\n%s", len(calls), strings.Join(calls, "\n"))
	assert.LessOrEqual(t, len(calls), 15)
	assert.NotEmpty(t, calls)
}

// A full disk is seen right before the stop: nobody is locked out for it.
func TestNoRoomRightBeforeTheStop(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	before := s.tree()
	s.runner.Check = func(context.Context) error {
		s.runner.Files.Driver().(*memory.Files).Fill(1000)
		return nil
	}
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	err := s.runner.Carry(ctx)
	assert.ErrorIs(t, err, fault.NoSpace.As())
	assert.Equal(t, plan.Undone, s.log.state)
	assert.Equal(t, before, s.tree())
	for n, step := range s.plan.Steps {
		if step.Kind == plan.Stop {
			assert.NotContains(t, s.log.steps, n, "the stop was never reached")
		}
	}
}

// Somebody else fills the disk up at any operation of any kind of changeover, and it stays full: nobody is left
// locked out. It ends done or undone, with a complete world running, and what was staged is gone.
func TestADiskThatFillsUp(t *testing.T) {
	everyKind(t, "operations", func(t *testing.T, kind string, tried *atomic.Int64) {
		whole, before, after, _ := clean(t, kind)
		ranBefore, ranAfter := newStage(t, kind).servers["north"].Running(), whole.servers["north"].Running()
		counted := newStage(t, kind)
		calls, _ := counted.failAt(0, nil)
		ctx := context.Background()
		require.NoError(t, counted.runner.Begin(ctx, counted.job))
		_ = counted.runner.Carry(ctx)
		for at := int64(1); at <= calls.Load() && !strings.HasSuffix(kind, "is refused"); at++ {
			s := newStage(t, kind)
			var n atomic.Int64
			var struck atomic.Value
			s.trouble.before = func(op, name string) error {
				if slices.Contains(changing, op) && n.Add(1) == at {
					struck.Store(op + " " + name)
					s.runner.Files.Driver().(*memory.Files).Fill(0)
				}
				return nil
			}
			require.NoError(t, s.runner.Begin(ctx, s.job))
			err := s.runner.Carry(ctx)
			switch s.log.state {
			case plan.Done:
				assert.Equal(t, after, s.tree(), "operation %d, %v", at, struck.Load())
				s.assertRuns(ranAfter, "operation %d, %v", at, struck.Load())
			case plan.Undone:
				assert.ErrorIs(t, err, fault.NoSpace.As(), "operation %d, %v", at, struck.Load())
				assert.Equal(t, before, s.tree(), "operation %d, %v", at, struck.Load())
				s.assertRuns(ranBefore, "operation %d, %v", at, struck.Load())
			default:
				assert.Fail(t, "it ends "+string(s.log.state), "operation %d, %v: %v", at, struck.Load(), err)
			}
			tried.Add(1)
		}
	})
}

// A game that was killed while its world was staged did not stop cleanly, and is not
// told as if it had; one whose state cannot be told is waited for, and nothing is moved.
func TestAGameThatDiedMeanwhile(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	s.runner.Check = func(context.Context) error { s.servers["north"].Die(); return nil }
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	require.NoError(t, s.runner.Carry(ctx))
	for n, step := range s.plan.Steps {
		if step.Kind == plan.Stop {
			assert.Contains(t, string(s.log.details[n]), `"already":true`)
			assert.NotContains(t, string(s.log.details[n]), `"clean":true`)
		}
	}
	assert.Contains(t, string(s.log.details[len(s.plan.Steps)-1]), "the server was down before the switch")
}

// What is placed belongs to the account of the world that it replaces, with its modes.
func TestWhatIsPlacedBelongsToTheServersAccount(t *testing.T) {
	t.Parallel()
	for _, kept := range []bool{true, false} {
		s := newStage(t, "put")
		disk := s.files("north")
		ctx := context.Background()
		own := func(name string) string {
			info, err := disk.Stat(ctx, name)
			require.NoError(t, err)
			return info.Account + " " + info.Modes.String()
		}
		s.disks["north"].Chown("worlds/winter", "gamer", 0o700)
		s.disks["north"].Chown("worlds/winter/heart.cbor.gz", "gamer", 0o600)
		s.servers["north"].As = []string{"gamer"}
		s.life()
		s.runner.Files.Driver().(*memory.Files).Can.Owners = kept
		require.NoError(t, s.runner.Begin(ctx, s.job))
		err := s.runner.Carry(ctx)
		if !kept { // the host does not let owners be set: the proof sees what that means
			assert.ErrorContains(t, err, "the server's account may write its world")
			assert.ErrorContains(t, err, "account gamer may not write worlds/fen")
			assert.Equal(t, plan.Undone, s.log.state)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "gamer drwx------", own("worlds/fen"))
		assert.Equal(t, "gamer drwx------", own("worlds/fen/ground"))
		assert.Equal(t, "gamer -rw-------", own("worlds/fen/heart.cbor.gz"))
	}
}

// A copy that no longer verifies must not reach the server.
func TestADamagedCopyStopsBeforeTheSwitch(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	dir := t.TempDir()
	v, err := newVault(filepath.Join(dir, "vault"))
	require.NoError(t, err)
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 4, Version: "2.5.1"}))
	c, _, err := store(v, dir, "fen")
	require.NoError(t, err)
	require.Equal(t, made.fen.ID, c.ID, "the same world is the same copy")
	packs, err := filepath.Glob(filepath.Join(dir, "vault", "packs", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	for _, p := range packs {
		require.NoError(t, os.Truncate(p, 3))
	}
	s.runner.Vault = v
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	err = s.runner.Carry(ctx)
	assert.ErrorIs(t, err, fault.Damaged.As())
	assert.Equal(t, plan.Undone, s.log.state)
	assert.NotContains(t, s.log.steps, 2, "the stop was never reached")
}

// Somebody edits the settings by hand in the midst of the switch: their edit is
// not overwritten.
func TestSettingsChangedMeanwhile(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	text := func() string { return s.tree()["quarry.properties"] }
	s.runner.Trace = func(point string) {
		if strings.HasSuffix(point, "write kept") {
			s.disks["north"].Put("quarry.properties", []byte(text()+"welcome=changed by hand\n"))
		}
	}
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	assert.ErrorIs(t, s.runner.Carry(ctx), fault.Changed.As())
	assert.Equal(t, plan.Undone, s.log.state)
	assert.Contains(t, text(), "changed by hand")
	assert.Contains(t, text(), "world.folder=winter")
	assert.Equal(t, "winter", s.runner.Control.Status(ctx).Opened)
}

// Whoever sees that a changeover waits can tell for what, and give the word at once.
func TestWhatIsWaitedForIsOnRecordBeforeItWaits(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put")
	p := s.draft(plan.Put, "", fit.Choices{"switch": "when-told"})
	s.job = s.log.job(p)
	at := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Kind == plan.Wait })
	require.GreaterOrEqual(t, at, 0)
	waits := false
	s.log.hit = func(point string) {
		if point == "journal after "+string(plan.Waiting) {
			waits = true
			assert.Equal(t, plan.StepIntended, s.log.job(p).Steps[at].State)
		}
	}
	require.NoError(t, s.runner.Begin(t.Context(), s.job))
	require.NoError(t, s.runner.Carry(t.Context()))
	assert.True(t, waits)
}

// Somebody else starts the server while it is to be down: a watchdog, a schedule, a person. It is
// stopped again, what it made is set aside, and the changeover ends as it was meant.
func TestAServerThatIsStartedInTheGap(t *testing.T) {
	t.Parallel()
	for kind := range kinds {
		for _, point := range []string{"stop done", "move done", "write done"} {
			if strings.Contains(kind, "refused") || strings.Contains(kind, "stopped") || kind == "first start" {
				continue // it goes back, or was to be down all the time
			}
			t.Run(kind+", "+point, func(t *testing.T) {
				t.Parallel()
				s := newStage(t, kind)
				started := 0
				s.runner.Trace = func(at string) {
					if strings.HasSuffix(at, point) && started == 0 && !s.servers["north"].Running() {
						started++
						require.NoError(t, s.servers["north"].Start(context.Background()))
					}
				}
				ctx := context.Background()
				require.NoError(t, s.runner.Begin(ctx, s.job))
				s.runner.Wake = nil
				require.NoError(t, s.runner.Carry(ctx), "%d starts", started)
				s.assertRuns(true, "afterwards")
			})
		}
	}
}
