package executor_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/control"
	running "reshard/internal/control/memory"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/executor"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/memory"
	"reshard/internal/vault"
)

// made is what all stages begin with; it is made once.
var made struct {
	servers  map[string]*memory.Files
	vault    *vault.Vault
	fen      vault.Copy
	fenFacts world.Facts
}

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "reshard-stage-")
	if err == nil {
		err = makeAll(dir)
	}
	if err != nil {
		log.Fatal(err)
	}
	code := m.Run()
	_ = os.RemoveAll(dir) // a temporary folder
	os.Exit(code)
}

func makeAll(dir string) error {
	made.servers = map[string]*memory.Files{}
	for name, seed := range map[string]int64{"north": 1, "south": 5} {
		root := filepath.Join(dir, name)
		worlds := map[string]quarrymoss.Options{
			"winter": {Title: "Winter " + name, Seed: seed, Tiles: 4},
			"old":    {Title: "Old", Seed: 9, Tiles: 4, Version: "2.5.1"},
		}
		if err := quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", seed,
			1); err != nil {
			return err
		}
		for folder, o := range worlds {
			if err := quarrymoss.Make(filepath.Join(root, "worlds", folder), o); err != nil {
				return err
			}
		}
		made.servers[name] = memory.New()
		if err := made.servers[name].Load(os.DirFS(root)); err != nil {
			return err
		}
	}
	v, err := newVault(filepath.Join(dir, "vault"))
	if err != nil {
		return err
	}
	made.vault = v
	if err := quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 4, Version: "2.5.1"}); err != nil {
		return err
	}
	made.fen, made.fenFacts, err = store(v, dir, "fen")
	return err
}

func newVault(dir string) (*vault.Vault, error) {
	blobs, err := vault.Files(dir)
	if err != nil {
		return nil, err
	}
	return vault.Open(context.Background(), blobs, vault.NewMemory())
}

func store(v *vault.Vault, dir, name string) (vault.Copy, world.Facts, error) {
	profile, err := games.Find("quarrymoss")
	if err != nil {
		return vault.Copy{}, world.Facts{}, err
	}
	w, found, err := world.Inspect(os.DirFS(dir), name, name, "", []*game.Profile{profile})
	if err != nil {
		return vault.Copy{}, w, err
	}
	entries, err := world.Parts(os.DirFS(dir), found)
	if err != nil {
		return vault.Copy{}, w, err
	}
	var files []vault.Source
	for _, e := range entries {
		src := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		if !e.Dir {
			src.Open = func() (io.ReadCloser, error) { return os.DirFS(dir).Open(e.Source) }
		}
		files = append(files, src)
	}
	c, err := v.Store(context.Background(), files, nil)
	return c, w, err
}

// ledger is a journal that holds what it is told, and checks the order. hit, when set,
// is told before and after each of its writes.
type ledger struct {
	t       *testing.T
	mu      sync.Mutex
	state   plan.State
	steps   map[int]plan.StepState
	details map[int]json.RawMessage
	before  *plan.Before
	hit     func(point string)
}

func (m *ledger) told(point string) {
	if m.hit != nil {
		m.hit(point)
	}
}

func (m *ledger) Advance(_ context.Context, _ int64, from, to plan.State, note executor.Note) error {
	m.told("journal before " + string(to))
	m.mu.Lock()
	assert.True(m.t, from.May(to), "%s to %s", from, to)
	assert.Equal(m.t, m.state, from)
	m.state = to
	if note.Before != nil {
		m.before = note.Before
	}
	m.mu.Unlock()
	m.told("journal after " + string(to))
	return nil
}

