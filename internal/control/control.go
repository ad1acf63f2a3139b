// Package control starts, stops, watches and speaks to game servers. A Control is a
// concrete type over a small Driver (packages child and memory now); what a game's log
// lines mean and how it wants to be stopped comes from its profile.
package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
)

// Status is what is known of a server at a moment.
type Status struct {
	State life.State
	// Cause says why the state is unknown, UnknownSince from when on it has been.
	Cause        string
	UnknownSince time.Time
	// Process names the running process for people, Since is when it was started.
	Process string
	Since   time.Time
	Opened  string // the world that the log names, or that a sign is of
	// Signed: Opened is known by a sign and not from the log. Told: that it is ready is somebody's
	// word, or a sign, and not from the log.
	Signed, Told bool
	// Word is whose word it is that it runs; "": it was seen.
	Word string
	// Version is what the log says of the server's version; of a stopped server the
	// log of its last run.
	Version string
	// Asked is what people have been asked to do, since AskedSince; "": nothing.
	Asked      Asked
	AskedSince time.Time
	// Unheard: it runs, and has no log that could be read.
	Unheard bool
	// Evidence says how it is known that the server is down, By whose word that is.
	Evidence life.Evidence
	By       string
	// ExitCode of the last run, when known; nil while running or unknown.
	ExitCode *int
	ExitedAt time.Time
}

// Known reports whether the state can be told.
func (s Status) Known() bool { return s.State != life.Unknown }

// Err is nil for a state that is known, and else says why it is not.
func (s Status) Err(op, name string) error {
	if s.Known() {
		return nil
	}
	return fault.New(fault.StateUnknown, op, name, "it cannot be told whether it runs: %s", s.Cause).
		With("Look at the server by its own means. When you know that it is stopped, say so: reshard servers stopped " +
			name + ".")
}

// DefaultPatience is how long one look at process and log may take unless [Control.Patience] says otherwise.
const DefaultPatience = 10 * time.Second

// sayPatience is how long one act of a driver may take: to start a process, to say a
// line, to send a signal.
const sayPatience = 30 * time.Second

// Control speaks to one server. It is safe for concurrent use; no lock is held that
// others need while a driver works.
type Control struct {
	driver  Driver
	profile *game.Profile
	name    string
	// Active, when set, names the world that the settings name: what is saved before a stop, where the log does
	// not say which one is open.
	Active func(ctx context.Context) (string, error)
	// Trace, when set, is told where an act stands: tests cut it there.
	Trace func(point string)
	// May is asked right before a process is started, spoken to or signalled: a service that stood still may have
	// lost its lease since. nil: it always may.
	May func() error
	// Patience is how long one look at process and log may take. Defaults to [DefaultPatience].
	Patience time.Duration

	// looking has room for whoever looks at process and log; others wait for it no
	// longer than their contexts last.
	looking chan struct{}
	log     logReader // belongs to who is looking

	mu           sync.Mutex // held for moments only
	stopping     bool
	unknownSince time.Time
	word         string // of whom it is taken that the server is down
}

// New makes a control; name is used in messages.
func New(name string, d Driver, p *game.Profile) *Control {
	return &Control{driver: d, profile: p, name: name, looking: make(chan struct{}, 1)}
}

