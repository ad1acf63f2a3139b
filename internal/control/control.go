// Package control starts, stops, watches and speaks to game servers. A Control
// is a concrete type over a small Driver; what a game's log lines mean and how
// it wants to be stopped comes from its profile.
package control

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// Driver runs the processes of one server. Musts:
//   - Spawn begins a new run with an empty log and returns once the process runs.
//   - Find tells whether the server's process runs, also when another life of
//     this service spawned it.
//   - Say writes a line to the process's console.
//   - ReadLog gives up to len(p) bytes of the current run's log from an offset
//     and the run's name; n is 0 at its end.
type Driver interface {
	Spawn() error
	Find() (Process, bool)
	Say(line string) error
	Signal(sig syscall.Signal) error
	ReadLog(p []byte, offset int64) (n int, run string, err error)
	// LastExit tells how the last process ended, when that is known.
	LastExit() (Exit, bool)
}

// Process is a running server process.
type Process struct {
	PID   int
	Since time.Time
}

// Exit is the end of a process. Code is -1 when it cannot be known, because the
// service was restarted in between.
type Exit struct {
	Code int
	At   time.Time
}

// The states of a server.
const (
	Running  = "running"  // ready for players
	Starting = "starting" // the process runs and is not ready yet
	Stopping = "stopping" // told to stop and still running
	Stopped  = "stopped"
)

// Status is what is known of a server at a moment.
type Status struct {
	State  string    `json:"state"`
	PID    int       `json:"pid,omitempty"`
	Since  time.Time `json:"since,omitzero"`
	Opened string    `json:"opened,omitempty"` // the world that the log names
	// Version is what the log says of the server's version; of a stopped server the
	// log of its last run.
	Version string `json:"version,omitempty"`
	// ExitCode of the last run, when known; nil while running or unknown.
	ExitCode *int      `json:"exitCode,omitempty"`
	ExitedAt time.Time `json:"exitedAt,omitzero"`
}

// Control speaks to one server. It is safe for concurrent use.
type Control struct {
	driver  Driver
	profile *game.Profile
	name    string
	// Poll is how often log and process are looked at while waiting.
	Poll time.Duration
	// Trace, when set, is told where an act stands: tests cut it there.
	Trace func(point string)

	mu       sync.Mutex
	log      logReader
	stopping bool
}

// New makes a control; name is used in messages.
func New(name string, d Driver, p *game.Profile) *Control {
	return &Control{driver: d, profile: p, name: name, Poll: 20 * time.Millisecond}
}

// Status looks at process and log.
func (c *Control) Status() Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	proc, alive := c.driver.Find()
	c.log.read(c.driver, c.profile)
	if !alive {
		c.stopping = false
		st := Status{State: Stopped, Version: c.log.version}
		if e, ok := c.driver.LastExit(); ok {
			code := e.Code
			st.ExitCode, st.ExitedAt = &code, e.At
		}
		return st
	}
	st := Status{State: Starting, PID: proc.PID, Since: proc.Since, Opened: c.log.opened, Version: c.log.version}
	switch {
	case c.stopping:
		st.State = Stopping
	case c.log.ready:
		st.State = Running
	}
	return st
}

// Start spawns the server and waits until it is ready and has stayed up for the
// profile's settling time: some servers print that they listen and exit a
// moment later. A server that runs already is only waited for.
func (c *Control) Start(ctx context.Context) (took time.Duration, err error) {
	begun := time.Now()
	if c.Status().State == Stopped {
		if err := c.driver.Spawn(); err != nil {
			return 0, fault.Wrap(fault.NotReady, "start", c.name, err)
		}
		c.trace("spawned")
	}
	err = c.until(ctx, c.profile.Server.Waits.Start, func(st Status) (bool, error) {
		if st.State == Stopped {
			return false, c.notReady("it exited" + exitText(st) + " before it was ready")
		}
		return st.State == Running, nil
	})
	took = time.Since(begun)
	if errors.Is(err, errWaited) {
		return took, c.notReady(fmt.Sprintf("it was not ready within %s", c.profile.Server.Waits.Start))
	}
	if err != nil {
		return took, err
	}
	return took, c.settle(ctx)
}

func (c *Control) trace(point string) {
	if c.Trace != nil {
		c.Trace(point)
	}
}

