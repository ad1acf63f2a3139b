package child_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/control/child"
	"reshard/internal/control/controltest"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
)

// script runs a shell script as a game server whose lines are Quarrymoss's.
func script(t *testing.T, text string) (*control.Control, *child.Child, string) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\n"+text), 0o755))
	p := profile(t)
	d := open(t, dir)
	return control.New("north", d, p), d, dir
}

// open makes a driver for the program "run" in a folder.
func open(t *testing.T, dir string, with ...func(*child.Spec)) *child.Child {
	t.Helper()
	spec := child.Spec{
		Command: child.Command{Args: []string{"./run"}, Dir: dir}, State: filepath.Join(dir, "state"),
		Mark:     "test/" + dir,
		Formerly: child.Former{Number: "1", Data: dir},
	}
	for _, w := range with {
		w(&spec)
	}
	d, err := child.New(spec)
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx := context.Background()
		assert.Eventually(t, func() bool {
			_ = d.Signal(ctx, control.Kill) // it may be in the midst of ending
			seen, err := d.Look(ctx)
			return err != nil || seen.Process == nil
		}, 5*time.Second, 5*time.Millisecond)
	})
	return d
}

func profile(t *testing.T) *game.Profile {
	t.Helper()
	shipped, err := games.Find("quarrymoss")
	require.NoError(t, err)
	p := *shipped
	p.Server.Waits = game.Waits{Start: 2 * time.Second, Stop: 500 * time.Millisecond, Settle: 400 * time.Millisecond}
	return &p
}

const wellBehaved = `echo 'opening world "fen"'; echo 'ready on port 1'
while read line; do case $line in halt) echo 'all tiles written'; exit 0;; seed) echo 'seed is -7';; esac; done`

func TestStartAskStop(t *testing.T) {
	t.Parallel()
	c, _, _ := script(t, wellBehaved)
	ctx := context.Background()
	assert.Equal(t, life.Stopped, c.Status(ctx).State)
	_, err := c.Start(ctx)
	require.NoError(t, err)
	assert.Equal(t, "fen", c.Status(ctx).Opened)
	seed, err := c.Ask(ctx, profile(t).Server.Console.Seed)
	require.NoError(t, err)
	assert.Equal(t, "-7", seed)
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.True(t, end.Clean)
	assert.Equal(t, life.SawEnd, end.Evidence)
	st := c.Status(ctx)
	assert.Equal(t, life.Stopped, st.State)
	assert.Equal(t, 0, *st.ExitCode)
}

func TestServersThatDoNotComeUp(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, words string }{
		"exits": {"echo 'cannot listen: taken'; exit 4",
			"exited with code 4 before it was ready; its log says: cannot listen: taken"},
		"exits after ready": {"echo 'ready on port 1'; sleep 0.15; exit 0",
			"said that it was ready and then exited with code 0"},
		"never ready": {"echo warming up; sleep 60", "not ready within 2s; its log says: warming up"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctl, _, _ := script(t, c.text)
			_, err := ctl.Start(context.Background())
			assert.ErrorIs(t, err, fault.NotReady.As())
			assert.ErrorContains(t, err, c.words)
		})
	}
}

func TestAStopThatIsIgnored(t *testing.T) {
	t.Parallel()
	c, d, _ := script(t, `trap '' TERM; echo 'ready on port 1'; while :; do read line; done`)
	ctx := context.Background()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.NotStopped.As())
	assert.Equal(t, life.Running, c.Status(ctx).State, "a clean stop never kills")
	seen, err := d.Look(ctx)
	require.NoError(t, err)
	require.NotNil(t, seen.Process)
}

func TestAStopWithoutItsLineIsNotClean(t *testing.T) {
	t.Parallel()
	c, _, _ := script(t, `echo 'ready on port 1'; read line; exit 0`)
	_, err := c.Start(context.Background())
	require.NoError(t, err)
	end, err := c.Stop(context.Background(), control.Clean)
	require.NoError(t, err)
	assert.False(t, end.Clean)
}

