package e2e

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"text/tabwriter"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/pgserver"
	"reshard/internal/testdir"
	"reshard/internal/wire"
)

// rig is one changeover that meets a fault: its service runs in a process of its own and waits where the fault is
// to strike, a proxy stands before its database, and its servers are here or at the end of a line.
type rig struct {
	*bundle
	root    string
	service *exec.Cmd
	held    chan string
	heirs   []*exec.Cmd // services that were begun beside or after the first
	lock    sync.Mutex
	face    *client.Client // of the service that acts, as far as is known
	proxy   *proxy
	private *pgserver.Server
	disk    string // a small file system: of the server, or of the data folder
	leap    string // a file that says by how much the machine's clock is off
	direct  string // the database without the proxy
	winter  map[string]string
	fen     map[string]string
	old     map[string]string
	south   map[string]string
	touched string // a file that somebody wrote into after the last look before the stop, from its world's folder
}

// moment is one of a changeover, known by the first point that matches.
type moment struct{ name, point string }

var moments = []moment{
	{copying, ` copy halfway$`},
	{"staging", `( stage halfway| sample before)$`},
	{"before the stop", ` stop before$`},
	{"stopping", `^asked to stop$`},
	{"moving", ` move (halfway|acted)$`},
	{"starting", `^spawned$`},
	{"proving", ` prove before$`},
	{goingBack, ` move undoing$`},
}

// copying is the moment of what stores a world of a server.
const copying = "copying"

// goingBack is the moment of a changeover that goes back already, because the game does not start the world:
// whatever strikes there is a second fault.
const goingBack = "going back"

// trouble is a fault from outside.
type trouble struct {
	name string
	// with gives the rig what the fault needs, before the service begins; nil: nothing.
	with func(*rig)
	// strike makes the fault, lift ends it.
	strike func(*rig) (lift func())
	// lasts is after how long it is lifted; 0: when the changeover has ended.
	lasts time.Duration
	far   bool // the server is on another machine
	ends  bool // the game does not run any more
}

var troubles = []trouble{
	{name: "the service is killed", strike: (*rig).killService, lasts: 300 * time.Millisecond},
	{name: "the service stands still", strike: (*rig).freezeService, lasts: 3 * time.Second},
	{
		name: "it stands still beyond its lease, a second one waits", lasts: 9 * time.Second,
		with: func(r *rig) { r.lease = 3 * time.Second },
		strike: func(r *rig) func() {
			r.database = r.direct
			r.another(r.mortality())
			return r.freezeService()
		},
	},
	{name: "the database is cut off", lasts: 3 * time.Second, strike: func(r *rig) func() {
		r.proxy.set(true)
		return func() { r.proxy.set(false) }
	}},
	{name: "the database hangs", lasts: 6 * time.Second, strike: func(r *rig) func() { return r.proxy.hang() }},
	{
		name: "the database is killed", lasts: time.Second, with: (*rig).ownDatabase,
		strike: func(r *rig) func() { r.signalDatabase(syscall.SIGKILL); return func() {} },
	},
	{name: "the database stands still", lasts: 6 * time.Second, with: (*rig).ownDatabase, strike: func(r *rig) func() {
		r.signalDatabase(syscall.SIGSTOP)
		return func() { r.signalDatabase(syscall.SIGCONT) }
	}},
	{name: "the game is killed", lasts: time.Second, ends: true, strike: func(r *rig) func() {
		r.signalGame(syscall.SIGKILL)
		return func() {}
	}},
	{name: "the game stands still for a moment", lasts: 2 * time.Second, strike: (*rig).freezeGame},
	{name: "the game stands still for long", lasts: 12 * time.Second, strike: (*rig).freezeGame},
	{name: "the server's disk fills up", strike: (*rig).fillDisk},
	{name: "the data folder's disk fills up", strike: (*rig).fillDisk},
	{name: "the clock leaps ahead", strike: func(r *rig) func() { return r.leapBy("720h") }},
	{name: "the clock leaps back", strike: func(r *rig) func() { return r.leapBy("-720h") }},
	{name: "somebody edits the settings", strike: func(r *rig) func() {
		file := filepath.Join(r.root, "quarry.properties")
		data, err := os.ReadFile(file)
		assert.NoError(r.t, err)
		assert.NoError(r.t, os.WriteFile(file, append(data, "# by hand\n"...), 0o644))
		return func() {}
	}},
	{name: "the server's folder is away", lasts: 3 * time.Second, strike: func(r *rig) func() {
		assert.NoError(r.t, os.Rename(r.root, r.root+".away"))
		return func() {
			if data, err := os.ReadDir(r.root); err == nil { // something was made where it stood
				assert.Empty(r.t, data, "nothing belongs there")
				_ = os.Remove(r.root)
			}
			assert.NoError(r.t, os.Rename(r.root+".away", r.root))
		}
	}},
	{name: "a file of what was staged is another", strike: (*rig).replaceStaged},
	{name: "what the library keeps goes bad", strike: (*rig).spoilVault},
	{name: "somebody starts the game by hand", lasts: 3 * time.Second, strike: (*rig).startByHand},
	{name: "much else is done", strike: (*rig).beBusy},
	{
		name: "the line is cut", lasts: 4 * time.Second, far: true,
		strike: func(r *rig) func() { return cutAndRefused(r.far) },
	},
	{name: "the line stalls", lasts: 8 * time.Second, far: true, strike: func(r *rig) func() { return stalled(r.far) }},
	{name: "the service is killed far from its server", lasts: 300 * time.Millisecond, far: true,
		strike: (*rig).killService},
	{name: "the database is cut off, far from the server", lasts: 3 * time.Second, far: true,
		strike: func(r *rig) func() {
			r.proxy.set(true)
			return func() { r.proxy.set(false) }
		}},
	{name: "the game is killed over there", lasts: time.Second, far: true, ends: true, strike: func(r *rig) func() {
		r.signalGame(syscall.SIGKILL)
		return func() {}
	}},
	{name: "the game stands still over there", lasts: 12 * time.Second, far: true, strike: (*rig).freezeGame},
	{name: "the server's disk fills up over there", far: true, strike: (*rig).fillDisk},
}

