package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// Servers that misbehave after the switch: the changeover undoes itself, the
// old world runs again, and every byte is as before.
func TestAServerThatMisbehavesBringsTheOldWorldBack(t *testing.T) {
	t.Parallel()
	impatient := shippedWith(t, "quarrymoss", "waits: {start: 60s, stop: 60s, settle: 500ms}",
		"waits: {start: 4s, stop: 4s, settle: 500ms}")
	for how, words := range map[string]string{
		"never-ready": "not ready within",
		"opens-other": "expected fen, saw fen-spare",
		"exits-early": "exited with code 3",
		"regenerates": "files stand as they were placed",
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			b := setup(t, impatient)
			root := b.quarry("north", plot{})
			before := snapshot(t, root, played...)
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 111, Tiles: 36})
			b.misbehave("north", how+" fen")
			last := b.put("fen", "north", nil)
			require.Equal(t, plan.Undone, last.State, last.Failure)
			assert.Contains(t, last.Failure.What, words)
			require.NotNil(t, last.Window)
			assert.Greater(t, last.Window.TotalMS, int64(20), "counted to the old world's return")
			s, err := b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "running", s.Server.State)
			assert.Equal(t, "winter", s.Server.Opened)
			assert.Equal(t, before, snapshot(t, root, append(played, "misbehave")...))
		})
	}
	t.Run("ignores-halt", func(t *testing.T) {
		t.Parallel()
		b := setup(t, impatient)
		b.quarry("north", plot{mischief: "ignores-halt"})
		// It has to have started with the mischief for the stop to be ignored.
		b.restartServer("north")
		b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 5})
		pid := b.pid("north")
		last := b.put("fen", "north", nil)
		require.Equal(t, plan.Undone, last.State)
		assert.Equal(t, "not-stopped", last.Failure.Code)
		assert.Equal(t, pid, b.pid("north"), "it is never killed while it still answers")
	})
}

func (b *bundle) pid(name string) int {
	b.t.Helper()
	s, err := b.api.Server(context.Background(), name)
	require.NoError(b.t, err)
	return pidOf(s.Server)
}

func TestServersOutliveTheService(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	pid := b.pid("north")
	require.NotZero(t, pid)
	require.NoError(t, b.daemon.Close())
	b.start()
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, pid, pidOf(s.Server))
	assert.Equal(t, "running", s.Server.State)
	assert.Equal(t, "winter", s.Server.Opened)
	// Its console still works through the new life of the service.
	_, err = b.api.StopServer(context.Background(), "north", wire.StopServer{})
	require.NoError(t, err)
	require.Error(t, syscall.Kill(pid, 0))
}

// A server that ended while the service was away is seen, and started again when
// the service was told to.
func TestServersAreStartedAgainIfToldTo(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	pid := b.pid("north")
	require.NoError(t, b.daemon.Close())
	require.NoError(t, syscall.Kill(pid, syscall.SIGINT))
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 5*time.Second, 10*time.Millisecond)
	b.start()
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "exited", s.Server.State)
	require.NoError(t, b.daemon.Close())
	b.startServers = true
	b.start()
	require.Eventually(t, func() bool {
		s, err := b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running" && pidOf(s.Server) != pid
	}, 10*time.Second, 20*time.Millisecond)
}

func TestAServerThatExitsOnItsOwnIsSeen(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{})
	require.NoError(t, syscall.Kill(b.pid("north"), syscall.SIGINT))
	require.Eventually(t, func() bool {
		s, err := b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "exited" && s.Server.ExitCode != nil && *s.Server.ExitCode == 130
	}, 5*time.Second, 20*time.Millisecond)
	code, out, _ := b.cli("servers")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "✕ exited (code 130)")
}

// proxy stands between service and database and can be cut.
type proxy struct {
	listener net.Listener
	target   string
	mu       sync.Mutex
	cut      bool
	conns    []net.Conn
	hanging  sync.RWMutex
}

