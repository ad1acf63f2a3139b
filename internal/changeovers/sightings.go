package changeovers

import (
	"context"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/library"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// worldOf is the library's world that runs once a changeover is done, 0 if none.
func (co *Changeovers) worldOf(ctx context.Context, c records.Changeover) (int64, error) {
	p := c.Plan.V
	if c.CopyID != nil && plan.Kinds[c.Kind].Brings {
		stored, err := co.records.CopyByID(ctx, *c.CopyID)
		return stored.WorldID, err
	}
	at, err := co.worldsOn(ctx, c.ServerID)
	return at[p.Folder], err
}

func (co *Changeovers) sightings(ctx context.Context, c records.Changeover) ([]wire.Sighting, error) {
	id, err := co.worldOf(ctx, c)
	if err != nil || id == 0 || !plan.Lasting(c.Kind) {
		return nil, err
	}
	list, err := co.records.Sightings(ctx, id, c.ID)
	out := make([]wire.Sighting, 0, len(list))
	for _, l := range list {
		one := wire.Sighting{Landmark: library.LandmarkOf(l.Landmark), Seen: l.Seen, ToldAt: l.ToldAt}
		if l.ToldBy != nil {
			one.ToldBy = *l.ToldBy
		}
		out = append(out, one)
	}
	return out, err
}

// Sight records whether a landmark was found after a changeover.
func (co *Changeovers) Sight(ctx context.Context, id, landmark int64, seen bool, by string) (wire.Changeover, error) {
	c, err := co.Get(ctx, id)
	if err != nil {
		return c, err
	}
	for _, l := range c.Landmarks {
		if l.ID == landmark {
			if err := co.records.Sight(ctx, id, landmark, seen, by); err != nil {
				return c, err
			}
			return co.changed(ctx, id)
		}
	}
	return c, fault.New(fault.NotFound, "tick", "landmark", "changeover %d shows no landmark %d", id, landmark).
		With("Landmarks are ticked after a changeover that is done: reshard changeovers show lists them.")
}
