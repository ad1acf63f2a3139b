package commands

import (
	"path"
	"sort"
	"strconv"
	"strings"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/sshlink"
)

// consoleFolder is the folder in the server's own in which a session's runs leave their logs.
const consoleFolder = ".reshard-console"

// keptRuns is how many runs' logs stay.
const keptRuns = 20

// session is a process in a named session of tmux(1). Whoever is signed in to the account can
// attach to it. What the program prints is shown there and kept in a file; how it ended is
// written beside that.
type session struct{ Spec }

// wrapper runs the program of a session: $1 is the run, the rest the program. A pipe with a
// name parts showing from keeping, so that the program's own exit code is known.
const wrapper = `run=` + consoleFolder + `/$1; shift
mkfifo "$run.out" || exit 126
tee "$run.log" < "$run.out" &
sh -c 'echo $$ > "$0.pid"; exec "$@"' "$run" "$@" > "$run.out" 2>&1
code=$?
wait
rm -f "$run.out"
echo "$code $(date +%s)" > "$run.exit.new" && mv "$run.exit.new" "$run.exit"`

// there is shell code that tells whether the session $1 is there; what tmux says otherwise must
// be known, else nothing is known. A server of tmux that is on its way out with its last session
// is asked again.
const there = `for try in 1 2 3; do
  said=$(tmux has-session -t "=$1" 2>&1)
  case $? in
  0) up=1; break;;
  *) case $said in
    *"can't find session"*|*"no server running"*|*"No such file or directory"*) up=0; break;;
    esac;;
  esac
  [ "$try" = 3 ] && { echo "$said" >&2; exit 4; }
  sleep 0.2
done
`

// Ended with when a session is there already.
const taken = 9

func (s session) start(run string) string {
	args := []string{s.Session, s.Dir, run, wrapper, s.Program[0]}
	var env []string
	for k, v := range s.Env {
		env = append(env, k+"="+v)
	}
	sort.Strings(env)
	if len(env) > 0 {
		args = append(append(args, "env"), env...)
	}
	args = append(args, s.Program...)
	return script(there+`name=$1 dir=$2 run=$3 wrapper=$4 program=$5; shift 5
[ "$up" = 0 ] || exit `+strconv.Itoa(taken)+`
cd "$dir" && mkdir -p `+consoleFolder+` || exit 5
command -v "$program" > /dev/null || { echo "there is no program $program" >&2; exit 6; }
ls `+consoleFolder+` | sed -n 's/\.log$//p' | sort -r | tail -n +`+strconv.Itoa(keptRuns)+` | while read -r old; do
  rm -f "`+consoleFolder+`/$old".*
done
begin() { tmux new-session -d -s "$name" -c "$dir" sh -c "$wrapper" sh "$run" "$@" 2> `+consoleFolder+`/said; }
begin "$@" && exit 0
case $(cat `+consoleFolder+`/said) in # the server of tmux went at this moment, with its last session
*exited*|*lost*) sleep 0.2; begin "$@" && exit 0;;
esac
cat `+consoleFolder+`/said >&2; exit 1`, args...)
}

func (s session) started(r sshlink.Result) error {
	switch {
	case r.Code == 0:
		return nil
	case r.Code == taken, strings.Contains(r.Err, "duplicate session"):
		return fault.New(fault.WrongState, "run", s.Name, "it runs already, in the session %s", s.Session)
	case r.Code == 4:
		return fault.New(fault.Unreachable, "run", s.Name, "its sessions cannot be looked at (%s)", words(r))
	}
	return fault.New(fault.Invalid, "run", s.Name, "it cannot be run in a session (%s)", words(r))
}

func (s session) state() string {
	return script(there+`cd "$2" || exit 5
echo "up=$up"
[ -d `+consoleFolder+` ] || exit 0
run=$(ls `+consoleFolder+` | sed -n 's/\.log$//p' | sort | tail -n 1)
echo "run=$run"
echo "pid=$(cat `+consoleFolder+`/$run.pid 2>/dev/null)"
echo "exit=$(cat `+consoleFolder+`/$run.exit 2>/dev/null)"`, s.Session, s.Dir)
}

func (s session) seen(r sshlink.Result) (control.Sight, error) {
	if r.Code != 0 {
		return control.Sight{}, fault.New(fault.Unreachable, "", "", "its session cannot be looked at (%s)", words(r))
	}
	k := keys(string(r.Out))
	code, at, ended := exitOf(k["exit"])
	switch {
	case k["up"] == "1" && !ended:
		return control.Sight{Run: k["run"], Process: &control.Process{
			Says: strings.TrimSpace("process " + k["pid"] + " in the session " + s.Session), Since: begunAt(k["run"]),
		}}, nil
	case k["up"] == "1": // the last run of ours has ended: the session is somebody else's
		return control.Sight{Process: &control.Process{Says: "the session " + s.Session}}, nil
	case k["up"] != "0":
		return control.Sight{}, fault.New(fault.Unreachable, "", "", "the answer of its host is not understood")
	case ended:
		return control.Sight{Run: k["run"], Evidence: life.SawEnd, Exit: &control.Exit{Code: code, At: at}}, nil
	}
	return down(k["run"]), nil
}

// exitOf reads how a run ended: the code that the shell gives, and when. Codes from 129 on are
// those of signals (sh(1)).
func exitOf(text string) (code int, at time.Time, ok bool) {
	c, t, ok := strings.Cut(text, " ")
	code, err := strconv.Atoi(c)
	if !ok || err != nil {
		return 0, time.Time{}, false
	}
	if code > 128 && code < 128+65 {
		code = -1
	}
	return code, epoch(t), true
}

// begunAt is when a run was begun, which its name tells.
func begunAt(run string) time.Time {
	n, err := strconv.ParseInt(run, 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}

func (s session) stop() string { return s.Means.Stop }

// say types a line. A last semicolon would part commands of tmux.
func (s session) say(line string) (command, in string) {
	if strings.HasSuffix(line, ";") {
		line = strings.TrimSuffix(line, ";") + `\;`
	}
	return script(there+`[ "$up" = 1 ] || { echo "the session is not there" >&2; exit 1; }
tmux send-keys -t "=$1:" -l -- "$2" && tmux send-keys -t "=$1:" Enter`, s.Session, line), ""
}

func (s session) signal(sig control.Signal) string {
	kill := `tmux kill-session -t "=$1"`
	if sig != control.Kill {
		kill = ":"
	}
	return script(`cd "$2" || exit 5
run=$(ls `+consoleFolder+` 2>/dev/null | sed -n 's/\.log$//p' | sort | tail -n 1)
pid=$(cat `+consoleFolder+`/$run.pid 2>/dev/null)
[ -e `+consoleFolder+`/$run.exit ] && pid=
[ -n "$pid" ] && { kill -s "$3" "$pid" || exit 1; } || `+kill,
		s.Session, s.Dir, strings.TrimPrefix(string(sig), "SIG"))
}

func (session) log(string, int64) string { return "" }

func (s session) logFile(run string) string {
	return path.Join(s.Dir, consoleFolder, run+".log")
}
