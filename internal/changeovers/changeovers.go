package changeovers

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/executor"
	"reshard/internal/fleet"
	"reshard/internal/observe"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// journal adapts the records to what the runner needs.
type journal struct{ r *records.Records }

func (j journal) Advance(ctx context.Context, id int64, from, to plan.State, note executor.Note) error {
	p := records.Patch{Proof: note.Proof, Before: note.Before}
	if note.Cause != nil {
		what, next := fault.Words(note.Cause)
		p.Failure = &records.Failure{Code: string(fault.CodeOf(note.Cause)), What: what, Next: next}
	}
	return j.r.Advance(ctx, id, from, to, p)
}

func (j journal) Step(ctx context.Context, id int64, n int, from []plan.StepState, to plan.StepState,
	detail any) error {
	return j.r.AdvanceStep(ctx, id, n, from, to, detail)
}

// workFolder is a changeover's own.
func workFolder(ctx context.Context, l *fleet.Server, worlds string, id int64) (string, error) {
	root, err := l.WorkRoot(ctx, worlds)
	return path.Join(root, plan.NewWorkName(id)), err
}

func estimate(rec records.Server, running bool) plan.Window {
	stopping, starting := windowEstimate(rec, running)
	return plan.Window{Stopping: stopping.Milliseconds(), Starting: starting.Milliseconds()}
}

func hashesAfter(c records.Changeover) map[string]string {
	out := map[string]string{}
	for n, step := range c.Plan.V.Steps {
		if step.Kind == plan.Write {
			out[step.File] = executor.DetailOf(c.Steps[n]).After
		}
	}
	return out
}

// madeBy is the name of the world that a changeover had its server make, "" for none.
func madeBy(c records.Changeover) string {
	e := c.Plan.V.Expect
	switch {
	case !e.Fresh:
		return ""
	case !e.Own:
		return e.Folder
	}
	for _, st := range c.Steps {
		if d := executor.DetailOf(st); d.Opened != "" {
			return d.Opened
		}
	}
	return ""
}

// undoable tells whether a changeover can be undone now, or why not.
func (co *Changeovers) undoable(ctx context.Context, c records.Changeover) (ok bool, why string, err error) {
	done, err := co.records.Done(ctx, c.ServerID)
	if err != nil {
		return false, "", err
	}
	tidied, err := co.records.TidiedOf(ctx, c.ServerID)
	if err != nil {
		return false, "", err
	}
	if ok, why = standing(c, done, tidied); !ok {
		return false, why, nil
	}
	why, err = co.notItsOwn(ctx, c)
	return why == "" && err == nil, why, err
}

// notItsOwn says why what a changeover set aside cannot be taken for its own, or what stands on its server for what it
// left there; "" when it can.
func (co *Changeovers) notItsOwn(ctx context.Context, c records.Changeover) (string, error) {
	found, err := co.records.FoundFolders(ctx)
	if err != nil {
		return "", err
	}
	for _, f := range found {
		id, _, _ := plan.ReadWorkName(f.Folder)
		if f.ServerID == c.ServerID && f.KeptBy == nil && id > f.Last && c.ID <= f.Last {
			return fmt.Sprintf("later changeovers have been on %s, which these records do not know: reshard tidy %s",
				c.Server, c.Server), nil
		}
	}
	folder := path.Base(c.Plan.V.Work)
	if _, bare, ok := plan.ReadWorkName(folder); !ok || !bare {
		return "", nil
	}
	claimed, err := co.records.ClaimedFolders(ctx, c.ServerID)
	if err != nil {
		return "", err
	}
	looked, err := co.records.FoldersClaimed(ctx, c.ServerID)
	if err == nil && looked && claimed[folder] != c.ID && len(c.Plan.V.SetAside) > 0 {
		return "what is in " + c.Plan.V.Work + " is not what it set aside there", nil
	}
	return "", err
}