func (c *Control) settle(ctx context.Context) error {
	err := c.until(ctx, c.profile.Server.Waits.Settle, func(st Status) (bool, error) {
		if st.State == Stopped {
			return false, c.notReady("it said that it was ready and then exited" + exitText(st))
		}
		return false, nil
	})
	if errors.Is(err, errWaited) {
		return nil
	}
	return err
}

func exitText(st Status) string {
	if st.ExitCode == nil || *st.ExitCode < 0 {
		return ""
	}
	return fmt.Sprintf(" with code %d", *st.ExitCode)
}

// Refusals gives the lines of the current run that say that the server could not do
// what it was started for.
func (c *Control) Refusals() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.log.read(c.driver, c.profile)
	return slices.Clone(c.log.refused)
}

// notReady quotes the last lines of the log: they usually say why.
func (c *Control) notReady(what string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	tail := c.log.tail
	if len(c.log.refused) > 0 {
		tail = c.log.refused
	}
	e := fault.New(fault.NotReady, "start", c.name, "%s", what)
	if len(tail) > 0 {
		e.What += "; its log says: " + strings.Join(tail[max(0, len(tail)-3):], " / ")
	}
	return e
}

// StopMode says how far a stop may go.
type StopMode int

const (
	// Clean asks as the profile says and waits; a server that does not go stays.
	Clean StopMode = iota
	// Force asks, then signals, then kills. It is only for a server that never
	// became ready, or whose new world is being taken back: nobody plays there.
	Force
)

// errWaited ends a wait that took too long; until's callers turn it into words.
var errWaited = errors.New("waited too long")

// Stop stops the server cleanly and waits for its end. clean is false when the
// profile names a line that tells that everything was written, and it did not
// come.
func (c *Control) Stop(ctx context.Context, mode StopMode) (took time.Duration, clean bool, err error) {
	begun := time.Now()
	if c.Status().State == Stopped {
		return 0, true, nil
	}
	c.setStopping(true)
	defer c.setStopping(false)
	from := c.logEnd()
	if err := c.askToStop(); err != nil && mode == Clean {
		return 0, false, fault.Wrap(fault.NotStopped, "stop", c.name, err)
	}
	c.trace("asked to stop")
	wait := c.profile.Server.Waits.Stop
	if mode == Force {
		wait = min(wait, 10*time.Second)
	}
	err = c.waitGone(ctx, wait)
	if errors.Is(err, errWaited) && mode == Force {
		err = c.kill(ctx)
	}
	if errors.Is(err, errWaited) {
		return time.Since(begun), false, fault.New(fault.NotStopped, "stop", c.name, "it still runs %s after it was asked to stop (%s)", wait, c.stopText())
	}
	if err != nil {
		return time.Since(begun), false, err
	}
	return time.Since(begun), c.sawStopLine(from), nil
}

func (c *Control) stopText() string {
	if s := c.profile.Server.Console.Stop; s.Say != "" {
		return "console: " + s.Say
	}
	return "signal " + c.profile.Server.Console.Stop.Signal
}

func (c *Control) askToStop() error {
	stop := c.profile.Server.Console.Stop
	if stop.Say != "" {
		return c.driver.Say(stop.Say)
	}
	return c.driver.Signal(map[string]syscall.Signal{"SIGINT": syscall.SIGINT, "SIGTERM": syscall.SIGTERM}[stop.Signal])
}

func (c *Control) kill(ctx context.Context) error {
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		if err := c.driver.Signal(sig); err != nil {
			return fault.Wrap(fault.NotStopped, "kill", c.name, err)
		}
		if err := c.waitGone(ctx, 5*time.Second); !errors.Is(err, errWaited) {
			return err
		}
	}
	return errWaited
}

func (c *Control) waitGone(ctx context.Context, wait time.Duration) error {
	return c.until(ctx, wait, func(st Status) (bool, error) { return st.State == Stopped, nil })
}

func (c *Control) setStopping(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stopping = on
}

func (c *Control) logEnd() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.log.read(c.driver, c.profile)
	return c.log.offset
}