func newProxy(t *testing.T, target string) *proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{listener: l, target: target}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			p.mu.Lock()
			if p.cut {
				_ = in.Close()
			} else if out, err := net.Dial("tcp", p.target); err == nil {
				p.conns = append(p.conns, in, out)
				go func() { _, _ = io.Copy(in, throttled{p, out}); _ = in.Close() }()
				go func() { _, _ = io.Copy(out, in); _ = out.Close() }()
			}
			p.mu.Unlock()
		}
	}()
	return p
}

// proxied gives a new database by two addresses, one of which leads through a proxy.
func proxied(t *testing.T) (p *proxy, through, direct string) {
	t.Helper()
	direct = newDatabase(t)
	u, err := url.Parse(direct)
	require.NoError(t, err)
	p = newProxy(t, u.Host)
	u.Host = p.listener.Addr().String()
	return p, u.String(), direct
}

// throttled passes nothing on while its proxy hangs.
type throttled struct {
	p    *proxy
	from io.Reader
}

func (t throttled) Read(b []byte) (int, error) {
	n, err := t.from.Read(b)
	t.p.hanging.RLock()
	defer t.p.hanging.RUnlock()
	return n, err
}

// hang has nothing come through any more, and no connection close, until it is told to go on.
func (p *proxy) hang() (goOn func()) {
	p.hanging.Lock()
	return p.hanging.Unlock
}

func (p *proxy) set(cut bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut = cut
	if cut {
		for _, c := range p.conns {
			_ = c.Close()
		}
		p.conns = nil
	}
}

// The database goes away for ten seconds in the midst of a changeover: it waits,
// says so, and goes on.
func TestTheDatabaseGoneForTenSeconds(t *testing.T) {
	t.Parallel()
	p, through, _ := proxied(t)
	b := &bundle{t: t, dir: t.TempDir(), database: through}
	b.start()
	t.Cleanup(b.end)
	b.quarry("north", plot{mischief: "slow-halt"})
	b.restartServer("north")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var once sync.Once
	waited := false
	last, err := b.api.Watch(ctx, draft.ID, func(c wire.Changeover) {
		if c.State == plan.Switching {
			once.Do(func() {
				p.set(true)
				time.AfterFunc(10*time.Second, func() { p.set(false) })
			})
		}
		waited = waited || (c.Progress != nil && strings.Contains(c.Progress.Waiting, "database"))
	})
	require.NoError(t, err)
	assert.True(t, waited, "the wait was told")
	require.Equal(t, plan.Done, last.State, last.Failure)
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "fen", s.Server.Opened)
	assert.NoError(t, b.api.Health(ctx))
}

// When the files are not as they were left, a person must look: the changeover is
// held, keeps its server, and goes back when the way is free, or is settled.
func TestHeld(t *testing.T) {
	t.Parallel()
	for _, way := range []string{"retry", "settle"} {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			root := b.quarry("north", plot{})
			inTheWay := filepath.Join(root, "worlds", "winter")
			b.send("fen", quarrymoss.Options{Title: "Fen"})
			b.misbehave("north", "exits-early fen")
			b.trace = func(point string) {
				if strings.HasSuffix(point, "3 move undoing") {
					_ = os.Mkdir(inTheWay, 0o755) // somebody makes a folder where the old world belongs
				}
			}
			held := b.put("fen", "north", nil)
			require.Equal(t, plan.Held, held.State)
			assert.Contains(t, held.Failure.What, "exited with code 3", "the first cause is told")
			assert.Contains(t, held.Failure.What, "is there as well")
			ctx := context.Background()
			_, err := b.api.StartServer(ctx, "north", wire.StartServer{})
			assert.ErrorIs(t, err, fault.Busy.As())
			code, out, _ := b.cli("changeovers", "show", itoa(held.ID))
			assert.Equal(t, 0, code)
			assert.Contains(t, out, "‖ held")
			assert.DirExists(t, filepath.Join(root, held.Plan.Work, "aside", "winter"), "nothing is lost")

			b.trace = nil
			if way == "settle" {
				code, _, errs := b.cli("changeovers", "settle", itoa(held.ID))
				require.Equal(t, 0, code, errs)
				_, err = b.api.Act(ctx, held.ID, "settle")
				assert.ErrorIs(t, err, fault.WrongState.As())
				now, err := b.api.Changeover(ctx, held.ID)
				require.NoError(t, err)
				assert.Contains(t, now.Failure.Next, "settled by hand by "+userName)
				return
			}
			code, _, _ = b.cli("undo", itoa(held.ID))
			assert.Equal(t, 1, code, "the way is not free yet")
			require.NoError(t, os.Remove(inTheWay))
			code, out, errs := b.cli("undo", itoa(held.ID))
			assert.Equal(t, 1, code, out+errs)
			assert.Contains(t, out, "↩ undone")
			s, err := b.api.Server(ctx, "north")
			require.NoError(t, err)
			assert.Equal(t, "winter", s.Server.Opened)
		})
	}
}

