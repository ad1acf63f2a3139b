package child

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"reshard/internal/control"
	"reshard/internal/core/fault"
)

// procfs is where the kernel tells of processes (proc(5)).
type procfs string

// identity is what tells a process from every other, also after its number was given to
// another one and after the machine was started anew.
type identity struct {
	PID   int       `json:"pid"`
	Tick  uint64    `json:"tick"` // start, in clock ticks since the machine's start
	Boot  string    `json:"boot"` // the kernel's name for this start of the machine
	Since time.Time `json:"since"`
}

func (p procfs) file(pid int, parts ...string) string {
	return filepath.Join(append([]string{string(p), strconv.Itoa(pid)}, parts...)...)
}

// unseen is the error when processes cannot be looked at: not one of them is then known
// to be gone.
func (p procfs) unseen(err error) error {
	return fault.New(fault.Unreachable, "", "", "the processes there cannot be seen (%v)", err).
		With("Let the service see the whole of " + string(p) + ": without it nobody can tell whether a server runs.")
}

func (p procfs) boot() (string, error) {
	data, err := os.ReadFile(filepath.Join(string(p), "sys/kernel/random/boot_id"))
	if err != nil {
		return "", p.unseen(err)
	}
	return strings.TrimSpace(string(data)), nil
}

func (p procfs) identify(pid int) (identity, error) {
	fields, err := p.stat(pid)
	if err != nil {
		return identity{}, err
	}
	boot, err := p.boot()
	if err != nil {
		return identity{}, err
	}
	tick, err := strconv.ParseUint(fields[19], 10, 64)
	return identity{PID: pid, Tick: tick, Boot: boot, Since: sinceOf(tick)}, err
}

// alive reports whether a process is there; false is evidence.
func (p procfs) alive(id identity) (bool, error) {
	boot, err := p.boot()
	if err != nil || boot != id.Boot {
		return false, err
	}
	fields, err := p.stat(id.PID)
	if gone(err) {
		return false, nil
	}
	if err != nil {
		return false, p.unseen(err)
	}
	return fields[0] != "Z" && fields[0] != "X" && fields[19] == strconv.FormatUint(id.Tick, 10), nil
}

// gone reports whether an error says that a process is not there.
func gone(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ESRCH)
}

// stat gives /proc/PID/stat from the state on (proc(5)); the command's name before it
// may hold blanks and brackets.
func (p procfs) stat(pid int) ([]string, error) {
	data, err := os.ReadFile(p.file(pid, "stat"))
	if err != nil {
		return nil, err
	}
	i := bytes.LastIndexByte(data, ')')
	fields := strings.Fields(string(data[i+1:]))
	if i < 0 || len(fields) < 20 {
		return nil, fmt.Errorf("unexpected %s", p.file(pid, "stat"))
	}
	return fields, nil
}

func (p procfs) parent(pid int) (int, error) {
	fields, err := p.stat(pid)
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(fields[1])
}

// account is who a process runs as, in the form in which files name it.
func (p procfs) account(pid int) (string, error) {
	data, err := os.ReadFile(p.file(pid, "status"))
	if err != nil {
		return "", err
	}
	ids := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if name, rest, ok := strings.Cut(line, ":"); ok && (name == "Uid" || name == "Gid") {
			if f := strings.Fields(rest); len(f) > 1 {
				ids[name] = f[1] // the effective one
			}
		}
	}
	if ids["Uid"] == "" || ids["Gid"] == "" {
		return "", fmt.Errorf("unexpected %s", p.file(pid, "status"))
	}
	return ids["Uid"] + ":" + ids["Gid"], nil
}

// all lists every process. A list that does not hold this one is not whole.
func (p procfs) all() ([]int, error) {
	dir, err := os.Open(string(p))
	if err != nil {
		return nil, p.unseen(err)
	}
	defer dir.Close() //nolint:errcheck // only read
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, p.unseen(err)
	}
	out := make([]int, 0, len(names))
	for _, name := range names {
		if pid, err := strconv.Atoi(name); err == nil {
			out = append(out, pid)
		}
	}
	if !slices.Contains(out, os.Getpid()) {
		return nil, p.unseen(errors.New("the list in " + string(p) + " is not whole"))
	}
	return out, nil
}

// sinceOf turns ticks since the machine's start (100 a second on Linux) into a time.
func sinceOf(tick uint64) time.Time {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Time{}
	}
	up := time.Duration(ts.Nano())
	return time.Now().Add(time.Duration(tick)*10*time.Millisecond - up).UTC().Truncate(time.Second)
}

// marked finds all processes that carry the server's mark, or that of an earlier build.
func (c *Child) marked(ctx context.Context) (map[int]resident, error) {
	all, err := c.processes.Look(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int]resident{}
	for _, one := range all {
		if one.unread != nil {
			return nil, c.proc.unseen(one.unread)
		}
		if !c.bears(one) {
			continue
		}
		if fields, err := c.proc.stat(one.pid); err == nil && fields[0] != "Z" && fields[0] != "X" {
			out[one.pid] = one
		}
	}
	return out, nil
}

// bears reports whether a process carries the server's mark.
func (c *Child) bears(one resident) bool {
	return one.server != "" && one.server == c.spec.Mark || one.former != "" && c.formerly(one.pid, one.former)
}

