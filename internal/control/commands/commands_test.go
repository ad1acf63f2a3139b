package commands_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/control"
	"reshard/internal/control/commands"
	"reshard/internal/control/controltest"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/sshlink"
)

// simple is the game of the suite.
const simple = `#!/bin/sh
echo "opened fen"; echo ready
while read line; do
	case $line in seed) echo "seed is -7";; halt) echo "all written"; exit 0;; crash) exit 3;; esac
done`

// bench is a driver with what its test needs to know of it.
type bench struct {
	*commands.Driver
	spec commands.Spec
	host *farhost.Host
	line *farhost.Line
}

var sessions atomic.Int64

// inSession is a session that no other test has.
func inSession(n int64) server.Means {
	return server.Means{By: server.BySession, Session: fmt.Sprintf("reshard-test-%d-%d", os.Getpid(), n)}
}

func withLog(m server.Means, file string) server.Means {
	m.LogFile = file
	return m
}

// open makes a server on a host, at the end of a line.
func open(t *testing.T, h *farhost.Host, spec func(dir string) commands.Spec) bench {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte(simple), 0o755))
	line, err := farhost.NewLine(h.Address(), 0)
	require.NoError(t, err)
	t.Cleanup(line.Close)
	s := spec(dir)
	s.Name, s.Dir = "north", dir
	return again(t, bench{spec: s, host: h, line: line})
}

func again(t *testing.T, s bench) bench {
	t.Helper()
	l := sshlink.New(s.host.Account(s.line.Port()))
	s.Driver = commands.New(l, s.spec)
	t.Cleanup(func() {
		_ = s.Signal(context.Background(), control.Kill) // it may be down
		assert.NoError(t, l.Close())
	})
	return s
}

func harness(h *farhost.Host, spec func(dir string) commands.Spec) controltest.Harness {
	return controltest.Harness{
		Down:  life.SaidSo,
		Open:  func(t *testing.T) control.Driver { return open(t, h, spec) },
		Again: func(t *testing.T, d control.Driver) control.Driver { return again(t, d.(bench)) },
		Break: func(t *testing.T, d control.Driver) func() {
			run := filepath.Join(d.(bench).spec.Dir, "run")
			require.NoError(t, os.Rename(run, run+".away"))
			return func() { require.NoError(t, os.Rename(run+".away", run)) }
		},
		Away: func(t *testing.T, d control.Driver) func() {
			line := d.(bench).line
			line.Refuse(true)
			line.Cut()
			return func() { line.Refuse(false) }
		},
	}
}

func start(t *testing.T, s farhost.Shape) *farhost.Host {
	t.Helper()
	h, err := farhost.Start(t.TempDir(), s)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	return h
}

func TestASessionConforms(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	controltest.Run(t, harness(h, func(string) commands.Spec {
		return commands.Spec{
			Means: inSession(sessions.Add(1)), Program: []string{"./run"},
			Env: map[string]string{"HOME": "/nowhere"},
		}
	}))
}

// lines with signs that a shell or tmux would understand arrive as they are.
func TestALineArrivesAsItIs(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	s := open(t, h, func(dir string) commands.Spec {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "hear"), []byte(
			"#!/bin/sh\necho ready\nwhile IFS= read -r line; do printf '<%s>\\n' \"$line\"; done"), 0o755))
		return commands.Spec{
			Means: inSession(sessions.Add(1)), Program: []string{"./hear"},
		}
	})
	ctx := context.Background()
	require.NoError(t, s.Start(ctx))
	var want []string
	for _, line := range []string{`say "it's $HOME" \n; rm -rf *`, "trailing;", ";", "#{session_name}", "-l", "Enter",
		"ünï",
		"  two blanks  ", "`id`"} {
		require.Eventually(t, func() bool { return s.Say(ctx, line) == nil }, 5*time.Second, 50*time.Millisecond)
		want = append(want, "<"+line+">")
	}
	require.Eventually(t, func() bool {
		log := readAll(t, s)
		return strings.Count(log, "<") >= len(want)
	}, 5*time.Second, 50*time.Millisecond)
	assert.Equal(t, "ready\n"+strings.Join(want, "\n")+"\n", readAll(t, s))
}

