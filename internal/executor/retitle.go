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
func (r *Runner) retitle(ctx context.Context, _ int, step plan.Step) (*Detail, error) {
	files, settled := r.Files.Observe(ctx)
	found, err := world.ByName(files, step.Dir, step.World, r.Profile)
	if err = settled(err); err != nil {
		return nil, err
	}
	w, err := world.Read(files, found)
	if err = settled(err); err != nil {
		return nil, err
	}
	file, after, err := fit.Input{Profile: r.Profile, World: w}.WriteTitle(step.Title,
		func(file string) ([]byte, error) {
			return r.Files.ReadFile(ctx, path.Join(found.Root, file), fit.LongestTitled)
		})
	if err != nil {
		return nil, fault.Wrap(fault.Invalid, "write the title of", step.World, err)
	}
	name := path.Join(found.Root, file)
	return &Detail{Retitled: name}, r.Files.Replace(ctx, name, after)
}

func (p *prover) title(step plan.Step) plan.Check {
	c := plan.Check{What: "the title", Expected: step.Title, Seen: "no world"}
	read := p.read
	if step.World != p.expect.Folder { // it stands beside the one that runs
		read = func() (world.Facts, error) {
			found, err := world.ByName(p.files, p.r.job.Plan.Worlds, step.World, p.r.Profile)
			if err != nil {
				return world.Facts{}, err
			}
			return world.Read(p.files, found)
		}
	}
	if w, err := read(); err == nil {
		c.Seen, c.OK = w.Title, w.Title == step.Title
	}
	return c
}