func (m *ledger) Step(_ context.Context, _ int64, n int, _ []plan.StepState, to plan.StepState, detail any) error {
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
func (m *ledger) job(p plan.Plan) executor.Job {
	m.mu.Lock()
	defer m.mu.Unlock()
	job := executor.Job{ID: 1, Plan: p, State: m.state, Before: m.before, Steps: make([]plan.StepRecord, len(p.Steps))}
	for i := range job.Steps {
		job.Steps[i].State = plan.StepPlanned
		if st, told := m.steps[i]; told {
			job.Steps[i] = plan.StepRecord{State: st, Left: plan.Left(m.details[i])}
		}
	}
	return job
}

func newLedger(t *testing.T) *ledger {
	return &ledger{t: t, state: plan.Drafted, steps: map[int]plan.StepState{}, details: map[int]json.RawMessage{}}
}

// moss plays a game server in memory: it opens the world that the settings name when it
// is started, makes one that is not there, and says what the stand-in game says.
type moss struct {
	disk *memory.Files // as the host itself sees it
	held bool
	// breaks is a world that it does not open.
	breaks string
	seed   int64
}

func (g *moss) read(name string) []byte {
	data, err := hostfs.New("game", g.disk).ReadFile(context.Background(), name, 1<<20)
	if err != nil {
		return nil
	}
	return data
}

func (g *moss) setting(key string) string {
	_, value, _ := strings.Cut(string(g.read("quarry.properties")), key+"=")
	value, _, _ = strings.Cut(value, "\n")
	return value
}

// worlds are those that a game has made, by name and seed: making one takes long.
var worldsMade sync.Map

func (g *moss) make(folder string, seed int64) error {
	key := fmt.Sprint(folder, seed)
	files, known := worldsMade.Load(key)
	if !known {
		dir, err := os.MkdirTemp("", "reshard-made-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
		if err := quarrymoss.Make(filepath.Join(dir, folder),
			quarrymoss.Options{Title: folder, Seed: seed, Version: "2.5.1", Tiles: 4}); err != nil {
			return err
		}
		all := map[string][]byte{}
		err = fs.WalkDir(os.DirFS(dir), ".", func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				all[name], err = os.ReadFile(filepath.Join(dir, name))
			}
			return err
		})
		if err != nil {
			return err
		}
		files = all
		worldsMade.Store(key, files)
	}
	for name, data := range files.(map[string][]byte) {
		g.disk.Put("worlds/"+name, data)
	}
	return nil
}

func (g *moss) open(folder string, say func(string)) error {
	heart := "worlds/" + folder + "/heart.cbor.gz"
	if g.read(heart) == nil {
		seed, _ := strconv.ParseInt(g.setting("world.seed"), 10, 64)
		if err := g.make(folder, seed); err != nil {
			return err
		}
	}
	h, err := quarrymoss.DecodeHeart(bytes.NewReader(g.read(heart)))
	if err == nil && folder == g.breaks {
		err = fmt.Errorf("it is not to be opened")
	}
	if err != nil {
		return err
	}
	g.seed = h.Seed
	say(fmt.Sprintf("opening world %q", folder))
	return nil
}

func (g *moss) Begin(say func(string)) int {
	if !g.disk.Fits(1000) {
		say("cannot open the world's lock: no space left on device")
		return 1
	}
	if err := g.open(g.setting("world.folder"), say); err != nil {
		say(fmt.Sprintf("cannot open world: %v", err))
		return 1
	}
	say("ready on port 1")
	return running.On
}

func (g *moss) Hear(line string, say func(string)) int {
	switch line {
	case "halt":
		say("all tiles written")
		return 0
	case "hold":
		g.held = true
		say("writes held")
	case "flush":
		say("tiles flushed")
	case "release":
		g.held = false
		say("writes released")
	case "seed":
		say(fmt.Sprintf("seed is %d", g.seed))
	}
	if name, ok := strings.CutPrefix(line, "load "); ok && g.open(name, say) != nil {
		say("cannot open world " + name)
	}
	return running.On
}

func (g *moss) Feel(control.Signal, func(string)) int { return 130 }

// trouble stands between a life of the service and what it works on: it is asked before
// each call of a driver of the server "north", and told after it.
type trouble struct {
	mu            sync.Mutex
	before, after func(op, name string) error
}

func (h *trouble) ask(after bool, op, name string) error {
	h.mu.Lock()
	f := h.before
	if after {
		f = h.after
	}
	h.mu.Unlock()
	if f == nil {
		return nil
	}
	return f(op, name)
}

// stage is two servers in memory, the second to clone from, and a changeover of some
// kind that is drafted for the first, "north".
type stage struct {
	// missed counts the calls that a host which had gone away did not take, but for those that only tell of the end.
	missed  atomic.Int64
	t       *testing.T
	profile *game.Profile
	vault   *vault.Vault
	disks   map[string]*memory.Files
	games   map[string]*moss
	servers map[string]*running.Server
	trouble *trouble
	control map[string]*control.Control
	plan    plan.Plan
	runner  *executor.Runner
	job     executor.Job
	log     *ledger
}