func readAll(t *testing.T, s bench) string {
	t.Helper()
	ctx := context.Background()
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	buf := make([]byte, 64<<10)
	n, err := s.ReadLog(ctx, seen.Run, buf, 0)
	require.NoError(t, err)
	return string(buf[:n])
}

// A session that somebody else has made under the name is seen, and not ours to hear.
func TestASessionOfSomebodyElse(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	means := inSession(sessions.Add(1))
	name := means.Session
	s := open(t, h, func(string) commands.Spec { return commands.Spec{Means: means, Program: []string{"./run"}} })
	ctx := context.Background()
	l := sshlink.New(h.Account(h.Port))
	defer l.Close() //nolint:errcheck // the test is over
	r, err := l.Run(ctx, "tmux new-session -d -s "+name+" cat", nil, nil)
	require.NoError(t, err)
	require.Zero(t, r.Code, r.Err)
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	require.NotNil(t, seen.Process)
	assert.Empty(t, seen.Run)
	assert.True(t, seen.Process.Ready, "nobody can hear whether it is")
	assert.ErrorIs(t, s.Start(ctx), fault.WrongState.As())
	_, err = l.Run(ctx, "tmux kill-session -t "+name, nil, nil)
	require.NoError(t, err)
}

// A start command may leave its server holding on to its output; nobody waits for that, and what
// it prints later is not taken for an answer.
func TestACommandThatLeavesSomethingRunning(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	s := open(t, h, func(string) commands.Spec {
		return commands.Spec{Means: server.Means{By: server.ByCommands,
			Start: "( echo $$ > pid; exec sh -c 'while [ -e pid ]; do echo pid=666; sleep 0.05; done' ) & sleep 0.1",
			State: `[ -e pid ] && { echo "pid=$(cat pid)"; exit 0; } || exit 3`,
			Stop:  "rm pid; echo 'what a failing stop says' >&2; exit 7",
		}}
	})
	ctx := context.Background()
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	require.Nil(t, seen.Process)
	begun := time.Now()
	require.NoError(t, s.Start(ctx))
	assert.Less(t, time.Since(begun), 5*time.Second)
	for range 5 {
		seen, err = s.Look(ctx)
		require.NoError(t, err)
		require.NotNil(t, seen.Process)
		assert.NotContains(t, seen.Process.Says, "666")
		time.Sleep(30 * time.Millisecond)
	}
	assert.ErrorContains(t, s.Stop(ctx), "code 7: what a failing stop says")
	seen, err = s.Look(ctx)
	require.NoError(t, err)
	assert.Nil(t, seen.Process)
}

// A log file that a game writes over its runs is read from where the present run began, also by
// another life of the service; one that is begun anew is read from its beginning.
func TestALogFileThatRunsShare(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	for name, how := range map[string]string{
		"goes on": `>> game.log`, "another file": `> game.new; mv game.new game.log`,
		"begun anew": `> game.log; touch -d '1 minute ago' game.log`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			n := sessions.Add(1)
			s := open(t, h, func(dir string) commands.Spec {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte(
					"#!/bin/sh\nsleep 0.2; ( echo opened $(cat world); echo ready ) "+how+
						"; while read line; do exit; done"), 0o755))
				return commands.Spec{
					Means: withLog(inSession(n), filepath.Join(dir, "game.log")), Program: []string{"./run"},
				}
			})
			ctx := context.Background()
			for _, world := range []string{"winter", "fen", "oak", "oak"} {
				require.NoError(t, os.WriteFile(filepath.Join(s.spec.Dir, "world"), []byte(world), 0o644))
				require.NoError(t, s.Start(ctx))
				want := "opened " + world + "\nready\n"
				require.Eventually(t, func() bool {
					text := readAll(t, s)
					if text != want && name == "goes on" {
						assert.Empty(t, text, "nothing of an earlier run")
					}
					return text == want
				}, 5*time.Second, 20*time.Millisecond, world)
				other := again(t, s)
				assert.Equal(t, want, readAll(t, other))
				require.NoError(t, s.Say(ctx, "end"))
				require.Eventually(t, func() bool {
					seen, err := s.Look(ctx)
					return err == nil && seen.Process == nil
				}, 5*time.Second, 20*time.Millisecond)
			}
		})
	}
}

