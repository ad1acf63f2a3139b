// Package child runs game servers as child processes of the service that outlive it: a
// control.Driver. A server's console is a named pipe that it holds open itself, its log
// a file that it writes to itself; a restart of the service, or its death, does not
// touch it.
//
// A process is known again by what was written down when it was started, and by a mark
// in its environment that names the data it belongs to: an identity that lives with the
// data folder, wherever that stands.
package child

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
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
	if info, err := os.Stat(c.Dir); err != nil || !info.IsDir() {
		return "", fault.New(fault.Unreachable, "start", c.Dir, "the server's folder is not there")
	}
	name := c.Args[0]
	if strings.Contains(name, "/") && !filepath.IsAbs(name) {
		name = filepath.Join(c.Dir, name)
	}
	found, err := exec.LookPath(name)
	if err != nil {
		return "", fault.New(fault.Invalid, "start", c.Dir,
			"the program %q of the start command is not there, or cannot be run", c.Args[0])
	}
	return found, nil
}

// Spec is one server.
type Spec struct {
	Command Command
	// State is a folder of the server's own for its console and logs.
	State string
	// Mark names the server among all of this machine: the identity of the data that it
	// belongs to, and its number there.
	Mark string
	// Formerly is how builds before marked it: its number and the data folder's path.
	Formerly Former
	// LogFile, from the working folder, is the file that the server writes its log to;
	// "" when that is its output.
	LogFile string
	// Processes looks at the machine's processes; nil: [Machine].
	Processes *Processes
}

// Former is a mark of a build that marked by the data folder's path.
type Former struct {
	Number string
	Data   string
}

// The names in a process's environment.
const (
	markPrefix = "RESHARD_" // of all of them
	markName   = "RESHARD_SERVER"
	runName    = "RESHARD_RUN"
	formerName = "RESHARD_SERVER_ID"
)

// keptRuns is how many runs' logs are kept.
const keptRuns = 10

// Child is the driver of one server. It is safe for concurrent use.
type Child struct {
	spec      Spec
	processes *Processes
	proc      procfs

	starting chan struct{} // has room for one start
	mu       sync.Mutex
	reaped   map[string]chan struct{} // by run: closed when what this life started has been reaped
	begins   map[string]identity      // by run: what this life started, also where no room was left to write it down
	absent   time.Time                // when all processes were last looked at, and none was ours
}

// New makes the driver for one server.
func New(s Spec) (*Child, error) {
	if err := os.MkdirAll(filepath.Join(s.State, "runs"), 0o700); err != nil {
		return nil, fault.Wrap(fault.Internal, "prepare", s.State, err)
	}
	if s.Processes == nil {
		s.Processes = Machine()
	}
	return &Child{
		spec:      s,
		processes: s.Processes,
		proc:      s.Processes.proc,
		starting:  make(chan struct{}, 1),
		reaped:    map[string]chan struct{}{},
		begins:    map[string]identity{},
	}, nil
}

// Pace implements control.Driver.
func (c *Child) Pace() time.Duration { return 20 * time.Millisecond }

func (c *Child) pipe() string { return filepath.Join(c.spec.State, "console") }

func (c *Child) runFile(run, ending string) string {
	return filepath.Join(c.spec.State, "runs", run+ending)
}

// runs lists the runs whose logs are kept, oldest first.
func (c *Child) runs() ([]string, error) {
	files, err := os.ReadDir(filepath.Join(c.spec.State, "runs"))
	if err != nil {
		return nil, fault.Wrap(fault.Unreachable, "list", c.spec.State, err)
	}
	var out []string
	for _, f := range files {
		if run, ok := strings.CutSuffix(f.Name(), ".log"); ok {
			out = append(out, run)
		}
	}
	sort.Strings(out)
	return out, nil
}