// A process that ends closes its console before it is gone. A stop that meets it then is a stop of a server that has
// ended, not one that failed.
func TestAStopMeetsAServerThatEnds(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, d, dir := script(t, `echo 'ready on port 1'; read line; exec 0<&-; : > closed; sleep 0.2; exit 0`)
	_, err := c.Start(ctx)
	require.NoError(t, err)
	require.NoError(t, d.Say(ctx, "end"))
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "closed"))
		return err == nil
	}, 5*time.Second, time.Millisecond)
	_, err = c.Stop(ctx, control.Clean)
	require.NoError(t, err)
}

// Another life of the service finds the process by its mark, a launch script and
// the game that it runs included, and its console still answers.
func TestAdoption(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, d, dir := script(t, "sh -c '"+strings.ReplaceAll(wellBehaved, "'", `'"'"'`)+"'")
	_, err := c.Start(context.Background())
	require.NoError(t, err)
	first, err := d.Look(ctx)
	require.NoError(t, err)
	again := open(t, dir)
	found, err := again.Look(ctx)
	require.NoError(t, err)
	require.NotNil(t, found.Process)
	assert.Equal(t, first.Process.Says, found.Process.Says)
	other := control.New("north", again, profile(t))
	assert.Equal(t, life.Running, other.Status(ctx).State)
	_, err = other.Stop(context.Background(), control.Clean)
	require.NoError(t, err)
}

func TestFollowOverARestart(t *testing.T) {
	t.Parallel()
	c, _, _ := script(t, wellBehaved)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	runs := map[string]bool{}
	seen := make(chan string, 100)
	go func() {
		_ = c.Follow(ctx, 10, func(lines []control.Line) error {
			for _, l := range lines {
				runs[l.Run] = true
				seen <- l.Text
			}
			return nil
		})
		close(seen)
	}()
	for range 2 {
		_, err := c.Start(ctx)
		require.NoError(t, err)
		require.Equal(t, `opening world "fen"`, <-seen)
		require.Equal(t, "ready on port 1", <-seen)
		_, err = c.Stop(ctx, control.Clean)
		require.NoError(t, err)
		require.Equal(t, "all tiles written", <-seen)
	}
	cancel()
	for range seen { // until the follower has ended
	}
	assert.Len(t, runs, 2)
}

// A game that writes its log to a file of its own: each run is read from where it
// begins, whether the file is begun anew or written on.
func TestLogFileOfTheServersOwn(t *testing.T) {
	t.Parallel()
	for name, script := range map[string]string{
		"written on": "echo \"opening \\\"$(cat world)\\\"\" >> server.log; echo ready on port 1 >> server.log; " +
			"exec sleep 60",
		"begun anew": "rm -f server.log; echo \"opening \\\"$(cat world)\\\"\" > server.log; echo ready on port 1 " +
			">> server.log; exec sleep 60",
		"emptied": "> server.log; sleep 0.3; echo \"opening \\\"$(cat world)\\\"\" >> server.log; echo ready on " +
			"port 1 >> server.log; exec sleep 60",
		"emptied, and the same again": "echo \"opening \\\"$(cat world)\\\"\" > server.log; echo ready on port 1 >> " +
			"server.log; touch -d '1 minute ago' server.log; exec sleep 60",
		"moved aside": "mv server.log old.log; echo \"opening \\\"$(cat world)\\\"\" > server.log; echo ready on " +
			"port 1 >> server.log; exec sleep 60",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "server.log"),
				[]byte("opening \"from an older run\"\nready on port 1\nit broke\n"), 0o644))
			ctx := context.Background()
			d := open(t, dir, func(s *child.Spec) { s.LogFile = "server.log" })
			p, err := game.Parse(
				"g", []byte("reshard: game/1\nid: g\ntitle: G\nworld: {shape: folder, recognise: {require: "+
					"[a]}}\nserver:\n  kinds: {g: {}}\n  worlds: w/\n  settings: {main: {file: s, format: ini}}\n  "+
					"keys: {active-world: [{in: main, key: k}]}\n  console: {log: server.log, ready: 'ready on', "+
					"opened: 'opening \"(?P<world>[^\"]+)\"', refused: 'broke', stop: {signal: SIGTERM}}\n  waits: "+
					"{settle: 50ms}\n"))
			require.NoError(t, err)
			c := control.New("g", d, p)
			var runs []string
			for _, world := range []string{"first", "second", "second"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "world"), []byte(world), 0o644))
				_, err = c.Start(context.Background())
				require.NoError(t, err)
				assert.Equal(t, world, c.Status(ctx).Opened)
				refused, err := c.Refusals(ctx)
				require.NoError(t, err)
				assert.Empty(t, refused, "an older run's lines do not count")
				seen, err := d.Look(ctx)
				require.NoError(t, err)
				runs = append(runs, seen.Run)
				text := make([]byte, 1000)
				n, err := d.ReadLog(ctx, seen.Run, text, 0)
				require.NoError(t, err)
				assert.Equal(t, "opening \""+world+"\"\nready on port 1\n", string(text[:n]))
				_, err = c.Stop(context.Background(), control.Clean)
				require.NoError(t, err)
			}
			text := make([]byte, 1000)
			n, err := d.ReadLog(ctx, runs[0], text, 0)
			require.NoError(t, err)
			assert.NotContains(t, string(text[:n]), "second", "what a later run has written is not the first's")
		})
	}
}

