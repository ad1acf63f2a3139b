// Package executor carries plans out: each step's intent goes into the
// journal, then the act, then its confirmation, and each step can tell from the
// files alone whether it has happened. Any failure goes back to what was there
// before. A new kind of changeover is a new plan; this package does not know
// kinds.
//
// What passes by itself is waited for: a database or a host that does not answer, a
// server of which it cannot be told whether it runs. Nothing is done meanwhile.
package executor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/hostfs"
	"reshard/internal/vault"
)

// Journal is where intents and confirmations are kept. Each call succeeds at
// most once in effect and is content when told again after a lost answer. Code StandsBy
// says that this service may not act any more.
type Journal interface {
	Advance(ctx context.Context, id int64, from, to plan.State, note Note) error
	Step(ctx context.Context, id int64, n int, from []plan.StepState, to plan.StepState, detail any) error
}

// journalPatience is how long one write to the journal may take.
const journalPatience = 15 * time.Second

// askPatience is how long something may take that is asked of the service itself: whether
// a wait is over, or to record a copy.
const askPatience = time.Minute

// waitPolls is how many polls pass between two looks at what a wait waits for, when nothing
// says that it has come: what it takes to see it is more than to try something again.
const waitPolls = 7

// Note goes into the journal with a change of state.
type Note struct {
	Proof  *plan.Proof
	Before *plan.Before
	Cause  error
}

// Job is a changeover to be carried out or taken up again.
type Job struct {
	ID    int64
	Plan  plan.Plan
	State plan.State
	// Steps are the plan's, in their order, as the journal knows them.
	Steps []plan.StepRecord
	// Before is what was in the worlds folder right before the switch, if it has come to that.
	Before *plan.Before
	// Cause is why a job that is taken up was going back, if the journal says.
	Cause error
}

// Runner carries out one changeover of one server.
type Runner struct {
	Journal Journal
	Files   *hostfs.FS
	Control *control.Control
	Vault   *vault.Vault
	Profile *game.Profile
	// Others are the servers, by name, that steps name beside this one.
	Others map[string]Hands
	// Keep records a copy that was made of a world of a server.
	Keep func(ctx context.Context, c Copied) error
	// Known gives the files, by FileKey, that are known of a world of a server ("" is this one) from
	// its last backup; nil: none.
	Known func(ctx context.Context, server, world string) (map[string]Known, error)
	// Earlier gives copies that earlier changeovers have staged on the server; nil: none.
	Earlier func(ctx context.Context) ([]vault.Copy, error)
	// Ready tells whether what a wait step waits for has come; it is asked again and
	// again.
	Ready func(ctx context.Context, n int, step plan.Step) (bool, error)
	// Recorded tells whether a working folder of this server's host belongs to a changeover on record; nil: it is not
	// known.
	Recorded func(ctx context.Context, folder string) (bool, error)
	// Wake is told when Ready may give another answer, beside now and then; nil: it is not.
	Wake func() <-chan struct{}
	// GivenUp is closed when a person does not want to wait any longer for a host or a server
	// that does not answer; nil: nobody can say so.
	GivenUp func() <-chan struct{}
	// Check is asked once more just before the switch: an error (the server's
	// files have changed since the draft) goes back with nothing touched.
	Check func(ctx context.Context) error
	// May is asked before each act. Code StandsBy says that another service has taken over:
	// all is left to it. Any other error that passes says that this one must wait. nil: it
	// always may.
	May func() error
	// Report gets progress; it must not block.
	Report func(plan.Progress)
	// Trace is told each point between and inside of steps; tests kill the
	// process there.
	Trace func(point string)
	Now   func() time.Time
	// Poll is how often a wait looks, and how long it is waited at first before
	// something is tried again; 0: 300 ms.
	Poll time.Duration
	// Reserve is how much room is held back on the server's disk for the switch, in bytes; 0: 4 MB, and 64 KB
	// where each byte takes its time.
	Reserve int64

	released  map[string]bool // what was reserved on the disk and is given up
	job       Job
	work      *working
	progress  plan.Progress
	started   bool            // the server was spawned with the new world
	begins    bool            // the step at work was not begun by an earlier life, nor by an earlier try
	outer     context.Context // as it was given: it may end although nothing is cancelled
	prepared  map[int]prepared
	like      *belonging
	reporting sync.Mutex
	// staged is what was staged, while this life lasts and until it is done.
	staged *staging
	// seen are the files, by server and world and then by FileKey, that are stored already, while
	// this life lasts; stored are those that it has read to store them. heldAt is when the server
	// began to hold its writes, the zero time when it does not.
	seen   map[string]map[string]Known
	stored []vault.File
	heldAt time.Time
	// silent is since when a game has not answered on the way back.
	silent time.Time
	// recalled are the worlds of which an earlier changeover had stored something that was taken as known.
	recalled map[string]bool
}