// standing tells the same from its server's history. Only the last changeover
// that stands can be undone: what it moved must still be where it put it.
func standing(c records.Changeover, done []records.Ended, tidied map[int64]records.Tidied) (ok bool, why string) {
	switch {
	case c.State == plan.Done && !plan.Lasting(c.Kind):
		return false, "it changed nothing on the server that could be taken back"
	case c.State == plan.Held:
		return false, "it is held: reshard undo " + fmt.Sprint(c.ID) + " tries to go back once more"
	case c.State != plan.Done:
		return false, fmt.Sprintf("it is %s; only a changeover that is done can be undone", c.State)
	case c.UndoneBy != nil:
		return false, fmt.Sprintf("changeover %d has undone it already", *c.UndoneBy)
	}
	if t, gone := tidied[c.ID]; gone && len(c.Plan.V.SetAside) > 0 {
		return false, "what it set aside was removed on " + t.At.Format(time.DateOnly) + " by " + t.By
	}
	last := lastStanding(done)
	if last != c.ID && (len(done) == 0 || done[len(done)-1].ID != c.ID) {
		return false, fmt.Sprintf("changeover %d came after it: undo that first, or both at once, reshard undo %d "+
			"--with-later", last, c.ID)
	}
	return true, ""
}

// lastStanding replays a server's history: a changeover is put on top, its undo
// takes it off, the undo of that undo puts the world there again under its own
// number. What is on top can be undone.
func lastStanding(done []records.Ended) int64 {
	if stack := stackOf(done); len(stack) > 0 {
		return stack[len(stack)-1]
	}
	return 0
}

// later lists what must be undone before a changeover can be, newest first.
func later(id int64, done []records.Ended) []int64 {
	stack := stackOf(done)
	out := []int64{}
	for i := len(stack) - 1; i >= 0; i-- {
		if stack[i] == id {
			return out
		}
		out = append(out, stack[i])
	}
	return []int64{}
}

func stackOf(done []records.Ended) []int64 {
	var stack []int64
	takesOff := map[int64]bool{} // undos that took something off
	for _, e := range done {
		if e.Undoes != nil && !takesOff[*e.Undoes] {
			takesOff[e.ID] = true
			if len(stack) > 0 {
				stack = stack[:len(stack)-1]
			}
			continue
		}
		stack = append(stack, e.ID)
	}
	return stack
}

// Start begins a drafted changeover. It returns once the changeover holds its
// server; the rest goes on whatever becomes of the caller.
func (co *Changeovers) Start(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if c.State != plan.Drafted {
		return wire.Changeover{}, fault.New(fault.WrongState, "start", fmt.Sprint(id), "it is %s already", c.State)
	}
	if c.Undoes != nil {
		of, err := co.records.Changeover(ctx, *c.Undoes)
		if err != nil {
			return wire.Changeover{}, err
		}
		if ok, why, err := co.undoable(ctx, of); err != nil || !ok {
			return wire.Changeover{}, errors.Join(err, fault.New(fault.Changed, "start", fmt.Sprint(id), "%s", why))
		}
	}
	l, err := co.fleet.Reach(ctx, c.Server)
	if err != nil {
		return wire.Changeover{}, err
	}
	others, err := co.othersOf(ctx, c)
	if err != nil {
		return wire.Changeover{}, err
	}
	runner := co.runner(l, c, others)
	if err := runner.Check(ctx); err != nil {
		return wire.Changeover{}, err
	}
	if err := unused(ctx, l, c); err != nil {
		return wire.Changeover{}, err
	}
	if !plan.Kinds[c.Kind].GivesWay {
		for _, one := range append(others, l) {
			if err := co.makeWay(ctx, one.Name); err != nil {
				return wire.Changeover{}, err
			}
		}
	}
	for _, one := range append(others, l) {
		release, err := one.Claim("start changeover on")
		if err != nil {
			return wire.Changeover{}, err
		}
		defer release()
	}
	if err := runner.Begin(ctx, jobOf(c)); err != nil {
		return wire.Changeover{}, err
	}
	co.carry(l, others, c, runner.Carry)
	for _, one := range append(others, l) {
		co.fleet.Refresh(ctx, one.Name)
	}
	return co.changed(ctx, id)
}

