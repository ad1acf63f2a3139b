package changeover

import (
	"path"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
)

// retitle writes a title into a staged world. The library's copy keeps its own.
func (r *Runner) retitle(step plan.Step) error {
	found, err := world.ByName(r.Place.FS(), step.Dir, step.World, r.Profile)
	if err != nil {
		return err
	}
	w, err := world.Read(r.Place.FS(), found)
	if err != nil {
		return err
	}
	file, after, err := fit.Input{Profile: r.Profile, World: w}.WriteTitle(step.Title, func(file string) ([]byte, error) {
		return r.Place.ReadFile(path.Join(found.Root, file), fit.LongestTitled)
	})
	if err != nil {
		return fault.Wrap(fault.Invalid, "write the title of", step.World, err)
	}
	return r.Place.Replace(path.Join(found.Root, file), after)
}

func (r *Runner) proveTitle(step plan.Step) plan.Check {
	c := plan.Check{What: "the title", Expected: step.Title, Seen: "no world"}
	if w, err := world.ByName(r.Place.FS(), r.job.Plan.Worlds, step.World, r.Profile); err == nil {
		if read, err := world.Read(r.Place.FS(), w); err == nil {
			c.Seen, c.OK = read.Title, read.Title == step.Title
		}
	}
	return c
}