// A server that writes a log of its own says on its output why it does not start: that is told, too.
func TestWhatIsPrintedBesideALog(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	s := open(t, h, func(dir string) commands.Spec {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte("#!/bin/sh\necho starting >> game.log\n"+
			"echo 'cannot listen: the port is taken' >&2\nfor n in $(seq 60); do echo \"after $n\" >&2; done\n"+
			"exit 3\n"),
			0o755))
		return commands.Spec{
			Means:   withLog(inSession(sessions.Add(1)), filepath.Join(dir, "game.log")),
			Program: []string{"./run"},
		}
	})
	p, err := game.Parse("g", []byte("reshard: game/1\nid: g\ntitle: G\nworld: {shape: folder, recognise: {require: "+
		"[a]}}\nserver:\n  kinds: {g: {}}\n  worlds: w/\n  settings: {main: {file: s, format: ini}}\n  "+
		"keys: {active-world: [{in: main, key: k}]}\n  console: {log: game.log, ready: 'ready', "+
		"refused: 'cannot listen', stop: {signal: SIGTERM}}\n  waits: {start: 10s, settle: 50ms}\n"))
	require.NoError(t, err)
	_, err = control.New("north", s.Driver, p).Start(t.Context())
	require.Error(t, err)
	assert.Contains(t, err.Error(), "its log says: starting")
	assert.Contains(t, err.Error(), "it printed: cannot listen: the port is taken")
	assert.NotContains(t, err.Error(), "after 60")
}