// wayPatience is how long a changeover waits for a backup of its server that gives way.
const wayPatience = 45 * time.Second

// ErrGaveWay is the cause of a backup that was ended for another changeover of its server.
var ErrGaveWay = fault.New(fault.Interrupted, "back up", "", "it gave way to a changeover of its server")

// makeWay ends a backup of a server, if one is under way, and waits until the server is let go.
func (co *Changeovers) makeWay(ctx context.Context, server string) error {
	holders, err := co.records.Holders(ctx)
	if err != nil || holders[server] == 0 {
		return err
	}
	c, err := co.records.Changeover(ctx, holders[server])
	if err != nil || !plan.Kinds[c.Kind].GivesWay {
		return err // whoever holds it, Begin says so
	}
	ended := co.giveWay(c.ID)
	if ended == nil {
		return nil
	}
	co.log.Info("a backup gives way", "backup", c.ID, "server", server)
	select {
	case <-ended:
		return nil
	case <-ctx.Done():
		return fault.Wrap(fault.Interrupted, "start changeover on", server, context.Cause(ctx))
	case <-time.After(wayPatience):
		return fault.New(fault.Busy, "start changeover on", server,
			"a backup of it has been told to end, and has not yet").
			With("Try again in a moment.")
	}
}

// Cancel ends a changeover that is still staging. Later ones are undone instead.
func (co *Changeovers) Cancel(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if !c.State.Untouched() || !co.cancelled(id) {
		return wire.Changeover{}, fault.New(fault.WrongState, "cancel", fmt.Sprint(id),
			"it is %s; it can be cancelled while it is staging or waiting", c.State).
			With("When it is done, undo it: reshard undo " + fmt.Sprint(id) + ".")
	}
	return co.Get(ctx, id)
}

// Leave has a changeover wait no longer for a host or a server that does not answer: it is held,
// and says what stands where.
func (co *Changeovers) Leave(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if !co.leave(id) {
		return wire.Changeover{}, fault.New(fault.WrongState, "leave", fmt.Sprint(id),
			"it is %s, and waits for nothing that does not answer", c.State)
	}
	return co.Get(ctx, id)
}

// Retry goes on going back with a changeover that is held.
func (co *Changeovers) Retry(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if c.State != plan.Held {
		return wire.Changeover{}, fault.New(fault.WrongState, "retry", fmt.Sprint(id), "it is %s, not held", c.State)
	}
	l, err := co.fleet.Reach(ctx, c.Server)
	if err != nil {
		return wire.Changeover{}, err
	}
	others, err := co.othersOf(ctx, c)
	if err != nil {
		return wire.Changeover{}, err
	}
	// The state moves before this returns, so that nobody who watches from now on
	// takes the old one for the end; and what carries it on is ready before it moves, and
	// is begun also when the answer to that was lost.
	var patch records.Patch
	if f := c.Failure.V; f != nil { // what stood where is not so any more
		patch.Failure = &records.Failure{Code: f.Code, What: f.What}
	}
	err = co.records.Advance(ctx, id, plan.Held, plan.Undoing, patch)
	if err != nil && !fault.Passing(err) && fault.CodeOf(err) != fault.Interrupted {
		return wire.Changeover{}, err
	}
	c.State = plan.Undoing
	runner, job := co.runner(l, c, others), jobOf(c)
	if err != nil {
		job.State = plan.Held // the runner moves it, if that has not happened
	}
	co.carry(l, others, c, func(ctx context.Context) error { return runner.Resume(ctx, job) })
	return co.Get(context.WithoutCancel(ctx), id)
}

