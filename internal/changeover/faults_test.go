package changeover_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/changeover"
	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/place"
	"reshard/internal/vault"
)

// memory is a journal that holds what it is told, and checks the order. hit, when set,
// is told before and after each of its writes.
type memory struct {
	t       *testing.T
	mu      sync.Mutex
	state   plan.State
	steps   map[int]plan.StepState
	details map[int]json.RawMessage
	hit     func(point string)
}

func (m *memory) told(point string) {
	if m.hit != nil {
		m.hit(point)
	}
}

func (m *memory) Advance(_ context.Context, _ int64, from, to plan.State, _ changeover.Note) error {
	m.told("journal before " + string(to))
	m.mu.Lock()
	assert.True(m.t, from.May(to), "%s to %s", from, to)
	assert.Equal(m.t, m.state, from)
	m.state = to
	m.mu.Unlock()
	m.told("journal after " + string(to))
	return nil
}

func (m *memory) Step(_ context.Context, _ int64, n int, _ []plan.StepState, to plan.StepState, detail any) error {
	m.told(fmt.Sprintf("journal before step %d %s", n, to))
	m.mu.Lock()
	m.steps[n] = to
	if detail != nil {
		raw, err := json.Marshal(detail)
		require.NoError(m.t, err)
		m.details[n] = raw
	}
	m.mu.Unlock()
	m.told(fmt.Sprintf("journal after step %d %s", n, to))
	return nil
}

// job is what a next life of the service finds in the journal.
func (m *memory) job(p plan.Plan) changeover.Job {
	m.mu.Lock()
	defer m.mu.Unlock()
	job := changeover.Job{ID: 1, Plan: p, State: m.state, Steps: make([]changeover.StepRecord, len(p.Steps))}
	for i := range job.Steps {
		job.Steps[i].State = plan.StepPlanned
		if st, told := m.steps[i]; told {
			job.Steps[i] = changeover.StepRecord{State: st, Detail: m.details[i]}
		}
	}
	return job
}

// inProcess plays a game server without a process: it opens the world that the
// settings name when it is spawned, makes one that is not there, and says what the
// stand-in game says.
type inProcess struct {
	root string
	mu   sync.Mutex
	run  int
	on   bool
	held bool
	log  bytes.Buffer
	// breaks is a world that it does not open.
	breaks string
}

func (g *inProcess) setting(key string) string {
	data, err := os.ReadFile(filepath.Join(g.root, "quarry.properties"))
	if err != nil {
		return ""
	}
	_, value, _ := strings.Cut(string(data), key+"=")
	value, _, _ = strings.Cut(value, "\n")
	return value
}

func (g *inProcess) open(folder string) {
	h, err := quarrymoss.ReadHeart(filepath.Join(g.root, "worlds", folder))
	if errors.Is(err, fs.ErrNotExist) {
		seed, _ := strconv.ParseInt(g.setting("world.seed"), 10, 64)
		err = quarrymoss.Make(filepath.Join(g.root, "worlds", folder), quarrymoss.Options{Title: folder, Seed: seed, Version: "2.5.1", Tiles: 4})
		if err == nil {
			h, err = quarrymoss.ReadHeart(filepath.Join(g.root, "worlds", folder))
		}
	}
	if err != nil || folder == g.breaks {
		g.on = false
		fmt.Fprintf(&g.log, "cannot open world %s: %v\n", folder, err)
		return
	}
	fmt.Fprintf(&g.log, "opening world %q\nheart %d\n", folder, h.Seed)
}

func (g *inProcess) Spawn() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.run++
	g.log.Reset()
	g.on = true
	if g.open(g.setting("world.folder")); g.on {
		g.log.WriteString("ready on port 1\n")
	}
	return nil
}

func (g *inProcess) Find() (control.Process, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return control.Process{PID: g.run}, g.on
}