// Hands are what a step works on a server with.
type Hands struct {
	Files   *hostfs.FS
	Control *control.Control
	Profile *game.Profile
}

func (r *Runner) hands(step plan.Step) (Hands, error) {
	if step.Server == "" {
		return Hands{Files: r.Files, Control: r.Control, Profile: r.Profile}, nil
	}
	h, ok := r.Others[step.Server]
	if !ok {
		return h, fault.New(fault.NotFound, step.Kind, step.Server, "the server is not at hand")
	}
	return h, nil
}

var errCancelled = fault.New(fault.Interrupted, "", "", "cancelled")

// ErrLeft is the cause of a context that ends because the service goes away: what
// waits for a person, or for something that does not answer, goes on waiting in its
// next life.
var ErrLeft = errors.New("the service goes away")

// ErrSuspended is given by Carry and Resume when a changeover was left as it stands, for
// another life of the service to go on with: nothing was taken back.
var ErrSuspended = errors.New("left as it stands; it goes on in another life of the service")

// Begin claims the server for a drafted job: the journal moves to staging, and
// an error of code Busy says that another changeover holds the server.
func (r *Runner) Begin(ctx context.Context, job Job) error {
	r.take(ctx, job)
	return r.advance(ctx, plan.Staging, Note{})
}

// Carry carries a begun job out. It returns nil when the changeover is done, the
// cause when it was undone, code Held when it could not be undone either, and
// ErrSuspended when it was left as it stands. Cancelling ctx takes effect until the
// switch begins; from then on only cause ErrLeft does, and only while nothing can be
// done.
func (r *Runner) Carry(ctx context.Context) error {
	r.outer = ctx
	err := r.forward(ctx)
	switch {
	case err == nil, errors.Is(err, ErrSuspended):
		return err
	case r.job.State == plan.Waiting && errors.Is(context.Cause(ctx), ErrLeft):
		return ErrSuspended
	}
	return r.back(ctx, err)
}

// Resume takes up a job that an earlier life of the service left open: a staging goes on
// where it was, if the plan still holds, what had begun to switch is finished, what was going
// back goes on going back; a copy of a running game is taken back. It returns as Carry does.
func (r *Runner) Resume(ctx context.Context, job Job) error {
	r.take(ctx, job)
	if err := r.patiently(ctx, r.stillLast); errors.Is(err, ErrSuspended) {
		return err
	} else if err != nil {
		return r.holdAsItIs(ctx, err)
	}
	switch job.State {
	case plan.Staging:
		if r.goesOn() {
			if err := r.patiently(ctx, r.Check); err != nil {
				if errors.Is(err, ErrSuspended) {
					return err
				}
				return r.back(ctx, err)
			}
			return r.Carry(ctx)
		}
		return r.back(ctx, fault.New(fault.Interrupted, "stage", job.Plan.Server,
			"the service went down while it was staging; nothing live had been touched"))
	case plan.Waiting:
		return r.Carry(ctx) // all is staged, and a person may still need days
	case plan.Undoing, plan.Held:
		if job.Cause == nil {
			job.Cause = fault.New(fault.Interrupted, "undo", job.Plan.Server, "it went on going back")
		}
		return r.back(ctx, job.Cause)
	case plan.Switching, plan.Proving:
		return r.Carry(ctx)
	}
	return fault.New(fault.WrongState, "resume", "changeover", "changeover %d is %s", job.ID, job.State)
}

