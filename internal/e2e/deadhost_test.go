package e2e

import (
	"context"
	"io"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/cli"
	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/fleet"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	"reshard/internal/wire"
)

// silent is a host that takes every question and answers none.
type silent struct{ asked *atomic.Int64 }

func (s silent) wait(ctx context.Context) error {
	s.asked.Add(1)
	<-ctx.Done()
	return context.Cause(ctx)
}

func (s silent) Root(ctx context.Context, _ string) (string, []string, error) {
	return "", nil, fault.New(fault.Unreachable, "", "", "no answer")
}

func (s silent) Files(ctx context.Context, _ string) (hostfs.Driver, io.Closer, error) {
	return nil, nil, s.wait(ctx)
}

func (s silent) Process(ctx context.Context, _ host.Server) (control.Driver, error) {
	return nil, s.wait(ctx)
}

func (s silent) Bound(ctx context.Context, _ uint16) ([]netip.Addr, error) { return nil, s.wait(ctx) }
func (s silent) Addresses(ctx context.Context) ([]netip.Addr, error)       { return nil, s.wait(ctx) }

// A host that does not answer: its servers are unknown since then, and nobody who asks
// for another server waits for it.
func TestADeadHostsServersAreUnknown(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.quarry("far", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	ctx := context.Background()
	draft, err := b.api.Draft(ctx, wire.Wish{
		Kind:    plan.Put,
		World:   "fen",
		Server:  "far",
		Choices: map[string]string{"switch": "when-told"},
	})
	require.NoError(t, err)
	_, err = b.api.Act(ctx, draft.ID, "start")
	require.NoError(t, err)
	b.until(draft.ID, plan.Waiting)
	require.NoError(t, b.daemon.Close())
	conn, err := pgx.Connect(ctx, b.database)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `INSERT INTO hosts (name, kind) VALUES ('moon', 'silent')`)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE servers
		SET host_id = (SELECT id FROM hosts WHERE name = 'moon'), wanted = 'running' WHERE name = 'far'`)
	require.NoError(t, err)
	require.NoError(t, conn.Close(ctx))

	asked := &atomic.Int64{}
	kinds := fleet.Kinds()
	kinds["silent"] = func(context.Context, host.Spec) (host.Driver, error) { return silent{asked}, nil }
	c := b.config()
	c.Kinds, c.StartServers, c.Patience = kinds, true, 2*time.Second
	begun := time.Now()
	b.daemon, err = cli.Serve(ctx, c)
	require.NoError(t, err)
	assert.Less(t, time.Since(begun), 20*time.Second, "the start does not wait for it for ever")
	b.api = signIn(t, b.daemon.Address)
	require.Positive(t, asked.Load())

	var list []wire.Server
	require.Eventually(t, func() bool { // a list does not wait until the host has had its time
		begun := time.Now()
		list, err = b.api.Servers(ctx, wire.ServerQuery{})
		assert.Less(t, time.Since(begun), 3*time.Second)
		return err == nil && len(list) == 2 && list[0].SeenAt != nil
	}, 20*time.Second, 100*time.Millisecond)
	far := list[0]
	assert.Equal(t, "unknown", far.State)
	assert.Equal(t, "moon", far.Host)
	assert.Contains(t, far.Note, "Its host does not answer")
	require.NotNil(t, far.Since)
	since := *far.Since
	for range 3 {
		begun = time.Now()
		list, err = b.api.Servers(ctx, wire.ServerQuery{})
		require.NoError(t, err)
		assert.Less(t, time.Since(begun), 3*time.Second, "everybody who looks would wait")
		assert.Equal(t, since, *list[0].Since, "since when is remembered")
	}
	waiting := make(chan error, 1)
	go func() {
		time.Sleep(6 * time.Second) // it is asked again
		_, err := b.api.Server(ctx, "far")
		waiting <- err
	}()
	time.Sleep(6500 * time.Millisecond)
	begun = time.Now()
	_, err = b.api.Server(ctx, "north")
	require.NoError(t, err)
	assert.Less(t, time.Since(begun), 2*time.Second, "another server does not wait for it")
	last := b.put("fen", "north", nil)
	assert.Equal(t, "done", string(last.State))
	require.NoError(t, <-waiting)
	_, err = b.api.StartServer(ctx, "far", wire.StartServer{})
	assert.True(t, fault.Passing(err), "%v", err)

	// Its changeover is not lost: it waits for the host, and goes on when that is back.
	open, err := b.api.Changeover(ctx, draft.ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Waiting, open.State)
	require.NotNil(t, open.Progress)
	assert.Contains(t, open.Progress.Waiting, "its host did not answer in time")
	_, out, _ := b.cliAt(b.daemon.Address, "changeovers", "show", itoa(draft.ID))
	assert.Contains(t, out, "waiting")
	assert.Contains(t, out, "its host did not answer in time")
	require.NoError(t, b.daemon.Close())
	conn, err = pgx.Connect(ctx, b.database)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, `UPDATE servers
		SET host_id = (SELECT id FROM hosts WHERE name = 'local') WHERE name = 'far'`)
	require.NoError(t, err)
	require.NoError(t, conn.Close(ctx))
	b.start()
	_, err = b.api.Act(ctx, draft.ID, "go-on")
	require.NoError(t, err)
	b.until(draft.ID, plan.Done)
}

// fickle is the service's own machine, which can be told to go away.
type fickle struct {
	host.Driver
	away *atomic.Bool
}

func (f fickle) Files(ctx context.Context, root string) (hostfs.Driver, io.Closer, error) {
	if f.away.Load() {
		return nil, nil, fault.New(fault.Unreachable, "", "", "the line was cut")
	}
	d, closer, err := f.Driver.Files(ctx, root)
	return fickleFiles{d, f.away}, closer, err
}

type fickleFiles struct {
	hostfs.Driver
	away *atomic.Bool
}

func (f fickleFiles) Standing(context.Context) (bool, error) {
	if f.away.Load() {
		return false, fault.New(fault.Unreachable, "", "", "the line was cut")
	}
	return true, nil
}

// A host that goes away while its servers are in hand: they are unknown since then, and
// what they were when it is back.
func TestAHostThatGoesAwayIsMissed(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	pid := b.pid("north")
	require.NoError(t, b.daemon.Close())
	away := &atomic.Bool{}
	kinds := fleet.Kinds()
	local := kinds["local"]
	kinds["local"] = func(ctx context.Context, s host.Spec) (host.Driver, error) {
		d, err := local(ctx, s)
		return fickle{d, away}, err
	}
	c := b.config()
	c.Kinds = kinds
	var err error
	b.daemon, err = cli.Serve(context.Background(), c)
	require.NoError(t, err)
	b.api = signIn(t, b.daemon.Address)
	require.Equal(t, pid, b.pid("north"))
	away.Store(true)
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "unknown", s.Server.State)
	assert.Contains(t, s.Server.Note, "the line was cut")
	require.NotNil(t, s.Server.Since)
	away.Store(false)
	require.Eventually(t, func() bool {
		s, err = b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running"
	}, 15*time.Second, 50*time.Millisecond, "it is asked again by itself")
	assert.Equal(t, pid, pidOf(s.Server))
}
