package changeover_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
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
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/place"
	"reshard/internal/vault"
)

// memory is a journal that holds what it is told, and checks the order.
type memory struct {
	t     *testing.T
	state plan.State
	steps map[int]plan.StepState
}

func (m *memory) Advance(_ context.Context, _ int64, from, to plan.State, _ changeover.Note) error {
	assert.True(m.t, from.May(to), "%s to %s", from, to)
	assert.Equal(m.t, m.state, from)
	m.state = to
	return nil
}

func (m *memory) Step(_ context.Context, _ int64, n int, _ []plan.StepState, to plan.StepState, _ any) error {
	m.steps[n] = to
	return nil
}

// inProcess plays a game server without a process: it opens the world that the
// settings name when it is spawned, and says what the stand-in game says.
type inProcess struct {
	root string
	mu   sync.Mutex
	run  int
	on   bool
	log  bytes.Buffer
}

func (g *inProcess) Spawn() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.run++
	g.log.Reset()
	g.on = true
	data, err := os.ReadFile(filepath.Join(g.root, "quarry.properties"))
	if err != nil {
		return err
	}
	_, folder, _ := strings.Cut(string(data), "world.folder=")
	folder, _, _ = strings.Cut(folder, "\n")
	h, err := quarrymoss.ReadHeart(filepath.Join(g.root, "worlds", folder))
	if err != nil {
		g.on = false
		fmt.Fprintf(&g.log, "cannot open world: %v\n", err)
		return nil
	}
	fmt.Fprintf(&g.log, "opening world %q\nready on port 1\nheart %d\n", folder, h.Seed)
	return nil
}

func (g *inProcess) Find() (control.Process, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return control.Process{PID: 1}, g.on
}

func (g *inProcess) Say(line string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	switch line {
	case "halt":
		g.on = false
		g.log.WriteString("all tiles written\n")
	case "seed":
		_, seed, _ := strings.Cut(g.log.String(), "heart ")
		seed, _, _ = strings.Cut(seed, "\n")
		fmt.Fprintf(&g.log, "seed is %s\n", seed)
	}
	return nil
}

func (g *inProcess) Signal(syscall.Signal) error { return nil }

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
}

func (f *faulty) hit(op, name string) error {
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

type stage struct {
	root   string
	driver *faulty
	runner *changeover.Runner
	job    changeover.Job
	log    *memory
}

func setup(t *testing.T, failAt int64, err error) stage {
	t.Helper()
	dir := t.TempDir()
	root := filepath.Join(dir, "server")
	profile, perr := games.Find("quarrymoss")
	require.NoError(t, perr)
	quick := *profile
	quick.Server.Waits.Settle, quick.Server.Waits.Start, quick.Server.Waits.Stop = time.Millisecond, time.Second, time.Second
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1, 1))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"), quarrymoss.Options{Title: "Winter", Seed: 1, Tiles: 4}))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"), quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 4, Version: "2.5.1"}))
	v, verr := vault.Open(filepath.Join(dir, "vault"))
	require.NoError(t, verr)
	w, found, werr := world.Inspect(os.DirFS(dir), "fen", "fen", "", games.All())
	require.NoError(t, werr)
	entries, werr := world.Parts(os.DirFS(dir), found)
	require.NoError(t, werr)
	var files []vault.Source
	for _, e := range entries {
		s := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		if !e.Dir {
			s.Open = func() (io.ReadCloser, error) { return os.DirFS(dir).Open(e.Source) }
		}
		files = append(files, s)
	}
	c, verr := v.Store(context.Background(), files, nil)
	require.NoError(t, verr)

	opened, closer, oerr := place.Local(root)
	require.NoError(t, oerr)
	t.Cleanup(func() { _ = closer.Close() })
	driver := &faulty{Driver: opened.FS().(place.Driver), err: err}
	driver.failAt.Store(failAt)
	game := &inProcess{root: root}
	ctl := control.New("north", game, &quick)
	ctl.Poll = time.Millisecond
	_, serr := ctl.Start(context.Background())
	require.NoError(t, serr)

	state, rerr := server.Read(driver, &quick, server.Machine{Kind: "plain"})
	require.NoError(t, rerr)
	in := fit.Input{Profile: &quick, World: w, Server: state, Live: fit.Live{State: "running", FreeBytes: -1, SameFilesystem: true, Players: -1}}
	p, derr := plan.DraftPut(plan.Input{Kind: plan.Put, Fit: in, Sheet: fit.Compare(in), Server: "north", Copy: c.ID, Parts: c.Parts(), Work: ".reshard/1", Tree: driver})
	require.NoError(t, derr)
	job := changeover.Job{ID: 1, Plan: p, State: plan.Drafted, Steps: make([]changeover.StepRecord, len(p.Steps))}
	for i := range job.Steps {
		job.Steps[i].State = plan.StepPlanned
	}
	log := &memory{t: t, state: plan.Drafted, steps: map[int]plan.StepState{}}
	return stage{root: root, driver: driver, job: job, log: log, runner: &changeover.Runner{
		Journal: log, Place: place.New(root, driver), Control: ctl, Vault: v, Profile: &quick,
		Check: func(context.Context) error { return nil }, Now: time.Now,
	}}
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

// An error, a short write and a full disk at every single file operation: each
// time everything is as it was, and the old world runs.
func TestAFaultAtEveryFileOperation(t *testing.T) {
	t.Parallel()
	clean := setup(t, 0, nil)
	ctx := context.Background()
	require.NoError(t, clean.runner.Begin(ctx, clean.job))
	require.NoError(t, clean.runner.Carry(ctx))
	total := clean.driver.n.Load()
	require.Equal(t, plan.Done, clean.log.state)
	require.Greater(t, total, int64(25))
	tried := 0
	for _, cause := range []error{syscall.ENOSPC, syscall.EIO} {
		for at := int64(1); at <= total; at++ {
			s := setup(t, at, cause)
			before := tree(t, s.root)
			require.NoError(t, s.runner.Begin(ctx, s.job))
			err := s.runner.Carry(ctx)
			failed := s.driver.failed.Load()
			require.Error(t, err, "operation %d, %v", at, failed)
			require.Equal(t, plan.Undone, s.log.state, "operation %d, %v: %v", at, failed, err)
			if cause == syscall.ENOSPC {
				assert.Equal(t, fault.NoSpace, fault.CodeOf(err), "operation %d, %v: %v", at, failed, err)
			}
			assert.Equal(t, before, tree(t, s.root), "operation %d, %v", at, failed)
			st := s.runner.Control.Status()
			assert.Equal(t, "running", st.State)
			assert.Equal(t, "winter", st.Opened)
			for n, state := range s.log.steps {
				assert.Equal(t, plan.StepUndone, state, "step %d", n)
			}
			tried++
		}
	}
	t.Logf("%d faults tried", tried)
}

// A copy that no longer verifies must not reach the server.
func TestADamagedCopyStopsBeforeTheSwitch(t *testing.T) {
	t.Parallel()
	s := setup(t, 0, nil)
	require.NoError(t, filepath.WalkDir(filepath.Join(filepath.Dir(s.root), "vault", "chunks"), func(p string, d fs.DirEntry, err error) error {
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
	s := setup(t, 0, nil)
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