func (r *Runner) take(ctx context.Context, job Job) {
	r.job, r.outer, r.prepared = job, ctx, map[int]prepared{}
	r.work = r.workingOf(job)
	r.progress = plan.Progress{ID: job.ID, State: job.State, Going: "forward"}
}

func (r *Runner) forward(ctx context.Context) error {
	for n, step := range r.job.Plan.Steps {
		if r.job.Steps[n].State == plan.StepDone {
			continue
		}
		if !r.job.State.Untouched() {
			// From here the way out is forward or back, never a half: the person
			// who leaves, or the service that shuts down, does not cut it.
			ctx = context.WithoutCancel(ctx)
		}
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "carry out on", r.job.Plan.Server, err)
		}
		if step.Kind == plan.Wait {
			if err := r.wait(ctx, n, step); err != nil {
				return err
			}
			continue
		}
		if step.Switch && r.job.State.Untouched() {
			if err := r.beginSwitch(ctx); err != nil {
				return err
			}
			ctx = context.WithoutCancel(ctx)
		}
		if step.Kind == plan.Prove && r.job.State != plan.Proving {
			if err := r.advance(ctx, plan.Proving, Note{}); err != nil {
				return err
			}
			ctx = context.WithoutCancel(ctx)
		}
		if err := r.step(ctx, n, step); err != nil {
			return err
		}
	}
	proof, err := r.proof()
	if err != nil {
		return err
	}
	err = r.patiently(ctx, func(ctx context.Context) error { return r.release(ctx, "") })
	if errors.Is(err, ErrSuspended) {
		return err
	} // else it is proven, and what is left of ours takes a little room
	if err := r.advance(ctx, plan.Done, Note{Proof: &proof}); err != nil {
		return err
	}
	r.sayEnded(ctx, plan.Done)
	return nil
}

// beginSwitch looks once more, prepares every step that is left, and only then goes over
// to switching: what can fail has had its chance before anybody is locked out.
func (r *Runner) beginSwitch(ctx context.Context) error {
	if err := r.patiently(ctx, r.Check); err != nil {
		return err
	}
	if err := r.prepare(ctx); err != nil {
		return err
	}
	if err := r.patiently(ctx, func(ctx context.Context) (err error) {
		r.job.Before, err = r.before(ctx)
		return err
	}); err != nil {
		return err
	}
	return r.advance(ctx, plan.Switching, Note{Before: r.job.Before})
}

// wait waits for a person. Nothing live has been touched, so it can be cancelled, and
// it outlives the service.
func (r *Runner) wait(ctx context.Context, n int, step plan.Step) error {
	r.report(func(p *plan.Progress) {
		p.Step, p.StepKind, p.Say, p.Going, p.Since = n, step.Kind, step.Say, "forward", r.Now()
		p.Asks = plan.Asks{}
	})
	// First what is waited for, then that it waits: whoever sees it wait can tell for what,
	// and give the word.
	if r.job.Steps[n].State == plan.StepPlanned {
		if err := r.mark(ctx, n, []plan.StepState{plan.StepPlanned}, plan.StepIntended, nil); err != nil {
			return err
		}
	}
	if r.job.State == plan.Staging {
		if err := r.advance(ctx, plan.Waiting, Note{}); err != nil {
			return err
		}
	}
	r.trace(n, step, "waiting")
	var woken <-chan struct{}
	if r.Wake != nil {
		woken = r.Wake()
	}
	tick := time.NewTicker(waitPolls * r.poll())
	defer tick.Stop()
	for {
		rctx, done := context.WithTimeout(ctx, askPatience)
		ready, err := r.Ready(rctx, n, step)
		done()
		if err == nil {
			err = r.may()
		}
		if err != nil && !fault.Passing(err) {
			return err
		}
		if ready && err == nil {
			return r.mark(ctx, n, []plan.StepState{plan.StepIntended}, plan.StepDone, nil)
		}
		select {
		case <-ctx.Done():
			return fault.Wrap(fault.Interrupted, "wait on", r.job.Plan.Server, context.Cause(ctx))
		case <-woken:
		case <-tick.C:
		}
	}
}