// faultKind is a kind of changeover that meets the faults, on "north" with the world "winter", as killKinds draft it.
type faultKind struct {
	name string
	// runs is the world that is open when it is done, holds what its files are then: nil, not those of winter.
	runs  string
	holds func(*rig) map[string]string
	// refused is the world that the game does not start, to have it go back; "": it does not.
	refused string
	// stores: it makes a copy, and changes nothing on the server.
	stores bool
	// copies: it makes a copy first, and then goes on as the others do.
	copies bool
	// unnoticed: the server is not stopped, and so not started again where a fault has ended it.
	unnoticed bool
	// stays: it moves nothing, and writes settings alone.
	stays bool
}

var faultKinds = []faultKind{
	{name: "put", runs: "fen", holds: (*rig).ofFen, refused: "fen"},
	{name: "reset", runs: "winter"},
	{name: "undo of a put", runs: "winter", holds: (*rig).ofWinter},
	{name: "rename", runs: "summer", holds: (*rig).ofWinter, refused: "summer"},
	{name: "restore", runs: "winter", holds: (*rig).ofFen},
	{name: "clone", runs: "south", holds: func(r *rig) map[string]string { return r.south }, copies: true},
	{name: "switch", runs: "old", holds: func(r *rig) map[string]string { return r.old }, stays: true},
	{name: "put beside", runs: "winter", holds: (*rig).ofWinter, unnoticed: true},
	{name: "take away", runs: "winter", holds: (*rig).ofWinter, stores: true, unnoticed: true},
	{name: backingUp, runs: "winter", holds: (*rig).ofWinter, stores: true, unnoticed: true},
}

// backingUp is asked for by a call of its own.
const backingUp = "backup"

func (r *rig) ofFen() map[string]string    { return r.fen }
func (r *rig) ofWinter() map[string]string { return r.winter }

// has reports whether a kind has a moment, as far as that is plain from what it does.
func (k faultKind) has(at moment) bool {
	switch at.name {
	case copying:
		return k.stores || k.copies
	case "before the stop", "stopping", "starting":
		return !k.unnoticed
	case "moving":
		return !k.stores && !k.stays
	case goingBack:
		return k.refused != ""
	}
	return !k.stores
}

// client gives of the service that acts.
func (r *rig) client() *client.Client {
	r.lock.Lock()
	defer r.lock.Unlock()
	return r.face
}

func (r *rig) mortality() mortality { return mortality{Config: r.config(), Leap: r.leap} }

