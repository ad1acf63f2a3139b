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

	"reshard/cmd/standin/emberlode"
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
	draft, err := b.api.Draft(context.Background(), wire.NewChangeover{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	points, died, last := b.dieAndComeBack(draft.ID, dieAt)
	b.assertOneWholeWorld(root, winter, fen, last)
	return points, died
}

// dieAndComeBack carries a draft out in a service that dies at a point, and takes up
// what is left in a new life of the service.
func (b *bundle) dieAndComeBack(draft, dieAt int64) (points []string, died bool, last wire.Changeover) {
	t := b.t
	t.Helper()
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	address, passed, cmd := b.mortal(dieAt)
	api := signIn(t, address)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if _, err := api.Act(ctx, draft, "start"); err == nil {
		// When it dies the stream breaks; when it lives it ends.
		_, _ = api.Watch(ctx, draft, func(wire.Changeover) {})
	}
	if dieAt == 0 {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
	}
	died = cmd.Wait() != nil
	points = passed()
	b.start()
	last, err := b.api.Watch(ctx, draft, func(wire.Changeover) {})
	require.NoError(t, err)
	require.Contains(t, []plan.State{plan.Done, plan.Undone}, last.State, "%+v", last.Failure)
	return points, died, last
}

// killSession does the same with a world that is a session of files, of which the
// server writes one more on its way down.
func killSession(t *testing.T, damaged bool, dieAt int64) (points []string, died bool) {
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	saves := filepath.Join(root, emberlode.SavesFolder)
	require.NoError(t, emberlode.MakeServer(root, standin, "frostfall", true, 3, freePort(t), ""))
	require.NoError(t, emberlode.Make(saves, "frostfall", emberlode.Save{Expedition: "Frostfall", Seed: 3}, 2))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	own := filepath.Join(b.dir, "own")
	require.NoError(t, emberlode.Make(own, "kettle", emberlode.Save{Expedition: "Kettle", Seed: 4}, 3))
	if damaged { // the last checkpoint is cut short: the server refuses it, and all goes back
		require.NoError(t, os.WriteFile(filepath.Join(own, "kettle.003.ember"), []byte("{\n \"emberlode\": 4,"), 0o644))
	}
	b.must("send", filepath.Join(own, "kettle.001.ember"))
	choices := map[string]string{}
	for _, row := range []string{"version", "completeness", "seed"} {
		choices[row] = "go-on"
	}
	worlds, err := b.api.Worlds(context.Background())
	require.NoError(t, err)
	draft, err := b.api.Draft(context.Background(), wire.NewChangeover{Kind: "put", World: worlds[0].Name, Server: "camp", Choices: choices})
	require.NoError(t, err)
	points, died, last := b.dieAndComeBack(draft.ID, dieAt)
	if dieAt == 0 {
		require.Equal(t, damaged, last.State == plan.Undone)
	}
	sessions := map[string]int{}
	entries, err := os.ReadDir(saves)
	require.NoError(t, err)
	for _, e := range entries {
		name, _, _ := strings.Cut(e.Name(), ".")
		sessions[name]++
	}
	if last.State == plan.Done {
		assert.Equal(t, map[string]int{"kettle": 3}, sessions)
		aside, err := os.ReadDir(filepath.Join(root, last.Plan.Work, "aside"))
		require.NoError(t, err)
		assert.Len(t, aside, 3, "the old session with the checkpoint of its last stop")
	} else {
		assert.Equal(t, map[string]int{"frostfall": 3}, sessions)
	}
	return points, died
}

func TestASessionKilledAtEveryMove(t *testing.T) {
	for name, damaged := range map[string]bool{"forward": false, "going back": true} {
		t.Run(name, func(t *testing.T) {
			points, died := killSession(t, damaged, 0)
			require.False(t, died)
			gate := make(chan struct{}, 4)
			moves := 0
			for n := 1; n <= len(points); n++ {
				if !strings.Contains(points[n-1], "move") {
					continue
				}
				moves++
				t.Run(fmt.Sprintf("point %s", points[n-1]), func(t *testing.T) {
					t.Parallel()
					gate <- struct{}{}
					defer func() { <-gate }()
					_, died := killSession(t, damaged, int64(n))
					assert.True(t, died, "it was to die at this point")
				})
			}
			require.GreaterOrEqual(t, moves, 4, points)
		})
	}
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