// Start implements control.Driver.
func (c *Child) Start(ctx context.Context) error {
	select {
	case c.starting <- struct{}{}:
		defer func() { <-c.starting }()
	case <-ctx.Done():
		return ctx.Err()
	}
	seen, err := c.Look(ctx)
	if err != nil {
		return err
	}
	if seen.Process != nil {
		return fault.New(fault.WrongState, "run", c.spec.Command.Dir, "it runs already: %s", seen.Process.Says)
	}
	program, err := c.spec.Command.Program()
	if err != nil {
		return err
	}
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
	run := fmt.Sprintf("%019d", time.Now().UnixNano())
	// The mark comes before the log, which makes the run one that others look at: without it they would take what
	// earlier runs have written to the server's own log for this one's.
	if err := c.markLog(run); err != nil {
		return errors.Join(err, removeIfThere(c.runFile(run, ".from")))
	}
	log, err := os.OpenFile(c.runFile(run, ".log"), os.O_CREATE|os.O_EXCL|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return errors.Join(fmt.Errorf("open log: %w", err), removeIfThere(c.runFile(run, ".from")))
	}
	defer log.Close() //nolint:errcheck // the process has its own handle
	cmd, err := startOnceWritten(ctx, func() *exec.Cmd {
		cmd := exec.Command(program, c.spec.Command.Args[1:]...)
		cmd.Dir, cmd.Env = c.spec.Command.Dir, c.environment(run)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = console, log, log
		// A session of its own: Ctrl-C at the service's terminal does not reach it.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
		return cmd
	})
	if err != nil {
		return errors.Join(fault.New(fault.Invalid, "run", c.spec.Command.Args[0], "%v", err), c.dropRun(run))
	}
	c.begun(run, cmd)
	return nil
}

