package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
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
	"reshard/internal/cli"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// nobody is an account of every machine that owns nothing.
const nobody = 65534

// The data folder is reached by another path, or has been moved: the servers that run
// are still known, and a put is one stop and one start of the same server.
func TestADataFolderUnderAnotherPath(t *testing.T) {
	t.Parallel()
	for name, move := range map[string]func(t *testing.T, dir string){
		"through a link": func(t *testing.T, dir string) {
			require.NoError(t, os.Symlink(dir, dir+".link"))
		},
		"moved": func(t *testing.T, dir string) {
			require.NoError(t, os.Rename(filepath.Join(dir, "data"), filepath.Join(dir, "data.moved")))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
			pid := b.pid("north")
			require.NotZero(t, pid)
			require.NoError(t, b.daemon.Close())
			move(t, b.dir)
			b.data = map[string]string{
				"through a link": filepath.Join(b.dir+".link", "data"),
				"moved":          filepath.Join(b.dir, "data.moved"),
			}[name]
			b.start()
			assert.Equal(t, pid, b.pid("north"), "it still runs, and is seen to")
			last := b.put("fen", "north", nil)
			require.Equal(t, plan.Done, last.State, last.Failure)
			assert.Equal(t, "fen", b.active("north"))
			assert.Len(t, processesIn(t, filepath.Join(b.dir, "servers", "north")), 1, "one game runs")
		})
	}
}

// processesIn are the numbers of the processes that work in a folder.
func processesIn(t *testing.T, dir string) (out []int) {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cwd")
	require.NoError(t, err)
	for _, link := range all {
		if cwd, err := os.Readlink(link); err == nil && cwd == dir {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link)))
			require.NoError(t, err)
			out = append(out, pid)
		}
	}
	return out
}

// Somebody has started the game by hand on the server's folder: that is seen before
// anything is touched, and once more right before the switch.
func TestAServerStartedByHand(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	byHand := func() (stop func()) {
		game := exec.Command(standin, "quarrymoss", "serve", ".")
		game.Dir = root
		in, err := game.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, game.Start())
		require.Eventually(t, func() bool {
			_, err := os.Stat(filepath.Join(root, "worlds", "winter", "held.lock"))
			return err == nil
		}, 5*time.Second, 5*time.Millisecond)
		return func() {
			_, _ = in.Write([]byte("halt\n"))
			_ = game.Wait()
		}
	}
	stop := byHand()
	before := snapshot(t, filepath.Join(root, "worlds"), played...)
	choices := map[string]string{"locks": "go-on"}
	_, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Choices: choices})
	require.ErrorIs(t, err, fault.NeedsChoice.As())
	assert.ErrorContains(t, err, "Something else works in the server's folder: standin (process")
	code, out, _ := b.cli("fit", "fen", "north")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "--choose processes=go-on")
	stop()

	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Choices: choices})
	require.NoError(t, err)
	started := false
	b.trace = func(point string) {
		if strings.HasSuffix(point, "stage halfway") && !started {
			started = true
			stop = byHand() // while it is staged
		}
	}
	last := b.carry(draft)
	b.trace = nil
	defer stop()
	require.Equal(t, plan.Undone, last.State)
	assert.Equal(t, string(fault.Changed), last.Failure.Code)
	assert.Contains(t, last.Failure.What, "something else works in its folder: standin (process")
	assert.Equal(t, before, snapshot(t, filepath.Join(root, "worlds"), played...),
		"its world was not moved away under it")
}

