package control

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"reshard/internal/core/fault"
)

// Command is how a server's process is begun.
type Command struct {
	Args []string          // the program and its arguments
	Dir  string            // working folder: the server's root
	Env  map[string]string // beside PATH and HOME (which is Dir unless given)
}

// Program finds the program to run: a name is looked up in PATH, a path is taken
// from the working folder.
func (c Command) Program() (string, error) {
	if len(c.Args) == 0 {
		return "", fault.New(fault.Invalid, "start", c.Dir, "the server has no start command")
	}
	name := c.Args[0]
	if strings.Contains(name, "/") && !filepath.IsAbs(name) {
		name = filepath.Join(c.Dir, name)
	}
	found, err := exec.LookPath(name)
	if err != nil {
		return "", fault.New(fault.Invalid, "start", c.Dir, "the program %q of the start command is not there, or cannot be run", c.Args[0])
	}
	return found, nil
}

// child runs a server as a child process of the service that outlives it: its
// console is a named pipe that it holds open itself, its log a file that it
// writes to itself, and it is found again by a mark in its environment. A
// restart of the service, or its death, does not touch it.
type child struct {
	cmd  Command
	dir  string // state: console pipe and logs
	mark string // NAME=value in the process's environment
	// logFile is the file that the server writes its log to; "": its output.
	logFile string

	mu   sync.Mutex
	proc Process
	tick uint64 // start time in clock ticks since boot: with the PID unique
	ours bool   // spawned in this life of the service, which will reap it
	// reaped is closed when the process that is ours has been reaped.
	reaped chan struct{}
	exit   *Exit
}

// keptRuns is how many runs' logs are kept.
const keptRuns = 10

// NewChild makes the driver for one server. dir is a folder of its own for
// pipe and logs; id must be unique among all servers of all services of this
// machine, and stay the same over restarts. logFile, from the server's root, is
// the file that the server writes its log to; "" when that is its output.
func NewChild(cmd Command, dir, id, logFile string) (Driver, error) {
	if err := os.MkdirAll(filepath.Join(dir, "runs"), 0o700); err != nil {
		return nil, fault.Wrap(fault.Internal, "prepare", dir, err)
	}
	c := &child{cmd: cmd, dir: dir, mark: "RESHARD_SERVER_ID=" + id}
	if logFile != "" {
		c.logFile = filepath.Join(cmd.Dir, logFile)
	}
	return c, nil
}

func (c *child) pipe() string { return filepath.Join(c.dir, "console") }

func (c *child) Spawn() error {
	if err := unix.Mkfifo(c.pipe(), 0o600); err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("make console pipe %s: %w", c.pipe(), err)
	}
	// Read-write: the process itself keeps the pipe open, so it never sees an
	// end of file on its console, whoever writes to it or dies.
	console, err := os.OpenFile(c.pipe(), os.O_RDWR, 0)
	if err != nil {
		return fmt.Errorf("open console pipe: %w", err)
	}
	defer console.Close() //nolint:errcheck // the process has its own handle
	log, err := os.OpenFile(filepath.Join(c.dir, "runs", fmt.Sprintf("%019d.log", time.Now().UnixNano())), os.O_CREATE|os.O_EXCL|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("open log: %w", err)
	}
	defer log.Close() //nolint:errcheck // the process has its own handle
	if err := c.markLog(log.Name()); err != nil {
		return err
	}
	program, err := c.cmd.Program()
	if err != nil {
		return err
	}
	cmd := exec.Command(program, c.cmd.Args[1:]...)
	cmd.Dir, cmd.Env = c.cmd.Dir, c.environment()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = console, log, log
	// A session of its own: Ctrl-C at the service's terminal does not reach it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("run %s: %w", c.cmd.Args[0], err)
	}
	c.mu.Lock()
	c.exit, c.ours, c.reaped = nil, true, make(chan struct{})
	reaped := c.reaped
	c.proc = Process{PID: cmd.Process.Pid, Since: time.Now().UTC()}
	c.tick, _ = startTick(c.proc.PID)
	c.mu.Unlock()
	go c.reap(cmd, reaped)
	c.pruneRuns()
	return nil
}