// startOnceWritten starts a command. A program that somebody still has open for writing
// is "text file busy": whatever this process forks at the moment holds its open files until
// it becomes another program, a start script just written among them. That passes.
func startOnceWritten(ctx context.Context, command func() *exec.Cmd) (*exec.Cmd, error) {
	deadline := time.Now().Add(busyPatience)
	for {
		cmd := command()
		err := cmd.Start()
		if !errors.Is(err, unix.ETXTBSY) || time.Now().After(deadline) {
			return cmd, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// busyPatience is how long a start waits for its program to be written.
const busyPatience = 2 * time.Second

// dropRun forgets a run that never began: its empty log would be taken for the last
// one's.
func (c *Child) dropRun(run string) error {
	return errors.Join(os.Remove(c.runFile(run, ".log")), removeIfThere(c.runFile(run, ".from")))
}

func removeIfThere(file string) error {
	if err := os.Remove(file); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// begun writes down which process a run is, and waits for its end in the background.
// When the service dies before, the mark in the process tells.
func (c *Child) begun(run string, cmd *exec.Cmd) {
	id, err := c.proc.identify(cmd.Process.Pid)
	if err == nil {
		id.Since = time.Now().UTC()
		if data, err := json.Marshal(id); err == nil {
			_ = os.WriteFile(c.runFile(run, ".process"), data, 0o600) // the mark tells as well
		}
	}
	reaped := make(chan struct{})
	c.mu.Lock()
	c.reaped[run], c.absent = reaped, time.Time{}
	if err == nil {
		c.begins[run] = id
	}
	c.mu.Unlock()
	go func() {
		defer close(reaped)
		_ = cmd.Wait() // the state tells all
		data, err := json.Marshal(control.Exit{Code: cmd.ProcessState.ExitCode(), At: time.Now().UTC()})
		if err == nil {
			_ = os.WriteFile(c.runFile(run, ".exit"), data, 0o600) // without it the code is not known
		}
	}()
	c.pruneRuns()
}

func (c *Child) environment(run string) []string {
	env := []string{"PATH=" + os.Getenv("PATH"), markName + "=" + c.spec.Mark, runName + "=" + run}
	if _, given := c.spec.Command.Env["HOME"]; !given {
		env = append(env, "HOME="+c.spec.Command.Dir)
	}
	for k, v := range c.spec.Command.Env {
		env = append(env, k+"="+v)
	}
	sort.Strings(env)
	return env
}

func (c *Child) pruneRuns() {
	runs, err := c.runs()
	if err != nil {
		return
	}
	for i := 0; i < len(runs)-keptRuns; i++ {
		for _, ending := range []string{".log", ".from", ".process", ".exit"} {
			_ = os.Remove(c.runFile(runs[i], ending)) // an old log that stays harms nobody
		}
		c.mu.Lock()
		delete(c.reaped, runs[i])
		delete(c.begins, runs[i])
		c.mu.Unlock()
	}
}

// absence is how long it counts that no process was found: nobody but this driver starts
// one with the mark.
const absence = time.Second

// Look implements control.Driver. It is first looked for the process that was written
// down, and when that is gone for every one with the mark: a launch script ends, and the
// game that it has started goes on.
func (c *Child) Look(ctx context.Context) (control.Sight, error) {
	if err := ctx.Err(); err != nil {
		return control.Sight{}, err
	}
	runs, err := c.runs()
	if err != nil {
		return control.Sight{}, err
	}
	var last string
	if len(runs) > 0 {
		last = runs[len(runs)-1]
	}
	// What is known of the last run is read before its process is looked at: one that begins meanwhile is not taken for
	// one that has ended.
	c.mu.Lock()
	reaped, fresh := c.reaped[last], time.Since(c.absent) < absence
	c.mu.Unlock()
	for _, run := range slices.Backward(runs) {
		id, ok := c.written(run)
		if !ok {
			continue
		}
		alive, err := c.proc.alive(id)
		if err != nil {
			return control.Sight{}, err
		}
		if alive {
			return control.Sight{Run: run, Process: c.process(id)}, nil
		}
	}
	seen := control.Sight{Run: last, Evidence: life.Absent}
	if reaped != nil {
		// It is dead, so how it ended is about to be known: wait for that.
		select {
		case <-reaped:
		case <-ctx.Done():
			return seen, ctx.Err()
		}
		seen.Evidence = life.SawEnd
	}
	if seen.Exit = c.exit(last); fresh {
		return seen, nil
	}
	found, err := c.marked(ctx)
	if err != nil {
		return control.Sight{}, err
	}
	if len(found) > 0 {
		return c.adopt(found, runs), nil
	}
	c.mu.Lock()
	c.absent = time.Now()
	c.mu.Unlock()
	return seen, nil
}

// written is the process that was written down for a run.
func (c *Child) written(run string) (id identity, ok bool) {
	c.mu.Lock()
	id, ok = c.begins[run]
	c.mu.Unlock()
	if ok {
		return id, true
	}
	data, err := os.ReadFile(c.runFile(run, ".process"))
	return id, err == nil && json.Unmarshal(data, &id) == nil
}

func (c *Child) exit(run string) *control.Exit {
	var e control.Exit
	data, err := os.ReadFile(c.runFile(run, ".exit"))
	if err != nil || json.Unmarshal(data, &e) != nil {
		return nil
	}
	return &e
}

func (c *Child) process(id identity) *control.Process {
	return &control.Process{Says: fmt.Sprintf("process %d", id.PID), Since: id.Since}
}

// Accounts implements control.Neighbour. Of a launcher that has given up its rights for
// the game both count.
func (c *Child) Accounts(ctx context.Context) (out []string, err error) {
	pid, err := c.running(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range c.tree(pid) {
		if a, err := c.proc.account(one); err == nil && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out, nil
}

// adopt takes a process of an earlier life, or of an earlier build. Of several (a
// launch script and the game) it is the one whose parent is not among them. It is written
// down, so that it is found at once from now on.
func (c *Child) adopt(found map[int]resident, runs []string) control.Sight {
	pids := make([]int, 0, len(found))
	for pid := range found {
		pids = append(pids, pid)
	}
	sort.Ints(pids)
	top := pids[0]
	for _, pid := range pids {
		if parent, err := c.proc.parent(pid); err == nil && found[parent].pid == 0 {
			top = pid
			break
		}
	}
	id, err := c.proc.identify(top)
	if err != nil { // it ends at this moment; the next look tells
		id = identity{PID: top}
	}
	run := found[top].run
	if run == "" {
		run = c.runOf(top, id, runs)
	}
	if data, err := json.Marshal(id); err == nil && run != "" && id.Tick != 0 {
		_ = os.WriteFile(c.runFile(run, ".process"), data, 0o600) // it is found by its mark as well
		_ = os.Remove(c.runFile(run, ".exit"))                    // that of a launcher, if there is one
	}
	return control.Sight{Run: run, Process: c.process(id)}
}

// runOf tells which log belongs to a process whose mark does not say: the one that it
// writes to, else the last that was begun before the process.
func (c *Child) runOf(pid int, id identity, runs []string) string {
	out, err := os.Stat(c.proc.file(pid, "fd", "1"))
	for _, run := range slices.Backward(runs) {
		if log, lerr := os.Stat(c.runFile(run, ".log")); err == nil && lerr == nil && os.SameFile(out, log) {
			return run
		}
	}
	for _, run := range slices.Backward(runs) {
		if begun, err := time.ParseDuration(run + "ns"); err == nil &&
			time.Unix(0, int64(begun)).Before(id.Since.Add(2*time.Second)) {
			return run
		}
	}
	return ""
}

// Say implements control.Speaker.
func (c *Child) Say(ctx context.Context, line string) error {
	if strings.ContainsAny(line, "\r\n") {
		return fault.New(fault.Invalid, "say", line, "a console line cannot hold a line break")
	}
	if _, err := c.running(ctx); err != nil {
		return err
	}
	// Without a reader this fails at once instead of waiting for one.
	f, err := os.OpenFile(c.pipe(), os.O_WRONLY|syscall.O_NONBLOCK, 0)
	if errors.Is(err, unix.ENXIO) {
		c.awaitEnd(ctx)
	}
	if err != nil {
		return fault.New(fault.WrongState, "say", line, "its console does not answer: %v", err)
	}
	_, err = io.WriteString(f, line+"\n")
	return errors.Join(err, f.Close())
}

// awaitEnd waits a moment for the end of a process that has closed its console. A process that ends closes its files
// first, and counts as running until the kernel has freed the rest.
func (c *Child) awaitEnd(ctx context.Context) {
	for deadline := time.Now().Add(endingPatience); time.Now().Before(deadline); {
		if seen, err := c.Look(ctx); err != nil || seen.Process == nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// endingPatience is how long awaitEnd waits: a game may also close its console and keep running.
const endingPatience = 300 * time.Millisecond

// running gives the process that runs.
func (c *Child) running(ctx context.Context) (pid int, err error) {
	seen, err := c.Look(ctx)
	if err != nil {
		return 0, err
	}
	if seen.Process == nil {
		return 0, fault.New(fault.WrongState, "speak to", c.spec.Command.Dir, "the server does not run")
	}
	_, err = fmt.Sscanf(seen.Process.Says, "process %d", &pid)
	return pid, err
}

// Signal implements control.Speaker. A process that is gone needs none.
func (c *Child) Signal(ctx context.Context, s control.Signal) error {
	signals := map[control.Signal]syscall.Signal{
		control.Interrupt: syscall.SIGINT, control.Terminate: syscall.SIGTERM, control.Kill: syscall.SIGKILL,
	}
	sig, ok := signals[s]
	if !ok {
		return fault.New(fault.Unsupported, "signal", c.spec.Command.Dir, "there is no signal %q", string(s))
	}
	pid, err := c.running(ctx)
	if fault.CodeOf(err) == fault.WrongState {
		return nil
	}
	if err != nil {
		return err
	}
	to := []int{pid}
	if s == control.Kill { // nothing of it is to go on
		to = c.tree(pid)
		if found, err := c.marked(ctx); err == nil {
			for other := range found {
				to = append(to, other)
			}
		}
	}
	for _, pid := range to {
		if err := syscall.Kill(pid, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
			return fault.New(fault.Refused, "signal", fmt.Sprintf("process %d", pid), "%v", err)
		}
	}
	return nil
}

// ReadLog implements control.Speaker.
func (c *Child) ReadLog(ctx context.Context, run string, p []byte, offset int64) (n int, err error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	from, to, ok := c.span(run)
	if !ok {
		return 0, nil
	}
	if to >= 0 {
		p = p[:max(0, min(int64(len(p)), to-from-offset))]
	}
	f, err := c.openRunLog(run)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil // the server has not begun its log yet, or it is too old to be kept
	}
	if err != nil {
		return 0, fault.Wrap(fault.Unreachable, "read the log of", run, err)
	}
	defer f.Close() //nolint:errcheck // only read
	n, err = f.ReadAt(p, from+offset)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}
