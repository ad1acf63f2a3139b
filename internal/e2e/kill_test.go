package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// mortal runs the service in a process of its own that dies at a point of a
// changeover; 0 lets it live.
func (b *bundle) mortal(dieAt int64) (address string, points func() []string, cmd *exec.Cmd) {
	b.t.Helper()
	c := b.config()
	raw, err := json.Marshal(map[string]any{"DieAt": dieAt, "Config": map[string]any{"Data": c.Data, "Database": c.Database, "Listen": c.Listen}})
	require.NoError(b.t, err)
	cmd = exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "RESHARD_E2E_SERVE="+string(raw))
	out, err := cmd.StdoutPipe()
	require.NoError(b.t, err)
	require.NoError(b.t, cmd.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if a, ok := strings.CutPrefix(lines.Text(), "listening "); ok {
			address = a
			break
		}
	}
	require.NotEmpty(b.t, address, "the service did not come up")
	var seen []string
	done := make(chan struct{})
	go func() {
		defer close(done)
		for lines.Scan() {
			if p, ok := strings.CutPrefix(lines.Text(), "point "); ok {
				seen = append(seen, p)
			}
		}
	}()
	return address, func() []string { <-done; return seen }, cmd
}

// killRun makes a server and a draft, carries the draft out in a service that
// dies at a point, and takes up what is left in a new life of the service. It
// gives the points that were passed; died is false when there were fewer.
func killRun(t *testing.T, mischief string, dieAt int64) (points []string, died bool) {
	b := setup(t)
	root := b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter", Seed: 111, Realms: []string{"caverns", "aurora"}}})
	winter := snapshot(t, filepath.Join(root, "worlds", "winter"), played...)
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Realms: []string{"caverns", "aurora"}, Tiles: 25})
	fen := snapshot(t, filepath.Join(b.madeDir(), "fen"), played...)
	if mischief != "" {
		b.misbehave("north", mischief+" fen")
	}
	draft, err := b.api.DraftPut(context.Background(), "fen", "north", nil)
	require.NoError(t, err)
	require.NoError(t, b.daemon.Close())
	b.daemon = nil

	address, passed, cmd := b.mortal(dieAt)
	api := signIn(t, address)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if _, err := api.Act(ctx, draft.ID, "start"); err == nil {
		// When it dies the stream breaks; when it lives it ends.
		_, _ = api.Watch(ctx, draft.ID, func(wire.Changeover) {})
	}
	if dieAt == 0 {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
	}
	died = cmd.Wait() != nil
	points = passed()

	b.start()
	last, err := b.api.Watch(ctx, draft.ID, func(wire.Changeover) {})
	require.NoError(t, err)
	require.Contains(t, []plan.State{plan.Done, plan.Undone}, last.State, "%+v", last.Failure)
	b.assertOneWholeWorld(root, winter, fen, last)
	return points, died
}

func (b *bundle) madeDir() string {
	b.t.Helper()
	dirs, err := filepath.Glob(filepath.Join(b.dir, "made", "*"))
	require.NoError(b.t, err)
	require.Len(b.t, dirs, 1)
	return dirs[0]
}

// assertOneWholeWorld checks that exactly one world stands on the server, whole,
// that it is the one that the outcome says, that the server runs it, and that
// the other one is not lost.
func (b *bundle) assertOneWholeWorld(root string, winter, fen map[string]string, c wire.Changeover) {
	t := b.t
	t.Helper()
	folder, want := "winter", winter
	if c.State == plan.Done {
		folder, want = "fen", fen
		assert.Equal(t, winter, snapshot(t, filepath.Join(root, c.Plan.Work, "aside", "winter"), played...), "the old world is set aside whole")
	}
	require.Eventually(t, func() bool { // the process may just be settling
		s, err := b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running" && s.Server.Opened == folder && s.Server.Changeover == 0
	}, 10*time.Second, 20*time.Millisecond)
	entries, err := os.ReadDir(filepath.Join(root, "worlds"))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, folder, entries[0].Name())
	assert.Equal(t, want, snapshot(t, filepath.Join(root, "worlds", folder), played...))
	for n, s := range c.Steps {
		assert.NotEqual(t, string(plan.StepIntended), s.State, "step %d is left open in the journal", n)
	}
}

// SIGKILL at each step boundary and inside of each step of a put, forward and on
// the way back: the next start finishes or undoes it.
func TestKilledAtEveryPoint(t *testing.T) {
	for name, mischief := range map[string]string{"forward": "", "going back": "opens-other"} {
		t.Run(name, func(t *testing.T) {
			points, died := killRun(t, mischief, 0)
			require.False(t, died)
			require.Greater(t, len(points), 20)
			t.Logf("%d points: %s", len(points), strings.Join(points, " | "))
			gate := make(chan struct{}, 4)
			for n := 1; n <= len(points); n++ {
				t.Run(fmt.Sprintf("point %s", points[n-1]), func(t *testing.T) {
					t.Parallel()
					gate <- struct{}{}
					defer func() { <-gate }()
					_, died := killRun(t, mischief, int64(n))
					assert.True(t, died, "it was to die at this point")
				})
			}
		})
	}
}
