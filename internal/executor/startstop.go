package executor

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
)

// timeMark is the file whose time tells when a new world can have been made at the
// earliest, by the clock of the host's own file system.
func (r *Runner) timeMark() string { return path.Join(r.job.Plan.Work, "before-start") }

func (r *Runner) markTime(ctx context.Context) error {
	there, err := r.Files.Exists(ctx, r.timeMark())
	if err != nil || there {
		return err
	}
	if err := r.work.need(ctx); err != nil {
		return err
	}
	_, err = r.Files.Write(ctx, r.timeMark(), strings.NewReader(
		"what is older than this was there before the server made a new world\n"), hostfs.Attributes{})
	return err
}

// stop stops a server. It may be done again for one that is on its way down.
func (r *Runner) stop(ctx context.Context, _ int, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	down := func() {
		if step.Server == "" {
			r.report(func(p *plan.Progress) { p.StoppedAt = r.Now() })
		}
	}
	people, begins := h.Control.ByPeople(), r.begins
	r.begins = false // another try may find that what this one asked for is done
	if !people {     // people take their time, and players play until they have stopped it
		down()
	}
	var end control.Ending
	err = r.attended(ctx, h, func(ctx context.Context) (err error) {
		asked, err := r.asking(ctx, h, step, control.AskedToStop)
		if err != nil {
			return err
		}
		end, err = h.Control.Stop(ctx, control.Clean)
		if people && (asked || !begins) {
			end.Already = false
		}
		return err
	})
	if people && err == nil {
		down()
	}
	return &Detail{
		TookMS: end.Took.Milliseconds(), Clean: end.Clean, Already: end.Already, Evidence: end.Evidence, Word: end.By,
	}, err
}

// unstop starts a server again that a step has stopped. The stop stood before every other
// live step, so all of those are back. A first start is the exception: the server was
// stopped before it.
func (r *Runner) unstop(ctx context.Context, _ int, step plan.Step) error {
	h, err := r.hands(step)
	if err != nil || r.job.Plan.Expect.State == life.Stopped {
		return err
	}
	if step.Server == "" && h.Control.Status(ctx).State == life.Stopped {
		if err := r.nobodyElse(ctx); err != nil {
			return err
		}
	}
	return r.attended(ctx, h, func(ctx context.Context) error {
		if _, err := r.asking(ctx, h, step, control.AskedToStart); err != nil {
			return err
		}
		up := h.Control.Status(ctx).State.Up()
		_, err := h.Control.Start(ctx)
		if fault.CodeOf(err) != fault.NotReady {
			return err
		}
		switch state := h.Control.Status(ctx).State; {
		case up && state == life.Stopped: // it has taken the stop only now
		case state != life.Starting:
			return err
		default:
			// It runs, and has not been heard to be ready: its log may have had no room. Another start is heard, or
			// fails.
			if _, serr := h.Control.Stop(ctx, control.Clean); serr != nil {
				return errors.Join(err, serr)
			}
		}
		_, err = h.Control.Start(ctx)
		return err
	})
}

// attended does what may need people, who may need days: it is let go of when the service ends, and a
// next life takes it up.
func (r *Runner) attended(ctx context.Context, h Hands, do func(context.Context) error) error {
	if !h.Control.ByPeople() {
		return do(ctx)
	}
	dctx, done := context.WithCancel(ctx)
	defer done()
	stop := context.AfterFunc(r.outer, func() {
		if errors.Is(context.Cause(r.outer), ErrLeft) {
			done()
		}
	})
	defer stop()
	err := do(dctx)
	if err != nil && dctx.Err() != nil && ctx.Err() == nil {
		return errors.Join(ErrSuspended, err)
	}
	return err
}

// asking asks people for what only they can do, and tells whoever watches, until another step begins. It reports
// whether they were asked.
func (r *Runner) asking(ctx context.Context, h Hands, step plan.Step, what control.Asked) (bool, error) {
	asked, err := h.Control.AskPeople(ctx, what)
	if err != nil || !asked {
		return false, err
	}
	name := step.Server
	if name == "" {
		name = r.job.Plan.Server
	}
	asks := plan.Asks{Server: name, What: string(what)}
	asks.Say, asks.Watch = what.Words(name)
	if what == control.AskedToStart && step.Server == "" {
		asks.Type = r.job.Plan.Typing(r.progress.Going == "back")
	}
	r.report(func(p *plan.Progress) { p.Asks = asks })
	return true, nil
}