// another begins a service beside, and has it asked from when it acts.
func (r *rig) another(m mortality) {
	m.Config.Listen = "127.0.0.1:0"
	address, _, cmd := r.mortalAs(m, func(string) {}, func(*exec.Cmd) {})
	r.heirs = append(r.heirs, cmd)
	go func() {
		for range 600 {
			if res, err := http.Get(address + "/api/v1/health"); err == nil {
				_ = res.Body.Close()
				if res.StatusCode == http.StatusOK {
					if api, err := client.New(address, ""); err == nil {
						if token, err := api.SignIn(context.Background(), userName, password, "heir"); err == nil {
							api, _ = client.New(address, token.Secret)
							r.lock.Lock()
							r.face = api
							r.lock.Unlock()
							return
						}
					}
				}
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
}

func (r *rig) killService() func() {
	_ = r.service.Process.Kill()
	_ = r.service.Wait()
	return func() { r.another(r.mortality()) }
}

func (r *rig) freezeService() func() {
	_ = r.service.Process.Signal(syscall.SIGSTOP)
	return func() { _ = r.service.Process.Signal(syscall.SIGCONT) }
}

// ownDatabase gives the rig a PostgreSQL that nobody else uses.
func (r *rig) ownDatabase() {
	dir, err := os.MkdirTemp(filepath.Dir(standin), "own-")
	require.NoError(r.t, err)
	require.NoError(r.t, testdir.Open(dir))
	r.private, err = pgserver.Start(context.Background(), filepath.Join(dir, "postgres"), "fsync=off")
	require.NoError(r.t, err)
	r.t.Cleanup(func() { _ = r.private.Stop(); _ = os.RemoveAll(dir) })
	r.database, err = r.private.Database(context.Background(), "own")
	require.NoError(r.t, err)
}

// signalDatabase stops or continues every process of it, or kills one that serves: PostgreSQL then ends all and
// recovers.
func (r *rig) signalDatabase(sig syscall.Signal) {
	main := r.private.PID()
	for _, pid := range childrenOf(main) {
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if serves := strings.Contains(string(name), "127.0.0.1"); sig != syscall.SIGKILL || serves {
			_ = syscall.Kill(pid, sig)
		}
	}
	if sig != syscall.SIGKILL {
		_ = syscall.Kill(main, sig)
	}
}

func childrenOf(parent int) (out []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range all {
		data, err := os.ReadFile(file)
		_, after, ok := strings.Cut(string(data), ") ")
		if fields := strings.Fields(after); err == nil && ok && len(fields) > 1 && fields[1] == strconv.Itoa(parent) {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			out = append(out, pid)
		}
	}
	return out
}

// games are the processes that play in the server's folder.
func (r *rig) games() (out []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range all {
		cwd, err := os.Readlink(link)
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(link)))
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if err == nil && (cwd == r.root || cwd == r.root+".away") && strings.HasPrefix(string(name), standin+"\x00") {
			out = append(out, pid)
		}
	}
	return out
}

func (r *rig) signalGame(sig syscall.Signal) (to []int) {
	to = r.games()
	for _, pid := range to {
		_ = syscall.Kill(pid, sig)
	}
	return to
}

func (r *rig) freezeGame() func() {
	frozen := r.signalGame(syscall.SIGSTOP)
	return func() {
		for _, pid := range frozen {
			_ = syscall.Kill(pid, syscall.SIGCONT)
		}
	}
}

// small makes a small file system.
func small(t *testing.T, size string) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a small file system needs root: %v", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) })
	return dir
}

// fill has somebody take all room of a file system but for what is left.
func fill(t *testing.T, dir string, left int64) (free func()) {
	t.Helper()
	var st syscall.Statfs_t
	assert.NoError(t, syscall.Statfs(dir, &st))
	file := filepath.Join(dir, "somebody-elses")
	f, err := os.Create(file)
	if assert.NoError(t, err) {
		_, _ = io.CopyN(f, zeros{}, max(0, int64(st.Bavail)*st.Bsize-left))
		_ = f.Close()
	}
	return func() { assert.NoError(t, os.Remove(file)) }
}

func (r *rig) fillDisk() func() {
	// It was large enough to take a world in, which is more than need be filled.
	assert.NoError(r.t, syscall.Mount("tmpfs", r.disk, "tmpfs", syscall.MS_REMOUNT, "size=64m"))
	return fill(r.t, r.disk, 0)
}