func (g *inProcess) Say(line string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	switch line {
	case "halt":
		g.on = false
		g.log.WriteString("all tiles written\n")
	case "hold":
		g.held = true
		g.log.WriteString("writes held\n")
	case "flush":
		g.log.WriteString("tiles flushed\n")
	case "release":
		g.held = false
		g.log.WriteString("writes released\n")
	case "seed":
		_, seed, _ := cutLast(g.log.String(), "heart ")
		seed, _, _ = strings.Cut(seed, "\n")
		fmt.Fprintf(&g.log, "seed is %s\n", seed)
	}
	if name, ok := strings.CutPrefix(line, "load "); ok {
		g.open(name)
	}
	return nil
}

func cutLast(s, sep string) (before, after string, ok bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

func (g *inProcess) Signal(syscall.Signal) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.on = false
	return nil
}

func (g *inProcess) ReadLog(p []byte, offset int64) (int, string, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	data := g.log.Bytes()
	if offset > int64(len(data)) {
		offset = int64(len(data))
	}
	return copy(p, data[offset:]), fmt.Sprint(g.run), nil
}

func (g *inProcess) LastExit() (control.Exit, bool) { return control.Exit{}, false }

// faulty fails one operation, and every later one of the same kind while the
// disk is full.
type faulty struct {
	place.Driver
	n, failAt atomic.Int64
	err       error
	failed    atomic.Value
	// gone says that the process is dead: nothing of it acts any more.
	gone *atomic.Bool
}

func (f *faulty) hit(op, name string) error {
	if f.gone != nil && f.gone.Load() {
		select {}
	}
	if n := f.n.Add(1); n == f.failAt.Load() {
		f.failed.Store(op + " " + name)
		return &fs.PathError{Op: op, Path: name, Err: f.err}
	}
	return nil
}

type shortWriter struct {
	io.WriteCloser
	f    *faulty
	name string
}

func (w shortWriter) Write(p []byte) (int, error) {
	if err := w.f.hit("write", w.name); err != nil {
		n, _ := w.WriteCloser.Write(p[:len(p)/2]) // half of it arrives
		return n, err
	}
	return w.WriteCloser.Write(p)
}

func (f *faulty) Create(name string) (io.WriteCloser, error) {
	if err := f.hit("create", name); err != nil {
		return nil, err
	}
	w, err := f.Driver.Create(name)
	return shortWriter{w, f, name}, err
}

func (f *faulty) Mkdir(name string) error {
	return errors.Join(f.hit("mkdir", name), f.skip(func() error { return f.Driver.Mkdir(name) }))
}

// skip runs an operation unless the last hit was its failure.
func (f *faulty) skip(do func() error) error {
	if f.n.Load() == f.failAt.Load() {
		return nil
	}
	return do()
}

func (f *faulty) Rename(from, to string) error {
	if err := f.hit("rename", from); err != nil {
		return err
	}
	return f.Driver.Rename(from, to)
}

func (f *faulty) Sync(name string) error {
	if err := f.hit("sync", name); err != nil {
		return err
	}
	return f.Driver.Sync(name)
}

// stage is a server whose game runs in this process, another one to clone from, and
// a changeover of some kind that is drafted.
type stage struct {
	t       *testing.T
	dir     string
	root    string
	profile *game.Profile
	vault   *vault.Vault
	driver  *faulty
	games   map[string]*inProcess
	control map[string]*control.Control
	places  map[string]*place.Place
	plan    plan.Plan
	runner  *changeover.Runner
	job     changeover.Job
	log     *memory
}

