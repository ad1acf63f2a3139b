package changeovers

import (
	"context"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/executor"
	"reshard/internal/fleet"
	"reshard/internal/records"
)

var ErrShutdown = &fault.Error{
	Code: fault.Interrupted,
	Op:   "stop",
	Path: "service",
	What: "the service is shutting down",
	Err:  executor.ErrLeft,
}

// takeUpPatience is how long the start of the service waits for a server whose changeover
// it takes up.
const takeUpPatience = 2 * time.Second

// TakeUp takes a changeover up: at once, or when its servers can be reached again.
func (co *Changeovers) TakeUp(ctx context.Context, c records.Changeover) {
	co.log.Info("taking up changeover", "changeover", c.ID, "server", c.Server, "state", c.State)
	resume := func(ctx context.Context) error {
		l, err := co.fleet.Reach(ctx, c.Server)
		if err != nil {
			return err
		}
		now, err := co.records.Changeover(ctx, c.ID)
		if err != nil {
			return err
		}
		if c = now; !c.State.Open() || c.State == plan.Held { // a person has settled it meanwhile
			co.end(c.ID)
			return nil
		}
		others, err := co.othersOf(ctx, c)
		if err != nil {
			return err
		}
		runner, job := co.runner(l, c, others), jobOf(c)
		co.carry(l, others, c, func(ctx context.Context) error { return runner.Resume(ctx, job) })
		return nil
	}
	first, done := context.WithTimeout(ctx, takeUpPatience)
	defer done()
	err := resume(first)
	if err == nil {
		return
	}
	co.log.Error("cannot take up changeover yet", "changeover", c.ID, "error", err)
	co.running.Go(func() {
		for ; err != nil && co.life.Err() == nil; err = resume(co.life) {
			what, _ := fault.Words(err)
			co.begin(c.ID, c.Server, nil)
			co.report(plan.Progress{
				ID:      c.ID,
				State:   c.State,
				Going:   "forward",
				Waiting: what + ". It goes on when that is mended.",
			})
			select {
			case <-co.life.Done():
			case <-time.After(fleet.RestAfterAway):
			}
		}
	})
}