// A game that was killed while its world was staged did not stop cleanly.
func TestAGameKilledWhileStaging(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	pid := b.pid("north")
	b.trace = func(point string) {
		if strings.HasSuffix(point, "stage halfway") {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	last := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, last.State, last.Failure)
	for _, s := range last.Steps {
		if s.Kind == plan.Stop {
			assert.Contains(t, s.Note, "had ended before Reshard asked it to, without saying that everything was "+
				"written")
		}
	}
	assert.Contains(t, last.Proof.Checks[0].What, "the server was down before the switch")
	assert.Contains(t, b.must("changeovers", "show", itoa(last.ID)), "had ended before Reshard asked it to")
}

// The service runs as root and the game as another account: what is placed belongs to
// that account, with the modes of the world before, and the game can save it.
func TestAGameOfAnotherAccount(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		return // nobody else can give files away
	}
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "north")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 111,
		freePort(t)))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "Winter", Seed: 111}))
	require.NoError(t, filepath.Walk(b.dir, func(p string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		if strings.HasPrefix(p, root) {
			require.NoError(t, os.Chown(p, nobody, nobody))
			if info.IsDir() {
				return os.Chmod(p, 0o750)
			}
			return os.Chmod(p, 0o640)
		}
		return nil
	}))
	reachable(t, b.dir)
	b.add(wire.NewServer{
		Name: "north", Game: "quarrymoss", Kind: "plain", Root: root,
		Command: []string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", standin, "quarrymoss", "serve",
			"."},
	})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Realms: []string{"caverns"}})
	last := b.put("fen", "north", nil)
	require.Equal(t, plan.Done, last.State, last.Failure)
	proven := ""
	for _, c := range last.Proof.Checks {
		if c.What == "the server's account may write its world" {
			assert.True(t, c.OK)
			proven = c.Seen
		}
	}
	assert.Contains(t, proven, "account 65534:65534 may")
	for name, mode := range map[string]os.FileMode{
		"":                0o750,
		"ground":          0o750,
		"ground/t.0.0.qt": 0o640,
		"realms/caverns":  0o750,
	} {
		info, err := os.Stat(filepath.Join(root, "worlds", "fen", name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), name)
		assert.EqualValues(t, nobody, info.Sys().(*syscall.Stat_t).Uid, name)
	}
	_, err := b.api.StopServer(context.Background(), "north", wire.StopServer{})
	require.NoError(t, err, "its save can be written")
	assert.FileExists(t, filepath.Join(root, "worlds", "fen", "diary.txt"))
}

// A folder that the service may not read is told as such: it does not throw anybody out
// of the console, and has an exit code of its own.
func TestAFolderThatTheHostDoesNotOpen(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2})
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	require.NoError(t, os.Chmod(filepath.Join(root, "worlds"), 0))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(root, "worlds"), 0o755) })
	address, _, cmd := b.ordinary()
	api := signIn(t, address)
	_, err := api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	assert.NotErrorIs(t, err, fault.Denied.As())
	assert.Error(t, err)
	_, err = api.Aside(context.Background(), "north")
	require.NoError(t, err)
	list, err := api.Servers(context.Background(), wire.ServerQuery{})
	require.NoError(t, err, "it is still signed in")
	require.Len(t, list, 1)
	require.NoError(t, os.Chmod(root, 0))
	t.Cleanup(func() { _ = os.Chmod(root, 0o755) })
	_, err = api.Aside(context.Background(), "north")
	assert.ErrorIs(t, err, fault.Refused.As(), "%v", err)
	code, _, errs := b.cliAt(address, "tidy", "north")
	assert.Equal(t, cli.ExitRefused, code, errs)
	assert.Contains(t, errs, "Give the account that the service uses on the host the right")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
	require.NoError(t, os.Chmod(root, 0o755))
	require.NoError(t, os.Chmod(filepath.Join(root, "worlds"), 0o755))
	b.start()
}

// ordinary runs the service in a process of its own as an account that may not do
// everything.
func (b *bundle) ordinary() (address string, points func() []string, cmd *exec.Cmd) {
	b.t.Helper()
	if os.Geteuid() != 0 {
		return b.mortal(0)
	}
	reachable(b.t, b.dir)
	require.NoError(b.t, filepath.Walk(filepath.Join(b.dir, "data"), func(p string, _ os.FileInfo, err error) error {
		require.NoError(b.t, err)
		return os.Chown(p, nobody, nobody)
	}))
	program := filepath.Join(b.dir, "service.test")
	self, err := os.ReadFile(os.Args[0])
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(program, self, 0o755))
	return b.mortalWith("127.0.0.1:0", 0, func(cmd *exec.Cmd) {
		cmd.Path = program
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	})
}