func TestCancelWhileStaging(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	before := snapshot(t, root, played...)
	pid := b.pid("north")
	b.send("fen", quarrymoss.Options{Title: "Fen", Tiles: 64})
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: "put", World: "fen", Server: "north", Choices: nil})
	require.NoError(t, err)
	proceed := make(chan struct{})
	b.trace = func(point string) {
		if strings.HasSuffix(point, "stage halfway") {
			<-proceed // until it has been cancelled
		}
	}
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	require.NoError(t, err)
	_, err = b.api.Act(context.Background(), draft.ID, "cancel")
	require.NoError(t, err)
	close(proceed)
	last, err := b.api.Watch(context.Background(), draft.ID, func(wire.Changeover) {})
	require.NoError(t, err)
	require.Equal(t, plan.Undone, last.State)
	assert.Contains(t, last.Failure.What, "cancelled by a person")
	assert.Equal(t, before, snapshot(t, root, played...))
	assert.Equal(t, pid, b.pid("north"), "players never noticed")
	assert.NoDirExists(t, filepath.Join(root, draft.Plan.Work, "staged"))
}

func TestRemoveServer(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	code, _, errs := b.cli("servers", "remove", "north")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Stop it first")
	_, err := b.api.StopServer(context.Background(), "north", wire.StopServer{})
	require.NoError(t, err)
	before := snapshot(t, root)
	code, _, errs = b.cli("servers", "remove", "north")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, before, snapshot(t, root), "its files stay")
	_, err = b.api.Server(context.Background(), "north")
	assert.ErrorIs(t, err, fault.NotFound.As())
	_, err = b.api.AddServer(context.Background(),
		wire.NewServer{
			Name:    "north",
			Game:    "quarrymoss",
			Kind:    "plain",
			Root:    root,
			Command: []string{standin, "quarrymoss", "serve", "."},
		})
	assert.NoError(t, err, "name and folder are free again")
}

// Titles come from strangers, and a terminal obeys control characters.
func TestTitlesCannotDriveTheTerminal(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.send("evil", quarrymoss.Options{Title: "Fen\x1b[2J\x1b]0;owned\x07"})
	for _, args := range [][]string{{"worlds"}, {"worlds", "show", "fen-2j-0-owned"}} {
		code, out, errs := b.cli(args...)
		require.Equal(t, 0, code, errs)
		assert.NotContains(t, out, "\x1b")
		assert.NotContains(t, out, "\x07")
		assert.Contains(t, out, "Fen")
	}
}