// What is said at the console is waited for: its answer, a refusal, or the end.
func TestTell(t *testing.T) {
	t.Parallel()
	c, _, _ := script(t, `echo 'opening world "fen"'; echo 'ready on port 1'
while read line; do case $line in hold) echo 'writes held';; odd) echo 'cannot open that';; bye) exit 0;; esac; done`)
	ctx := context.Background()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	console := profile(t).Server.Console
	require.NoError(t, c.Tell(ctx, console.Hold, time.Second))
	err = c.Tell(ctx, game.Exchange{Say: "odd", Expect: console.Hold.Expect}, time.Second)
	assert.ErrorContains(t, err, "it answers: cannot open that")
	err = c.Tell(ctx, game.Exchange{Say: "nothing", Expect: console.Hold.Expect}, 100*time.Millisecond)
	assert.ErrorContains(t, err, "no answer within 100ms")
	require.NoError(t, c.Tell(ctx, game.Exchange{Say: "nothing"}, time.Second), "nothing is expected")
	err = c.Tell(ctx, game.Exchange{Say: "bye", Expect: console.Hold.Expect}, 5*time.Second)
	assert.ErrorContains(t, err, "it exited")
	assert.Error(t, c.Tell(ctx, console.Hold, time.Second), "nobody is there")
}

// simple is the game that the suite asks for; the file broken has it not start.
const simple = `echo "opened fen"; echo ready
while read line; do
	case $line in seed) echo "seed is -7";; halt) echo "all written"; exit 0;; crash) exit 3;; esac
done`

func TestConformance(t *testing.T) {
	t.Parallel()
	type server struct {
		*child.Child
		dir, proc string
	}
	controltest.Run(t, controltest.Harness{
		Down: life.Absent,
		Open: func(t *testing.T) control.Driver {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+simple), 0o755))
			proc := filepath.Join(dir, "proc") // a link that can be taken away
			require.NoError(t, os.Symlink("/proc", proc))
			return server{open(t, dir, func(s *child.Spec) { s.Processes = child.NewProcesses(proc) }), dir, proc}
		},
		Again: func(t *testing.T, d control.Driver) control.Driver {
			return server{Child: open(t, d.(server).dir), dir: d.(server).dir}
		},
		Break: func(t *testing.T, d control.Driver) func() {
			run := filepath.Join(d.(server).dir, "run")
			require.NoError(t, os.WriteFile(run+".new", []byte("no program at all"), 0o755))
			require.NoError(t, os.Rename(run, run+".whole"))
			require.NoError(t, os.Rename(run+".new", run))
			return func() { require.NoError(t, os.Rename(run+".whole", run)) }
		},
		Away: func(t *testing.T, d control.Driver) func() {
			proc := d.(server).proc
			require.NoError(t, os.Rename(proc, proc+".away"))
			return func() { require.NoError(t, os.Rename(proc+".away", proc)) }
		},
	})
}