func (c *Control) sawStopLine(from int64) bool {
	expect := c.profile.Server.Console.Stop.Expect
	if expect.IsZero() {
		return true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, line := range linesFrom(c.driver, from) {
		if _, ok := expect.Find(line); ok {
			return true
		}
	}
	return false
}

// Ask puts a question to the console and waits for the answer.
func (c *Control) Ask(ctx context.Context, q game.Ask) (answer string, err error) {
	from := c.logEnd()
	if err := c.driver.Say(q.Say); err != nil {
		return "", fault.Wrap(fault.Unreachable, "ask "+q.Say+" of", c.name, err)
	}
	err = c.until(ctx, 10*time.Second, func(st Status) (bool, error) {
		for _, line := range linesFrom(c.driver, from) {
			if groups, ok := q.Answer.Find(line); ok {
				answer = groups["value"]
				return true, nil
			}
		}
		if st.State == Stopped {
			return false, fault.New(fault.Unreachable, "ask "+q.Say+" of", c.name, "it exited")
		}
		return false, nil
	})
	if errors.Is(err, errWaited) {
		return "", fault.New(fault.Unreachable, "ask "+q.Say+" of", c.name, "no answer within 10 s")
	}
	return answer, err
}

// Tell says a line at the console and waits until its answer comes. A line that says
// that the server refuses ends the wait.
func (c *Control) Tell(ctx context.Context, e game.Exchange, wait time.Duration) error {
	from := c.logEnd()
	if err := c.driver.Say(e.Say); err != nil {
		return fault.Wrap(fault.Unreachable, "say "+e.Say+" to", c.name, err)
	}
	c.trace("told")
	if e.Expect.IsZero() {
		return nil
	}
	err := c.until(ctx, wait, func(st Status) (bool, error) {
		for _, line := range linesFrom(c.driver, from) {
			if _, ok := e.Expect.Find(line); ok {
				return true, nil
			}
			_, harmless := c.profile.Server.Console.Harmless.Find(line)
			if _, ok := c.profile.Server.Console.Refused.Find(line); ok && !harmless {
				return false, fault.New(fault.NotReady, "say "+e.Say+" to", c.name, "it answers: %s", line)
			}
		}
		if st.State == Stopped {
			return false, fault.New(fault.Unreachable, "say "+e.Say+" to", c.name, "it exited")
		}
		return false, nil
	})
	if errors.Is(err, errWaited) {
		return fault.New(fault.NotReady, "say "+e.Say+" to", c.name, "no answer within %s", wait)
	}
	return err
}

// until polls until done says so, an error comes, or the wait is over.
func (c *Control) until(ctx context.Context, wait time.Duration, done func(Status) (bool, error)) error {
	deadline := time.NewTimer(wait)
	defer deadline.Stop()
	tick := time.NewTicker(c.Poll)
	defer tick.Stop()
	for {
		ok, err := done(c.Status())
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fault.Wrap(fault.Interrupted, "wait for", c.name, context.Cause(ctx))
		case <-deadline.C:
			return errWaited
		case <-tick.C:
		}
	}
}

// Line is one line of a server's log.
type Line struct {
	Text   string `json:"text"`
	Offset int64  `json:"offset"` // of the line's end in its run's log
	Run    string `json:"run"`
}

// Follow sends the last lines of the current run and then every new one, over
// restarts of the server, until the context ends.
func (c *Control) Follow(ctx context.Context, last int, yield func([]Line) error) error {
	var at int64
	var run string
	var partial string
	tick := time.NewTicker(4 * c.Poll)
	defer tick.Stop()
	for first := true; ; first = false {
		var lines []Line
		buf := make([]byte, 64<<10)
		for {
			n, now, err := c.driver.ReadLog(buf, at)
			if now != run {
				run, at, partial = now, 0, ""
				if n, _, err = c.driver.ReadLog(buf, 0); err != nil {
					break
				}
			}
			if err != nil || n == 0 {
				break
			}
			at += int64(n)
			parts := strings.Split(partial+string(buf[:n]), "\n")
			partial = parts[len(parts)-1]
			for _, p := range parts[:len(parts)-1] {
				lines = append(lines, Line{Text: cleanLine(p), Offset: at, Run: run})
			}
		}
		if first && len(lines) > last {
			lines = lines[len(lines)-last:]
		}
		if len(lines) > 0 || first {
			if err := yield(lines); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}