// A second service on the same machine stands by, says so, and takes over when the first
// has gone: with its servers, which went on running.
func TestASecondServiceStandsByAndTakesOver(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	pid := b.pid("north")
	c := b.config()
	second, err := cli.Serve(context.Background(), c)
	require.NoError(t, err, "it does not end")
	assert.Contains(t, second.Acting(), "another service acts (")
	for _, path := range []string{"/api/v1/health", "/api/v1/servers"} {
		res, err := http.Get(second.Address + path)
		require.NoError(t, err)
		var p wire.Problem
		require.NoError(t, json.NewDecoder(res.Body).Decode(&p))
		require.NoError(t, res.Body.Close())
		assert.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
		assert.Equal(t, string(fault.StandsBy), p.Code)
		assert.Contains(t, p.Detail, "another service acts")
	}
	code, _, errs := b.cliAt(second.Address, "servers")
	assert.Equal(t, cli.ExitUnreachable, code)
	assert.Contains(t, errs, "stands by")
	assert.NoError(t, b.api.Health(context.Background()), "the first goes on")

	require.NoError(t, b.daemon.Close())
	b.daemon = second
	require.Eventually(t, func() bool {
		res, err := http.Get(second.Address + "/api/v1/health")
		return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusOK
	}, 10*time.Second, 20*time.Millisecond)
	b.api = signIn(t, second.Address)
	_ = os.Remove(filepath.Join(b.dir, "client.json"))
	assert.Equal(t, pid, b.pid("north"))
	b.restartServer("north")
}

// The connection to the database is lost in the midst of a switch, with a game that
// stops slowly, and a second service waits: the first begins no act after its lease has
// run out, the second takes the changeover up, and one game runs one world.
func TestALeaseLostInTheMidstOfASwitch(t *testing.T) {
	t.Parallel()
	for _, cutAt := range []string{"asked to stop", "move acted", "write acted"} {
		t.Run(cutAt, func(t *testing.T) {
			t.Parallel()
			p, through, direct := proxied(t)
			b := &bundle{t: t, dir: t.TempDir(), database: through, lease: 3 * time.Second}
			b.start()
			root := b.quarry("north", plot{mischief: "slow-halt"})
			b.restartServer("north")
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
			draft, err := b.api.Draft(context.Background(),
				wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
			require.NoError(t, err)

			second := b.config()
			second.Database, second.Trace = direct, nil
			heir, err := cli.Serve(context.Background(), second)
			require.NoError(t, err)
			defer func() { assert.NoError(t, heir.Close()) }()
			var mu sync.Mutex
			var late []string
			var cut time.Time
			b.trace = func(point string) {
				mu.Lock()
				defer mu.Unlock()
				if cut.IsZero() && strings.HasSuffix(point, cutAt) {
					cut = time.Now()
					p.set(true)
				}
				for _, begun := range []string{"intended", "halfway", "kept", "spawned", "told", "asked to stop"} {
					if !cut.IsZero() && time.Since(cut) > 3500*time.Millisecond && strings.HasSuffix(point, begun) {
						late = append(late, point)
					}
				}
			}
			_, err = b.api.Act(context.Background(), draft.ID, "start")
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				res, err := http.Get(heir.Address + "/api/v1/health")
				return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusOK
			}, 60*time.Second, 20*time.Millisecond, "it takes over")
			api := signIn(t, heir.Address)
			last, err := api.Watch(context.Background(), draft.ID, func(wire.Changeover) {})
			require.NoError(t, err)
			require.Equal(t, plan.Done, last.State, last.Failure)
			assert.Error(t, b.api.Health(context.Background()), "the first does not act")
			mu.Lock()
			assert.Empty(t, late, "what the first began after its lease had run out")
			mu.Unlock()
			assert.Len(t, processesIn(t, root), 1, "one game runs")
			s, err := api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "fen", s.Server.Opened)
			assert.DirExists(t, filepath.Join(root, last.Plan.Work, "aside", "winter"))

			p.set(false) // the line is back: the first learns that another acts, and stands by
			require.Eventually(t, func() bool {
				return fault.CodeOf(b.api.Health(context.Background())) == fault.StandsBy
			}, 10*time.Second, 20*time.Millisecond)
			_, err = api.StopServer(context.Background(), "north", wire.StopServer{})
			require.NoError(t, err)
			require.NoError(t, b.daemon.Close())
		})
	}
}

