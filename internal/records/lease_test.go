package records_test

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/executor"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
)

// term is short, so that a test sees one run out.
const term = 400 * time.Millisecond

// open opens records in the background, as a service that may have to wait does.
func open(t *testing.T, url string, c records.Claim) <-chan *records.Records {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	out, done := make(chan *records.Records, 1), make(chan struct{})
	go func() {
		defer close(done)
		if r, err := records.Open(ctx, url, c); err == nil {
			out <- r
		}
	}()
	t.Cleanup(func() {
		cancel()
		<-done
		select {
		case r := <-out:
			r.Close()
		default:
		}
	})
	return out
}

// A second service waits until the first has gone; one that has gone properly is not
// waited out.
func TestASecondServiceStandsBy(t *testing.T) {
	t.Parallel()
	first, url := setup(t)
	var who atomic.Value
	second := open(t, url, records.Claim{Who: "second", StandsBy: func(w string) { who.Store(w) }})
	require.Eventually(t, func() bool { return who.Load() == "test" }, 5*time.Second, time.Millisecond,
		"it tells for whom it waits")
	assert.Empty(t, second)
	require.NoError(t, first.Acting())
	first.Close()
	select {
	case r := <-second:
		assert.NoError(t, r.Acting())
		assert.ErrorIs(t, first.Acting(), fault.StandsBy.As())
		r.Close()
	case <-time.After(5 * time.Second):
		assert.Fail(t, "it did not take over")
	}
	third, err := records.Open(context.Background(), url, records.Claim{Who: "third"})
	require.NoError(t, err)
	defer third.Close()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	_, err = records.Open(ctx, url, records.Claim{Who: "fourth", StandsBy: func(string) { cancel() }})
	assert.ErrorIs(t, err, fault.StandsBy.As())
	assert.ErrorContains(t, err, "another service works on it: third")
}

// A holder that does not renew is waited out; it may not act, nor write to the journal,
// before its successor may.
func TestALeaseThatRunsOut(t *testing.T) {
	t.Parallel()
	url := recordstest.Database(t)
	p := newProxy(t, url)
	first, err := records.Open(context.Background(), p.url, records.Claim{Who: "first", Data: "d", Term: term})
	require.NoError(t, err)
	t.Cleanup(first.Close)
	s := addServer(t, first, "north")
	id := draft(t, first, s.ID)
	ctx := context.Background()
	require.NoError(t, first.Advance(ctx, id, plan.Drafted, plan.Staging, records.Patch{}))
	p.cut(true)
	begun := time.Now()
	second := <-open(t, url, records.Claim{Who: "second", Data: "d", Term: term})
	t.Cleanup(second.Close)
	assert.GreaterOrEqual(t, time.Since(begun), term, "it was waited out")
	assert.ErrorIs(t, first.Acting(), fault.Unreachable.As(), "it does not know, and does not act")
	p.cut(false) // the line is back, and the lease is not
	select {
	case <-first.Lost():
	case <-time.After(5 * time.Second):
		assert.Fail(t, "it is not told")
	}
	assert.ErrorIs(t, first.Acting(), fault.StandsBy.As())
	require.NoError(t, second.Acting())
	err = first.Advance(ctx, id, plan.Staging, plan.Undoing, records.Patch{})
	assert.ErrorIs(t, err, fault.StandsBy.As())
	err = first.AdvanceStep(ctx, id, 0, []plan.StepState{plan.StepPlanned}, plan.StepIntended, executor.Detail{})
	assert.ErrorIs(t, err, fault.StandsBy.As())
	c, err := second.Changeover(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, plan.Staging, c.State)
	assert.Equal(t, plan.StepPlanned, c.Steps[0].State)
	require.NoError(t, second.AdvanceStep(ctx, id, 0, []plan.StepState{plan.StepPlanned}, plan.StepIntended, nil))
}

// When nobody has taken over meanwhile, a holder goes on when the database is back.
func TestADatabaseThatComesBack(t *testing.T) {
	t.Parallel()
	url := recordstest.Database(t)
	p := newProxy(t, url)
	r, err := records.Open(context.Background(), p.url, records.Claim{Who: "first", Term: term})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	p.cut(true)
	require.Eventually(t, func() bool { return fault.CodeOf(r.Acting()) == fault.Unreachable }, 5*time.Second,
		time.Millisecond)
	p.cut(false)
	require.Eventually(t, func() bool { return r.Acting() == nil }, 5*time.Second, time.Millisecond)
	assert.NotPanics(t, func() {
		select {
		case <-r.Lost():
			panic("lost")
		default:
		}
	})
}

// A connection that breaks is not a lease that is lost.
func TestABrokenConnectionIsNoLostLease(t *testing.T) {
	t.Parallel()
	url := recordstest.Database(t)
	r, err := records.Open(context.Background(), url, records.Claim{Who: "first", Term: term})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx) //nolint:errcheck // nothing is pending
	for range 5 {
		_, err = conn.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity
			WHERE datname = current_database() AND pid <> pg_backend_pid()`)
		require.NoError(t, err)
		time.Sleep(term / 4)
		// On a busy machine it may take a while to connect again.
		require.Eventually(t, func() bool { return r.Acting() == nil }, 10*time.Second, time.Millisecond)
		select {
		case <-r.Lost():
			require.Fail(t, "the lease is lost")
		default:
		}
	}
}

// Whoever held its folder's lock, which is free now, is dead and need not be waited out;
// whoever did not hold it must be.
func TestADeadHolderIsNotWaitedOut(t *testing.T) {
	t.Parallel()
	const patient = 5 * time.Second // far longer than opening takes, on however busy a machine
	for name, c := range map[string]struct {
		alone  bool
		data   string
		waited bool
	}{
		"its lock is free":        {true, "d", false},
		"it had no lock":          {false, "d", true},
		"it is of another folder": {true, "other", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, url := setup(t)
			ctx := context.Background()
			conn, err := pgx.Connect(ctx, url)
			require.NoError(t, err)
			defer conn.Close(ctx) //nolint:errcheck // nothing is pending
			_, err = conn.Exec(ctx, `UPDATE service_lease SET holder = 'dead', who = 'dead', data = $1, alone = $2`,
				c.data, c.alone)
			require.NoError(t, err)
			begun := time.Now()
			r := <-open(t, url, records.Claim{
				Who:   "next",
				Data:  "d",
				Alone: func() bool { return true },
				Term:  patient,
			})
			defer r.Close()
			assert.Equal(t, c.waited, time.Since(begun) >= patient, "%v", time.Since(begun))
		})
	}
}

// Of many that wait one takes over.
func TestOneSuccessor(t *testing.T) {
	t.Parallel()
	first, url := setup(t)
	taken := make(chan *records.Records, 8)
	for range 8 {
		out := open(t, url, records.Claim{Term: term})
		go func() {
			if r, ok := <-out; ok {
				taken <- r
			}
		}()
	}
	time.Sleep(50 * time.Millisecond)
	first.Close()
	r := <-taken
	time.Sleep(2 * term)
	assert.Empty(t, taken)
	// On a machine that is busy a renewal may be late; it comes, and then it acts.
	acts := func() {
		t.Helper()
		require.Eventually(t, func() bool { return r.Acting() == nil }, 10*time.Second, term/10)
	}
	acts()
	for range 7 { // each in its turn
		r.Close()
		r = <-taken
		acts()
	}
	r.Close()
}