// kinds draft each kind of changeover on a stage.
var kinds = map[string]func(s *stage) plan.Plan{
	"put": func(s *stage) plan.Plan { return s.draft(plan.Put, "", nil) },
	"put over a stopped server": func(s *stage) plan.Plan {
		_, err := s.control["north"].Stop(context.Background(), control.Clean)
		require.NoError(s.t, err)
		return s.draft(plan.Put, "", nil)
	},
	"put beside": func(s *stage) plan.Plan { return s.draft(plan.Put, fit.ForBeside, nil) },
	"put when told": func(s *stage) plan.Plan {
		return s.draft(plan.Put, "", fit.Choices{"switch": "when-told"})
	},
	"put where folders cannot be renamed": func(s *stage) plan.Plan {
		s.disks["north"].Can.RenameFolders = false
		return s.draft(plan.Put, "", nil)
	},
	"undo of a put where folders cannot be renamed": func(s *stage) plan.Plan {
		s.disks["north"].Can.RenameFolders = false
		s.life()
		return s.undoOf(s.draft(plan.Put, "", nil))
	},
	"put that is refused": func(s *stage) plan.Plan {
		s.games["north"].breaks = "fen"
		return s.draft(plan.Put, "", nil)
	},
	"restore": func(s *stage) plan.Plan { return s.draft(plan.Restore, "", fit.Choices{"folder-name": "winter"}) },
	"clone":   func(s *stage) plan.Plan { return s.draft(plan.Clone, "", nil) },
	"clone with a stop": func(s *stage) plan.Plan {
		s.profile.Server.Console.Hold = game.Exchange{}
		return s.draft(plan.Clone, "", nil)
	},
	"reset": func(s *stage) plan.Plan {
		return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "77"})
	},
	"reset, same seed": func(s *stage) plan.Plan {
		return s.draft(plan.Reset, fit.ForReset, fit.Choices{"seed": "same"})
	},
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
	"rename, capitals only": func(s *stage) plan.Plan {
		s.disks["north"].Can.ExactCase = false
		s.life()
		return s.draft(plan.Rename, fit.ForRename, fit.Choices{"folder-name": "Winter"})
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
		_, err := s.control["north"].Stop(context.Background(), control.Clean)
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

// newStage makes a stage and drafts a kind of changeover.
func newStage(t *testing.T, kind string) *stage {
	t.Helper()
	s := &stage{
		t:       t,
		vault:   made.vault,
		disks:   map[string]*memory.Files{},
		games:   map[string]*moss{},
		servers: map[string]*running.Server{},
	}
	profile, err := games.Find("quarrymoss")
	require.NoError(t, err)
	quick := *profile
	quick.Server.Waits.Settle = time.Millisecond
	quick.Server.Waits.Start, quick.Server.Waits.Stop = time.Second, time.Second
	quick.Server.Settings = maps.Clone(profile.Server.Settings)
	s.profile = &quick
	for name, files := range made.servers {
		s.disks[name] = files.Clone()
		s.games[name] = &moss{disk: s.disks[name]}
		s.servers[name] = running.New(s.games[name])
		s.servers[name].As = []string{"keeper"}
		require.NoError(t, s.servers[name].Start(context.Background()))
	}
	s.life()
	s.plan = kinds[kind](s)
	s.log = newLedger(t)
	s.job = s.log.job(s.plan)
	s.life()
	return s
}

// files is a server's place with nothing in its way.
func (s *stage) files(server string) *hostfs.FS { return hostfs.New(server, s.disks[server].Behind()) }

// life gives the stage a runner with hands of its own, as each life of the service has.
func (s *stage) life() {
	h := &trouble{}
	s.trouble, s.control = h, map[string]*control.Control{}
	hands := map[string]executor.Hands{}
	for name := range s.servers {
		disk, game := s.disks[name].Behind(), s.servers[name].Behind()
		if name == "north" {
			disk.Before = func(op, name string) error { return h.ask(false, op, name) }
			disk.After = func(op, name string) error { return h.ask(true, op, name) }
			game.Before = func(op string) error { return h.ask(false, op, "") }
			game.After = func(op string) error { return h.ask(true, op, "") }
		}
		s.control[name] = control.New(name, game, s.profile)
		hands[name] = executor.Hands{Files: hostfs.New(name, disk), Control: s.control[name], Profile: s.profile}
	}
	north := hands["north"]
	s.runner = &executor.Runner{
		Journal: s.log, Files: north.Files, Control: north.Control, Vault: s.vault, Profile: s.profile, Others: hands,
		Check: func(context.Context) error { return nil }, Now: time.Now, Poll: 2 * time.Millisecond,
		Reserve: 4096,
		Keep:    func(context.Context, executor.Copied) error { return nil },
		Ready:   func(context.Context, int, plan.Step) (bool, error) { return true, nil },
	}
}

func (s *stage) draft(kind string, purpose fit.Purpose, choices fit.Choices) plan.Plan {
	s.t.Helper()
	ctx := context.Background()
	tree := s.files("north").At(ctx)
	heads, err := server.ReadHeads(tree, s.profile, server.Machine{Kind: "plain"})
	require.NoError(s.t, err)
	if choices == nil {
		choices = fit.Choices{}
	}
	in := plan.Input{Kind: kind, Server: "north", Work: ".reshard/1", Documents: heads.Documents, Fit: fit.Input{
		Profile: s.profile, Server: heads.State, Choices: choices, Purpose: purpose,
		Live: fit.Live{
			State:          s.control["north"].Status(ctx).State,
			FreeBytes:      -1,
			SameFilesystem: true,
			Players:        -1,
			Can:            memory.All,
		},
	}}
	present := func(server, name string) world.Facts {
		w, _, err := world.Inspect(s.files(server).At(ctx), "worlds/"+name, name, "", []*game.Profile{s.profile})
		require.NoError(s.t, err)
		w.Locks = nil
		return w
	}
	switch kind {
	case plan.Put, plan.Restore:
		in.Copy, in.Parts, in.Fit.World = made.fen.ID, made.fen.Parts(), made.fenFacts
	case plan.Clone:
		in.Fit.World, in.Parts = present("south", "winter"), []string{""}
		in.Source = &plan.Source{Server: "south", Worlds: "worlds", Running: true}
	case plan.Switch:
		in.Fit.World = present("north", "old")
	case plan.FirstStart:
		in.Fit.Server.NotYet = []string{"worlds/"}
	default:
		in.Fit.World = present("north", "winter")
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
		p, err = plan.DraftFirstStart(in, plan.Wish{})
	default:
		p, err = plan.DraftPut(in)
	}
	require.NoError(s.t, err)
	return p
}

// undoOf carries a plan out and drafts its undo.
func (s *stage) undoOf(of plan.Plan) plan.Plan {
	s.t.Helper()
	s.log = newLedger(s.t)
	s.life()
	ctx := context.Background()
	require.NoError(s.t, s.runner.Begin(ctx, s.log.job(of)))
	require.NoError(s.t, s.runner.Carry(ctx))
	after := map[string]string{}
	for n, step := range of.Steps {
		var d executor.Detail
		if step.Kind == plan.Write && json.Unmarshal(s.log.details[n], &d) == nil {
			after[step.File] = d.After
		}
	}
	heads, err := server.ReadHeads(s.files("north").At(ctx), s.profile, server.Machine{Kind: "plain"})
	require.NoError(s.t, err)
	made := ""
	if of.Expect.Fresh {
		made = of.Expect.Folder
	}
	p, err := plan.DraftUndo(plan.UndoInput{
		Of: of, ID: 1, Profile: s.profile, State: heads.State, Server: "north", Work: ".reshard/2",
		Documents: heads.Documents, Tree: s.files("north").At(ctx), After: after, Made: made,
		Live: fit.Live{State: life.Running, FreeBytes: -1, SameFilesystem: true, Players: -1, Can: memory.All},
	})
	require.NoError(s.t, err)
	return p
}

// clean carries a kind out with nothing in its way, and tells how the server stands
// before and after it, how many file operations it took, and the points that it passed.
func clean(t *testing.T, kind string) (s *stage, before, after map[string]string, points []string) {
	t.Helper()
	s = newStage(t, kind)
	before = s.tree()
	var mu sync.Mutex
	note := func(p string) { mu.Lock(); points = append(points, p); mu.Unlock() }
	s.log.hit, s.runner.Trace = note, note
	ctx := context.Background()
	require.NoError(t, s.runner.Begin(ctx, s.job))
	err := s.runner.Carry(ctx)
	if strings.HasSuffix(kind, "is refused") {
		require.Error(t, err)
		require.Equal(t, plan.Undone, s.log.state, "%v", err)
		require.Equal(t, before, s.tree())
	} else {
		require.NoError(t, err)
		require.Equal(t, plan.Done, s.log.state)
	}
	return s, before, s.tree(), points
}

// tree gives the bytes of all files of "north" but those in the working folder.
func (s *stage) tree() map[string]string {
	return s.disks["north"].Content(func(name string) bool { return strings.HasPrefix(name, plan.WorkFolder+"/") })
}

// assertRuns checks that the server runs the world that its settings name, and that
// nothing is held anywhere.
func (s *stage) assertRuns(ran bool, format string, args ...any) {
	s.t.Helper()
	what := fmt.Sprintf(format, args...)
	st := control.New("north", s.servers["north"].Behind(), s.profile).Status(context.Background())
	assert.Equal(s.t, ran, st.State == life.Running, what)
	if ran {
		assert.Equal(s.t, s.games["north"].setting("world.folder"), st.Opened, what)
	}
	for name, g := range s.games {
		assert.False(s.t, g.held, name)
	}
	assert.True(s.t, s.servers["south"].Running(), what)
}