// What would bite at the next start stands where the servers are listed, before anybody asks for a sheet.
func TestWhatIsAmissStandsInTheList(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	b.quarry("south", plot{stopped: true})
	settings := filepath.Join(root, "quarry.properties")
	was, err := os.ReadFile(settings)
	require.NoError(t, err)
	amiss := func(name string) string {
		list, err := b.api.Servers(t.Context(), wire.ServerQuery{Search: name})
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0].Amiss
	}
	assert.Empty(t, amiss("north"))
	require.NoError(t, os.WriteFile(settings,
		regexp.MustCompile(`world\.folder=.*`).ReplaceAll(was, []byte("world.folder=gone")), 0o600))
	require.Eventually(t, func() bool { return strings.Contains(amiss("north"), "gone") }, 20*time.Second,
		50*time.Millisecond, amiss("north"))
	assert.Contains(t, strings.Join(strings.Fields(b.must("servers", "show", "north")), " "),
		"! There is no world “gone” on the server.")
	assert.Empty(t, amiss("south"))
	require.NoError(t, os.WriteFile(settings, was, 0o600))
	require.Eventually(t, func() bool { return amiss("north") == "" }, 20*time.Second, 50*time.Millisecond)
}

// A server whose folder is moved away is told as such; another folder in its place is
// what is read then, and not the one that was open.
func TestAServersFolderIsMoved(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen"})
	require.NoError(t, os.Rename(root, root+".away"))
	code, _, errs := b.cli("fit", "north")
	assert.Equal(t, 5, code)
	assert.Contains(t, errs, root)
	code, _, errs = b.cli("fit", "fen", "north")
	assert.Equal(t, 5, code, errs)
	code, out, _ := b.cli("servers", "show", "north")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "? unreachable")
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "Bring the folder back")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "9.9.9", Kind: "plain"}, "none", 1, 1))
	assert.Contains(t, b.must("servers", "show", "north"), "9.9.9")
	require.NoError(t, os.RemoveAll(root))
	require.NoError(t, os.Rename(root+".away", root))
	assert.Contains(t, b.must("servers", "show", "north"), "2.5.1")

	// One whose folder is gone for good can be forgotten, and not while it runs.
	b.must("servers", "start", "north")
	require.NoError(t, os.Rename(root, root+".away"))
	code, _, errs = b.cli("servers", "remove", "north")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Stop it first")
	require.NoError(t, os.Rename(root+".away", root))
	b.must("servers", "stop", "north")
	require.NoError(t, os.RemoveAll(root))
	b.must("servers", "remove", "north")
	assert.NotContains(t, b.must("servers"), "north")
}

// A server whose named world is gone is not started before somebody wants a new one: it would make an empty world in
// silence. The words are the sheet's.
func TestAStartWithoutItsWorldAsks(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	away := filepath.Join(b.dir, "winter")
	require.NoError(t, os.Rename(filepath.Join(root, "worlds", "winter"), away))
	code, _, errs := b.cli("servers", "start", "north")
	assert.NotZero(t, code)
	words := strings.Join(strings.Fields(errs), " ")
	assert.Contains(t, words, "There is no world “winter” on the server. At its next start it would make an empty one")
	assert.Contains(t, words, "reshard put WORLD north")
	assert.Contains(t, words, "--new-world")
	assert.NoDirExists(t, filepath.Join(root, "worlds", "winter"))
	_, err := b.api.StartServer(context.Background(), "north", wire.StartServer{})
	assert.Equal(t, fault.NeedsChoice, fault.CodeOf(err))

	// One letter is enough.
	require.NoError(t, os.Rename(away, filepath.Join(root, "worlds", "Winter")))
	_, _, errs = b.cli("servers", "start", "north")
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "on the disk stands “Winter”")

	b.must("servers", "start", "north", "--new-world")
	assert.DirExists(t, filepath.Join(root, "worlds", "winter"))
}

