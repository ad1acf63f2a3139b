package commands

import (
	"strconv"
	"strings"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/sshlink"
)

// unit is a systemd unit (systemctl(1), org.freedesktop.systemd1(5)). It is stopped as the unit
// says: a line to the console would have it started again where the unit restarts.
type unit struct{ Spec }

func (u unit) systemctl(args ...string) string {
	words := []string{"LC_ALL=C", "systemctl"}
	if u.UserUnit {
		words = append(words, "--user")
	}
	for _, a := range args {
		words = append(words, sshlink.Quote(a))
	}
	return strings.Join(append(words, "--", sshlink.Quote(u.Unit)), " ")
}

func (u unit) state() string {
	return script(u.systemctl("show", "--timestamp=unix", "-p", "LoadState", "-p", "ActiveState", "-p", "MainPID", "-p",
		"InvocationID", "-p", "ExecMainStartTimestamp", "-p", "ExecMainExitTimestamp", "-p", "ExecMainStatus",
		"-p", "ExecMainCode"))
}

func (u unit) seen(r sshlink.Result) (control.Sight, error) {
	k := keys(string(r.Out))
	switch {
	case r.Code != 0:
		return control.Sight{}, fault.New(fault.Unreachable, "", "", "its unit cannot be looked at (%s)", words(r))
	case k["LoadState"] == "not-found":
		return control.Sight{}, fault.New(fault.Unreachable, "", "", "its host knows no unit %s", u.Unit).
			With("Give the unit's name as systemctl shows it: reshard servers change " + u.Name + " --unit NAME.")
	}
	run := k["InvocationID"]
	switch k["ActiveState"] {
	case "active", "activating", "deactivating", "reloading", "refreshing", "maintenance":
		return control.Sight{Run: run, Process: &control.Process{
			Says: "process " + k["MainPID"] + " of the unit " + u.Unit, Since: epoch(k["ExecMainStartTimestamp"]),
		}}, nil
	case "inactive", "failed":
		seen := down(run)
		if at := epoch(k["ExecMainExitTimestamp"]); !at.IsZero() {
			code, err := strconv.Atoi(k["ExecMainStatus"])
			if err != nil || k["ExecMainCode"] != "1" { // CLD_EXITED; otherwise a signal
				code = -1
			}
			seen.Exit, seen.Evidence = &control.Exit{Code: code, At: at}, life.SawEnd
		}
		return seen, nil
	}
	return control.Sight{}, fault.New(fault.Unreachable, "", "", "the state of its unit is not understood: %s",
		k["ActiveState"])
}

func (u unit) start(string) string { return u.systemctl("start", "--no-block") }

func (u unit) started(r sshlink.Result) error {
	if r.Code == 0 {
		return nil
	}
	return fault.New(fault.Refused, "start", u.Name, "its host does not start the unit (%s)", words(r)).
		With("The account must be allowed to start and stop the unit " + u.Unit + ", as polkit or sudo grant it.")
}

func (u unit) stop() string {
	if u.Means.Stop != "" {
		return u.Means.Stop
	}
	return u.systemctl("stop", "--no-block")
}

func (u unit) say(line string) (command, in string) { return own(u).say(line) }

func (u unit) signal(s control.Signal) string { return u.systemctl("kill", "-s", string(s)) }

// log is what the unit's processes have printed in one run (journalctl(1)).
func (u unit) log(run string, from int64) string {
	manager := ""
	if u.UserUnit {
		manager = "--user "
	}
	return "journalctl " + manager + "-o cat --no-pager -q _SYSTEMD_INVOCATION_ID=" + run + " | tail -c +" +
		strconv.FormatInt(from+1, 10)
}

func (unit) logFile(string) string { return "" }