// replaceStaged has somebody write something else into a file that was placed beside the live worlds.
func (r *rig) replaceStaged() func() {
	var staged []string
	assert.NoError(r.t, filepath.WalkDir(r.root, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && strings.Contains(name, "/staged/") && strings.HasSuffix(name, ".qt") {
			staged = append(staged, name)
		}
		return nil
	}))
	if len(staged) > 0 {
		assert.NoError(r.t, os.WriteFile(staged[0], []byte("QMT1 something else"), 0o644))
		_, in, _ := strings.Cut(staged[0], "/staged/")
		_, r.touched, _ = strings.Cut(in, "/")
	}
	return func() {}
}

// spoilVault has every pack of the library be something else for a while.
func (r *rig) spoilVault() func() {
	was := map[string][]byte{}
	vault := filepath.Join(r.config().Data, "vault")
	assert.NoError(r.t, filepath.WalkDir(vault, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && !strings.HasSuffix(name, ".attrs") {
			if data, err := os.ReadFile(name); err == nil && len(data) > 4096 {
				was[name] = data
				assert.NoError(r.t, os.WriteFile(name, bytes.Repeat([]byte("spoilt"), len(data)/6), 0o600))
			}
		}
		return nil
	}))
	assert.NotEmpty(r.t, was)
	return func() {
		for name, data := range was {
			assert.NoError(r.t, os.WriteFile(name, data, 0o600))
		}
	}
}

func (r *rig) leapBy(by string) func() {
	assert.NoError(r.t, os.WriteFile(r.leap, []byte(by), 0o600))
	return func() {}
}

// startByHand has a person start the game in the server's folder.
func (r *rig) startByHand() func() {
	game := exec.Command(standin, "quarrymoss", "serve", ".")
	game.Dir = r.root
	in, err := game.StdinPipe()
	require.NoError(r.t, err)
	if game.Start() != nil {
		return func() {}
	}
	return func() {
		_, _ = io.WriteString(in, "halt\n")
		kill := time.AfterFunc(2*time.Second, func() { _ = game.Process.Kill() })
		_ = game.Wait()
		kill.Stop()
	}
}

// beBusy sends, backs up, checks, collects and changes another server over and over.
func (r *rig) beBusy() func() {
	ctx, end := context.WithCancel(context.Background())
	var all sync.WaitGroup
	api := r.client()
	repeat := func(do func(n int) error) {
		all.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				_ = do(n)
				time.Sleep(200 * time.Millisecond)
			}
		})
	}
	dir := r.t.TempDir()
	repeat(func(n int) error {
		world := filepath.Join(dir, fmt.Sprint("busy", n))
		if err := quarrymoss.Make(world, quarrymoss.Options{Title: "Busy", Seed: int64(n)}); err != nil {
			return err
		}
		zip := zipDir(r.t, world, "busy")
		_, err := api.Send(ctx, "busy.zip", "", bytes.NewReader(zip), int64(len(zip)))
		return err
	})
	repeat(func(int) error {
		_, err := api.MakeBackup(ctx, wire.MakeBackup{Server: "south"})
		return err
	})
	repeat(func(int) error { _, err := api.WorkOnVault(ctx, "check"); return err })
	repeat(func(int) error { _, err := api.WorkOnVault(ctx, "collect"); return err })
	repeat(func(int) error {
		draft, err := api.Draft(ctx, wire.Wish{Kind: plan.Put, World: "fen", Server: "south"})
		if err == nil {
			_, err = api.Act(ctx, draft.ID, "start")
		}
		return err
	})
	return func() { end(); all.Wait() }
}

// ending is how a changeover ended that met a fault.
type ending struct {
	state   plan.State // "" the fault had no place to strike
	waited  string
	failure string
	lost    []string // worlds that stood there before and stand nowhere
	mixed   []string // what is neither as it was nor as it was meant
}

func (e ending) String() string {
	switch {
	case e.state == "":
		return "·"
	case len(e.lost) > 0:
		return "LOST"
	case len(e.mixed) > 0:
		return "MIXED"
	case e.state.Open() && e.state != plan.Held:
		return "waiting"
	}
	return string(e.state)
}

// spread picks a moment of a kind for the fault of a number, other ones for others.
func (k faultKind) spread(n int) (m int) {
	var has []int
	for m, at := range moments {
		if k.has(at) && at.name != goingBack {
			has = append(has, m)
		}
	}
	return has[n%len(has)]
}