func (r *Runner) poll() time.Duration {
	if r.Poll == 0 {
		return 300 * time.Millisecond
	}
	return r.Poll
}

// step journals the intent, acts, and journals the confirmation.
func (r *Runner) step(ctx context.Context, n int, step plan.Step) error {
	r.report(func(p *plan.Progress) {
		p.Step, p.StepKind, p.Say, p.Going, p.Since = n, step.Kind, step.Say, "forward", r.Now()
		p.Asks = plan.Asks{}
	})
	r.trace(n, step, "before")
	r.begins = r.job.Steps[n].State == plan.StepPlanned
	if err := r.mark(ctx, n, []plan.StepState{plan.StepPlanned}, plan.StepIntended, nil); err != nil {
		return err
	}
	r.trace(n, step, "intended")
	var detail *Detail
	err := r.patiently(ctx, func(ctx context.Context) (err error) {
		detail, err = r.act(ctx, n, step)
		return err
	})
	if errors.Is(err, ErrSuspended) {
		return err
	}
	if err != nil {
		if detail != nil && detail.Proof != nil { // a failed proof must stay readable
			if jerr := r.mark(ctx, n, []plan.StepState{plan.StepIntended}, plan.StepIntended, detail); jerr != nil {
				return jerr
			}
		}
		return fault.Wrap(fault.Internal, "step "+fmt.Sprint(n+1)+" ("+step.Kind+") on", r.job.Plan.Server, err)
	}
	r.trace(n, step, "acted")
	if err := r.mark(ctx, n, []plan.StepState{plan.StepIntended}, plan.StepDone, detail); err != nil {
		return err
	}
	r.trace(n, step, "done")
	return nil
}

// back undoes every step that has begun, last first, and ends undone or held.
func (r *Runner) back(ctx context.Context, cause error) error {
	r.outer = ctx
	ctx = context.WithoutCancel(ctx)
	if r.job.State != plan.Undoing {
		if err := r.advance(ctx, plan.Undoing, Note{Cause: cause}); err != nil {
			return r.orBoth(cause, err)
		}
	}
	// Nothing is moved out of a place that this changeover did not fill.
	if err := r.patiently(ctx, func(ctx context.Context) error { return r.work.look(ctx) }); err != nil {
		if errors.Is(err, ErrSuspended) {
			return err
		}
		return r.holdAsItIs(ctx, errors.Join(cause, err))
	}
	for n := len(r.job.Plan.Steps) - 1; n >= 0; n-- {
		step := r.job.Plan.Steps[n]
		state := r.job.Steps[n].State
		begun := state == plan.StepIntended || state == plan.StepDone
		if begun {
			r.report(func(p *plan.Progress) {
				p.Step, p.StepKind, p.Say, p.Going, p.Asks = n, step.Kind, step.SayBack(), "back", plan.Asks{}
			})
			r.trace(n, step, "undoing")
		}
		err := r.patiently(ctx, func(ctx context.Context) error {
			if err := r.makeWay(ctx); err != nil {
				return err
			}
			if !begun {
				return r.unprepare(ctx, step)
			}
			return errors.Join(r.unact(ctx, n, step), r.unprepare(ctx, step))
		})
		if errors.Is(err, ErrSuspended) {
			return err
		}
		if err != nil {
			return r.hold(ctx, n, step, cause, err)
		}
		if !begun {
			continue
		}
		r.trace(n, step, "unacted")
		if err := r.mark(ctx, n, []plan.StepState{plan.StepIntended, plan.StepDone}, plan.StepUndone, nil); err != nil {
			return r.orBoth(cause, err)
		}
		r.trace(n, step, "undone")
	}
	if err := r.advance(ctx, plan.Undone, Note{}); err != nil {
		return r.orBoth(cause, err)
	}
	r.sayEnded(ctx, plan.Undone)
	return cause
}