// logMark tells where a run begins in a log file that servers share over runs, and
// which file it was: a number of a file is given again once the file is gone, so
// its birth and how it begins are kept too.
type logMark struct {
	Inode uint64 `json:"inode"`
	Born  int64  `json:"born"` // nanoseconds; 0 where the file system does not tell
	Size  int64  `json:"size"`
	Head  []byte `json:"head"` // at most logHead bytes
}

const logHead = 512

// markLog notes how the server's own log file stands before a run.
func (c *child) markLog(run string) error {
	if c.logFile == "" {
		return nil
	}
	data, err := json.Marshal(lookAtLog(c.logFile))
	if err != nil {
		return err
	}
	return os.WriteFile(run+".from", data, 0o600)
}

func lookAtLog(name string) logMark {
	var st unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, name, 0, unix.STATX_INO|unix.STATX_SIZE|unix.STATX_BTIME, &st) != nil {
		return logMark{}
	}
	mark := logMark{Inode: st.Ino, Size: int64(st.Size)}
	if st.Mask&unix.STATX_BTIME != 0 {
		mark.Born = st.Btime.Sec*1e9 + int64(st.Btime.Nsec)
	}
	if f, err := os.Open(name); err == nil {
		head := make([]byte, min(logHead, mark.Size))
		n, _ := f.ReadAt(head, 0) // a file that shrinks meanwhile has a shorter head
		mark.Head = head[:n]
		_ = f.Close() // only read
	}
	return mark
}

// grown reports whether a file is the one that was marked, with more in it.
func (m logMark) grown(now logMark) bool {
	return now.Inode == m.Inode && now.Born == m.Born && now.Size >= m.Size && bytes.HasPrefix(now.Head, m.Head)
}

// runLog gives the file that holds a run's log and where the run begins in it. A
// server that begins its log anew (another file, or a shorter one) begins at 0.
func (c *child) runLog(run string) (name string, base int64) {
	if c.logFile == "" {
		return run, 0
	}
	var mark logMark
	if data, err := os.ReadFile(run + ".from"); err != nil || json.Unmarshal(data, &mark) != nil {
		return c.logFile, 0
	}
	if mark.grown(lookAtLog(c.logFile)) {
		return c.logFile, mark.Size
	}
	return c.logFile, 0
}

func (c *child) environment() []string {
	env := []string{"PATH=" + os.Getenv("PATH"), c.mark}
	if _, given := c.cmd.Env["HOME"]; !given {
		env = append(env, "HOME="+c.cmd.Dir)
	}
	for k, v := range c.cmd.Env {
		env = append(env, k+"="+v)
	}
	sort.Strings(env)
	return env
}

func (c *child) reap(cmd *exec.Cmd, reaped chan struct{}) {
	defer close(reaped)
	_ = cmd.Wait() // the state tells all
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.proc.PID == cmd.Process.Pid {
		c.ours, c.proc, c.exit = false, Process{}, &Exit{Code: cmd.ProcessState.ExitCode(), At: time.Now().UTC()}
	}
}

func (c *child) pruneRuns() {
	runs, err := filepath.Glob(filepath.Join(c.dir, "runs", "*.log"))
	if err != nil {
		return
	}
	sort.Strings(runs)
	for i := 0; i < len(runs)-keptRuns; i++ {
		_ = os.Remove(runs[i]) // an old log that stays harms nobody
		_ = os.Remove(runs[i] + ".from")
	}
}

func (c *child) LastExit() (Exit, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.exit == nil || c.exit.At.IsZero() { // never run in this life of the service
		return Exit{}, false
	}
	return *c.exit, true
}