// kinds draft each kind of changeover on a stage.
var kinds = map[string]func(s *stage) plan.Plan{
	"put": func(s *stage) plan.Plan { return s.draft(plan.Put, "", nil) },
	"put over a stopped server": func(s *stage) plan.Plan {
		_, _, err := s.control["north"].Stop(context.Background(), control.Clean)
		require.NoError(s.t, err)
		return s.draft(plan.Put, "", nil)
	},
	"put beside":          func(s *stage) plan.Plan { return s.draft(plan.Put, fit.ForBeside, nil) },
	"put when told":       func(s *stage) plan.Plan { return s.draft(plan.Put, "", fit.Choices{"switch": "when-told"}) },
	"put that is refused": func(s *stage) plan.Plan { s.games["north"].breaks = "fen"; return s.draft(plan.Put, "", nil) },
	"restore":             func(s *stage) plan.Plan { return s.draft(plan.Restore, "", fit.Choices{"folder-name": "winter"}) },
	"clone":               func(s *stage) plan.Plan { return s.draft(plan.Clone, "", nil) },
	"clone with a stop": func(s *stage) plan.Plan {
		s.profile.Server.Console.Hold = game.Exchange{}
		return s.draft(plan.Clone, "", nil)
	},
	"reset":            func(s *stage) plan.Plan { return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "77"}) },
	"reset, same seed": func(s *stage) plan.Plan { return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "same"}) },
	"reset, other name": func(s *stage) plan.Plan {
		return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "77", "folder-name": "spring"})
	},
	"reset that is refused": func(s *stage) plan.Plan {
		s.games["north"].breaks = "spring"
		return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "77", "folder-name": "spring"})
	},
	"switch": func(s *stage) plan.Plan { return s.draft(plan.Switch, fit.ForSwitch, nil) },
	"switch by a load": func(s *stage) plan.Plan {
		main := s.profile.Server.Settings["main"]
		main.WritesBack = false
		s.profile.Server.Settings["main"] = main
		s.profile.Server.Console.Load = game.Exchange{Say: "load {name}", Expect: s.profile.Server.Console.Opened}
		return s.draft(plan.Switch, fit.ForSwitch, nil)
	},
	"rename": func(s *stage) plan.Plan {
		return s.draft(plan.Rename, fit.ForRename, fit.Choices{"folder-name": "summer"})
	},
	"take away": func(s *stage) plan.Plan { return s.draft(plan.TakeAway, "", nil) },
	"take away with a stop": func(s *stage) plan.Plan {
		s.profile.Server.Console.Hold = game.Exchange{}
		return s.draft(plan.TakeAway, "", nil)
	},
	"first start": func(s *stage) plan.Plan {
		_, _, err := s.control["north"].Stop(context.Background(), control.Clean)
		require.NoError(s.t, err)
		return s.draft(plan.FirstStart, "", fit.Choices{"first-start": "make"})
	},
	"undo of a put": func(s *stage) plan.Plan { return s.undoOf(s.draft(plan.Put, "", nil)) },
	"undo of a rename": func(s *stage) plan.Plan {
		return s.undoOf(s.draft(plan.Rename, fit.ForRename, fit.Choices{"folder-name": "summer"}))
	},
	"undo of a reset": func(s *stage) plan.Plan {
		return s.undoOf(s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "77"}))
	},
	"undo of a switch":       func(s *stage) plan.Plan { return s.undoOf(s.draft(plan.Switch, fit.ForSwitch, nil)) },
	"undo of a place beside": func(s *stage) plan.Plan { return s.undoOf(s.draft(plan.Put, fit.ForBeside, nil)) },
}

// quickDir is a folder that is in memory where the machine has one such: thousands of
// stages are made, and what their disks do is not in question here.
func quickDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "reshard-stage-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
	return dir
}

