package executor

import (
	"context"
	"path"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
)

// retitle writes a title into a staged world. The library's copy keeps its own.
func (r *Runner) retitle(ctx context.Context, step plan.Step) error {
	files, settled := r.Files.Observe(ctx)
	found, err := world.ByName(files, step.Dir, step.World, r.Profile)
	if err = settled(err); err != nil {
		return err
	}
	w, err := world.Read(files, found)
	if err = settled(err); err != nil {
		return err
	}
	file, after, err := fit.Input{Profile: r.Profile, World: w}.WriteTitle(step.Title,
		func(file string) ([]byte, error) {
			return r.Files.ReadFile(ctx, path.Join(found.Root, file), fit.LongestTitled)
		})
	if err != nil {
		return fault.Wrap(fault.Invalid, "write the title of", step.World, err)
	}
	return r.Files.Replace(ctx, path.Join(found.Root, file), after)
}

func (p *prover) title(step plan.Step) plan.Check {
	c := plan.Check{What: "the title", Expected: step.Title, Seen: "no world"}
	if w, err := world.ByName(p.files, p.r.job.Plan.Worlds, step.World, p.r.Profile); err == nil {
		if read, err := world.Read(p.files, w); err == nil {
			c.Seen, c.OK = read.Title, read.Title == step.Title
		}
	}
	return c
}