// What the state command says is understood by its exit code, and nothing else is guessed.
func TestWhatAStateCommandSays(t *testing.T) {
	t.Parallel()
	h := start(t, farhost.Shape{})
	for command, want := range map[string]struct {
		up, known bool
		says      string
	}{
		"exit 0":                             {true, true, ""},
		"echo pid=17; echo since=1700000000": {true, true, "process 17"},
		"exit 1":                             {false, true, ""},
		"exit 3":                             {false, true, ""},
		"exit 2":                             {false, false, "cannot tell (code 2)"},
		"echo no; exit 4":                    {false, false, "cannot tell (code 4: no)"},
		"no-such-program-here":               {false, false, "cannot run the command"},
		"kill -9 $$":                         {false, false, "cannot tell"},
		"cd /nowhere || exit 77":             {false, false, "cannot tell (code 77"},
		"yes | head -c 30000000":             {false, false, "prints more than"},
	} {
		t.Run(command, func(t *testing.T) {
			t.Parallel()
			s := open(t, h, func(string) commands.Spec {
				return commands.Spec{Means: server.Means{By: server.ByCommands, State: command}}
			})
			seen, err := s.Look(context.Background())
			if !want.known {
				require.Error(t, err)
				assert.ErrorContains(t, err, want.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, want.up, seen.Process != nil)
			if want.up {
				assert.Contains(t, seen.Process.Says, want.says)
			} else {
				assert.Equal(t, life.SaidSo, seen.Evidence)
			}
		})
	}
}

// unitScript plays systemctl and journalctl for one unit, whose process it keeps in a folder:
// no service manager runs where the tests do.
const unitScript = `#!/bin/sh
dir=%s
case $0 in *journalctl)
	for a in "$@"; do case $a in _SYSTEMD_INVOCATION_ID=*) cat "$dir/${a#*=}.log" 2>/dev/null;; esac; done
	exit 0;;
esac
verb=$1
while [ "$1" != -- ]; do [ "$1" = -s ] && sig=$2; shift; done
[ "$2" = peat.service ] || { echo LoadState=not-found; exit 0; }
id=$(cat "$dir/id" 2>/dev/null); pid=$(cat "$dir/pid" 2>/dev/null)
case $verb in
show)
	echo LoadState=loaded; echo "InvocationID=$id"; echo "MainPID=$pid"
	echo "ExecMainStartTimestamp=@$(cat "$dir/since" 2>/dev/null)"
	if [ -n "$pid" ] && [ ! -e "$dir/exit" ]; then echo ActiveState=active; exit; fi # the manager knows how it ended
	echo ActiveState=inactive
	[ -e "$dir/exit" ] || exit 0
	code=$(cut -d' ' -f1 "$dir/exit")
	echo "ExecMainExitTimestamp=@$(cut -d' ' -f2 "$dir/exit")"
	if [ "$code" -gt 128 ]; then echo ExecMainCode=2; echo ExecMainStatus=$((code-128)); else
		echo ExecMainCode=1; echo "ExecMainStatus=$code"; fi;;
start)
	id=$(date +%%s%%N); echo $id > "$dir/id"; date +%%s > "$dir/since"; rm -f "$dir/exit" "$dir/pid"
	[ -x "$dir/run" ] || { echo "Unit failed" >&2; rm -f "$dir/id"; exit 1; }
	( "$dir/run" < "$dir/in" > "$dir/$id.log" 2>&1 & pid=$!; echo $pid > "$dir/pid"; wait $pid
	  echo "$? $(date +%%s)" > "$dir/ended"; mv "$dir/ended" "$dir/exit" ) > /dev/null 2>&1 < /dev/null &
	while [ ! -s "$dir/pid" ]; do sleep 0.01; done;;
stop) kill -TERM "$pid";;
kill) kill -s "${sig#SIG}" "$pid";;
esac`

// A systemd unit is asked by systemctl and heard by journalctl.
func TestAUnit(t *testing.T) {
	t.Parallel()
	programs, dir := t.TempDir(), t.TempDir()
	for _, name := range []string{"systemctl", "journalctl"} {
		require.NoError(t, os.WriteFile(filepath.Join(programs, name), fmt.Appendf(nil, unitScript, dir), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "run"), []byte(
		"#!/bin/sh\necho 'opened fen'; echo ready\nwhile :; do sleep 0.05; done"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in"), nil, 0o644))
	h := start(t, farhost.Shape{Programs: programs})
	s := open(t, h, func(string) commands.Spec {
		return commands.Spec{Means: server.Means{By: server.ByUnit, Unit: "peat.service"}}
	})
	ctx := context.Background()
	seen, err := s.Look(ctx)
	require.NoError(t, err)
	assert.Nil(t, seen.Process)
	assert.Equal(t, life.SaidSo, seen.Evidence)
	require.NoError(t, s.Start(ctx))
	require.Eventually(t, func() bool { return strings.Contains(readAll(t, s), "ready\n") }, 5*time.Second,
		50*time.Millisecond)
	seen, err = s.Look(ctx)
	require.NoError(t, err)
	require.NotNil(t, seen.Process)
	assert.Contains(t, seen.Process.Says, "of the unit peat.service")
	assert.WithinDuration(t, time.Now(), seen.Process.Since, 10*time.Second)
	assert.ErrorIs(t, s.Start(ctx), fault.WrongState.As())
	assert.ErrorIs(t, s.Say(ctx, "halt"), fault.Unsupported.As(), "a unit has no console")
	buf := make([]byte, 5)
	n, err := s.ReadLog(ctx, seen.Run, buf, 7)
	require.NoError(t, err)
	assert.Equal(t, "fen\nr", string(buf[:n]), "read on from the midst")
	require.True(t, s.HasStop())
	require.NoError(t, s.Stop(ctx))
	require.Eventually(t, func() bool {
		seen, err = s.Look(ctx)
		return err == nil && seen.Process == nil
	}, 5*time.Second, 50*time.Millisecond)
	assert.Equal(t, life.SawEnd, seen.Evidence)
	require.NotNil(t, seen.Exit)
	assert.Equal(t, -1, seen.Exit.Code)

	other := open(t, h, func(string) commands.Spec {
		return commands.Spec{Means: server.Means{By: server.ByUnit, Unit: "no-such.service"}}
	})
	_, err = other.Look(ctx)
	assert.ErrorContains(t, err, "its host knows no unit no-such.service")
}