// Status looks at process and log. It gives life.Unknown, and why, when that cannot be
// done within ctx.
func (c *Control) Status(ctx context.Context) Status {
	var st Status
	err := c.look(ctx, func(ctx context.Context, seen Sight) error {
		gone := seen.Process == nil
		if !gone || !c.log.over || c.log.run != seen.Run {
			if err := c.log.read(ctx, c.driver, seen.Run, c.profile); err != nil {
				return err
			}
			c.log.over = gone
		}
		st = c.statusOf(seen)
		return nil
	})
	if err != nil {
		st := c.unknown(err)
		if a, ok := c.driver.(Asker); ok {
			st.Asked, st.AskedSince = a.Asked()
		}
		return st
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.unknownSince, c.word = time.Time{}, "" // what is seen counts more than what was said
	switch st.State {
	case life.Stopped:
		c.stopping = false
	case life.Starting, life.Running:
		if c.stopping {
			st.State = life.Stopping
		}
	case life.Stopping, life.Unknown: // nothing of the two is seen
	}
	return st
}

// look has the driver look, and then does something with what is seen, one caller at a
// time.
func (c *Control) look(ctx context.Context, do func(context.Context, Sight) error) error {
	ctx, done := c.within(ctx, cmp.Or(c.Patience, DefaultPatience), "look at")
	defer done()
	select {
	case c.looking <- struct{}{}:
		defer func() { <-c.looking }()
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	seen, err := c.driver.Look(ctx)
	if err == nil {
		err = do(ctx, seen)
	}
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

func (c *Control) statusOf(seen Sight) Status {
	st := Status{Version: c.log.version}
	if seen.Exit != nil && seen.Process == nil {
		st.ExitCode, st.ExitedAt = &seen.Exit.Code, seen.Exit.At
	}
	switch {
	case seen.Process == nil:
		st.State, st.Evidence, st.By = life.Stopped, seen.Evidence, seen.By
		return st
	case c.log.ready, seen.Process.Ready:
		st.State = life.Running
	default:
		st.State = life.Starting
	}
	st.Unheard = seen.Run == ""
	st.Process, st.Since = seen.Process.Says, seen.Process.Since
	if st.Told = !c.log.ready; st.Told {
		st.Word = seen.Process.Word
	}
	if st.Opened = c.log.opened; st.Opened == "" && seen.Process.Opens != "" {
		st.Opened, st.Signed = seen.Process.Opens, true
	}
	return st
}

// unknown is the status when nothing could be seen; the word of a person stands in for
// it, and is named.
func (c *Control) unknown(err error) Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.unknownSince.IsZero() {
		c.unknownSince = time.Now().UTC()
	}
	if c.word != "" {
		return Status{State: life.Stopped, Evidence: life.Word, By: c.word}
	}
	return Status{State: life.Unknown, Cause: err.Error(), UnknownSince: c.unknownSince}
}

// DespiteSigns ends the name of a person whose word was taken although signs spoke against it.
const DespiteSigns = " (despite signs)"

// TakeWord takes a person's word that the server is down, or that it runs. It counts while the
// state cannot be seen, and until something is seen again. That a server runs is taken only
// where nobody but people can see it. Code NeedsChoice: signs speak against it, and despite was not said.
func (c *Control) TakeWord(ctx context.Context, by string, state life.State, despite bool) error {
	if d, ok := c.driver.(Believer); ok {
		if !state.Up() {
			if signs := d.Against(ctx); len(signs) > 0 && !despite {
				return fault.New(fault.NeedsChoice, "take your word for", c.name, "signs say that it is running: %s",
					strings.Join(signs, "; ")).
					With("Look again. If it is stopped all the same: reshard servers stopped " + c.name +
						" --despite-signs")
			} else if len(signs) > 0 {
				by += DespiteSigns
			}
		}
		d.Believe(state.Up(), by)
		return nil
	}
	if st := c.Status(ctx); st.Known() && st.Evidence != life.Word {
		return fault.New(fault.WrongState, "take your word for", c.name, "it can be seen that the server is %s",
			st.State)
	}
	if state.Up() {
		return fault.New(fault.Unsupported, "take your word for", c.name,
			"that it runs is seen by itself once its host answers")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.word = by
	return nil
}

// ByPeople reports whether people start and stop the server: they are asked whatever is known of it, and
// know themselves what is left to do.
func (c *Control) ByPeople() bool {
	_, ok := c.driver.(Believer)
	return ok
}

// doneMeanwhile reports whether an error says no more than that people have done already what they were
// asked for.
func (c *Control) doneMeanwhile(err error) bool {
	return c.ByPeople() && fault.CodeOf(err) == fault.WrongState
}

// AskPeople asks people to start or stop the server, where only they can, and reports whether it did: one
// that is known to be so already is left alone. What was seen when they were asked is kept by then.
func (c *Control) AskPeople(ctx context.Context, what Asked) (asked bool, err error) {
	if !c.ByPeople() {
		return false, nil
	}
	st := c.Status(ctx)
	ask := c.driver.Start
	done := st.State.Up()
	if what == AskedToStop {
		ask, done = func(ctx context.Context) error { return c.driver.Signal(ctx, Terminate) }, st.State == life.Stopped
	}
	if done || ctx.Err() != nil {
		return false, ctx.Err()
	}
	err = c.act(ctx, string(what), ask)
	if c.doneMeanwhile(err) {
		return false, nil
	}
	return true, err
}

// See gives eyes to a driver of a server that only people can see; any other needs none.
func (c *Control) See(eyes Eyes) {
	if d, ok := c.driver.(Believer); ok {
		d.See(eyes)
	}
}

// Others tells which other processes work in the server's folder; the zero value where
// the host cannot tell.
func (c *Control) Others(ctx context.Context) (Others, error) {
	n, ok := c.driver.(Neighbour)
	if !ok {
		return Others{}, nil
	}
	ctx, done := c.within(ctx, cmp.Or(c.Patience, DefaultPatience), "look around")
	defer done()
	o, err := n.Others(ctx)
	return o, fault.Wrap(fault.Internal, "look for other processes of", c.name, err)
}

// Accounts gives what the running server runs as, as its host's files name their owners;
// none where the host cannot tell.
func (c *Control) Accounts(ctx context.Context) ([]string, error) {
	n, ok := c.driver.(Neighbour)
	if !ok {
		return nil, nil
	}
	ctx, done := c.within(ctx, cmp.Or(c.Patience, DefaultPatience), "look at")
	defer done()
	a, err := n.Accounts(ctx)
	return a, fault.Wrap(fault.Internal, "look for the account of", c.name, err)
}

// Start starts the server and waits until it is ready and has stayed up for the
// profile's settling time: some servers print that they listen and exit a
// moment later. A server that runs already is only waited for. One of which it cannot
// be told whether it runs is not started: code StateUnknown.
func (c *Control) Start(ctx context.Context) (took time.Duration, err error) {
	begun := time.Now()
	st := c.Status(ctx)
	if err := st.Err("start", c.name); err != nil && !c.ByPeople() {
		return 0, err
	}
	if !st.State.Up() {
		err := c.act(ctx, "start", c.driver.Start)
		if err != nil && !c.doneMeanwhile(err) {
			return 0, fault.Wrap(fault.NotReady, "start", c.name, err)
		}
		c.trace("spawned")
	}
	err = c.until(ctx, c.profile.Server.Waits.Start, func(st Status) (bool, error) {
		if st.State == life.Stopped {
			return false, c.notReady(ctx, "it exited"+exitText(st)+" before it was ready")
		}
		return st.State == life.Running, nil
	})
	took = time.Since(begun)
	if errors.Is(err, errWaited) {
		if h, ok := c.driver.(Hearer); ok { // that it is ready may have been said, and lost
			if err := h.Deaf(ctx); err != nil {
				return took, err
			}
		}
		return took, c.notReady(ctx, fmt.Sprintf("it was not ready within %s", c.profile.Server.Waits.Start))
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
		if st.State == life.Stopped {
			return false, c.notReady(ctx, "it said that it was ready and then exited"+exitText(st))
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
func (c *Control) Refusals(ctx context.Context) (lines []string, err error) {
	err = c.look(ctx, func(ctx context.Context, seen Sight) error {
		err := c.log.read(ctx, c.driver, seen.Run, c.profile)
		lines = slices.Clone(c.log.refused)
		return err
	})
	return lines, err
}

// notReady quotes the last lines of the log: they usually say why.
func (c *Control) notReady(ctx context.Context, what string) error {
	e := fault.New(fault.NotReady, "start", c.name, "%s", what)
	var tail, printed []string
	_ = c.look(ctx, func(ctx context.Context, seen Sight) error { // without the lines the rest still stands
		if tail = slices.Clone(c.log.refused); len(tail) == 0 {
			tail = slices.Clone(c.log.tail)
		}
		if p, ok := c.driver.(Printer); ok && seen.Run != "" {
			printed = c.worthTelling(p.Printed(ctx, seen.Run))
		}
		return nil
	})
	if len(tail) > 0 {
		e.What += "; its log says: " + strings.Join(tail[max(0, len(tail)-3):], " / ")
	}
	if len(printed) > 0 {
		e.What += "; it printed: " + strings.Join(printed[max(0, len(printed)-3):], " / ")
	}
	return e
}

// worthTelling gives the lines of what was printed that say that the server could not do what it was started for; all
// of them when none does.
func (c *Control) worthTelling(text string, err error) (lines []string) {
	if err != nil {
		return nil
	}
	var refused []string
	for line := range strings.SplitSeq(text, "\n") {
		if line = cleanLine(line); strings.TrimSpace(line) == "" {
			continue
		}
		lines = append(lines, line)
		if _, ok := c.profile.Server.Console.Refused.Find(line); ok {
			refused = append(refused, line)
		}
	}
	if len(refused) > 0 {
		return refused
	}
	return lines
}

// StopMode says how far a stop may go.
type StopMode int

const (
	// Clean tells players where the profile can, has a game save that loses what was played when it stops, asks
	// as the profile says, and waits; a server that does not save, or does not go, stays.
	Clean StopMode = iota
	// Unsaved is Clean for a game that cannot be told to save any more: what was played since it saved last is
	// lost.
	Unsaved
	// Force asks, then signals, then kills. It is only for a server that never
	// became ready, or whose new world is being taken back: nobody plays there.
	Force
)

// errWaited ends a wait that took too long; until's callers turn it into words.
var errWaited = errors.New("waited too long")

// Ending is how a server went down.
type Ending struct {
	Took time.Duration
	// Clean is false when the server did not say, or cannot be taken to mean, that
	// everything was written.
	Clean bool
	// Already says that it was down before it was asked.
	Already bool
	// Unheard: it runs, and has no log that could be read.
	Unheard bool
	// Evidence says how it is known to be down, By whose word that is.
	Evidence life.Evidence
	By       string
}

// mostAsked is how often a stop is asked for of what others start meanwhile.
const mostAsked = 4

// Stop stops the server and waits until it is known to be down: a server that cannot be
// seen is not taken for stopped, code StateUnknown. Stop may be called again for a
// server that is on its way down.
func (c *Control) Stop(ctx context.Context, mode StopMode) (e Ending, err error) {
	begun := time.Now()
	st := c.Status(ctx)
	if err := st.Err("stop", c.name); err != nil && !c.ByPeople() {
		return e, err
	}
	if st.State == life.Stopped {
		clean, err := c.endedWell(ctx, st)
		return Ending{Clean: clean, Already: true, Evidence: st.Evidence, By: st.By}, err
	}
	if mode == Clean && st.State == life.Running && c.hasLast() {
		err := c.beforeStop(ctx, st)
		st = c.Status(ctx) // that took its time: another run may be at it by now
		switch st.State {
		case life.Stopped: // it went by itself at this moment
		case life.Starting, life.Running, life.Stopping, life.Unknown:
			if err != nil {
				return e, err
			}
		}
	}
	c.setStopping(true)
	defer c.setStopping(false)
	from, run, err := c.logEnd(ctx)
	if err == nil || c.ByPeople() {
		if err = c.askToStop(ctx); c.doneMeanwhile(err) {
			err = nil
		}
	}
	if err != nil && mode != Force {
		if now := c.Status(ctx); now.State == life.Stopped { // it went by itself at this moment
			clean, err := c.endedWell(ctx, now)
			return Ending{Clean: clean, Already: true, Evidence: now.Evidence, By: now.By}, err
		}
		return e, fault.Wrap(fault.NotStopped, "stop", c.name, err)
	}
	c.trace("asked to stop")
	wait := c.profile.Server.Waits.Stop
	if mode == Force {
		wait = min(wait, 10*time.Second)
	}
	// Somebody else may stop it and start it again at this moment, between two looks: what runs then was never
	// asked, and is.
	since, asked := st.Since, 1
	down, err := c.waitGone(ctx, wait, func(now Status) error {
		if another := !now.Since.Equal(since); !another || since.IsZero() || now.Since.IsZero() || c.ByPeople() ||
			asked == mostAsked {
			return nil
		}
		since, asked = now.Since, asked+1
		var err error
		if from, run, err = c.logEnd(ctx); err == nil {
			err = c.askToStop(ctx)
		}
		c.trace("asked another run to stop")
		return err
	})
	if errors.Is(err, errWaited) && mode == Force {
		down, err = c.kill(ctx)
	}
	if errors.Is(err, errWaited) {
		return Ending{
				Took: time.Since(begun),
			}, fault.New(fault.NotStopped, "stop", c.name, "it still runs %s after it was asked to stop (%s)", wait,
				c.stopText())
	}
	e = Ending{Took: time.Since(begun), Evidence: down.Evidence, By: down.By}
	if err != nil || down.Evidence == life.Word {
		return e, err
	}
	e.Clean = c.profile.Server.Console.Stop.Expect.IsZero() || c.saidEnd(ctx) || c.saysStopped(ctx, run, from)
	return e, nil
}

// leaving is what players are told before a stop.
const leaving = "The server stops now. What was built is saved."

// hasLast reports whether anything is said before a stop.
func (c *Control) hasLast() bool {
	console := c.profile.Server.Console
	return console.Say != "" || console.Stop.Loses
}

// beforeStop tells players, and has the game save where a stop alone would lose what was played. Whether players
// were told does not matter to the stop; that it was saved does.
func (c *Control) beforeStop(ctx context.Context, st Status) error {
	console := c.profile.Server.Console
	if console.Say != "" {
		_ = c.say(ctx, strings.ReplaceAll(console.Say, "{text}", leaving))
	}
	if !console.Stop.Loses {
		return nil
	}
	name := st.Opened
	if name == "" && c.Active != nil {
		var err error
		if name, err = c.Active(ctx); err != nil {
			return fault.Wrap(fault.NotStopped, "stop", c.name, err)
		}
	}
	err := c.Tell(ctx, console.Flush.Filled(c.profile.World, name), c.profile.Server.Waits.Stop)
	if err == nil {
		return nil
	}
	what, _ := fault.Words(err)
	return fault.New(fault.NotStopped, "stop", c.name,
		"it was not asked to stop, since what was played is not saved: %s", what).
		With("Save from inside the game, or let it be lost: reshard servers stop " + c.name + " --unsaved.")
}

// saidEnd reports whether the log of a server that people have stopped says that it ended well.
func (c *Control) saidEnd(ctx context.Context) bool {
	d, ok := c.driver.(Believer)
	return ok && d.SaidEnd(ctx)
}

// endedWell tells whether a server that was down before it was asked had ended as it
// does when it is asked: it said so, or its program ended without an error where the
// profile knows no line for that.
func (c *Control) endedWell(ctx context.Context, st Status) (bool, error) {
	if c.profile.Server.Console.Stop.Expect.IsZero() {
		return st.ExitCode != nil && *st.ExitCode == 0, nil
	}
	if c.saidEnd(ctx) {
		return true, nil
	}
	_, run, err := c.logEnd(ctx)
	if err != nil || run == "" {
		return false, nil //nolint:nilerr // how it ended is then not known, which is the answer
	}
	return c.saysStopped(ctx, run, 0), nil
}

func (c *Control) stopText() string {
	if s := c.profile.Server.Console.Stop; s.Say != "" {
		return "console: " + s.Say
	}
	return "signal " + c.profile.Server.Console.Stop.Signal
}

func (c *Control) askToStop(ctx context.Context) error {
	if d, ok := c.driver.(Stopper); ok && d.HasStop() {
		return c.act(ctx, "stop", d.Stop)
	}
	stop := c.profile.Server.Console.Stop
	if stop.Say != "" {
		return c.say(ctx, stop.Say)
	}
	return c.signal(ctx, Signal(stop.Signal))
}

// within gives a context for something that may take so long.
func (c *Control) within(ctx context.Context, limit time.Duration, op string) (context.Context, func()) {
	return context.WithTimeoutCause(ctx, limit, fault.New(fault.TooSlow, op, c.name, "its host did not answer in time"))
}

// act has the driver do something, within its limit.
func (c *Control) act(ctx context.Context, op string, do func(context.Context) error) error {
	if c.May != nil {
		if err := c.May(); err != nil {
			return err
		}
	}
	ctx, done := c.within(ctx, sayPatience, op)
	defer done()
	err := do(ctx)
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

func (c *Control) say(ctx context.Context, line string) error {
	return c.act(ctx, "speak to", func(ctx context.Context) error { return c.driver.Say(ctx, line) })
}

func (c *Control) signal(ctx context.Context, sig Signal) error {
	return c.act(ctx, "signal", func(ctx context.Context) error { return c.driver.Signal(ctx, sig) })
}

// linesFrom reads a run's whole lines from an offset, as far as they can be read.
func (c *Control) linesFrom(ctx context.Context, run string, from int64) []string {
	ctx, done := c.within(ctx, cmp.Or(c.Patience, DefaultPatience), "read the log of")
	defer done()
	return linesFrom(ctx, c.driver, run, from)
}

func (c *Control) kill(ctx context.Context) (st Status, err error) {
	for _, sig := range []Signal{Terminate, Kill} {
		if err := c.signal(ctx, sig); err != nil {
			return st, fault.Wrap(fault.NotStopped, "kill", c.name, err)
		}
		if st, err = c.waitGone(ctx, 5*time.Second, nil); !errors.Is(err, errWaited) {
			return st, err
		}
	}
	return st, errWaited
}

// waitGone waits until the server is known to be down; while it is up, up is told.
func (c *Control) waitGone(ctx context.Context, wait time.Duration, up func(Status) error) (down Status, err error) {
	err = c.until(ctx, wait, func(st Status) (bool, error) {
		down = st
		if st.State == life.Stopped || up == nil || !st.Known() {
			return st.State == life.Stopped, nil
		}
		return false, up(st)
	})
	return down, err
}

func (c *Control) setStopping(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stopping = on
}

// logEnd gives where the log of the present run, or of the last one, ends now.
func (c *Control) logEnd(ctx context.Context) (at int64, run string, err error) {
	err = c.look(ctx, func(ctx context.Context, seen Sight) error {
		err := c.log.read(ctx, c.driver, seen.Run, c.profile)
		at, run = c.log.offset, seen.Run
		return err
	})
	return at, run, err
}

func (c *Control) saysStopped(ctx context.Context, run string, from int64) bool {
	return slices.ContainsFunc(c.linesFrom(ctx, run, from), func(line string) bool {
		_, ok := c.profile.Server.Console.Stop.Expect.Find(line)
		return ok
	})
}

// Ask puts a question to the console and waits for the answer.
func (c *Control) Ask(ctx context.Context, q game.Ask) (answer string, err error) {
	op := "ask " + q.Say + " of"
	from, run, err := c.logEnd(ctx)
	if err == nil {
		err = c.say(ctx, q.Say)
	}
	if err != nil {
		return "", c.notTold(op, err)
	}
	err = c.until(ctx, 10*time.Second, func(st Status) (bool, error) {
		for _, line := range c.linesFrom(ctx, run, from) {
			if groups, ok := q.Answer.Find(line); ok {
				answer = groups["value"]
				return true, nil
			}
		}
		return false, c.stillThere(st, op)
	})
	if errors.Is(err, errWaited) {
		return "", fault.New(fault.NotReady, op, c.name, "no answer within 10 s")
	}
	return answer, err
}

// notTold is the error of a line that could not be said: to a game that has ended meanwhile, or that is not to be
// reached.
func (c *Control) notTold(op string, err error) error {
	if fault.CodeOf(err) == fault.WrongState {
		return fault.New(fault.NotReady, op, c.name, "it does not run any more").
			With("Its log says why it ended: reshard servers log " + c.name + ".")
	}
	return fault.Wrap(fault.Unreachable, op, c.name, err)
}

// stillThere is an error once a server that was spoken to is down: no answer will come.
func (c *Control) stillThere(st Status, op string) error {
	if st.State == life.Stopped {
		return fault.New(fault.NotReady, op, c.name, "it exited")
	}
	return nil
}

// Tell says a line at the console and waits until its answer comes. A line that says
// that the server refuses ends the wait.
func (c *Control) Tell(ctx context.Context, e game.Exchange, wait time.Duration) error {
	op := "say " + e.Say + " to"
	from, run, err := c.logEnd(ctx)
	if err == nil {
		err = c.say(ctx, e.Say)
	}
	if err != nil {
		return c.notTold(op, err)
	}
	c.trace("told")
	if e.Expect.IsZero() {
		return nil
	}
	err = c.until(ctx, wait, func(st Status) (bool, error) {
		for _, line := range c.linesFrom(ctx, run, from) {
			if _, ok := e.Expect.Find(line); ok {
				return true, nil
			}
			_, harmless := c.profile.Server.Console.Harmless.Find(line)
			if _, ok := c.profile.Server.Console.Refused.Find(line); ok && !harmless {
				return false, fault.New(fault.NotReady, op, c.name, "it answers: %s", line)
			}
		}
		return false, c.stillThere(st, op)
	})
	if errors.Is(err, errWaited) {
		return fault.Wrap(fault.NotReady, op, c.name, fmt.Errorf("%w within %s", ErrSilent, wait))
	}
	return err
}

// ErrSilent is in the error of a line that was said and is not answered: whether it was heard is not known.
var ErrSilent = errors.New("no answer")

// onThisMachine is the pace of drivers that are asked at no cost: what a server answers at once is seen at
// once there.
const onThisMachine = 20 * time.Millisecond

// until looks at the driver's pace until done says so, an error comes, or the wait is
// over. A wait that ends while nothing can be seen is code StateUnknown, whatever was
// waited for.
func (c *Control) until(ctx context.Context, patience time.Duration, done func(Status) (bool, error)) error {
	deadline := time.NewTimer(patience)
	defer deadline.Stop()
	pace := c.driver.Pace()
	wait := pace
	if pace <= onThisMachine {
		wait = pace / 10
	}
	tick := time.NewTimer(wait)
	defer tick.Stop()
	for {
		st := c.Status(ctx)
		ok, err := done(st)
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fault.Wrap(fault.Interrupted, "wait for", c.name, context.Cause(ctx))
		case <-deadline.C:
			if err := st.Err("wait for", c.name); err != nil {
				return err
			}
			return errWaited
		case <-tick.C:
			wait = min(2*wait, pace)
			tick.Reset(wait)
		}
	}
}

// Line is one line of a server's log.
type Line struct {
	Text   string `json:"text"`
	Offset int64  `json:"offset"` // of the line's end in its run's log, or in what was printed
	Run    string `json:"run"`
	// Printed: it stands in no log; the server has one of its own, and printed this beside it.
	Printed bool `json:"printed"`
}

// Follow sends the last lines of the current run and then every new one, over
// restarts of the server, until the context ends. While nothing can be seen it waits.
func (c *Control) Follow(ctx context.Context, last int, yield func([]Line) error) error {
	f := follower{c: c}
	tick := time.NewTicker(4 * c.driver.Pace())
	defer tick.Stop()
	for first := true; ; first = false {
		printed, lines := f.more(ctx)
		if first {
			printed, lines = printed[max(0, len(printed)-last):], lines[max(0, len(lines)-last):]
		}
		lines = append(printed, lines...)
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

// follower remembers how far a log was sent to somebody.
type follower struct {
	c       *Control
	run     string
	at      int64
	partial string
	// heard is the end of what was printed, as far as it was sent, and told how much that is in bytes; asked
	// is when, up whether it ran then, and over says that nothing more comes.
	heard string
	told  int64
	asked time.Time
	up    bool
	over  bool
}

// rememberedPrint is how much of the end of what was printed tells where more begins, in bytes.
const rememberedPrint = 1024

// printedPace is how often it is looked what was printed beside a log.
const printedPace = 5 * time.Second

// printed gives what was printed since the last time.
func (f *follower) printed(ctx context.Context, seen Sight) (lines []Line) {
	p, ok := f.c.driver.(Printer)
	up := seen.Process != nil
	ended := f.up && !up
	if f.up = up; up {
		f.over = false
	}
	if !ok || f.over || (!ended && time.Since(f.asked) < printedPace) {
		return nil
	}
	first := f.asked.IsZero()
	f.asked = time.Now()
	all, err := p.Printed(ctx, f.run)
	if err != nil {
		return nil
	}
	if at := strings.Index(all, f.heard); at >= 0 { // only the end is kept of it: the beginning may have gone
		all = all[at+len(f.heard):]
	}
	text := all[:strings.LastIndexByte(all, '\n')+1]
	// One that is just being started does not run yet either, and has not ended.
	f.over = !up && (seen.Exit != nil || !first && text == "")
	if f.over && len(all) > len(text) {
		text = all + "\n" // nobody ends that line any more
	}
	for line := range strings.Lines(text) {
		f.told += int64(len(line))
		lines = append(lines,
			Line{Text: cleanLine(strings.TrimSuffix(line, "\n")), Offset: f.told, Run: f.run, Printed: true})
	}
	f.heard += text
	f.heard = f.heard[max(0, len(f.heard)-rememberedPrint):]
	return lines
}

func (f *follower) more(ctx context.Context) (printed, lines []Line) {
	seen, err := f.c.driver.Look(ctx)
	if err != nil || seen.Run == "" {
		return nil, nil
	}
	if seen.Run != f.run {
		*f = follower{c: f.c, run: seen.Run}
	}
	printed = f.printed(ctx, seen)
	buf := make([]byte, 64<<10)
	for {
		n, err := f.c.driver.ReadLog(ctx, f.run, buf, f.at)
		if err != nil || n == 0 {
			return printed, lines
		}
		end := f.at - int64(len(f.partial)) // of the line before
		f.at += int64(n)
		parts := strings.Split(f.partial+string(buf[:n]), "\n")
		f.partial = parts[len(parts)-1]
		for _, p := range parts[:len(parts)-1] {
			end += int64(len(p)) + 1
			lines = append(lines, Line{Text: cleanLine(p), Offset: end, Run: f.run})
		}
	}
}