// A list of processes that is empty shows nothing: the kernel's tables are not there.
func TestAnEmptyListOfProcessesShowsNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "proc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"), 0o755))
	d := open(t, dir, func(s *child.Spec) { s.Processes = child.NewProcesses(filepath.Join(dir, "proc")) })
	_, err := d.Look(context.Background())
	assert.ErrorIs(t, err, fault.Unreachable.As())
	c := control.New("north", d, profile(t))
	st := c.Status(context.Background())
	assert.Equal(t, life.Unknown, st.State)
	assert.Contains(t, st.Cause, "is not whole")
	_, err = c.Stop(context.Background(), control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As(), "a stop that nobody saw is none")
	_, err = c.Start(context.Background())
	assert.ErrorIs(t, err, fault.StateUnknown.As())
}

// A start that failed leaves a later log, and none of it belongs to the process that
// runs: it is not "starting" for ever.
func TestTheLogIsThatOfTheProcess(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, d, dir := script(t, wellBehaved)
	_, err := c.Start(ctx)
	require.NoError(t, err)
	first, err := d.Look(ctx)
	require.NoError(t, err)
	later := filepath.Join(dir, "state", "runs", "9999999999999999999")
	require.NoError(t, os.WriteFile(later+".log", []byte("cannot listen: taken\n"), 0o600))
	require.NoError(t, os.WriteFile(later+".process", []byte(`{"pid": 1, "tick": 7, "boot": "another"}`), 0o600))
	require.NoError(t, os.WriteFile(later+".exit", []byte(`{"code": 4}`), 0o600))
	seen, err := d.Look(ctx)
	require.NoError(t, err)
	assert.Equal(t, first, seen)
	assert.Equal(t, life.Running, c.Status(ctx).State)
	other := control.New("north", open(t, dir), profile(t)) // as another life has it
	assert.Equal(t, life.Running, other.Status(ctx).State)
	assert.Equal(t, "fen", other.Status(ctx).Opened)
	_, err = other.Stop(ctx, control.Clean)
	require.NoError(t, err)
}

// The script ends and the game that it has started goes on: it is still the server.
func TestALauncherThatEnds(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, d, _ := script(t, `echo 'opening world "fen"'; echo 'ready on port 1'; sh -c 'sleep 60' & exit 0`)
	_, err := c.Start(ctx)
	require.NoError(t, err)
	st := c.Status(ctx)
	assert.Equal(t, life.Running, st.State)
	assert.Equal(t, "fen", st.Opened, "with the log of its run")
	accounts, err := c.Accounts(ctx)
	require.NoError(t, err)
	assert.Len(t, accounts, 1)
	require.NoError(t, d.Signal(ctx, control.Kill))
	require.Eventually(t, func() bool { return c.Status(ctx).State == life.Stopped }, 5*time.Second,
		20*time.Millisecond)
}

