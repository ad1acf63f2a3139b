package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	return b.mortalAt("127.0.0.1:0", dieAt)
}

// mortalAt does so at an address.
func (b *bundle) mortalAt(listen string, dieAt int64) (address string, points func() []string, cmd *exec.Cmd) {
	b.t.Helper()
	return b.mortalWith(listen, dieAt, func(*exec.Cmd) {})
}

// mortalWith does so with a change to how the process is begun.
func (b *bundle) mortalWith(listen string, dieAt int64,
	with func(*exec.Cmd)) (address string, points func() []string, cmd *exec.Cmd) {
	b.t.Helper()
	c := b.config()
	c.Listen = listen
	return b.mortalAs(mortality{Config: c, DieAt: dieAt}, func(string) {}, with)
}

// mortalAs does so as it is told; at is told where it waits.
func (b *bundle) mortalAs(m mortality, at func(point string),
	with func(*exec.Cmd)) (address string, points func() []string, cmd *exec.Cmd) {
	b.t.Helper()
	raw, err := json.Marshal(map[string]any{
		"DieAt": m.DieAt, "HoldAt": m.HoldAt, "Leap": m.Leap,
		"Config": map[string]any{
			"Data": m.Config.Data, "Database": m.Config.Database, "Listen": m.Config.Listen,
			"KeepAside": m.Config.KeepAside, "Lease": m.Config.Lease, "Games": m.Config.Games,
			"GamesOverride": m.Config.GamesOverride, "RulePace": m.Config.RulePace,
		},
	})
	require.NoError(b.t, err)
	cmd = exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "RESHARD_E2E_SERVE="+string(raw))
	out, err := cmd.StdoutPipe()
	require.NoError(b.t, err)
	with(cmd)
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
			if p, ok := strings.CutPrefix(lines.Text(), "held "); ok {
				at(p)
			}
		}
	}()
	return address, func() []string { <-done; return seen }, cmd
}

// atOnce is how many services are killed at a time: most of their time they wait.
const atOnce = 7

// killKinds draft every kind of changeover on the server "north", whose settings name
// "winter" and beside which stands "old"; "south" is another server. They may have
// carried something out before.
var killKinds = map[string]func(b *bundle) wire.Wish{
	"put": func(*bundle) wire.Wish { return wire.Wish{Kind: plan.Put, World: "fen"} },
	"put that goes back": func(b *bundle) wire.Wish {
		b.misbehave("north", "opens-other fen")
		return wire.Wish{Kind: plan.Put, World: "fen"}
	},
	"put beside": func(*bundle) wire.Wish {
		return wire.Wish{Kind: plan.Put, World: "fen", Beside: true}
	},
	"restore": func(*bundle) wire.Wish {
		return wire.Wish{Kind: plan.Restore, World: "fen", Choices: map[string]string{"folder-name": "winter"}}
	},
	"clone": func(*bundle) wire.Wish {
		return wire.Wish{
			Kind:    plan.Clone,
			From:    "south",
			Choices: map[string]string{"world-settings": "bring"},
		}
	},
	"reset": func(*bundle) wire.Wish {
		return wire.Wish{Kind: plan.Reset, Choices: map[string]string{"seed": "-77"}}
	},
	"switch":    func(*bundle) wire.Wish { return wire.Wish{Kind: plan.Switch, World: "old"} },
	"rename":    func(*bundle) wire.Wish { return wire.Wish{Kind: plan.Rename, World: "summer"} },
	"take away": func(*bundle) wire.Wish { return wire.Wish{Kind: plan.TakeAway} },
	"restore of some files": func(b *bundle) wire.Wish {
		return wire.Wish{
			Kind: plan.Restore, Backup: b.backup("north").ID, What: plan.SomeFiles,
			Files: []string{"ground/*.qt", "folk/*.json"},
		}
	},
	"restore of all": func(b *bundle) wire.Wish {
		id := b.backup("north").ID
		b.must("servers", "stop", "north")
		file := filepath.Join(b.dir, "servers", "north", "quarry.properties")
		data, err := os.ReadFile(file)
		require.NoError(b.t, err)
		require.NoError(b.t, os.WriteFile(file, append(data, "welcome=changed since\n"...), 0o644))
		b.must("servers", "start", "north")
		return wire.Wish{Kind: plan.Restore, Backup: id, What: plan.Everything}
	},
	"undo of a put": func(b *bundle) wire.Wish {
		return wire.Wish{
			Kind:   plan.Undo,
			Undoes: b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"}).ID,
		}
	},
	"undo of a reset": func(b *bundle) wire.Wish {
		return wire.Wish{
			Kind: plan.Undo,
			Undoes: b.do(wire.Wish{
				Kind:    plan.Reset,
				Server:  "north",
				Choices: map[string]string{"seed": "-77"},
			}).ID,
		}
	},
}