// meet carries a changeover of a kind out and has a fault strike at a moment.
func meet(t *testing.T, kind faultKind, f trouble, at moment) ending {
	t.Helper()
	r := &rig{held: make(chan string, 1)}
	t.Cleanup(func() { // a thousand of them do not fit into memory
		require.NoError(t, postgres.Do(context.Background(),
			"DROP DATABASE "+path.Base(strings.Split(r.direct, "?")[0])+" WITH (FORCE)"))
	})
	data := strings.HasPrefix(f.name, "the data folder's")
	if data || strings.HasPrefix(f.name, "the server's disk") {
		r.disk = small(t, "1g")
	}
	b := setup(t, shippedWith(t, "quarrymoss", "waits: {start: 60s, stop: 60s, settle: 500ms}",
		"waits: {start: 5s, stop: 4s, settle: 200ms}"), func(b *bundle) {
		r.bundle, r.leap = b, filepath.Join(b.dir, "leap")
		r.proxy, b.database, r.direct = proxied(t)
		if data {
			b.data = filepath.Join(r.disk, "data")
		}
		if f.with != nil {
			f.with(r)
		}
	})
	if f.far {
		b.machine(farhost.Shape{}, 0)
	}
	if r.disk != "" && !data {
		require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "servers"), 0o755))
		require.NoError(t, os.Symlink(r.disk, filepath.Join(b.dir, "servers", "north")))
	}
	realms := []string{"caverns", "aurora"}
	r.root = b.quarry("north", plot{world: quarrymoss.Options{Title: "Winter", Seed: 111, Realms: realms}})
	r.winter = snapshot(t, filepath.Join(r.root, "worlds", "winter"), played...)
	require.NoError(t, quarrymoss.Make(filepath.Join(r.root, "worlds", "old"),
		quarrymoss.Options{Title: "Old", Seed: 9, Realms: realms}))
	r.old = snapshot(t, filepath.Join(r.root, "worlds", "old"), played...)
	if f.far {
		_, err := b.api.Server(context.Background(), "north")
		require.NoError(t, err)
	}
	if !f.far || kind.name == plan.Clone {
		south := b.quarry("south",
			plot{folder: "south", world: quarrymoss.Options{Title: "South", Seed: 5, Realms: realms}})
		r.south = snapshot(t, filepath.Join(south, "worlds", "south"), played...)
	}
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 222, Tiles: 12, Realms: realms})
	r.fen = snapshot(t, filepath.Join(b.madeDir(), "fen"), played...)
	if at.name == goingBack {
		b.misbehave("north", "exits-early "+kind.refused)
	}
	real, err := filepath.EvalSymlinks(r.root)
	require.NoError(t, err)
	r.root = real
	var id int64
	if kind.name != backingUp {
		wish := killKinds[kind.name](b)
		if wish.Kind != plan.Undo {
			wish.Server = "north"
		}
		draft, err := b.api.Draft(context.Background(), wish)
		require.NoError(t, err)
		id = draft.ID
	}
	before := r.worlds()
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	m := r.mortality()
	m.HoldAt, m.Config.Listen = at.point, "127.0.0.1:0"
	var goOn io.WriteCloser
	var address string
	address, _, r.service = b.mortalAs(m, func(point string) { r.held <- point }, func(cmd *exec.Cmd) {
		goOn, err = cmd.StdinPipe()
		require.NoError(t, err)
	})
	t.Cleanup(r.close)
	r.face = signIn(t, address)
	require.Eventually(t, func() bool { // a service that has just come up looks after its servers
		if kind.name == backingUp {
			var made wire.Backup
			made, err = r.face.MakeBackup(context.Background(), wire.MakeBackup{Server: "north"})
			id = made.Changeover
		} else {
			_, err = r.face.Act(context.Background(), id, "start")
		}
		return err == nil || fault.CodeOf(err) != fault.Busy
	}, 20*time.Second, 100*time.Millisecond)
	require.NoError(t, err)
	over, stop := context.WithCancel(context.Background())
	defer stop()
	ended := make(chan struct{})
	go func() { defer close(ended); r.wait(over, id, time.Minute) }()
	select {
	case <-r.held:
	case <-ended:
		return ending{}
	}
	stop()
	<-ended
	lift := f.strike(r)
	if at.name == "staging" {
		r.touched = "" // that is to be seen
	}
	_, _ = io.WriteString(goOn, "\n")
	if f.lasts > 0 {
		time.Sleep(f.lasts)
		lift()
		lift = func() {}
	}
	last, e := r.wait(context.Background(), id, time.Minute)
	lift()
	if last.State.Open() && last.State != plan.Held {
		last, _ = r.wait(context.Background(), id, time.Minute)
	}
	e.state = last.State
	if last.Failure != nil {
		e.failure = last.Failure.What
	}
	r.judge(&e, kind, f, before, last)
	return e
}