// saysOfStop tells what a person should know of how a server went down.
func saysOfStop(_ plan.Step, d Detail) (string, int64) {
	const missing = "the last things that were done in the old world may be missing from it."
	switch {
	case d.Evidence == life.Word:
		return "That the server was down is the word of " + d.Word + ": nobody saw it, and " + missing, 0
	case d.Already && d.Clean:
		return "The server had been stopped before Reshard asked it to.", 0
	case d.Already:
		return "The server had ended before Reshard asked it to, without saying that everything was written: " +
			missing, 0
	case !d.Clean:
		return "The server ended without saying that everything was written: " + missing, 0
	}
	return "", 0
}

// start starts a server and waits until it is ready. One that runs already, because an
// earlier life has started it, is only waited for.
func (r *Runner) start(ctx context.Context, n int, step plan.Step) (*Detail, error) {
	h, err := r.hands(step)
	if err != nil {
		return nil, err
	}
	if r.begins && step.Server == "" && !step.Again && r.job.Plan.StopsBefore(n) {
		st := h.Control.Status(ctx)
		if err := st.Err("start", r.job.Plan.Server); err != nil {
			return nil, err
		}
		if st.State.Up() { // not by this step: it may have opened what stood there before
			if err := r.stopAgain(ctx, n); err != nil {
				return nil, err
			}
		} else if err := r.nobodyElse(ctx); err != nil {
			return nil, err
		}
	}
	if r.job.Plan.Expect.Fresh {
		if err := r.markTime(ctx); err != nil {
			return nil, err
		}
	}
	if err := r.release(ctx, forStart); err != nil { // the game may need it
		return nil, err
	}
	if r.begins && step.Server == "" {
		r.forgetLocks(ctx)
	}
	r.begins = false // from here on it may well be that this step has started it
	r.started = r.started || !step.Again
	var took time.Duration
	err = r.attended(ctx, h, func(ctx context.Context) (err error) {
		if _, err := r.asking(ctx, h, step, control.AskedToStart); err != nil {
			return err
		}
		took, err = h.Control.Start(ctx)
		return err
	})
	if err == nil && step.Server == "" {
		r.report(func(p *plan.Progress) { p.ReadyAt = r.Now() })
	}
	return &Detail{TookMS: took.Milliseconds()}, err
}

// unstart stops a server that a step has started, and sets aside what it has made. A start
// that was made again leaves it running the world that it ran before.
func (r *Runner) unstart(ctx context.Context, _ int, step plan.Step) error {
	if step.Again {
		return nil
	}
	r.started = true
	if _, err := r.Control.Stop(ctx, control.Force); err != nil {
		return err
	}
	return r.setStraysAside(ctx)
}

// keepDown makes sure that the server is down before something is moved or written that
// must not be under a running one: a plan says so by stopping it before, or starting it
// after. A server of which it cannot be told is waited for. One that somebody has started
// since it was stopped is stopped again; one that was to be down all the time is left
// alone, and so is its world.
func (r *Runner) keepDown(ctx context.Context, n int, step plan.Step) error {
	if !step.Switch || !r.job.Plan.StartsAfter(n) {
		return nil
	}
	st := r.Control.Status(ctx)
	switch st.State {
	case life.Stopped:
		return r.nobodyElse(ctx)
	case life.Unknown:
		return st.Err("work on", r.job.Plan.Server)
	case life.Running, life.Starting, life.Stopping:
	}
	if !r.job.Plan.StopsBefore(n) {
		return fault.New(fault.Changed, step.Kind, r.job.Plan.Server,
			"it was stopped when the plan was made, and is %s now", st.State)
	}
	return r.stopAgain(ctx, n)
}