// newStage makes a stage and drafts a kind of changeover; the failAt-th operation on
// its files fails, 0 none.
func newStage(t *testing.T, kind string, failAt int64, cause error) *stage {
	t.Helper()
	s := &stage{t: t, dir: quickDir(t), games: map[string]*inProcess{}, control: map[string]*control.Control{}, places: map[string]*place.Place{}}
	profile, err := games.Find("quarrymoss")
	require.NoError(t, err)
	quick := *profile
	quick.Server.Waits.Settle, quick.Server.Waits.Start, quick.Server.Waits.Stop = time.Millisecond, time.Second, time.Second
	quick.Server.Settings = maps.Clone(profile.Server.Settings)
	s.profile = &quick
	require.NoError(t, quarrymoss.Make(filepath.Join(s.dir, "fen"), quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 4, Version: "2.5.1"}))
	blobs, err := vault.Files(filepath.Join(s.dir, "vault"))
	require.NoError(t, err)
	s.vault, err = vault.Open(context.Background(), blobs, vault.NewMemory())
	require.NoError(t, err)
	for name, seed := range map[string]int64{"north": 1, "south": 5} {
		root := filepath.Join(s.dir, name)
		require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", seed, 1))
		require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"), quarrymoss.Options{Title: "Winter " + name, Seed: seed, Tiles: 4}))
		require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "old"), quarrymoss.Options{Title: "Old", Seed: 9, Tiles: 4, Version: "2.5.1"}))
		opened, closer, err := place.Local(root)
		require.NoError(t, err)
		t.Cleanup(func() { _ = closer.Close() })
		s.places[name] = opened
		s.games[name] = &inProcess{root: root}
		s.control[name] = control.New(name, s.games[name], &quick)
		s.control[name].Poll = time.Millisecond
		_, err = s.control[name].Start(context.Background())
		require.NoError(t, err)
	}
	s.root = filepath.Join(s.dir, "north")
	s.plan = kinds[kind](s)
	s.log = &memory{t: t, state: plan.Drafted, steps: map[int]plan.StepState{}, details: map[int]json.RawMessage{}}
	s.job = s.log.job(s.plan)
	s.life(failAt, cause)
	return s
}

// life gives the stage a runner, as each life of the service has its own.
func (s *stage) life(failAt int64, cause error) {
	s.driver = &faulty{Driver: s.places["north"].FS().(place.Driver), err: cause}
	s.driver.failAt.Store(failAt)
	others := map[string]changeover.Hands{}
	for name := range s.games {
		c := control.New(name, s.games[name], s.profile)
		c.Poll = time.Millisecond
		s.control[name] = c
		others[name] = changeover.Hands{Place: s.places[name], Control: c, Profile: s.profile}
	}
	s.runner = &changeover.Runner{
		Journal: s.log, Place: place.New(s.root, s.driver), Control: s.control["north"], Vault: s.vault, Profile: s.profile, Others: others,
		Check: func(context.Context) error { return nil }, Now: time.Now, Poll: time.Millisecond,
		Keep:  func(context.Context, vault.Copy, world.World, string) error { return nil },
		Ready: func(context.Context, int, plan.Step) (bool, error) { return true, nil },
	}
}

func (s *stage) store(dir, name string) (vault.Copy, world.World) {
	s.t.Helper()
	w, found, err := world.Inspect(os.DirFS(dir), name, name, "", []*game.Profile{s.profile})
	require.NoError(s.t, err)
	entries, err := world.Parts(os.DirFS(dir), found)
	require.NoError(s.t, err)
	var files []vault.Source
	for _, e := range entries {
		src := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		if !e.Dir {
			src.Open = func() (io.ReadCloser, error) { return os.DirFS(dir).Open(e.Source) }
		}
		files = append(files, src)
	}
	c, err := s.vault.Store(context.Background(), files, nil)
	require.NoError(s.t, err)
	return c, w
}