// formerly reports whether a mark of an earlier build is this server's: its number, and
// the path of the data folder as it was then. The folder may be reached by another path
// now: then the console that the process holds open tells, and when that was copied to
// another disk, that nothing stands at the old path and that the process works in the
// server's folder.
func (c *Child) formerly(pid int, value string) bool {
	number, data, _ := strings.Cut(value, "@")
	if number != c.spec.Formerly.Number || number == "" {
		return false
	}
	if data == c.spec.Formerly.Data {
		return true
	}
	now, err := os.Stat(c.spec.Formerly.Data)
	then, terr := os.Stat(data)
	if err == nil && terr == nil && os.SameFile(now, then) {
		return true
	}
	console, err := os.Stat(c.pipe())
	held, herr := os.Stat(c.proc.file(pid, "fd", "0"))
	if err == nil && herr == nil && os.SameFile(console, held) {
		return true
	}
	cwd, err := os.Readlink(c.proc.file(pid, "cwd"))
	return errors.Is(terr, fs.ErrNotExist) && err == nil && within(cwd, realPath(c.spec.Command.Dir))
}

// tree lists a process and all that descend from it.
func (c *Child) tree(root int) []int {
	all, err := c.proc.all()
	if err != nil {
		return []int{root}
	}
	children := map[int][]int{}
	for _, pid := range all {
		if parent, err := c.proc.parent(pid); err == nil {
			children[parent] = append(children[parent], pid)
		}
	}
	out := []int{root}
	for i := 0; i < len(out); i++ {
		out = append(out, children[out[i]]...)
	}
	return out
}

func realPath(name string) string {
	if real, err := filepath.EvalSymlinks(name); err == nil {
		return real
	}
	return name
}

// within reports whether a path is a folder or below it.
func within(name, dir string) bool {
	return name == dir || strings.HasPrefix(name, strings.TrimSuffix(dir, "/")+"/")
}

// Others implements control.Neighbour: processes that are not the server's and work in
// its folder, have a file in it open for writing, or were told to work on it.
func (c *Child) Others(ctx context.Context) (out control.Others, err error) {
	all, err := c.processes.Look(ctx)
	if err != nil {
		return out, err
	}
	dirs := slices.Compact([]string{realPath(c.spec.Command.Dir), filepath.Clean(c.spec.Command.Dir)})
	for _, one := range all {
		if one.hidden {
			out.Hidden++
			continue
		}
		why, shell := c.worksIn(one, dirs)
		if why == "" || c.ownOrGone(one, all) {
			continue
		}
		if said := c.describe(one.pid, why); shell {
			out.Passing = append(out.Passing, said)
		} else {
			out.Working = append(out.Working, said)
		}
	}
	return out, nil
}

// ownOrGone reports whether a process, or one that it descends from, carries the server's mark, or whether it is not
// there any more.
func (c *Child) ownOrGone(one resident, all []resident) bool {
	by := map[int]resident{}
	for _, other := range all {
		by[other.pid] = other
	}
	for pid := range c.ancestors(one.pid) {
		if c.bears(by[pid]) {
			return true
		}
	}
	_, err := c.proc.parent(one.pid)
	return gone(err)
}

// ancestors gives a process and those that it descends from, nearest first.
func (c *Child) ancestors(pid int) iter.Seq[int] {
	return func(yield func(int) bool) {
		for seen := map[int]bool{}; pid > 0 && !seen[pid] && yield(pid); { // they come and go: it may be a circle
			seen[pid] = true
			var err error
			if pid, err = c.proc.parent(pid); err != nil {
				return
			}
		}
	}
}

func (c *Child) describe(pid int, why string) string {
	name := "?"
	if data, err := os.ReadFile(c.proc.file(pid, "comm")); err == nil {
		name = strings.TrimSpace(string(data))
	}
	return fmt.Sprintf("%s (process %d), which %s", name, pid, why)
}

// worksIn tells what a process has to do with some folders, "" for nothing, and whether
// it is only a shell of somebody who happens to be there.
func (c *Child) worksIn(one resident, dirs []string) (why string, shell bool) {
	if len(one.args) == 0 {
		return "", false
	}
	inside := func(name string) bool {
		return slices.ContainsFunc(dirs, func(dir string) bool { return within(name, dir) })
	}
	for _, h := range one.open {
		if inside(h.target) && c.writes(one.pid, h.number) {
			return "has " + filepath.Base(h.target) + " open for writing", false
		}
	}
	switch {
	case inside(one.cwd):
		return "works in this folder", idleShell(one.args)
	case slices.ContainsFunc(one.args[1:], inside):
		// An editor, or a search, is told of the folder too; a server of this program is not
		// told by accident. A script's name stands behind that of its shell.
		program := filepath.Base(c.spec.Command.Args[0])
		if filepath.Base(one.args[0]) == program || filepath.Base(one.args[1]) == program {
			return "was told to work on this folder", false
		}
	}
	return "", false
}

// idleShell reports whether a command line is that of a shell which waits for a person
// to type: it has no script to run.
func idleShell(args []string) bool {
	shells := []string{"sh", "dash", "bash", "zsh", "fish", "ksh", "mksh", "tcsh", "csh", "ash"}
	if !slices.Contains(shells, strings.TrimPrefix(filepath.Base(args[0]), "-")) {
		return false
	}
	return !slices.ContainsFunc(args[1:], func(a string) bool { return !strings.HasPrefix(a, "-") || a == "-c" })
}

// writes reports whether a process has an open file open for writing.
func (c *Child) writes(pid int, handle string) bool {
	info, err := os.ReadFile(c.proc.file(pid, "fdinfo", handle))
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(info)) {
		if rest, ok := strings.CutPrefix(line, "flags:"); ok {
			flags, err := strconv.ParseInt(strings.TrimSpace(rest), 8, 64)
			return err == nil && flags&syscall.O_ACCMODE != syscall.O_RDONLY
		}
	}
	return false
}
