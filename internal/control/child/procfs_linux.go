package child

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
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
	entries, err := os.ReadDir(string(p))
	if err != nil {
		return nil, p.unseen(err)
	}
	var out []int
	for _, e := range entries {
		if pid, err := strconv.Atoi(e.Name()); err == nil {
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

// marks are what a process's environment says of it.
type marks struct{ mark, run string }

// marked finds all processes that carry the server's mark, or that of an earlier build.
func (c *Child) marked() (map[int]marks, error) {
	all, err := c.proc.all()
	if err != nil {
		return nil, err
	}
	out := map[int]marks{}
	for _, pid := range all {
		m, err := c.marksOf(pid)
		switch {
		case gone(err), errors.Is(err, fs.ErrPermission):
			// What another account has started is none of ours.
		case err != nil:
			return nil, c.proc.unseen(err)
		case m.mark != "":
			if fields, err := c.proc.stat(pid); err == nil && fields[0] != "Z" && fields[0] != "X" {
				out[pid] = m
			}
		}
	}
	return out, nil
}

// marksOf gives what the environment of a process says, when it is this server's.
func (c *Child) marksOf(pid int) (m marks, err error) {
	env, err := os.ReadFile(c.proc.file(pid, "environ"))
	if err != nil {
		return m, err
	}
	for kv := range bytes.SplitSeq(env, []byte{0}) {
		name, value, _ := strings.Cut(string(kv), "=")
		switch {
		case name == markName && value == c.spec.Mark, name == formerName && c.formerly(pid, value):
			m.mark = value
		case name == runName:
			m.run = value
		}
	}
	return m, nil
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
	parents := map[int]int{}
	for _, pid := range all {
		if parent, err := c.proc.parent(pid); err == nil {
			parents[pid] = parent
		}
	}
	out := []int{root}
	for i := 0; i < len(out); i++ {
		for pid, parent := range parents {
			if parent == out[i] && !slices.Contains(out, pid) {
				out = append(out, pid)
			}
		}
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
	all, err := c.proc.all()
	if err != nil {
		return out, err
	}
	mine, err := c.marked()
	if err != nil {
		return out, err
	}
	for _, pid := range slices.Collect(maps.Keys(mine)) {
		for _, child := range c.tree(pid) {
			mine[child] = marks{mark: "child"}
		}
	}
	dirs := slices.Compact([]string{realPath(c.spec.Command.Dir), filepath.Clean(c.spec.Command.Dir)})
	for _, pid := range all {
		if _, ours := mine[pid]; ours || pid == os.Getpid() {
			continue
		}
		if err := ctx.Err(); err != nil {
			return out, err
		}
		why, shell, err := c.worksIn(pid, dirs)
		switch {
		case errors.Is(err, fs.ErrPermission):
			out.Hidden++
		case err != nil, why == "": // it has gone meanwhile, or works elsewhere
		case shell:
			out.Passing = append(out.Passing, c.describe(pid, why))
		default:
			out.Working = append(out.Working, c.describe(pid, why))
		}
	}
	return out, nil
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
func (c *Child) worksIn(pid int, dirs []string) (why string, shell bool, err error) {
	inside := func(name string) bool {
		return slices.ContainsFunc(dirs, func(dir string) bool { return within(name, dir) })
	}
	cwd, err := os.Readlink(c.proc.file(pid, "cwd"))
	if err != nil {
		return "", false, err
	}
	line, err := os.ReadFile(c.proc.file(pid, "cmdline"))
	if err != nil {
		return "", false, err
	}
	if len(line) == 0 {
		return "", false, nil // a thread of the kernel, or one that is ending
	}
	args := strings.Split(strings.TrimSuffix(string(line), "\x00"), "\x00")
	file, err := c.writesIn(pid, inside)
	switch {
	case err != nil:
		return "", false, err
	case file != "":
		return "has " + file + " open for writing", false, nil
	case inside(cwd):
		return "works in this folder", idleShell(args), nil
	case slices.ContainsFunc(args[1:], inside):
		// An editor, or a search, is told of the folder too; a server of this program is not
		// told by accident. A script's name stands behind that of its shell.
		program := filepath.Base(c.spec.Command.Args[0])
		if filepath.Base(args[0]) == program || filepath.Base(args[1]) == program {
			return "was told to work on this folder", false, nil
		}
	}
	return "", false, nil
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

// writesIn gives a file that a process has open for writing, and for which inside holds.
func (c *Child) writesIn(pid int, inside func(string) bool) (string, error) {
	handles, err := os.ReadDir(c.proc.file(pid, "fd"))
	if err != nil {
		return "", err
	}
	for _, h := range handles {
		target, err := os.Readlink(c.proc.file(pid, "fd", h.Name()))
		if err != nil || !inside(target) {
			continue
		}
		info, err := os.ReadFile(c.proc.file(pid, "fdinfo", h.Name()))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(info)) {
			if rest, ok := strings.CutPrefix(line, "flags:"); ok {
				flags, err := strconv.ParseInt(strings.TrimSpace(rest), 8, 64)
				if err == nil && flags&syscall.O_ACCMODE != syscall.O_RDONLY {
					return filepath.Base(target), nil
				}
			}
		}
	}
	return "", nil
}