// A game that saves beside its worlds every moment: such saves are no worlds and no strays, a plan has nothing to do
// with them, and each kind ends done. One can be taken away.
func TestAGameThatSavesBesideItsWorlds(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "quarrymoss", "  locks: [held.lock]",
		"  locks: [held.lock]\n  autosaves: [autosave-*]"))
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	worlds := filepath.Join(root, "worlds")
	ctx, end := context.WithCancel(context.Background())
	var saving sync.WaitGroup
	saving.Go(func() {
		for n := 0; ctx.Err() == nil; n++ {
			name := fmt.Sprintf("autosave-%d", n)
			assert.NoError(t, quarrymoss.Make(filepath.Join(worlds, name),
				quarrymoss.Options{Title: "Autosave", Seed: 99}))
			if n > 3 {
				assert.NoError(t, os.RemoveAll(filepath.Join(worlds, fmt.Sprintf("autosave-%d", n-4))))
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	defer func() { end(); saving.Wait() }()
	for _, wish := range []wire.Wish{
		{Kind: plan.Put, World: "fen"},
		{Kind: plan.Reset, Choices: map[string]string{"seed": "-77"}},
		{Kind: plan.Rename, World: "summer"},
	} {
		wish.Server = "north"
		c := b.do(wish)
		require.Equal(t, plan.Done, c.State, "%s: %+v", wish.Kind, c.Failure)
		back := b.undo(c.ID)
		require.Equal(t, plan.Done, back.State, "undo of %s: %+v", wish.Kind, back.Failure)
	}
	assert.Contains(t, b.must("servers", "show", "north"), "saved by the game itself")
	end()
	saving.Wait()
	require.NoError(t, os.Rename(filepath.Join(worlds, b.anAutosave(root)), filepath.Join(worlds, "autosave-last")))
	got := b.do(wire.Wish{Kind: plan.TakeAway, Server: "north", World: "autosave-last"})
	require.Equal(t, plan.Done, got.State, "%+v", got.Failure)
	backup := b.backup("north")
	for _, w := range backup.Worlds {
		assert.NotContains(t, w.World, "autosave", "a backup is of worlds")
	}
	// The usual way back in such games: the server goes over to what the game has saved.
	got = b.do(wire.Wish{Kind: plan.Switch, Server: "north", World: "autosave-last"})
	require.Equal(t, plan.Done, got.State, "%+v", got.Failure)
	assert.True(t, got.Running)
	assert.Equal(t, "autosave-last", b.active("north"))
}

// Where its profile does not say so, a save that comes beside the worlds is taken for a world that nobody meant: the
// changeover goes back, and says what to write into the profile.
func TestASaveThatNoProfileNames(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	b.trace = func(point string) {
		if strings.HasSuffix(point, "start acted") {
			assert.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "autosave-1"),
				quarrymoss.Options{Title: "Autosave", Seed: 99}))
		}
	}
	c := b.put("fen", "north", nil)
	require.Equal(t, plan.Undone, c.State)
	assert.Contains(t, c.Failure.Next, "autosave-1 appeared next to the world")
	assert.Contains(t, c.Failure.Next, "world.autosaves: reshard games show quarrymoss")
}

// anAutosave is the name of one that stands there now.
func (b *bundle) anAutosave(root string) string {
	found, err := filepath.Glob(filepath.Join(root, "worlds", "autosave-*"))
	require.NoError(b.t, err)
	require.NotEmpty(b.t, found)
	return filepath.Base(found[0])
}

// What changes on a server between a plan and its start counts only where the plan touches it, and is named.
func TestWhatThePlanTouchesCounts(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	wish := wire.Wish{Kind: plan.Put, World: "fen", Server: "north"}
	draft, err := b.api.Draft(context.Background(), wish)
	require.NoError(t, err)
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "other"),
		quarrymoss.Options{Title: "Other", Seed: 5}))
	c := b.carry(draft)
	require.Equal(t, plan.Done, c.State, "another world came: %+v", c.Failure)
	require.Equal(t, plan.Done, b.undo(c.ID).State)

	draft, err = b.api.Draft(context.Background(), wish)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(root, "worlds", draft.Plan.Folder), 0o755))
	_, err = b.api.Act(context.Background(), draft.ID, "start")
	require.ErrorIs(t, err, fault.Changed.As())
	assert.Contains(t, err.Error(), "since the plan was made "+draft.Plan.Folder+" has come into the worlds folder")
}