// wait waits until a changeover has ended or is held, whichever service acts.
func (r *rig) wait(ctx context.Context, id int64, limit time.Duration) (last wire.Changeover, e ending) {
	for end := time.Now().Add(limit); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(50 * time.Millisecond) {
		ctx, done := context.WithTimeout(ctx, 3*time.Second)
		now, err := r.client().Changeover(ctx, id)
		done()
		if err != nil {
			continue
		}
		last = now
		if now.Progress != nil && now.Progress.Waiting != "" {
			e.waited = now.Progress.Waiting
		}
		if !now.State.Open() || now.State == plan.Held {
			break
		}
	}
	return last, e
}

func (r *rig) worlds() map[string]map[string]string {
	out := map[string]map[string]string{}
	entries, err := os.ReadDir(filepath.Join(r.root, "worlds"))
	assert.NoError(r.t, err)
	for _, e := range entries {
		out[e.Name()] = snapshot(r.t, filepath.Join(r.root, "worlds", e.Name()), played...)
	}
	return out
}

// judge looks for what is lost and what is mixed. A held one must be able to go back once the fault is over.
func (r *rig) judge(e *ending, kind faultKind, f trouble, before map[string]map[string]string, last wire.Changeover) {
	mixed := func(say string, about ...any) { e.mixed = append(e.mixed, fmt.Sprintf(say, about...)) }
	if last.State == plan.Held {
		if strings.Contains(last.Failure.What, "worlds/winter is there as well") {
			assert.NoError(r.t, os.Rename(filepath.Join(r.root, "worlds", "winter"), filepath.Join(r.root, "by-hand")))
		}
		_, err := r.client().Act(context.Background(), last.ID, "retry")
		assert.NoError(r.t, err)
		for range 100 { // it is held until it goes back
			if last, _ = r.wait(context.Background(), last.ID, time.Minute); last.State != plan.Held {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if last.State != plan.Undone {
			mixed("there is no way out: %s", last.Failure.What)
			return
		}
	}
	if last.State.Open() {
		return
	}
	var server wire.ServerFacts
	ended := f.ends && kind.unnoticed // nobody starts it again, and it is not told to run
	for range 200 {
		var err error
		server, err = r.client().Server(context.Background(), "north")
		now := server.Server
		if err == nil && (ended || now.State == "running" && now.Opened == now.Active && len(r.games()) == 1) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if n := len(r.games()); n > 1 || n == 0 && !ended {
		mixed("%d games run (%s)", n, server.Server.State)
	}
	if !ended && (server.Server.State != "running" || server.Server.Opened != server.Server.Active) {
		mixed("it is %s, with %s open, and its settings name %s", server.Server.State, server.Server.Opened,
			server.Server.Active)
	}
	now := r.worlds()
	same := func(a, b map[string]string) bool {
		a, b = maps.Clone(a), maps.Clone(b)
		delete(a, r.touched)
		delete(b, r.touched)
		return a != nil && assert.ObjectsAreEqual(a, b)
	}
	for name, files := range before {
		switch aside := filepath.Join(r.root, last.Plan.Work, "aside", name); {
		case same(now[name], files):
		case last.State == plan.Done && kind.name == plan.Rename && same(now["summer"], files):
		case last.State == plan.Done && func() bool { _, err := os.Stat(aside); return err == nil }() &&
			same(snapshot(r.t, aside, played...), files):
		default:
			e.lost = append(e.lost, name)
		}
	}
	if last.State == plan.Undone {
		if same(before[server.Server.Active], now[server.Server.Active]) {
			return
		}
		mixed("it is undone, and runs %s", server.Server.Active)
		return
	}
	active := now[server.Server.Active]
	switch holds := kind.holds; {
	case server.Server.Active != kind.runs, holds != nil && !same(active, holds(r)),
		holds == nil && same(active, r.winter):
		mixed("it is done, and runs %s", server.Server.Active)
	case kind.name == "put beside" && !same(now["fen"], r.fen):
		mixed("it is done, and fen does not stand beside")
	case kind.stores:
		copies := r.stored(last)
		for _, id := range copies {
			if _, err := r.client().VerifyWorld(context.Background(), id); err != nil {
				mixed("it is done, and its copy %s cannot be read: %v", id, err)
			}
		}
		if len(copies) == 0 {
			mixed("it is done, and has no copy")
		}
	}
}

// stored are the copies that a changeover has made.
func (r *rig) stored(c wire.Changeover) (ids []string) {
	if c.Kind != plan.Backup {
		return []string{c.Copy}
	}
	list, err := r.client().Backups(context.Background(), wire.BackupQuery{Server: "north"})
	assert.NoError(r.t, err)
	for _, b := range list {
		for _, w := range b.Worlds {
			if b.Changeover == c.ID {
				ids = append(ids, w.Copy)
			}
		}
	}
	return ids
}

// close ends the services that the rig began, and gives the servers back to the bundle.
func (r *rig) close() {
	for _, cmd := range append(r.heirs, r.service) {
		_ = cmd.Process.Signal(syscall.SIGCONT)
		_ = cmd.Process.Signal(os.Interrupt)
		kill := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
		_ = cmd.Wait()
		kill.Stop()
	}
	r.start()
}

// One fault at a time around a changeover, on real processes, at every moment of it. It ends done or undone with a
// complete world running, and nothing is lost or mixed; held is left for a second fault. With RESHARD_EVERY_FAULT
// every kind meets every fault at every moment, and a table tells how each ended; without it each fault strikes once.
func TestFaultsAround(t *testing.T) {
	all := os.Getenv("RESHARD_EVERY_FAULT") != ""
	only := regexp.MustCompile(os.Getenv("RESHARD_EVERY_FAULT_OF"))
	type cell struct{ kind, fault, moment string }
	var lock sync.Mutex
	ends := map[cell]ending{}
	gate := make(chan struct{}, 2*atOnce) // they mostly wait
	t.Run("cells", func(t *testing.T) {
		for i, f := range troubles {
			for k, kind := range faultKinds {
				for m, at := range moments {
					c := cell{kind.name, f.name, at.name}
					once := k == (3*i)%len(faultKinds) && m == kind.spread(i)
					if (!all && !once) || !kind.has(at) || !only.MatchString(fmt.Sprint(c)) {
						continue
					}
					t.Run(fmt.Sprintf("%s, %s, %s", kind.name, f.name, at.name), func(t *testing.T) {
						t.Parallel()
						gate <- struct{}{}
						defer func() { <-gate }()
						e := meet(t, kind, f, at)
						lock.Lock()
						ends[c] = e
						lock.Unlock()
						assert.Empty(t, e.lost)
						assert.Empty(t, e.mixed, e.failure)
						if !all {
							assert.NotEmpty(t, e.state, "the fault struck nowhere")
						}
						if at.name != goingBack {
							assert.Contains(t, []plan.State{"", plan.Done, plan.Undone}, e.state, e.failure+e.waited)
						}
						if e.failure != "" {
							t.Logf("%s: %s", e, e.failure)
						}
					})
				}
			}
		}
	})
	count := map[string]int{}
	for _, kind := range faultKinds {
		var text strings.Builder
		w := tabwriter.NewWriter(&text, 2, 0, 2, ' ', 0)
		fmt.Fprintf(w, "%s", kind.name)
		var here []moment
		for _, at := range moments {
			if kind.has(at) {
				here = append(here, at)
				fmt.Fprintf(w, "\t%s", at.name)
			}
		}
		rows := 0
		for _, f := range troubles {
			line := ""
			for _, at := range here {
				e, met := ends[cell{kind.name, f.name, at.name}]
				said := ""
				if met {
					said = e.String()
					rows++
				}
				line += "\t" + said
				if met && e.state != "" {
					count[said]++
				}
			}
			if strings.TrimSpace(line) != "" {
				fmt.Fprintf(w, "\n%s%s", f.name, line)
			}
		}
		_ = w.Flush()
		if all && rows > 0 {
			fmt.Printf("%s\n\n", text.String())
		}
	}
	say := []string{}
	for _, how := range []string{"done", "undone", "waiting", "held", "LOST", "MIXED"} {
		say = append(say, fmt.Sprintf("%s %d", strings.ToLower(how), count[how]))
	}
	fmt.Printf("faults: %s\n", strings.Join(say, ", "))
	assert.True(t, all || len(ends) == len(troubles) || flag.Lookup("test.run").Value.String() != "")
}
