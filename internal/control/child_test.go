package control_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// script runs a shell script as a game server whose lines are Quarrymoss's.
func script(t *testing.T, text string) (*control.Control, control.Driver, string) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\n"+text), 0o755))
	p := profile(t)
	d, err := control.NewChild(control.Command{Args: []string{"./run"}, Dir: dir}, filepath.Join(dir, "state"), dir, "")
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Signal(syscall.SIGKILL) })
	return control.New("north", d, p), d, dir
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
	assert.Equal(t, control.Stopped, c.Status().State)
	_, err := c.Start(ctx)
	require.NoError(t, err)
	assert.Equal(t, "fen", c.Status().Opened)
	seed, err := c.Ask(ctx, profile(t).Server.Console.Seed)
	require.NoError(t, err)
	assert.Equal(t, "-7", seed)
	_, clean, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.True(t, clean)
	st := c.Status()
	assert.Equal(t, control.Stopped, st.State)
	assert.Equal(t, 0, *st.ExitCode)
}

func TestServersThatDoNotComeUp(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, words string }{
		"exits":             {"echo 'cannot listen: taken'; exit 4", "exited with code 4 before it was ready; its log says: cannot listen: taken"},
		"exits after ready": {"echo 'ready on port 1'; sleep 0.15; exit 0", "said that it was ready and then exited with code 0"},
		"never ready":       {"echo warming up; sleep 60", "not ready within 2s; its log says: warming up"},
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
	_, _, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.NotStopped.As())
	assert.Equal(t, control.Running, c.Status().State, "a clean stop never kills")
	proc, alive := d.Find()
	require.True(t, alive)
	require.NoError(t, syscall.Kill(proc.PID, 0))
}

func TestAStopWithoutItsLineIsNotClean(t *testing.T) {
	t.Parallel()
	c, _, _ := script(t, `echo 'ready on port 1'; read line; exit 0`)
	_, err := c.Start(context.Background())
	require.NoError(t, err)
	_, clean, err := c.Stop(context.Background(), control.Clean)
	require.NoError(t, err)
	assert.False(t, clean)
}

// Another life of the service finds the process by its mark, a launch script and
// the game that it runs included, and its console still answers.
func TestAdoption(t *testing.T) {
	t.Parallel()
	c, d, dir := script(t, "sh -c '"+strings.ReplaceAll(wellBehaved, "'", `'"'"'`)+"'")
	_, err := c.Start(context.Background())
	require.NoError(t, err)
	first, _ := d.Find()
	again, err := control.NewChild(control.Command{Args: []string{"./run"}, Dir: dir}, filepath.Join(dir, "state"), dir, "")
	require.NoError(t, err)
	found, alive := again.Find()
	require.True(t, alive)
	assert.Equal(t, first.PID, found.PID)
	assert.WithinDuration(t, first.Since, found.Since, 2*time.Second)
	other := control.New("north", again, profile(t))
	assert.Equal(t, control.Running, other.Status().State)
	_, _, err = other.Stop(context.Background(), control.Clean)
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
		_, _, err = c.Stop(ctx, control.Clean)
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
		"written on":  "echo \"opening \\\"$(cat world)\\\"\" >> server.log; echo ready on port 1 >> server.log; exec sleep 60",
		"begun anew":  "rm -f server.log; echo \"opening \\\"$(cat world)\\\"\" > server.log; echo ready on port 1 >> server.log; exec sleep 60",
		"moved aside": "mv server.log old.log; echo \"opening \\\"$(cat world)\\\"\" > server.log; echo ready on port 1 >> server.log; exec sleep 60",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "server.log"), []byte("opening \"from an older run\"\nready on port 1\nit broke\n"), 0o644))
			d, err := control.NewChild(control.Command{Args: []string{"./run"}, Dir: dir}, filepath.Join(dir, "state"), dir, "server.log")
			require.NoError(t, err)
			t.Cleanup(func() { _ = d.Signal(syscall.SIGKILL) })
			p, err := game.Parse("g", []byte("reshard: game/1\nid: g\ntitle: G\nworld: {shape: folder, recognise: {require: [a]}}\nserver:\n  kinds: {g: {}}\n  worlds: w/\n  settings: {main: {file: s, format: ini}}\n  keys: {active-world: [{in: main, key: k}]}\n  console: {log: server.log, ready: 'ready on', opened: 'opening \"(?P<world>[^\"]+)\"', refused: 'broke', stop: {signal: SIGTERM}}\n  waits: {settle: 50ms}\n"))
			require.NoError(t, err)
			c := control.New("g", d, p)
			for _, world := range []string{"first", "second"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "world"), []byte(world), 0o644))
				_, err = c.Start(context.Background())
				require.NoError(t, err)
				assert.Equal(t, world, c.Status().Opened)
				assert.Empty(t, c.Refusals(), "an older run's lines do not count")
				_, _, err = c.Stop(context.Background(), control.Clean)
				require.NoError(t, err)
			}
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