// The database hangs without closing a connection, in the midst of a changeover: who asks is told within seconds,
// health says so, and once it goes on all does, by itself.
func TestADatabaseThatHangs(t *testing.T) {
	t.Parallel()
	p, through, _ := proxied(t)
	b := &bundle{t: t, dir: t.TempDir(), database: through}
	b.start()
	t.Cleanup(b.end)
	b.quarry("north", plot{mischief: "slow-halt"})
	b.restartServer("north")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	ctx := context.Background()
	draft, err := b.api.Draft(ctx, wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	hung := make(chan func(), 1)
	var once sync.Once
	b.trace = func(point string) {
		if strings.HasSuffix(point, "asked to stop") {
			once.Do(func() { hung <- p.hang() })
		}
	}
	_, err = b.api.Act(ctx, draft.ID, "start")
	require.NoError(t, err)
	goOn := <-hung
	for name, ask := range map[string]func() error{
		"worlds":  func() error { _, err := b.api.Worlds(ctx, wire.WorldQuery{}); return err },
		"users":   func() error { _, err := b.api.Users(ctx); return err },
		"sign-in": func() error { _, err := b.api.SignIn(ctx, userName, password, "test"); return err },
		"health":  func() error { return b.api.Health(ctx) },
	} {
		begun := time.Now()
		err := ask()
		assert.Equal(t, fault.Unreachable, fault.CodeOf(err), "%s: %v", name, err)
		assert.Less(t, time.Since(begun), 12*time.Second, name)
	}
	goOn()
	var last wire.Changeover
	require.Eventually(t, func() bool {
		last, err = b.api.Changeover(ctx, draft.ID)
		return err == nil && !last.State.Open()
	}, 60*time.Second, 50*time.Millisecond)
	assert.Equal(t, plan.Done, last.State, "%+v", last.Failure)
	assert.NoError(t, b.api.Health(ctx))
}

// The machine's clock leaps by a month, and the service begins anew: what was set aside stays, and that is said. It
// has none when the service begins, as a small computer without a battery, and gets one later: nothing goes either.
func TestALeapOfTheClockTidiesNothing(t *testing.T) {
	t.Parallel()
	for name, by := range map[string]time.Duration{
		"ahead": 30 * 24 * time.Hour, "none at the start": -time.Since(time.Unix(0, 0)),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			leapAndTidy(t, by)
		})
	}
}