// stopAgain stops a server that somebody else has started since it was stopped: a watchdog, a
// schedule, a person. What it made where the plan has moved something away is set aside.
func (r *Runner) stopAgain(ctx context.Context, n int) error {
	if _, err := r.Control.Stop(ctx, control.Clean); err != nil {
		return err
	}
	can, err := r.Files.Capabilities(ctx)
	if err != nil {
		return err
	}
	is := func(a, b string) bool { return a == b || !can.ExactCase && strings.EqualFold(a, b) }
	done := r.job.Plan.Steps[:n]
	var empty []string // where nothing is to stand now
	fresh := path.Join(r.job.Plan.Worlds, r.job.Plan.Expect.Folder)
	still := slices.ContainsFunc(r.job.Plan.Steps[n:], func(later plan.Step) bool { return is(later.From, fresh) })
	if r.job.Plan.Expect.Fresh && !r.job.Plan.Expect.Own && !still {
		empty = append(empty, fresh)
	}
	for k, s := range done {
		gone := s.Kind == plan.Move && s.World == "" && path.Dir(s.From) == r.job.Plan.Worlds
		if !gone || slices.ContainsFunc(done[k:], func(later plan.Step) bool { return is(later.To, s.From) }) {
			continue // what stands there now was placed
		}
		if !slices.Contains(empty, s.From) {
			empty = append(empty, s.From)
		}
	}
	for _, name := range empty {
		there, err := r.Files.Exists(ctx, name)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		stray, err := r.isStray(ctx, path.Base(name))
		if err == nil && !stray {
			err = fault.New(fault.Held, "work on", r.job.Plan.Server,
				"%s is back in its place, although this changeover had moved it away", name)
		}
		if err == nil {
			err = r.setStrayAside(ctx, path.Base(name))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// setStrayAside moves what the server has made in its worlds folder into the working folder.
func (r *Runner) setStrayAside(ctx context.Context, name string) error {
	if err := r.work.need(ctx); err != nil {
		return err
	}
	if err := r.noteStray(ctx, name); err != nil {
		return err
	}
	strays := path.Join(r.job.Plan.Work, "strays")
	if err := r.Files.MkdirAll(ctx, strays, hostfs.Attributes{}); err != nil {
		return err
	}
	return r.move(ctx, path.Join(r.job.Plan.Worlds, name), path.Join(strays, name), func() {})
}

// noteStray has the journal know what is set aside, with the step that is at work or taken back.
func (r *Runner) noteStray(ctx context.Context, name string) error {
	n := r.progress.Step
	d, state := DetailOf(r.job.Steps[n]), r.job.Steps[n].State
	if slices.Contains(d.Strays, name) || state == plan.StepPlanned {
		return nil
	}
	d.Strays = append(d.Strays, name)
	return r.mark(ctx, n, []plan.StepState{state}, state, d)
}

// keepDownOnTheWayBack does not move anything back under a server of which it cannot be
// told whether it runs.
func (r *Runner) keepDownOnTheWayBack(ctx context.Context, n int, step plan.Step) error {
	if !step.Switch || !r.job.Plan.StartsAfter(n) {
		return nil
	}
	if err := r.Control.Status(ctx).Err("work on", r.job.Plan.Server); err != nil {
		return err
	}
	return r.nobodyElse(ctx)
}

// nobodyElse waits for whatever else works in the server's folder: somebody has started the game there by hand, and
// two must not have one world open. A person may have said that it does no harm.
func (r *Runner) nobodyElse(ctx context.Context) error {
	if r.job.Plan.Choices["processes"] == "go-on" {
		return nil
	}
	others, err := r.Control.Others(ctx)
	if err != nil && !fault.Passing(err) {
		return nil //nolint:nilerr // where nothing can be seen, nothing can be said
	}
	if err != nil || len(others.Working) == 0 {
		return err
	}
	return fault.New(fault.StateUnknown, "work on", r.job.Plan.Server,
		"it is down, and something else works in its folder: %s", strings.Join(others.Working, "; ")).
		With("End that.")
}

// setStraysAside moves what the server made in its worlds folder during a
// failed start (a mistyped world, empty realms) into the working folder, so
// that nothing new stands beside the old world when it comes back.
func (r *Runner) setStraysAside(ctx context.Context) error {
	names, err := r.strays(ctx)
	if err != nil {
		return err
	}
	made, err := r.made(ctx)
	if err != nil {
		return err
	}
	names = append(names, made...)
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		stray, err := r.isStray(ctx, name)
		if err == nil && stray {
			err = r.setStrayAside(ctx, name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