func (s *stage) draft(kind string, purpose fit.Purpose, choices fit.Choices) plan.Plan {
	s.t.Helper()
	tree := os.DirFS(s.root)
	state, err := server.Read(tree, s.profile, server.Machine{Kind: "plain"})
	require.NoError(s.t, err)
	if choices == nil {
		choices = fit.Choices{}
	}
	in := plan.Input{Kind: kind, Server: "north", Work: ".reshard/1", Tree: tree, Fit: fit.Input{
		Profile: s.profile, Server: state, Choices: choices, Purpose: purpose,
		Live: fit.Live{State: s.control["north"].Status().State, FreeBytes: -1, SameFilesystem: true, Players: -1},
	}}
	present := func(root, name string) world.World {
		w, _, err := world.Inspect(os.DirFS(root), "worlds/"+name, name, "", []*game.Profile{s.profile})
		require.NoError(s.t, err)
		w.Locks = nil
		return w
	}
	switch kind {
	case plan.Put, plan.Restore:
		c, w := s.store(s.dir, "fen")
		in.Copy, in.Parts, in.Fit.World = c.ID, c.Parts(), w
	case plan.Clone:
		in.Fit.World, in.Parts = present(filepath.Join(s.dir, "south"), "winter"), []string{""}
		in.Source = &plan.Source{Server: "south", Worlds: "worlds", Running: true}
	case plan.Switch:
		in.Fit.World = present(s.root, "old")
	case plan.FirstStart:
		in.Fit.Server.NotYet = []string{"worlds/"}
	default:
		in.Fit.World = present(s.root, "winter")
	}
	in.Sheet = fit.Compare(in.Fit)
	var p plan.Plan
	switch kind {
	case plan.Reset:
		p, err = plan.DraftReset(in)
	case plan.Switch:
		p, err = plan.DraftSwitch(in)
	case plan.Rename:
		p, err = plan.DraftRename(in)
	case plan.TakeAway:
		in.Sheet = fit.Sheet{}
		p, err = plan.DraftTakeAway(in)
	case plan.FirstStart:
		in.Sheet = fit.Sheet{}
		p, err = plan.DraftFirstStart(in, plan.Then{})
	default:
		p, err = plan.DraftPut(in)
	}
	require.NoError(s.t, err)
	return p
}

// undoOf carries a plan out and drafts its undo.
func (s *stage) undoOf(of plan.Plan) plan.Plan {
	s.t.Helper()
	s.log = &memory{t: s.t, state: plan.Drafted, steps: map[int]plan.StepState{}, details: map[int]json.RawMessage{}}
	s.life(0, nil)
	ctx := context.Background()
	require.NoError(s.t, s.runner.Begin(ctx, s.log.job(of)))
	require.NoError(s.t, s.runner.Carry(ctx))
	after := map[string]string{}
	for n, step := range of.Steps {
		var d changeover.Detail
		if step.Kind == plan.Write && json.Unmarshal(s.log.details[n], &d) == nil {
			after[step.File] = d.After
		}
	}
	state, err := server.Read(os.DirFS(s.root), s.profile, server.Machine{Kind: "plain"})
	require.NoError(s.t, err)
	made := ""
	if of.Expect.Fresh {
		made = of.Expect.Folder
	}
	p, err := plan.DraftUndo(plan.UndoInput{
		Of: of, ID: 1, Profile: s.profile, State: state, Server: "north", Work: ".reshard/2", Tree: os.DirFS(s.root), After: after, Made: made,
		Live: fit.Live{State: "running", FreeBytes: -1, SameFilesystem: true, Players: -1},
	})
	require.NoError(s.t, err)
	return p
}

// clean carries a kind out with nothing in its way, and tells how the server stands
// before and after it, how many file operations it took, and the points that it passed.
func clean(t *testing.T, kind string) (s *stage, before, after map[string]string, points []string) {
	t.Helper()
	s = newStage(t, kind, 0, nil)
	before = tree(t, s.root)
	var mu sync.Mutex
	note := func(p string) { mu.Lock(); points = append(points, p); mu.Unlock() }
	s.log.hit, s.runner.Trace = note, note
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	err := s.runner.Carry(ctx)
	if strings.HasSuffix(kind, "is refused") {
		require.Error(t, err)
		require.Equal(t, plan.Undone, s.log.state, "%v", err)
		require.Equal(t, before, tree(t, s.root))
	} else {
		require.NoError(t, err)
		require.Equal(t, plan.Done, s.log.state)
	}
	return s, before, tree(t, s.root), points
}