// killRun drafts a kind of changeover, carries it out in a service that dies at a
// point, and takes up what is left in a new life of the service. It gives the points
// that were passed; died is false when there were fewer.
func killRun(t *testing.T, kind string, dieAt int64) (points []string, died bool) {
	b := setup(t)
	root := b.quarry("north", plot{
		world: quarrymoss.Options{Title: "Winter", Seed: 111, Realms: []string{"caverns", "aurora"}},
	})
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "old"),
		quarrymoss.Options{Title: "Old", Seed: 9, Realms: []string{"caverns", "aurora"}}))
	b.quarry("south", plot{
		folder: "south",
		world:  quarrymoss.Options{Title: "South", Seed: 5, Realms: []string{"caverns", "aurora"}},
	})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Realms: []string{"caverns", "aurora"}, Tiles: 25})
	wish := killKinds[kind](b)
	if wish.Kind != plan.Undo {
		wish.Server = "north"
	}
	worlds := func() map[string]map[string]string {
		out := map[string]map[string]string{}
		entries, err := os.ReadDir(filepath.Join(root, "worlds"))
		require.NoError(t, err)
		for _, e := range entries {
			out[e.Name()] = snapshot(t, filepath.Join(root, "worlds", e.Name()), played...)
		}
		return out
	}
	before := worlds()
	draft, err := b.api.Draft(context.Background(), wish)
	require.NoError(t, err)
	points, died, last := b.dieAndComeBack(draft.ID, dieAt)
	b.assertOneWholeWorld(before, worlds(), last)
	return points, died
}