func (c *child) Find() (Process, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.proc.PID != 0 {
		if tick, alive := startTick(c.proc.PID); alive && tick == c.tick {
			return c.proc, true
		}
		if c.ours {
			// It is dead, so reap is about to tell how it ended: wait for that, or
			// the exit code would be missing from the first look.
			reaped := c.reaped
			c.mu.Unlock()
			<-reaped
			c.mu.Lock()
			return Process{}, false
		}
		c.exit, c.proc = &Exit{Code: -1, At: time.Now().UTC()}, Process{}
	}
	if c.exit != nil {
		return Process{}, false // our own child ended; nobody else spawns it
	}
	return c.adopt()
}

// adopt looks through all processes for one that an earlier life of the
// service spawned. Of several (a launch script and the game) it takes the one
// whose parent is not among them.
func (c *child) adopt() (Process, bool) {
	marked := map[int]bool{}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return Process{}, false
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		env, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		if err == nil && hasMark(env, c.mark) {
			marked[pid] = true
		}
	}
	for pid := range marked {
		fields, err := statFields(pid)
		if err != nil || fields[0] == "Z" {
			continue
		}
		if parent, _ := strconv.Atoi(fields[1]); marked[parent] {
			continue
		}
		tick, alive := startTick(pid)
		if !alive {
			continue
		}
		c.proc, c.tick = Process{PID: pid, Since: sinceOf(tick)}, tick
		return c.proc, true
	}
	// Nothing found: do not look again at every poll.
	c.exit = &Exit{Code: -1}
	return Process{}, false
}

func hasMark(env []byte, mark string) bool {
	for _, kv := range bytes.Split(env, []byte{0}) {
		if string(kv) == mark {
			return true
		}
	}
	return false
}

// statFields gives /proc/PID/stat from the state on (proc(5)); the command's
// name before it may hold blanks and brackets.
func statFields(pid int) ([]string, error) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil, err
	}
	i := bytes.LastIndexByte(data, ')')
	fields := strings.Fields(string(data[i+1:]))
	if i < 0 || len(fields) < 20 {
		return nil, fmt.Errorf("unexpected /proc/%d/stat", pid)
	}
	return fields, nil
}

// startTick gives a process's start time in clock ticks since boot; alive is
// false for one that is gone or waits to be reaped.
func startTick(pid int) (tick uint64, alive bool) {
	fields, err := statFields(pid)
	if err != nil || fields[0] == "Z" || fields[0] == "X" {
		return 0, false
	}
	tick, err = strconv.ParseUint(fields[19], 10, 64)
	return tick, err == nil
}

// sinceOf turns ticks since boot (100 a second on Linux) into a time.
func sinceOf(tick uint64) time.Time {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Time{}
	}
	up := time.Duration(ts.Nano())
	return time.Now().Add(time.Duration(tick)*10*time.Millisecond - up).UTC().Truncate(time.Second)
}

func (c *child) Say(line string) error {
	if strings.ContainsAny(line, "\r\n") {
		return fault.New(fault.Invalid, "say", line, "a console line cannot hold a line break")
	}
	if _, alive := c.Find(); !alive {
		return fmt.Errorf("the server does not run")
	}
	// Without a reader this fails at once instead of waiting for one.
	f, err := os.OpenFile(c.pipe(), os.O_WRONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return fmt.Errorf("its console does not answer: %w", err)
	}
	_, err = io.WriteString(f, line+"\n")
	return errors.Join(err, f.Close())
}

func (c *child) Signal(sig syscall.Signal) error {
	p, alive := c.Find()
	if !alive {
		return nil
	}
	if err := syscall.Kill(p.PID, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
		return err
	}
	return nil
}

func (c *child) ReadLog(p []byte, offset int64) (n int, run string, err error) {
	runs, err := filepath.Glob(filepath.Join(c.dir, "runs", "*.log"))
	if err != nil || len(runs) == 0 {
		return 0, "", err
	}
	sort.Strings(runs)
	newest := runs[len(runs)-1]
	file, base := c.runLog(newest)
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) && c.logFile != "" {
		return 0, filepath.Base(newest), nil // the server has not begun its log yet
	}
	if err != nil {
		return 0, filepath.Base(newest), err
	}
	defer f.Close() //nolint:errcheck // only read
	n, err = f.ReadAt(p, base+offset)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, filepath.Base(newest), err
}
