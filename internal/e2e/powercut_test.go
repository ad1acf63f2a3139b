package e2e

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// cutAt gives the points at which a kind of changeover is cut: with RESHARD_EVERY_FAULT each of them, else a few,
// spread over all its phases.
func cutAt(points, few int) (out []int64) {
	if os.Getenv("RESHARD_EVERY_FAULT") != "" {
		few = points
	}
	for n := range few {
		at := int64(1 + n*(points-1)/max(1, few-1))
		if !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// cut is a changeover on "north" that is carried out until a point, at which the service dies.
type cut struct {
	*bundle
	root   string
	draft  int64
	before map[string]map[string]string
	points []string
}

// cutKind carries a kind of changeover out until a point. 0: to its end.
func cutKind(t *testing.T, kind string, dieAt int64, options ...func(*bundle)) cut {
	t.Helper()
	b := setup(t, options...)
	c := cut{bundle: b, root: b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter", Seed: 111}})}
	require.NoError(t, quarrymoss.Make(filepath.Join(c.root, "worlds", "old"),
		quarrymoss.Options{Title: "Old", Seed: 9}))
	b.quarry("south", plot{folder: "south", world: quarrymoss.Options{Title: "South", Seed: 5}})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Tiles: 9})
	wish := killKinds[kind](b)
	if wish.Kind != plan.Undo {
		wish.Server = "north"
	}
	c.before = c.worlds()
	draft, err := b.api.Draft(context.Background(), wish)
	require.NoError(t, err)
	c.draft = draft.ID
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	address, passed, cmd := b.mortal(dieAt)
	api := signIn(t, address)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if _, err := api.Act(ctx, c.draft, "start"); err == nil {
		_, _ = api.Watch(ctx, c.draft, func(wire.Changeover) {})
	}
	ended(cmd, dieAt)
	c.points = passed()
	return c
}

// worlds hashes the worlds on "north", each by itself.
func (c cut) worlds() map[string]map[string]string {
	out := map[string]map[string]string{}
	entries, err := os.ReadDir(filepath.Join(c.root, "worlds"))
	require.NoError(c.t, err)
	for _, e := range entries {
		out[e.Name()] = snapshot(c.t, filepath.Join(c.root, "worlds", e.Name()), played...)
	}
	return out
}

// powerCut carries a changeover out until a point, at which the power fails: the service and all games die at once. The
// service comes back with --start-servers.
func powerCut(t *testing.T, kind string, dieAt int64) (points []string, last wire.Changeover) {
	b := cutKind(t, kind, dieAt)
	for _, name := range []string{"north", "south"} {
		for _, pid := range gamesIn(t, filepath.Join(b.dir, "servers", name)) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	b.startServers = true
	begun := time.Now()
	b.start()
	last, err := b.api.Watch(context.Background(), b.draft, func(wire.Changeover) {})
	require.NoError(t, err)
	if last.State == plan.Drafted {
		last.State = plan.Undone // it had not begun
	}
	require.Contains(t, []plan.State{plan.Done, plan.Undone}, last.State, "%+v", last.Failure)
	b.untilRunning("north")
	b.untilRunning("south")
	assert.Less(t, time.Since(begun), time.Minute)
	b.assertOneWholeWorld(b.before, b.worlds(), last)
	return b.points, last
}

// gamesIn gives the processes that work in a folder.
func gamesIn(t *testing.T, dir string) (pids []int) {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cwd")
	require.NoError(t, err)
	for _, link := range all {
		if at, err := os.Readlink(link); err == nil && at == dir {
			var pid int
			_, _ = fmt.Sscanf(link, "/proc/%d/cwd", &pid)
			pids = append(pids, pid)
		}
	}
	return pids
}

// A power cut at any moment of any kind of changeover: afterwards it is done or undone, one whole world stands, and all
// servers that should run do, within a minute.
func TestAPowerCut(t *testing.T) {
	kinds := []string{"put", "restore of all", "put that goes back"}
	if os.Getenv("RESHARD_EVERY_FAULT") != "" {
		kinds = slices.Sorted(maps.Keys(killKinds))
	}
	gate := make(chan struct{}, atOnce)
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			var done, undone atomic.Int64
			points, _ := powerCut(t, kind, 0)
			at := cutAt(len(points), 4)
			t.Cleanup(func() {
				t.Logf("%-24s cut at %3d of %3d points: %3d done, %3d undone, all servers run", kind, len(at),
					len(points), done.Load(), undone.Load())
			})
			for _, n := range at {
				t.Run(points[n-1], func(t *testing.T) {
					t.Parallel()
					gate <- struct{}{}
					defer func() { <-gate }()
					if _, last := powerCut(t, kind, n); last.State == plan.Done {
						done.Add(1)
					} else {
						undone.Add(1)
					}
				})
			}
		})
	}
}
