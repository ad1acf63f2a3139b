package executor

import (
	"context"
	"errors"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
)

// say says the line of a step. Said twice, it does no harm: a profile's lines are such.
func (r *Runner) say(ctx context.Context, _ int, step plan.Step) (*Detail, error) {
	return nil, r.tell(ctx, step, step.Tell, step.World)
}

// tell says a line of the profile at the console and waits for its answer.
func (r *Runner) tell(ctx context.Context, step plan.Step, what, name string) error {
	h, err := r.hands(step)
	if err != nil {
		return err
	}
	console := h.Profile.Server.Console
	exchange, ok := map[string]game.Exchange{
		"hold": console.Hold, "flush": console.Flush, "release": console.Release, "load": console.Load,
		"save": h.Profile.Server.NewWorld.Save,
	}[what]
	if !ok || exchange.Say == "" {
		return fault.New(fault.Internal, "say "+what+" to", step.Server, "the game has no such line")
	}
	err = h.Control.Tell(ctx, exchange.Filled(h.Profile.World, name), h.Profile.Server.Waits.Stop)
	switch {
	case what == "hold" && err == nil:
		r.heldAt = r.Now()
	case what == "release":
		r.heldAt = time.Time{}
	}
	return err
}

// unsay takes back what was said: what was held is let go, and the world that was
// left is loaded again.
func (r *Runner) unsay(ctx context.Context, _ int, step plan.Step) error {
	h, err := r.hands(step)
	if err != nil {
		return err
	}
	st := h.Control.Status(ctx)
	if err := st.Err("go back on", r.job.Plan.Server); err != nil {
		return err
	}
	switch {
	case step.Tell == "hold" && st.State == life.Running:
		return r.untilHeard(h, r.tell(ctx, step, "release", step.World))
	case step.Tell == "load" && st.State == life.Stopped:
		_, err := h.Control.Start(ctx) // the settings name the former world again
		return err
	case step.Tell == "load":
		if st.Opened != "" && st.Opened != step.World && st.Opened != h.Profile.World.FileName(step.World) {
			return nil // it never went over
		}
		return r.untilHeard(h, r.tell(ctx, step, "load", step.Back))
	}
	return nil
}

// silences is how often the patience for a stop a game may be silent on the way back: one that stands still hears
// what was said once it goes on, so the same is said again meanwhile.
const silences = 10

// untilHeard takes a game's silence on the way back for something that passes, for a while.
func (r *Runner) untilHeard(h Hands, err error) error {
	if !errors.Is(err, control.ErrSilent) {
		r.silent = time.Time{}
		return err
	}
	if r.silent.IsZero() {
		r.silent = r.Now()
	}
	if r.Now().Sub(r.silent) > silences*h.Profile.Server.Waits.Stop {
		return err
	}
	what, _ := fault.Words(err)
	return fault.New(fault.TooSlow, "go back on", r.job.Plan.Server, "%s; it is said again until it answers", what)
}