// ended waits for a mortal service to end, once all that was asked of it is done: it has died at its point, or has
// passed fewer, and is told to go. It reports whether it died.
func ended(cmd *exec.Cmd, dieAt int64) (died bool) {
	over := make(chan error, 1)
	go func() { over <- cmd.Wait() }()
	if dieAt != 0 {
		select {
		case err := <-over:
			return err != nil
		case <-time.After(20 * time.Second):
		}
	}
	_ = cmd.Process.Signal(os.Interrupt)
	return <-over != nil
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
	died = ended(cmd, dieAt)
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
	worlds, err := b.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: worlds[0].Name, Server: "camp", Choices: choices})
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
			gate := make(chan struct{}, atOnce)
			moves := 0
			for n := 1; n <= len(points); n++ {
				if !strings.Contains(points[n-1], "move") || strings.HasSuffix(points[n-1], "prepare") {
					continue
				}
				moves++
				if !everyPoint && moves%3 != 1 {
					continue
				}
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

// assertOneWholeWorld checks that what stands on the server after a changeover is
// whole, that it is what the outcome says, that the server runs it, and that nothing
// that was there is lost.
func (b *bundle) assertOneWholeWorld(before, now map[string]map[string]string, c wire.Changeover) {
	t := b.t
	t.Helper()
	var s wire.ServerFacts
	require.Eventually(t, func() bool { // the process may just be settling
		var err error
		s, err = b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running" && s.Server.Opened == s.Server.Active &&
			s.Server.Changeover == 0
	}, 10*time.Second, 20*time.Millisecond)
	require.Contains(t, now, s.Server.Active)
	other, err := b.api.Server(context.Background(), "south")
	require.NoError(t, err)
	assert.Equal(t, "running", other.Server.State)
	for n, step := range c.Steps {
		assert.NotEqual(t, string(plan.StepIntended), step.State, "step %d is left open in the journal", n)
	}
	if c.State != plan.Done {
		assert.Equal(t, before, now, "as before")
		return
	}
	root := s.Server.Root
	for name, files := range before {
		switch where, there := now[name], false; {
		case c.Kind == plan.Rename && name == "winter":
			assert.Equal(t, files, now["summer"], "the renamed world is whole")
		case len(where) > 0 && assert.ObjectsAreEqual(files, where):
		default:
			_, err := os.Stat(filepath.Join(root, c.Plan.Work, "aside", name))
			there = err == nil
			require.True(t, there, "%s is neither in its place nor set aside", name)
			assert.Equal(t, files, snapshot(t, filepath.Join(root, c.Plan.Work, "aside", name), played...),
				"%s is set aside whole", name)
		}
	}
}

// killPoints names the points of each kind of changeover, as a run that lives passes them. With RESHARD_EVERY_POINT
// each kind is run once more, and the list has to be what is seen; with RESHARD_UPDATE too it becomes that.
func killPoints(t *testing.T) map[string][]string {
	t.Helper()
	const file = "testdata/kill-points.json"
	var golden map[string][]string
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &golden))
	if !everyPoint {
		return golden
	}
	seen := map[string][]string{}
	var mu sync.Mutex
	t.Run("points", func(t *testing.T) {
		gate := make(chan struct{}, atOnce)
		for kind := range killKinds {
			t.Run(kind, func(t *testing.T) {
				t.Parallel()
				gate <- struct{}{}
				defer func() { <-gate }()
				points, died := killRun(t, kind, 0)
				require.False(t, died)
				mu.Lock()
				defer mu.Unlock()
				for _, p := range points {
					_, name, _ := strings.Cut(p, " ")
					seen[kind] = append(seen[kind], name)
				}
			})
		}
	})
	if os.Getenv("RESHARD_UPDATE") != "" {
		data, err := json.MarshalIndent(seen, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append(data, '\n'), 0o644))
		return seen
	}
	require.Equal(t, golden, seen, "run it with RESHARD_UPDATE=1 when that is meant")
	return seen
}

// SIGKILL at each journal write and inside of each step, in every kind of changeover:
// the next start finishes or takes back. With RESHARD_EVERY_POINT all points are
// tried, which takes long; without it every sixtieth, and in memory all of them are
// (package executor).
func TestKilledInEveryKind(t *testing.T) {
	stride := 60
	if everyPoint {
		stride = 1
	}
	points := killPoints(t)
	require.Len(t, points, len(killKinds), "a kind is missing: make crash")
	var tried atomic.Int64
	t.Run("kinds", func(t *testing.T) {
		gate := make(chan struct{}, atOnce)
		for offset, kind := range slices.Sorted(maps.Keys(killKinds)) {
			names := points[kind]
			require.Greater(t, len(names), 8)
			for n := 1 + (offset*5)%min(stride, len(names)); n <= len(names); n += stride {
				t.Run(fmt.Sprintf("%s/point %d %s", kind, n, names[n-1]), func(t *testing.T) {
					t.Parallel()
					gate <- struct{}{}
					defer func() { <-gate }()
					_, died := killRun(t, kind, int64(n))
					assert.True(t, died, "it was to die at this point")
					tried.Add(1)
				})
			}
		}
	})
	t.Logf("%d points tried", tried.Load())
}