func leapAndTidy(t *testing.T, by time.Duration) {
	t.Helper()
	var leap atomic.Int64
	b := setup(t, func(b *bundle) {
		b.keepAside = time.Hour
		b.clock = func() time.Time { return time.Now().Add(time.Duration(leap.Load())) }
	})
	b.quarry("north", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	c := b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.Equal(t, plan.Done, c.State)
	require.NoError(t, b.daemon.Close())
	leap.Store(int64(by))
	b.start()
	time.Sleep(time.Second) // it tidies when it begins
	if by < 0 {             // it gets the time by and by, and begins anew
		leap.Store(0)
		time.Sleep(time.Second)
		require.NoError(t, b.daemon.Close())
		b.start()
		time.Sleep(time.Second)
	}
	aside, err := b.api.Aside(context.Background(), "north")
	require.NoError(t, err)
	require.Len(t, aside, 1)
	if by > 0 {
		assert.Contains(t, b.must("alerts"), "The machine's clock has gone on by")
	}
	require.Equal(t, plan.Done, b.undo(c.ID).State, "it is there to go back to")
}

// The folder of a server is renamed while a world is staged: that is seen before anything is stopped, and the words
// name the folder.
func TestAServersFolderIsRenamedWhileStaging(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	pid := b.pid("north")
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	b.trace = func(point string) {
		if strings.HasSuffix(point, "stage acted") {
			_ = os.Rename(root, root+".away")
		}
	}
	last := b.carry(draft)
	b.trace = nil
	require.Equal(t, plan.Undone, last.State)
	assert.Contains(t, last.Failure.What, "its folder "+root+" has been moved or replaced")
	assert.NoError(t, syscall.Kill(pid, 0), "it was not stopped")
	require.NoError(t, os.Rename(root+".away", root))
	b.must("servers", "show", "north")
	told := strings.Join(strings.Fields(b.must("changeovers", "show", fmt.Sprint(last.ID), "--why")), " ")
	for _, part := range []string{
		"What was meant To put “Fen” on north.", "What was seen", "has been moved or replaced", "What was done",
		"and taken back: Write the world's files beside the live world and verify each.", "Not begun: Stop the server",
		"What stands where Nothing live was touched: Reshard did nothing to north.", "What to do Bring the folder back",
	} {
		assert.Contains(t, told, part)
	}
}

// The service's own disk is full: whether a server is ready could not be heard. The sheet says so, and nothing is
// stopped.
func TestTheDataFolderIsFull(t *testing.T) {
	t.Parallel()
	var free atomic.Int64
	free.Store(1 << 40)
	b := setup(t, func(b *bundle) {
		b.disk = func() (int64, int64, error) { return free.Load(), 1 << 41, nil }
	})
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	pid := b.pid("north")
	ctx := context.Background()
	put := wire.Wish{Kind: plan.Put, World: "fen", Server: "north"}
	draft, err := b.api.Draft(ctx, put)
	require.NoError(t, err)
	free.Store(1 << 20)
	_, err = b.api.Act(ctx, draft.ID, "start")
	require.ErrorIs(t, err, fault.NoSpace.As())
	assert.Contains(t, err.Error(), "the service's data folder has only 1.0 MiB left")
	for _, wish := range []wire.Wish{
		put, {Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "7"}},
	} {
		_, err = b.api.Draft(ctx, wish)
		require.ErrorIs(t, err, fault.Blocked.As(), wish.Kind)
	}
	sheet, err := b.api.Sheet(ctx, put)
	require.NoError(t, err)
	row := sheet.Sheet.Rows[slices.IndexFunc(sheet.Sheet.Rows, func(r fit.Row) bool { return r.Concern == "room" })]
	assert.Equal(t, fit.Blocks, row.Verdict)
	assert.NoError(t, syscall.Kill(pid, 0), "it was not stopped")
}

// The disk of a server is so full that neither a switch nor a way back could write: a put, a reset and an undo are
// refused before anything is stopped. One that fills up right after the stop ends undone with the old world running.
func TestAServersDiskIsFull(t *testing.T) {
	t.Parallel()
	dir := small(t, "160m")
	b := setup(t)
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "servers"), 0o755))
	require.NoError(t, os.Symlink(dir, filepath.Join(b.dir, "servers", "north")))
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 8})
	done := b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.Equal(t, plan.Done, done.State, "%+v", done.Failure)
	pid := b.pid("north")
	free := fill(t, dir, 4<<20)
	ctx := context.Background()
	undo, err := b.api.Draft(ctx, wire.Wish{Kind: plan.Undo, Undoes: done.ID})
	if err == nil {
		last := b.carry(undo)
		require.Equal(t, plan.Undone, last.State, "%+v", last.Failure)
		assert.Equal(t, string(fault.NoSpace), last.Failure.Code, last.Failure.What)
	}
	_, err = b.api.Draft(ctx, wire.Wish{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "7"}})
	require.ErrorIs(t, err, fault.Blocked.As())
	assert.NoError(t, syscall.Kill(pid, 0), "it was not stopped")
	free()

	// It fills up once nobody can look any more.
	for _, wish := range []wire.Wish{
		{Kind: plan.Undo, Undoes: done.ID},
		{Kind: plan.Reset, Server: "north", Choices: map[string]string{"seed": "7"}},
	} {
		draft, err := b.api.Draft(ctx, wish)
		require.NoError(t, err)
		var once sync.Once
		b.trace = func(point string) {
			if strings.HasSuffix(point, "stop done") {
				once.Do(func() { free = fill(t, dir, 0) })
			}
		}
		last := b.carry(draft)
		b.trace = nil
		assert.Contains(t, []plan.State{plan.Done, plan.Undone}, last.State, "%s: %+v", wish.Kind, last.Failure)
		s, err := b.api.Server(ctx, "north")
		require.NoError(t, err)
		assert.Equal(t, "running", s.Server.State, wish.Kind)
		free()
		if last.State == plan.Done {
			require.Equal(t, plan.Done, b.undo(last.ID).State)
		}
	}
	assert.NoFileExists(t, filepath.Join(root, ".reshard", "reserve"))
}