// Builds before marked a process by the data folder's path. It is known again under
// that path, through a link to it, and after the folder was moved.
func TestProcessesOfEarlierBuilds(t *testing.T) {
	t.Parallel()
	for name, move := range map[string]func(t *testing.T, data string) string{
		"where it was": func(_ *testing.T, data string) string { return data },
		"through a link": func(t *testing.T, data string) string {
			require.NoError(t, os.Symlink(data, data+".link"))
			return data + ".link"
		},
		"moved": func(t *testing.T, data string) string {
			require.NoError(t, os.Rename(data, data+".moved"))
			return data + ".moved"
		},
		"copied to another disk": func(t *testing.T, data string) string {
			require.NoError(t, os.CopyFS(data+".copied", os.DirFS(filepath.Join(data, "kept"))))
			require.NoError(t, os.RemoveAll(data))
			return data + ".copied"
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx, root, data := context.Background(), t.TempDir(), filepath.Join(t.TempDir(), "data")
			require.NoError(t, os.MkdirAll(filepath.Join(data, "state", "runs"), 0o755))
			require.NoError(t, os.MkdirAll(filepath.Join(data, "kept", "state", "runs"), 0o755))
			require.NoError(t, syscall.Mkfifo(filepath.Join(data, "state", "console"), 0o600))
			console, err := os.OpenFile(filepath.Join(data, "state", "console"), os.O_RDWR, 0)
			require.NoError(t, err)
			log, err := os.Create(filepath.Join(data, "state", "runs", "0001795000000000000.log"))
			require.NoError(t, err)
			game := exec.Command("sleep", "60")
			game.Dir, game.Env = root, []string{"RESHARD_SERVER_ID=7@" + data}
			game.Stdin, game.Stdout = console, log
			require.NoError(t, game.Start())
			t.Cleanup(func() { _ = game.Process.Kill(); _ = game.Wait() })
			// Start returns while the kernel still puts the new program in its place: for a
			// moment it has no environment.
			require.Eventually(t, func() bool {
				env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", game.Process.Pid))
				return err == nil && len(env) > 0
			}, 5*time.Second, time.Millisecond)
			now := move(t, data)
			of := func(number string) *child.Child {
				return open(t, root, func(s *child.Spec) {
					s.State, s.Formerly = filepath.Join(now, "state"), child.Former{Number: number, Data: now}
				})
			}
			seen, err := of("7").Look(ctx)
			require.NoError(t, err)
			require.NotNil(t, seen.Process)
			assert.Equal(t, "process "+strconv.Itoa(game.Process.Pid), seen.Process.Says)
			if name != "copied to another disk" {
				assert.Equal(t, "0001795000000000000", seen.Run, "with the log that it writes to")
			}
			other := open(t, root, func(s *child.Spec) {
				s.State, s.Formerly = filepath.Join(t.TempDir(), "state"), child.Former{Number: "8", Data: now}
			})
			seen, err = other.Look(ctx)
			require.NoError(t, err)
			assert.Nil(t, seen.Process, "another number is another server")
		})
	}
}

// Who else works in a server's folder is seen; somebody's shell there is told apart, and
// the server itself, and what it has started, is none of them.
func TestOthersInTheFolder(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, _, dir := script(t, "sh -c '"+strings.ReplaceAll(wellBehaved, "'", `'"'"'`)+"'")
	_, err := c.Start(ctx)
	require.NoError(t, err)
	others, err := c.Others(ctx)
	require.NoError(t, err)
	assert.Empty(t, others.Working)
	assert.Empty(t, others.Passing)
	hidden := others.Hidden // some machines hide a process even from root

	begin := func(dir string, args ...string) int {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = dir
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd.Process.Pid
	}
	shell := begin(dir, "sh", "-i")
	works := begin(dir, "sleep", "60")
	writes := begin("/", "sh", "-c", "exec 3>"+filepath.Join(dir, "half")+"; exec sleep 60")
	told := begin("/", filepath.Join(dir, "run"), dir)
	begin("/", "sleep", "61") // elsewhere
	require.Eventually(t, func() bool {
		others, err = c.Others(ctx)
		require.NoError(t, err)
		return len(others.Working) >= 3 && len(others.Passing) >= 1
	}, 5*time.Second, 20*time.Millisecond, "%+v", others)
	all := strings.Join(others.Working, "\n")
	assert.Contains(t, all, fmt.Sprintf("sleep (process %d), which works in this folder", works))
	assert.Contains(t, all, fmt.Sprintf("(process %d), which has half open for writing", writes))
	assert.Contains(t, strings.Join(others.Passing, "\n"), fmt.Sprintf("sh (process %d)", shell))
	assert.Contains(t, all, fmt.Sprintf("(process %d), which was told to work on this folder", told))
	assert.GreaterOrEqual(t, others.Hidden, hidden)
	_, err = c.Stop(ctx, control.Clean)
	require.NoError(t, err)
}