func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == plan.WorkFolder {
			return fs.SkipDir
		}
		rel, _ := filepath.Rel(root, p)
		if !d.IsDir() {
			data, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			out[rel] = fmt.Sprintf("%x", sha256.Sum256(data))
		}
		return nil
	}))
	return out
}

// An error, a short write and a full disk at every single file operation of every
// kind of changeover: each time everything is as it was, and the old world runs.
func TestAFaultAtEveryFileOperation(t *testing.T) {
	t.Parallel()
	var tried atomic.Int64
	t.Run("kinds", func(t *testing.T) {
		for kind := range kinds {
			t.Run(kind, func(t *testing.T) {
				t.Parallel()
				s, before, _, _ := clean(t, kind)
				total := s.driver.n.Load()
				ran := newStage(t, kind, 0, nil).games["north"].on
				ctx := context.Background()
				for _, cause := range []error{syscall.ENOSPC, syscall.EIO} {
					for at := int64(1); at <= total && !strings.HasSuffix(kind, "is refused"); at++ {
						s := newStage(t, kind, at, cause)
						require.NoError(t, s.runner.Begin(ctx, s.job))
						err := s.runner.Carry(ctx)
						failed := s.driver.failed.Load()
						require.Error(t, err, "operation %d, %v", at, failed)
						require.Equal(t, plan.Undone, s.log.state, "operation %d, %v: %v", at, failed, err)
						if cause == syscall.ENOSPC {
							assert.Equal(t, fault.NoSpace, fault.CodeOf(err), "operation %d, %v: %v", at, failed, err)
						}
						assert.Equal(t, before, tree(t, s.root), "operation %d, %v", at, failed)
						s.assertRuns(ran, "operation %d, %v", at, failed)
						for n, state := range s.log.steps {
							assert.Equal(t, plan.StepUndone, state, "step %d", n)
						}
						tried.Add(1)
					}
				}
			})
		}
	})
	t.Logf("%d faults tried", tried.Load())
}

// assertRuns checks that the server runs the world that its settings name, and that
// nothing is held anywhere.
func (s *stage) assertRuns(ran bool, format string, args ...any) {
	s.t.Helper()
	what := fmt.Sprintf(format, args...)
	st := s.control["north"].Status()
	assert.Equal(s.t, ran, st.State == "running", what)
	if ran {
		assert.Equal(s.t, s.games["north"].setting("world.folder"), st.Opened, what)
	}
	for name, g := range s.games {
		assert.False(s.t, g.held, name)
	}
	assert.Equal(s.t, "running", s.control["south"].Status().State, what)
}

// A copy that no longer verifies must not reach the server.
func TestADamagedCopyStopsBeforeTheSwitch(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put", 0, nil)
	require.NoError(t, filepath.WalkDir(filepath.Join(s.dir, "vault", "packs"), func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			return os.Truncate(p, 3)
		}
		return err
	}))
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	err := s.runner.Carry(ctx)
	assert.ErrorIs(t, err, fault.Damaged.As())
	assert.Equal(t, plan.Undone, s.log.state)
	assert.NotContains(t, s.log.steps, 2, "the stop was never reached")
}

// Somebody edits the settings by hand in the midst of the switch: their edit is
// not overwritten.
func TestSettingsChangedMeanwhile(t *testing.T) {
	t.Parallel()
	s := newStage(t, "put", 0, nil)
	file := filepath.Join(s.root, "quarry.properties")
	s.runner.Trace = func(point string) {
		if strings.HasSuffix(point, "write kept") {
			data, _ := os.ReadFile(file)
			_ = os.WriteFile(file, append(data, "welcome=changed by hand\n"...), 0o644)
		}
	}
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	assert.ErrorIs(t, s.runner.Carry(ctx), fault.Changed.As())
	assert.Equal(t, plan.Undone, s.log.state)
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(now), "changed by hand")
	assert.Contains(t, string(now), "world.folder=winter")
	assert.Equal(t, "winter", s.runner.Control.Status().Opened)
}
