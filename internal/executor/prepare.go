package executor

import (
	"context"
	"strconv"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// prepare does everything before the stop that need not be done within it, and looks once more for
// what was staged and for room. What it makes is found again, and made again, by the step itself when
// a crash has lost it.
func (r *Runner) prepare(ctx context.Context) error {
	for _, act := range []func(context.Context) error{r.stagedStands, r.enoughRoom, r.reserve} {
		if err := r.patiently(ctx, act); err != nil {
			return err
		}
	}
	for n, step := range r.job.Plan.Steps {
		if r.job.Steps[n].State == plan.StepDone {
			continue
		}
		r.trace(n, step, "prepare")
		err := r.patiently(ctx, func(ctx context.Context) error { return r.prepareStep(ctx, n, step) })
		if err != nil {
			return fault.Wrap(fault.Internal, "prepare step "+strconv.Itoa(n+1)+" ("+step.Kind+") on",
				r.job.Plan.Server, err)
		}
	}
	return nil
}