// A held changeover whose way back needs another server that is not at hand stays held:
// it is not left going back with nobody to carry it on.
func TestRetryLeavesNothingHalf(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	source := b.quarry("south", plot{folder: "south"})
	inTheWay := filepath.Join(root, "worlds", "winter")
	b.misbehave("north", "exits-early south")
	b.trace = func(point string) {
		if strings.HasSuffix(point, "move undoing") {
			_ = os.Mkdir(inTheWay, 0o755)
		}
	}
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{
			Kind:    plan.Clone,
			From:    "south",
			Server:  "north",
			Choices: map[string]string{"world-settings": "leave"},
		})
	require.NoError(t, err)
	held := b.carry(draft)
	require.Equal(t, plan.Held, held.State, "%+v", held.Failure)
	b.trace = nil
	require.NoError(t, os.Rename(source, source+".away"))
	_, err = b.api.Act(context.Background(), held.ID, "retry")
	assert.ErrorIs(t, err, fault.Unreachable.As())
	now, err := b.api.Changeover(context.Background(), held.ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Held, now.State)
	require.NoError(t, os.Rename(source+".away", source))
	require.NoError(t, os.Remove(inTheWay))
	_, err = b.api.Act(context.Background(), held.ID, "retry")
	require.NoError(t, err)
	b.until(held.ID, plan.Undone)
	assert.Equal(t, "winter", b.active("north"))
}

// Records that were brought to another data folder are not acted on: what runs would
// not be seen there. A person may say that they are to be taken over.
func TestRecordsOfAnotherDataFolder(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{stopped: true})
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	b.data = filepath.Join(b.dir, "fresh")
	_, err := cli.Serve(context.Background(), b.config())
	require.ErrorIs(t, err, fault.WrongState.As())
	assert.ErrorContains(t, err, "its records belong to another data folder")
	c := b.config()
	c.MoveHere = true
	d, err := cli.Serve(context.Background(), c)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	b.start()
	list, err := b.api.Servers(context.Background(), wire.ServerQuery{})
	require.NoError(t, err)
	assert.Equal(t, "stopped", list[0].State)
}

// A service that loses its lease in the midst of a backup by a rule, while the game holds its writes: the one that
// takes over lets the game go, ends that backup, and makes it up once; the first writes nothing any more.
func TestALeaseLostInABackup(t *testing.T) {
	t.Parallel()
	for _, cutAt := range []string{"tell acted", "copy intended"} {
		t.Run(cutAt, func(t *testing.T) {
			t.Parallel()
			p, through, direct := proxied(t)
			b := &bundle{t: t, dir: t.TempDir(), database: through, lease: 3 * time.Second}
			b.start()
			b.quarry("north", plot{})
			ctx := context.Background()
			b.must("rules", "add", "north", "--at", "0 4 1 1 *", "--keep", "all for ever", "--yes")

			second := b.config()
			second.Database, second.Trace = direct, nil
			heir, err := cli.Serve(ctx, second)
			require.NoError(t, err)
			defer func() { assert.NoError(t, heir.Close()) }()
			var cut atomic.Bool
			b.trace = func(point string) {
				if strings.HasSuffix(point, cutAt) && cut.CompareAndSwap(false, true) {
					p.set(true)
				}
			}
			b.runRule("north")
			require.Eventually(t, func() bool {
				res, err := http.Get(heir.Address + "/api/v1/health")
				return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusOK
			}, 60*time.Second, 20*time.Millisecond, "it takes over")
			assert.True(t, cut.Load())
			api := signIn(t, heir.Address)
			var list []wire.Backup
			require.Eventually(t, func() bool {
				list, err = api.Backups(ctx, wire.BackupQuery{State: "done"})
				return err == nil && len(list) > 0
			}, 60*time.Second, 50*time.Millisecond, "it is made up")
			time.Sleep(2 * time.Second) // whatever else there would be
			list, err = api.Backups(ctx, wire.BackupQuery{State: "done"})
			require.NoError(t, err)
			require.Len(t, list, 1, "once")
			assert.True(t, list[0].Good, list[0].Says)
			running, err := api.Backups(ctx, wire.BackupQuery{State: "running"})
			require.NoError(t, err)
			assert.Empty(t, running)
			s, err := api.Server(ctx, "north")
			require.NoError(t, err)
			assert.Equal(t, "running", s.Server.State)
			assert.Zero(t, s.Server.Changeover)

			p.set(false) // the line is back: the first learns that another acts, and stands by
			require.Eventually(t, func() bool {
				return fault.CodeOf(b.api.Health(ctx)) == fault.StandsBy
			}, 10*time.Second, 20*time.Millisecond)
			list, err = api.Backups(ctx, wire.BackupQuery{State: "done"})
			require.NoError(t, err)
			assert.Len(t, list, 1)
			_, err = api.StopServer(ctx, "north", wire.StopServer{})
			require.NoError(t, err)
			require.NoError(t, b.daemon.Close())
		})
	}
}