// Settle closes a held changeover that a person has put right by hand: nothing is
// done to any file, and the server is free again.
func (co *Changeovers) Settle(ctx context.Context, id int64, by string) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if c.State != plan.Held {
		return wire.Changeover{}, fault.New(fault.WrongState, "settle", fmt.Sprint(id), "it is %s, not held", c.State)
	}
	note := records.Failure{
		Code: string(fault.Held),
		Next: "It was settled by hand by " + by + "; look at the server's folders before the next changeover.",
	}
	if c.Failure.V != nil {
		note.What = c.Failure.V.What
	}
	if err := co.records.Advance(ctx, id, plan.Held, plan.Undone, records.Patch{Failure: &note}); err != nil {
		return wire.Changeover{}, err
	}
	co.fleet.Refresh(ctx, c.Server)
	return co.changed(ctx, id)
}

// heldAfter parts the first cause from what held a changeover, in its failure.
const heldAfter = "; and then"

func jobOf(c records.Changeover) executor.Job {
	job := executor.Job{ID: c.ID, Plan: c.Plan.V, State: c.State, Steps: slices.Clone(c.Steps), Before: c.Before.V}
	if f := c.Failure.V; f != nil {
		first, _, _ := strings.Cut(f.What, heldAfter)
		job.Cause = (&fault.Error{Code: fault.Code(f.Code), What: first}).With(f.Next)
	}
	return job
}

// othersOf gives the servers in hand that a changeover works on beside its own.
func (co *Changeovers) othersOf(ctx context.Context, c records.Changeover) ([]*fleet.Server, error) {
	if c.Plan.V.From == "" {
		return nil, nil
	}
	l, err := co.fleet.Reach(ctx, c.Plan.V.From)
	if err != nil {
		return nil, err
	}
	return []*fleet.Server{l}, nil
}

func (co *Changeovers) runner(l *fleet.Server, c records.Changeover, others []*fleet.Server) *executor.Runner {
	hands := map[string]executor.Hands{}
	for _, o := range others {
		hands[o.Name] = executor.Hands{Files: o.Files, Control: o.Control, Profile: o.Profile}
	}
	return &executor.Runner{
		Others: hands,
		Keep:   func(ctx context.Context, made executor.Copied) error { return co.keepCopy(ctx, l, c, made) },
		Known: func(ctx context.Context, from, name string) (map[string]executor.Known, error) {
			if c.Plan.V.FromAside() {
				return nil, nil
			}
			id := l.ID
			for _, o := range others {
				if o.Name == from {
					id = o.ID
				}
			}
			return co.knownFiles(ctx, id, name)
		},
		Earlier: func(ctx context.Context) ([]vault.Copy, error) { return co.stagedEarlier(ctx, c.ServerID) },
		Ready:   func(ctx context.Context, n int, step plan.Step) (bool, error) { return co.ready(ctx, c, n, step) },
		Recorded: func(ctx context.Context, folder string) (bool, error) {
			owner, err := co.folders.owner(ctx, l, folder)
			return owner != nil, err
		},
		Wake:    func() <-chan struct{} { return co.wordOf(c.ID) },
		GivenUp: func() <-chan struct{} { return co.leftOf(c.ID) },
		Journal: journal{co.records}, Files: l.Files, Control: l.Control, Vault: co.vault, Profile: l.Profile,
		Report: co.report, Trace: co.trace, Now: co.now,
		May:   co.records.Acting,
		Check: func(ctx context.Context) error { return asPlanned(ctx, l, c.Plan.V) },
	}
}

// mostEarlier bounds the copies that vouch for what stands on a server.
const mostEarlier = 4