// zeros reads as zeros without end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// A game that hangs when it is to stop, and takes the stop once its changeover has gone back, is started again.
func TestAStopThatIsTakenLate(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "quarrymoss", "waits: {start: 60s, stop: 60s, settle: 500ms}",
		"waits: {start: 10s, stop: 1s, settle: 100ms}"))
	b.quarry("north", plot{mischief: "slow-halt"})
	b.restartServer("north")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	pid := b.pid("north")
	draft, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	c := b.carry(draft)
	require.Equal(t, plan.Undone, c.State)
	assert.Equal(t, string(fault.NotStopped), c.Failure.Code)
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 10*time.Second, 50*time.Millisecond,
		"it takes the stop after all")
	require.Eventually(t, func() bool {
		s, err := b.api.Server(context.Background(), "north")
		return err == nil && s.Server.State == "running" && pidOf(s.Server) != pid
	}, 20*time.Second, 100*time.Millisecond, "it is started again")
	assert.Equal(t, "winter", b.active("north"))

	// One that a person stops meanwhile stays down.
	time.Sleep(time.Second) // the start settles
	draft, err = b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	require.Equal(t, plan.Undone, b.carry(draft).State)
	require.Eventually(t, func() bool {
		_, err := b.api.StopServer(context.Background(), "north", wire.StopServer{})
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	time.Sleep(2500 * time.Millisecond) // more than two looks
	s, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	assert.Equal(t, "stopped", s.Server.State)
}

// A game that takes the stop while its changeover goes back already, and is just looked at whether it still runs, is
// started again then.
func TestAStopThatIsTakenWhileItGoesBack(t *testing.T) {
	t.Parallel()
	b := setup(t, shippedWith(t, "quarrymoss", "waits: {start: 60s, stop: 60s, settle: 500ms}",
		"waits: {start: 10s, stop: 1s, settle: 4s}"))
	b.quarry("north", plot{mischief: "slow-halt"})
	b.restartServer("north")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	pid := b.pid("north")
	c := b.put("fen", "north", nil)
	require.Equal(t, plan.Undone, c.State, c.Failure)
	assert.Contains(t, c.Failure.What, "it still runs 1s after it was asked to stop")
	s, err := b.api.Server(t.Context(), "north")
	require.NoError(t, err)
	assert.Equal(t, "running", s.Server.State)
	assert.NotEqual(t, pid, pidOf(s.Server), "it has taken the stop, and was started again")
	assert.Equal(t, "winter", s.Server.Opened)
}

// What a program asks for is answered with what it can use, and a world that is one file keeps its ending.
func TestWordsForPrograms(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("north", plot{stopped: true})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	code, out, _ := b.cli("--json", "put", "fen", "north")
	assert.Zero(t, code)
	var draft wire.Changeover
	require.NoError(t, json.Unmarshal([]byte(out), &draft))
	assert.Equal(t, plan.Drafted, draft.State)
	assert.NotEmpty(t, draft.Plan.Steps)

	first := b.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	last := b.do(wire.Wish{Kind: plan.Rename, World: "summer", Server: "north"})
	assert.Contains(t, last.Outcome, "“summer”")
	code, _, errs := b.cli("undo", fmt.Sprint(first.ID), "--yes")
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), fmt.Sprintf("reshard undo %d --with-later", first.ID))
	to := filepath.Join(b.dir, "away")
	b.must("take-away", "north", "--folder", "--to", to, "--yes")
	assert.FileExists(t, filepath.Join(to, "heart.cbor.gz"))
}