// orBoth is the error of a way back that could not be written down.
func (r *Runner) orBoth(cause, err error) error {
	if errors.Is(err, ErrSuspended) {
		return err
	}
	return errors.Join(cause, err)
}

// hold ends a way back that goes no further without a person.
func (r *Runner) hold(ctx context.Context, n int, step plan.Step, cause, err error) error {
	held := fault.Wrap(fault.Held, fmt.Sprintf("take back step %d (%s) on", n+1, step.Kind), r.job.Plan.Server, err)
	note := Note{Cause: &fault.Error{
		Code: fault.Held, What: cause.Error() + "; and then", Err: held, Next: r.standing() +
			fmt.Sprintf(" Once it can be done, reshard undo %d tries to go back once more; or put it right by hand, "+
				"and say so: "+
				"reshard changeovers settle %d.", r.job.ID, r.job.ID),
	}}
	if jerr := r.advance(ctx, plan.Held, note); jerr != nil {
		return r.orBoth(errors.Join(cause, held), jerr)
	}
	return &fault.Error{Code: fault.Held, Err: held}
}

// holdAsItIs holds a changeover without touching anything.
func (r *Runner) holdAsItIs(ctx context.Context, cause error) error {
	held := fault.Wrap(fault.Held, "continue on", r.job.Plan.Server, cause)
	if r.job.State != plan.Undoing {
		if err := r.advance(ctx, plan.Undoing, Note{Cause: held}); err != nil {
			return r.orBoth(held, err)
		}
	}
	if err := r.advance(ctx, plan.Held, Note{Cause: held}); err != nil {
		return r.orBoth(held, err)
	}
	return held
}

// standing says how far each live step came: what a person needs to know who puts it right.
func (r *Runner) standing() string {
	var done, open []string
	for n, s := range r.job.Plan.Steps {
		if !s.Switch && s.Kind != plan.Stage {
			continue
		}
		say := "“" + strings.TrimSuffix(s.Say, ".") + "”"
		switch r.job.Steps[n].State {
		case plan.StepDone:
			done = append(done, say)
		case plan.StepIntended:
			open = append(open, say)
		case plan.StepPlanned, plan.StepUndone: // nothing of it stands
		}
	}
	out := ""
	if len(done) > 0 {
		out = "Done and not taken back: " + strings.Join(done, ", ") + "."
	}
	if len(open) > 0 {
		out += " Begun, and how far it came cannot be told: " + strings.Join(open, ", ") + "."
	}
	if out == "" {
		out = "Nothing live has been touched."
	}
	return strings.TrimSpace(out)
}

func (r *Runner) advance(ctx context.Context, to plan.State, note Note) error {
	err := r.persist(ctx, func(ctx context.Context) error {
		return r.Journal.Advance(ctx, r.job.ID, r.job.State, to, note)
	})
	if err == nil {
		r.job.State = to
		r.report(func(p *plan.Progress) { p.State = to })
	}
	return err
}

func (r *Runner) mark(ctx context.Context, n int, from []plan.StepState, to plan.StepState, detail any) error {
	err := r.persist(ctx, func(ctx context.Context) error { return r.Journal.Step(ctx, r.job.ID, n, from, to, detail) })
	if err != nil {
		return err
	}
	r.job.Steps[n].State = to
	if detail != nil {
		raw, err := json.Marshal(detail)
		if err != nil {
			return fault.Wrap(fault.Internal, "keep detail of step", fmt.Sprint(n), err)
		}
		r.job.Steps[n].Left = plan.Left(raw)
	}
	return nil
}

// persist writes to the journal and waits out a database that does not answer:
// without the journal no step may begin, and going back needs it as well.
func (r *Runner) persist(ctx context.Context, write func(context.Context) error) error {
	return r.again(ctx, "The database does not answer. Nothing is lost: the changeover goes on when it is back.",
		func() error {
			// A write that has begun is not cut short by a person who cancels.
			wctx, done := context.WithTimeout(context.WithoutCancel(ctx), journalPatience)
			defer done()
			return orLeft(write(wctx))
		})
}

