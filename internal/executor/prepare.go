package executor

import (
	"context"
	"strconv"

	"github.com/dustin/go-humanize"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// roomForSwitch is what a switch itself may need on the host, in bytes: the temporary
// files of its settings and folders.
const roomForSwitch = 1 << 20

// prepare does everything before the stop that need not be done within it, and looks for
// room once more. What it makes is found again, and made again, by the step itself when
// a crash has lost it.
func (r *Runner) prepare(ctx context.Context) error {
	err := r.patiently(ctx, func(ctx context.Context) error {
		if free := r.Files.Free(ctx, r.job.Plan.Worlds); free >= 0 && free < roomForSwitch {
			return fault.New(fault.NoSpace, "prepare the switch on", r.job.Plan.Server,
				"%s are free, and the switch may need %s",
				humanize.IBytes(uint64(free)), humanize.IBytes(roomForSwitch))
		}
		return nil
	})
	if err != nil {
		return err
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
