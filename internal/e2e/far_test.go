package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/sshlink"
	"reshard/internal/wire"
)

// moor is another machine that a service knows, and the line to it.
type moor struct {
	*farhost.Host
	line *farhost.Line
}

// machine starts another machine, at the end of a line, and has the service know it as "moor".
func (b *bundle) machine(s farhost.Shape, roundTrip time.Duration) moor {
	b.t.Helper()
	h, err := farhost.Start(b.t.TempDir(), s)
	require.NoError(b.t, err)
	b.t.Cleanup(h.Close)
	line, err := farhost.NewLine(h.Address(), roundTrip)
	require.NoError(b.t, err)
	b.t.Cleanup(line.Close)
	key := h.ClientKey
	_, err = b.api.AddHost(context.Background(), wire.NewHost{
		Name: "moor", Address: fmt.Sprintf("sftp://%s@127.0.0.1:%d", h.User, line.Port()),
		SignIn: wire.SignIn{PrivateKey: &key}, AcceptKey: sshlink.Fingerprint(h.HostKey), Folder: b.dir,
	})
	require.NoError(b.t, err)
	_, err = b.api.CheckHost(context.Background(), "moor")
	require.NoError(b.t, err)
	return moor{h, line}
}

var sessions atomic.Int64

// session is a name that no other test has.
func session() server.Means {
	return server.Means{By: server.BySession, Session: fmt.Sprintf("reshard-e2e-%d-%d", os.Getpid(), sessions.Add(1))}
}

// A world is put onto a server on another machine and taken back, over a line of some length.
func TestAPutOnAnotherMachine(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.machine(farhost.Shape{}, 10*time.Millisecond)
	root := b.quarry("north", plot{host: "moor", control: session()})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	c := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, c.State, c.Failure)
	assert.True(t, c.Proof.Holds())
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "fen", s.Server.Opened)
	assert.Equal(t, "running", s.Server.State)
	assert.DirExists(t, filepath.Join(root, c.Plan.Work, "aside", "winter"))
	back := b.undo(c.ID)
	require.Equal(t, plan.Done, back.State, back.Failure)
	s, err = b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "winter", s.Server.Opened)
}

func TestTimesOfAPut(t *testing.T) {
	b := setup(t)
	begun := time.Now()
	mark := func(what string) { t.Logf("%6.2f %s", time.Since(begun).Seconds(), what) }
	b.machine(farhost.Shape{}, 50*time.Millisecond)
	mark("host added, checked")
	b.quarry("north", plot{host: "moor", control: session()})
	mark("server added, started")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	mark("sent")
	b.trace = func(p string) { mark(p) }
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	mark("drafted")
	c := b.carry(draft)
	mark("done")
	require.Equal(t, plan.Done, c.State, c.Failure)
	_, err = b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	mark("shown")
}

func TestStageSpeed(t *testing.T) {
	for _, shape := range []farhost.Shape{{}, {FilesOnly: true}} {
		t.Run(fmt.Sprint(shape.FilesOnly), func(t *testing.T) {
			b := setup(t)
			b.machine(shape, 50*time.Millisecond)
			c := session()
			if shape.FilesOnly {
				c = server.Means{By: server.ByHand}
			}
			b.quarry("north", plot{host: "moor", control: c, stopped: true})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 300, TileBytes: 6000 - 800})
			var from time.Time
			b.trace = func(p string) {
				if p == "0 stage intended" {
					from = time.Now()
				}
				if p == "0 stage acted" {
					t.Logf("staged in %s", time.Since(from))
				}
			}
			if shape.FilesOnly {
				_, err := b.api.SayStopped(context.Background(), "north")
				require.NoError(t, err)
			}
			draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Beside: true})
			require.NoError(t, err)
			done := b.carry(draft)
			t.Log(done.State, done.Failure, done.Plan.Steps[0].Say)
		})
	}
}