// patiently does something to a host or a server, once this service may, and again while
// nobody answers.
func (r *Runner) patiently(ctx context.Context, act func(context.Context) error) error {
	return r.again(ctx, "", func() error {
		if err := r.may(); err != nil {
			return err
		}
		return orLeft(act(ctx))
	})
}

// orLeft adds to an error that another service has taken over that all is left to it.
func orLeft(err error) error {
	if fault.CodeOf(err) == fault.StandsBy {
		return errors.Join(ErrSuspended, err)
	}
	return err
}

// may tells whether this service may begin an act.
func (r *Runner) may() error {
	if r.May == nil {
		return nil
	}
	return orLeft(r.May())
}

// again repeats what fails in a way that passes by itself. say is what is waited for;
// "" says what the failure does.
func (r *Runner) again(ctx context.Context, say string, try func() error) error {
	for wait := r.poll() / 6; ; wait = min(2*wait, 10*r.poll()) {
		err := try()
		if !fault.Passing(err) || errors.Is(err, ErrSuspended) {
			r.report(func(p *plan.Progress) { p.Waiting = "" })
			return r.whyEnded(ctx, err)
		}
		words := say
		if words == "" {
			what, next := fault.Words(err)
			if words = what + "."; fault.CodeOf(err) == fault.StateUnknown { // a person may know, and say so
				words += " " + next
			}
			words += " Nothing is lost: the changeover goes on when it answers."
		}
		r.report(func(p *plan.Progress) { p.Waiting = words })
		if say == "" && r.givenUp() {
			r.report(func(p *plan.Progress) { p.Waiting = "" })
			return fault.Wrap(fault.Held, "wait for", r.job.Plan.Server, unanswered{err})
		}
		if err := r.pause(ctx, wait); err != nil {
			return err
		}
	}
}

// unanswered is why a person has stopped waiting: what did not answer is not tried again.
type unanswered struct{ of error }

func (u unanswered) Error() string {
	what, _ := fault.Words(u.of)
	return "a person has stopped waiting: " + what
}

func (r *Runner) givenUp() bool {
	if r.GivenUp == nil {
		return false
	}
	select {
	case <-r.GivenUp():
		return true
	default:
		return false
	}
}

// whyEnded gives the reason why ctx has ended in place of an error that only says that it
// has.
func (r *Runner) whyEnded(ctx context.Context, err error) error {
	if err == nil || ctx.Err() == nil || fault.CodeOf(err) != fault.Interrupted || errors.Is(err, ErrSuspended) {
		return err
	}
	return fault.Wrap(fault.Interrupted, "carry out on", r.job.Plan.Server, context.Cause(ctx))
}

// gaveUp is closed when a person does not want to wait any longer; once that is known it says
// nothing any more.
func (r *Runner) gaveUp() <-chan struct{} {
	if r.GivenUp == nil || r.givenUp() {
		return nil
	}
	return r.GivenUp()
}

// pause waits, unless it is over: for a person who cancels what is not begun, and for a
// service that goes away while nothing can be done.
func (r *Runner) pause(ctx context.Context, wait time.Duration) error {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-r.gaveUp():
		return nil
	case <-r.outer.Done():
	}
	if cause := context.Cause(r.outer); errors.Is(cause, ErrLeft) {
		return errors.Join(ErrSuspended, cause)
	}
	if err := r.whyEnded(ctx, errCancelled); ctx.Err() != nil {
		return err
	}
	<-timer.C // cancelled when that was no longer possible
	return nil
}

func (r *Runner) report(change func(*plan.Progress)) {
	before := r.progress
	change(&r.progress)
	if r.Report != nil && !reflect.DeepEqual(r.progress, before) {
		r.Report(r.progress)
	}
}

func (r *Runner) trace(n int, step plan.Step, point string) {
	if r.Trace != nil {
		r.Trace(fmt.Sprintf("%d %s %s", n, step.Kind, point))
	}
}