// stagedEarlier gives the copies that were placed on a server, as far as the vault has them.
func (co *Changeovers) stagedEarlier(ctx context.Context, serverID int64) (out []vault.Copy, err error) {
	ids, err := co.records.StagedOn(ctx, serverID, mostEarlier)
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		c, err := co.vault.Load(ctx, id)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// asPlanned looks whether a server is still what a plan was made for: its settings and
// worlds, whether it runs, and who else is at work in its folder.
func asPlanned(ctx context.Context, l *fleet.Server, p plan.Plan) error {
	stands, err := l.Files.Standing(ctx)
	if err != nil {
		return err
	}
	if !stands {
		return fault.New(fault.Changed, "start", l.Name,
			"its folder %s has been moved or replaced since the plan was made", l.Machine.Roots[0]).
			With("Bring the folder back, or take the server out and add it where it is now: reshard servers remove " +
				l.Name + ".")
	}
	h, err := l.Heads(ctx)
	if err != nil {
		return err
	}
	if what := p.Stands.Changed(h.State.Stands(), p.Touches(l.Profile)); what != "" {
		return fault.New(fault.Changed, "start", l.Name, "since the plan was made %s", what)
	}
	if err := sameWorlds(ctx, l, p, &h); err != nil {
		return err
	}
	if p.LocksOut() {
		if err := l.Room(); err != nil {
			return err
		}
	}
	st := h.Status
	if err := st.Err("start", l.Name); err != nil {
		return err
	}
	if n := len(p.Steps); st.State.Up() && !plan.Kinds[p.Kind].Unnoticed && !p.StopsBefore(n) && p.StartsAfter(-1) {
		return fault.New(fault.Changed, "start", l.Name, "it was stopped when the plan was made, and is %s now",
			st.State)
	}
	return alone(ctx, l, p, st.Evidence == life.Word)
}

// alone makes sure that nothing else is at work in a server's folder, unless a person has
// said that it does no harm. Where nothing can be seen, the word that the server is
// stopped stands in for that too.
func alone(ctx context.Context, l *fleet.Server, p plan.Plan, word bool) error {
	if p.Choices["processes"] == "go-on" || !p.LocksOut() {
		return nil
	}
	others, err := l.Control.Others(ctx)
	if word && fault.Passing(err) {
		return nil
	}
	if err != nil || len(others.Working) == 0 {
		return err
	}
	return fault.New(fault.Changed, "start", l.Name, "something else works in its folder: %s",
		strings.Join(others.Working, "; ")).
		With("End it, or make a new draft and say that it does no harm: --choose processes=go-on.")
}

// sameWorlds refuses a plan about a world that stands on the server when another one
// has taken its name since. A world that does not read at this moment, because its
// server is writing, is left to the proof.
func sameWorlds(ctx context.Context, l *fleet.Server, p plan.Plan, h *observe.Heads) error {
	for _, step := range p.Steps {
		if step.Kind != plan.Sample || step.Old || !strings.HasPrefix(step.Dir+"/", p.Worlds+"/") {
			continue
		}
		look, err := l.Look(ctx, h, step.World)
		if fault.Passing(err) {
			return err
		}
		w := look.Facts
		id, seed := w.Fact("world-id").Text, w.Fact("seed").Text
		if (p.Expect.WorldID != "" && id != "" && id != p.Expect.WorldID) ||
			(p.Expect.Seed != "" && seed != "" && seed != p.Expect.Seed) {
			return fault.New(fault.Changed, "start", p.Server, "%s is another world than when the plan was made",
				step.World)
		}
	}
	return nil
}

// carry runs a changeover in the background to its end.
func (co *Changeovers) carry(l *fleet.Server, others []*fleet.Server, c records.Changeover,
	run func(context.Context) error) {
	ctx, cancel := context.WithCancelCause(co.life)
	co.begin(c.ID, c.Server, func(why error) {
		if why == nil {
			why = fault.New(fault.Interrupted, "stage", c.Server,
				"cancelled by a person; nothing live had been touched")
		}
		cancel(why)
	})
	co.running.Go(func() {
		defer cancel(nil)
		hold := append(slices.Clone(others), l)
		err := co.carryHeld(ctx, hold, l, c, run)
		if co.Ended != nil && !errors.Is(err, executor.ErrSuspended) {
			co.Ended(context.WithoutCancel(ctx), c.ID, err)
		}
		// Who is told that it has ended finds the servers free.
		co.end(c.ID)
		for _, one := range hold {
			co.fleet.Refresh(context.WithoutCancel(ctx), one.Name)
		}
	})
}

// carryHeld carries a changeover out while it holds its servers.
func (co *Changeovers) carryHeld(ctx context.Context, hold []*fleet.Server, l *fleet.Server, c records.Changeover,
	run func(context.Context) error) error {
	// in one order, so that two never wait for each other
	slices.SortFunc(hold, func(a, b *fleet.Server) int { return int(a.ID - b.ID) })
	for _, one := range hold {
		defer one.Hold()()
	}
	ended := false
	err := fault.Safely(func() error {
		err := run(ctx)
		ended = true
		return err
	})
	if !ended { // what of it has happened the journal tells, to whoever takes it up
		err = errors.Join(executor.ErrSuspended, err)
	}
	switch {
	case errors.Is(err, executor.ErrSuspended):
		co.log.Info("changeover goes on in another life of the service", "changeover", c.ID, "server", c.Server,
			"why", err)
		return err
	case err == nil:
		co.log.Info("changeover done", "changeover", c.ID, "server", c.Server)
	case fault.CodeOf(err) == fault.Held:
		co.log.Error("changeover held", "changeover", c.ID, "server", c.Server, "error", err)
	default:
		co.log.Warn("changeover undone", "changeover", c.ID, "server", c.Server, "error", err)
	}
	co.conclude(context.WithoutCancel(ctx), l, c, err == nil)
	if fault.CodeOf(err) == fault.NotStopped {
		co.running.Go(func() { co.watchForLateStop(l, c) })
	}
	return err
}

// watchForLateStop starts a server again that takes a stop after all, once the changeover that had asked for it has
// gone back: players are not to be locked out by a word that was meant for another time. One that somebody has
// stopped since stays down.
func (co *Changeovers) watchForLateStop(l *fleet.Server, c records.Changeover) {
	ctx, done := context.WithTimeout(co.life, lateStops*l.Profile.Server.Waits.Stop)
	defer done()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for down := false; !down; down = l.Control.Status(ctx).State == life.Stopped {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
	release, err := l.Claim("start")
	if err != nil {
		return // somebody has it in hand, and knows what it is to be
	}
	defer release()
	rec, err := co.records.Server(ctx, l.Name)
	if err != nil || rec.Wanted != string(life.Running) || co.records.Acting() != nil {
		return
	}
	co.log.Warn("it took the stop of a changeover that had gone back; it is started again", "server", l.Name,
		"changeover", c.ID)
	if _, err := l.Control.Start(ctx); err != nil {
		co.log.Error("it does not start again", "server", l.Name, "error", err)
	}
}

// lateStops is how many times a game's patience for a stop it is watched for one that it takes late.
const lateStops = 10

// conclude records what a changeover's end means for the server. It is not part
// of the journal: a crash before it costs an estimate.
func (co *Changeovers) conclude(ctx context.Context, l *fleet.Server, c records.Changeover, done bool) {
	var err error
	if l.Control.Status(ctx).State == life.Running {
		err = co.records.SetWanted(ctx, l.ID, string(life.Running))
	}
	if done {
		if now, rerr := co.records.Changeover(ctx, c.ID); rerr == nil {
			if w := window(now); w != nil {
				err = errors.Join(
					err, co.records.SetDurations(ctx, l.ID, time.Duration(w.StartingMS)*time.Millisecond,
						time.Duration(w.StoppingMS)*time.Millisecond))
			}
		}
	}
	if err != nil {
		co.log.Error("cannot record the end of a changeover", "changeover", c.ID, "error", err)
	}
}

// Get gives one changeover as it stands now.
func (co *Changeovers) Get(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	out := co.wireChangeover(c)
	out.Story = story(out)
	if out.Undoable, out.WhyNot, err = co.undoable(ctx, c); err != nil {
		return out, err
	}
	if c.State == plan.Done && out.UndoneBy == 0 {
		done, err := co.records.Done(ctx, c.ServerID)
		if err != nil {
			return out, err
		}
		out.Later = later(c.ID, done)
		if out.Landmarks, err = co.sightings(ctx, c); err != nil {
			return out, err
		}
	}
	if c.State == plan.Done { // last, and within what is left of ctx: its host may take long, and is not needed
		out.Join, out.JoinNote = co.fleet.Join(ctx, c.Server)
	}
	return out, nil
}

// List gives a page of changeovers, newest first unless another order is asked for, and where
// the next page begins; "" after the last. Where to join is left out: it is read from the
// server's files.
func (co *Changeovers) List(ctx context.Context, q wire.ChangeoverQuery) ([]wire.Changeover, string, error) {
	if q.Server != "" {
		if _, err := co.records.Server(ctx, q.Server); err != nil {
			return nil, "", err
		}
	}
	list, next, err := co.records.ChangeoverPage(ctx, records.ChangeoverQuery{
		Page: records.Page{After: q.After, Limit: q.Limit}, Server: q.Server, Kind: q.Kind, State: q.State,
		Order: q.Order,
	})
	if err != nil {
		return nil, "", err
	}
	out := make([]wire.Changeover, 0, len(list))
	done := map[int64][]records.Ended{} // by server
	tidied := map[int64]map[int64]records.Tidied{}
	for _, c := range list {
		if _, asked := done[c.ServerID]; !asked {
			if done[c.ServerID], err = co.records.Done(ctx, c.ServerID); err != nil {
				return nil, "", err
			}
			if tidied[c.ServerID], err = co.records.TidiedOf(ctx, c.ServerID); err != nil {
				return nil, "", err
			}
		}
		one := co.wireChangeover(c)
		one.Undoable, one.WhyNot = standing(c, done[c.ServerID], tidied[c.ServerID])
		out = append(out, one)
	}
	return out, next, nil
}

func (co *Changeovers) wireChangeover(c records.Changeover) wire.Changeover {
	out := wire.Changeover{
		ID: c.ID, Server: c.Server, Kind: c.Kind, State: c.State, Plan: c.Plan.V, CreatedBy: c.CreatedBy,
		CreatedAt: c.CreatedAt, StartedAt: c.StartedAt, EndedAt: c.EndedAt, Steps: []wire.Step{},
		Title: c.Plan.V.Title(), Lasting: plan.Lasting(c.Kind),
	}
	if c.CopyID != nil {
		out.Copy = *c.CopyID
	}
	if c.State == plan.Done {
		out.Outcome = c.Plan.V.Outcome(plan.End{Copy: out.Copy, Proof: c.Proof.V})
	}
	if len(c.Sheet.V.Rows) > 0 {
		out.Sheet = &c.Sheet.V
	}
	if c.Undoes != nil {
		out.Undoes = *c.Undoes
	}
	if c.UndoneBy != nil {
		out.UndoneBy = *c.UndoneBy
	}
	if len(c.Proof.V.Checks) > 0 {
		out.Proof = &c.Proof.V
	}
	if c.State == plan.Done {
		out.Unproven = c.Proof.V.Unseen()
		out.Running = plan.Lasting(c.Kind) && c.Plan.V.SawRunning(c.Proof.V)
	}
	if f := c.Failure.V; f != nil {
		out.Failure = &wire.Failure{Code: f.Code, What: f.What, Next: f.Next}
	}
	for n, st := range c.Steps {
		planned := c.Plan.V.Steps[n]
		one := wire.Step{
			Kind:   st.Kind,
			Say:    planned.Say,
			Switch: planned.Switch,
			State:  string(st.State),
			DoneAt: st.DoneAt,
			TookMS: -1,
		}
		if st.Intended != nil && st.Done != nil {
			one.TookMS = st.Done.Sub(*st.Intended).Milliseconds()
		}
		if len(st.Left) > 0 || st.Kind == plan.Stage { // else it has left nothing yet
			one.Note, one.Bytes = executor.Says(planned, executor.DetailOf(st))
		}
		if d := executor.DetailOf(st); one.Note != "" {
			one.Warns = d.Wholeness == "" || d.Wholeness == plan.NotWhole || len(d.LeftOut) > 0
		}
		if st.Kind == plan.Start && planned.Server != "" && st.Done != nil {
			one.Note = stoppedFor(c, n, planned.Server)
		}
		out.Steps = append(out.Steps, one)
		// A proof that failed is kept with its step, so that it can be read.
		if d := executor.DetailOf(st); d.Proof != nil && out.Proof == nil {
			out.Proof = d.Proof
		}
	}
	out.Window = window(c)
	if c.State == plan.Undone && len(c.Steps) > 0 {
		states := make([]plan.StepState, len(c.Steps))
		for n, st := range c.Steps {
			states[n] = st.State
		}
		out.Outcome = plan.GoneBack(c.Plan.V, states)
	}
	if p, ok := co.latest(c.ID); ok {
		out.Progress = &p
	}
	return out
}

// story tells a changeover that did not end done.
func story(c wire.Changeover) []plan.Part {
	told := plan.Told{ID: c.ID, Plan: c.Plan, State: c.State, Proof: c.Proof, Notes: map[int]string{}}
	for n, s := range c.Steps {
		told.Steps = append(told.Steps, plan.StepState(s.State))
		told.Notes[n] = s.Note
	}
	if c.Failure != nil {
		told.What, told.Next = c.Failure.What, c.Failure.Next
	}
	return told.Story()
}

// stoppedFor tells how long the source of a clone was stopped: from the stop of it
// before a step to that step's end.
func stoppedFor(c records.Changeover, n int, server string) string {
	for i := n - 1; i >= 0; i-- {
		if p := c.Plan.V.Steps[i]; p.Kind == plan.Stop && p.Server == server && c.Steps[i].Intended != nil {
			return fmt.Sprintf("%s was stopped for %.1f s.", server,
				c.Steps[n].Done.Sub(*c.Steps[i].Intended).Seconds())
		}
	}
	return ""
}

func window(c records.Changeover) *wire.Window {
	if len(c.Steps) != len(c.Plan.V.Steps) || !c.Plan.V.LocksOut() {
		return nil
	}
	if c.State != plan.Done {
		return lockedOutInVain(c)
	}
	w, total, ok := executor.Window(c.Plan.V.Steps, c.Steps)
	if !ok {
		return nil
	}
	return &wire.Window{
		TotalMS: total.Milliseconds(), StoppingMS: w.Stopping, OursMS: w.Ours, StartingMS: w.Starting,
		Why: executor.WhyLong(c.Plan.V.Steps, c.Steps, w),
	}
}

// lockedOutInVain is how long players waited for a changeover that went back:
// from the stop to the old world's return. Its parts are not told apart. Of a stop by people it counts from when it was
// seen; one that nobody saw locked nobody out.
func lockedOutInVain(c records.Changeover) *wire.Window {
	for n, st := range c.Steps {
		p := c.Plan.V.Steps[n]
		if p.Kind != plan.Stop || p.Server != "" || st.Done == nil || st.Undone == nil {
			continue
		}
		if from := st.Intended; from != nil {
			if executor.DetailOf(st).ByPeople() {
				from = st.Done
			}
			return &wire.Window{
				TotalMS:    st.Undone.Sub(*from).Milliseconds(),
				StoppingMS: -1,
				OursMS:     -1,
				StartingMS: -1,
			}
		}
	}
	return nil
}

// windowEstimate is what the last stop and start took.
func windowEstimate(rec records.Server, running bool) (stopping, starting time.Duration) {
	stopping, starting = time.Duration(rec.LastStopMS)*time.Millisecond, time.Duration(rec.LastStartMS)*time.Millisecond
	if !running {
		stopping = 0
	}
	return stopping, starting
}
