package commands

import (
	"strconv"
	"strings"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/sshlink"
)

// own is a server with commands of its own, run in its folder.
type own struct{ Spec }

func (o own) command(text string) string {
	if text == "" {
		return ""
	}
	return script(`cd "$1" || exit 5; `+text, o.Dir)
}

func (o own) state() string { return o.command(o.Means.State) }

func (o own) seen(r sshlink.Result) (control.Sight, error) {
	k := keys(string(r.Out))
	run := k["run"]
	if run == "" || strings.ContainsFunc(run, notOfAName) {
		run = "now"
		if o.LogFile == "" && o.Means.Log == "" {
			run = "" // there is nothing to hear
		}
	}
	switch r.Code {
	case 0:
		says := "what its own command sees"
		if k["pid"] != "" {
			says = "process " + k["pid"]
			if k["run"] == "" && run != "" && !strings.ContainsFunc(k["pid"], notOfAName) {
				run = "pid-" + k["pid"]
			}
		}
		return control.Sight{Run: run, Process: &control.Process{Says: says, Since: epoch(k["since"])}}, nil
	case 1, 3:
		return down(run), nil
	}
	return control.Sight{}, fault.New(fault.Unreachable, "", "", "its command cannot tell (%s)", words(r))
}

func (o own) start(string) string { return o.detached(o.Means.Start) }

// detached runs a command that may leave something running which holds on to its output: what
// is said goes to a file, so that nobody waits for the end of that.
func (o own) detached(text string) string {
	if text == "" {
		return ""
	}
	return script(`cd "$1" || exit 5; said=$(mktemp) || exit 5; ( `+text+`
) > "$said" 2>&1 < /dev/null; code=$?; head -c 1000 "$said" >&2; rm -f "$said"; exit "$code"`, o.Dir)
}

func (o own) started(r sshlink.Result) error {
	if r.Code == 0 {
		return nil
	}
	return fault.New(fault.NotReady, "start", o.Name, "its command for that failed (%s)", words(r))
}

func (o own) stop() string { return o.detached(o.Means.Stop) }

func (o own) say(line string) (command, in string) { return o.command(o.Means.Say), line + "\n" }

func (o own) signal(s control.Signal) string {
	if o.Means.Signal == "" {
		return ""
	}
	return script(`cd "$1" || exit 5; signal=$2; `+o.Means.Signal, o.Dir, strings.TrimPrefix(string(s), "SIG"))
}

func (o own) log(_ string, from int64) string {
	if o.Means.Log == "" {
		return ""
	}
	return "cd " + sshlink.Quote(o.Dir) + " && { " + o.Means.Log + "\n} | tail -c +" + strconv.FormatInt(from+1, 10)
}

func (own) logFile(string) string { return "" }