// A server that writes a log of its own says on its output why it does not start: that is told, too.
func TestWhatIsPrintedBesideALog(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := "echo 'starting' >> server.log\nfor n in $(seq 60); do echo \"part $n\" >&2; done\n" +
		"echo 'cannot listen: the port is taken' >&2\nfor n in $(seq 60); do echo \"after $n\" >&2; done\n" +
		"printf 'the end' >&2; exit 3\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+text), 0o755))
	c := control.New("north", open(t, dir, func(s *child.Spec) { s.LogFile = "server.log" }), profile(t))
	_, err := c.Start(context.Background())
	require.Error(t, err)
	assert.Contains(t, err.Error(), "its log says: starting")
	assert.Contains(t, err.Error(), "it printed: cannot listen: the port is taken")
	assert.NotContains(t, err.Error(), "after 60")

	enough := errors.New("enough")
	err = c.Follow(context.Background(), 100, func(lines []control.Line) error {
		require.Len(t, lines, 101)
		assert.Equal(t, "part 23", lines[0].Text, "of each the last hundred")
		assert.True(t, lines[0].Printed)
		assert.Equal(t, "the end", lines[99].Text)
		assert.Equal(t, "starting", lines[100].Text)
		assert.False(t, lines[100].Printed)
		return enough
	})
	require.ErrorIs(t, err, enough)
}

// Whoever looks while a server is being started never takes what an earlier run has written to the server's own log for
// what this one says.
func TestAnEarlierRunsLogIsNotThisOnes(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	text := "sleep 0.02; mv server.log last.log 2>/dev/null\n" +
		"n=$(cat count 2>/dev/null || echo 0); echo $((n+1)) > count\n" +
		"echo \"opening world \\\"w$n\\\"\" >> server.log; echo 'ready on port 1' >> server.log\n" +
		"while :; do sleep 1; done\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+text), 0o755))
	d := open(t, dir, func(s *child.Spec) { s.LogFile = "server.log" })
	p := profile(t)
	p.Server.Waits.Settle = time.Millisecond
	c := control.New("north", d, p)
	over := make(chan struct{})
	var looking sync.WaitGroup
	for range 2 {
		looking.Go(func() {
			for {
				select {
				case <-over:
					return
				case <-time.After(100 * time.Microsecond):
					c.Status(ctx)
				}
			}
		})
	}
	for n := range 40 {
		_, err := c.Start(ctx)
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("w%d", n), c.Status(ctx).Opened)
		require.NoError(t, d.Signal(ctx, control.Kill))
		require.Eventually(t, func() bool { return c.Status(ctx).State == life.Stopped }, 5*time.Second,
			time.Millisecond)
	}
	close(over)
	looking.Wait()
}

// What is printed beside a log while a server runs is shown once, also when more came than is kept of it.
func TestWhatIsPrintedIsFollowed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := "echo 'ready on port 1' >> server.log\nn=0\n" +
		"while [ $n -lt 4000 ]; do n=$((n+1)); echo \"part $n\" >&2; done\nread line\necho last >&2\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+text), 0o755))
	c := control.New("north", open(t, dir, func(s *child.Spec) { s.LogFile = "server.log" }), profile(t))
	ctx, end := context.WithTimeout(context.Background(), 20*time.Second)
	defer end()
	var got []string
	heard := make(chan string, 10000)
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		_ = c.Follow(ctx, 5000, func(lines []control.Line) error {
			for _, l := range lines {
				if l.Printed {
					heard <- l.Text
				}
			}
			return nil
		})
	}()
	_, err := c.Start(ctx)
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond)
	_, err = c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	for line := ""; line != "last"; got = append(got, line) {
		select {
		case line = <-heard:
		case <-ctx.Done():
			t.Fatal("the last line was not told")
		}
	}
	end()
	<-followed
	assert.Contains(t, got, "part 4000")
	seen := map[string]int{}
	for _, line := range got {
		seen[line]++
		require.Equal(t, 1, seen[line], line)
	}
}
