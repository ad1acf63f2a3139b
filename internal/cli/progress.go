package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// status writes one line that replaces itself on a terminal. Without a terminal
// nothing is written: whole lines tell the rest.
func (a *app) status(format string, args ...any) {
	if a.plain || a.json {
		return
	}
	line := fmt.Sprintf(format, args...)
	if r := []rune(line); len(r) > a.width-1 {
		line = string(r[:a.width-1])
	}
	fmt.Fprintf(a.screen, "\r\x1b[K%s", line)
}

func (a *app) endProgress() {
	if !a.plain && !a.json {
		fmt.Fprint(a.screen, "\r\x1b[K")
	}
}

// progressOf makes a function that shows bytes, rate and time left.
func (a *app) progressOf(verb string, total int64) func(int64) {
	begun, last := time.Now(), time.Time{}
	return func(n int64) {
		now := time.Now()
		if now.Sub(last) < 100*time.Millisecond {
			return
		}
		last = now
		of := ""
		if total >= 0 {
			of = " of " + bytesText(total)
		}
		a.status("%s: %s%s%s", verb, bytesText(n), of, rateText(n, total, now.Sub(begun)))
	}
}

// follower prints a changeover as it goes: a line a step, and on a terminal a
// moving line for what is under way.
type follower struct {
	a       *app
	printed map[string]bool
	state   plan.State

	mu    sync.Mutex
	under *plan.Progress // what is under way, as it was told last; nil: nothing
	told  time.Time      // when that was
	over  chan struct{}
}

func (a *app) following() *follower {
	f := &follower{a: a, printed: map[string]bool{}, over: make(chan struct{})}
	if !a.plain && !a.json {
		go f.count()
	}
	return f
}

// end ends the moving line; nothing is to be seen any more.
func (f *follower) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	close(f.over)
	f.a.endProgress()
}

// count has the moving line count on while players are locked out and nothing else is told.
func (f *follower) count() {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-f.over:
			return
		case <-tick.C:
		}
		f.mu.Lock()
		select {
		case <-f.over:
		default:
			if p := f.under; p != nil && lockedOut(*p) {
				f.moving(*p, time.Since(f.told))
			}
		}
		f.mu.Unlock()
	}
}

// lockedOut tells whether players are.
func lockedOut(p plan.Progress) bool { return !p.StoppedAt.IsZero() && p.ReadyAt.IsZero() }

func (f *follower) see(c wire.Changeover) {
	a := f.a
	if a.json {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.under, f.told = c.Progress, time.Now()
	if c.State != f.state && c.State == plan.Undoing {
		a.endProgress()
		why := ""
		if c.Failure != nil {
			why = ": " + c.Failure.What
		}
		a.wrapped("  ", marked(c.State)+why)
	}
	f.state = c.State
	for n, s := range c.Steps {
		key := fmt.Sprintf("%d %s", n, s.State)
		if (s.State == string(plan.StepDone) || s.State == string(plan.StepUndone)) && !f.printed[key] {
			f.printed[key] = true
			a.endProgress()
			a.print("  %s %s\n", map[string]string{"done": "✓", "undone": "↩"}[s.State], stepDone(s, c))
			if s.Note != "" {
				a.wrapped(map[bool]string{true: "    ! ", false: "    "}[s.Warns], s.Note)
			}
		}
	}
	if p := c.Progress; p != nil {
		if key := fmt.Sprint(p.Step, p.Going, p.Asks.What); p.Asks.What != "" && !f.printed[key] {
			f.printed[key] = true
			a.endProgress()
			a.printAsks(p.Asks)
		}
		f.moving(*p, 0)
	}
}

// moving shows what is under way, a while after it was told.
func (f *follower) moving(p plan.Progress, since time.Duration) {
	a := f.a
	switch {
	case p.Waiting != "":
		a.status("  ‖ %s", p.Waiting)
	case (p.StepKind == plan.Stage || p.StepKind == plan.Copy) && p.Going == "forward":
		files := ""
		if p.TotalFiles > 0 {
			files = fmt.Sprintf(", %d of %d files", p.Files, p.TotalFiles)
		}
		what := map[string]string{plan.Stage: "staging", plan.Copy: "copying"}[p.StepKind]
		a.status("  ◔ %s: %s of %s%s%s", what, bytesText(p.Bytes), bytesText(p.TotalBytes), files,
			rateText(p.Bytes, p.TotalBytes, time.Duration(p.SinceMS)*time.Millisecond))
	case lockedOut(p):
		a.status("  ◑ %s   players locked out for %.1f s", p.Say, float64(p.LockedOutMS)/1000+since.Seconds())
	default:
		a.status("  ◔ %s", p.Say)
	}
}

// printAsks tells a person what they are to do, and how to say that it is done.
func (a *app) printAsks(asks plan.Asks) {
	a.wrapped("  → ", asks.Say)
	if len(asks.Type) > 0 {
		a.wrapped("    ", "Before that: where its page has a field for one of these, set it there too, or the "+
			"page may write what it holds over the file:")
		for _, t := range asks.Type {
			a.wrapped("      "+t.Label+"  ", quoted(t.Value)+"   "+t.Spelled)
		}
	}
	a.wrapped("    ", asks.Watch)
	a.print("    reshard servers %s %s\n", map[string]string{"start": "started", "stop": "stopped"}[asks.What],
		asks.Server)
}

// rateText tells how fast bytes move and how long the rest takes at that.
func rateText(done, total int64, took time.Duration) string {
	if done == 0 || took < 300*time.Millisecond {
		return ""
	}
	rate := float64(done) / took.Seconds()
	out := fmt.Sprintf(", %s/s", bytesText(int64(rate)))
	if total > done {
		out += fmt.Sprintf(", %.0f s left", float64(total-done)/rate)
	}
	return out
}

func stepDone(s wire.Step, c wire.Changeover) string {
	if s.State == string(plan.StepUndone) {
		return "taken back: " + s.Say
	}
	if s.Kind == plan.Stage {
		return fmt.Sprintf("%s (%s)", strings.TrimSuffix(s.Say, "."), bytesText(c.Plan.NeedBytes))
	}
	return s.Say
}

// counting shows how much has been read.
type counting struct {
	io.ReadCloser
	n   int64
	see func(int64)
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n += int64(n)
	c.see(c.n)
	return n, err
}
