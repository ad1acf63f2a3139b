package service

import (
	"context"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Landmarks gives a world's landmarks.
func (s *Service) Landmarks(ctx context.Context, ref string) ([]wire.Landmark, error) {
	c, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	list, err := s.records.Landmarks(ctx, c.WorldID)
	out := make([]wire.Landmark, 0, len(list))
	for _, l := range list {
		out = append(out, wireLandmark(l))
	}
	return out, err
}

func wireLandmark(l records.Landmark) wire.Landmark {
	return wire.Landmark{ID: l.ID, Say: l.Say, Place: l.Place, CreatedBy: l.CreatedBy, CreatedAt: l.CreatedAt}
}

// AddLandmark adds a landmark to a world.
func (s *Service) AddLandmark(ctx context.Context, ref string, n wire.NewLandmark, by string) ([]wire.Landmark, error) {
	c, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	say := strings.TrimSpace(n.Say)
	if say == "" || strings.ContainsAny(say+n.Place, "\r\n\x00") {
		return nil, fault.New(fault.Invalid, "add", "landmark",
			"a landmark is one line of words, such as: red roof by the well")
	}
	if _, err := s.records.AddLandmark(ctx, c.WorldID,
		records.Landmark{Say: say, Place: strings.TrimSpace(n.Place), CreatedBy: by}); err != nil {
		return nil, err
	}
	return s.Landmarks(ctx, ref)
}

// RemoveLandmark removes a world's landmark.
func (s *Service) RemoveLandmark(ctx context.Context, ref string, id int64) error {
	c, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return err
	}
	return s.records.RemoveLandmark(ctx, c.WorldID, id)
}

// worldOf is the library's world that runs once a changeover is done, 0 if none.
func (s *Service) worldOf(ctx context.Context, c records.Changeover) (int64, error) {
	p := c.Plan.V
	if c.CopyID != nil && (c.Kind == plan.Put || c.Kind == plan.Restore || c.Kind == plan.Clone) {
		stored, err := s.records.CopyByID(ctx, *c.CopyID)
		return stored.WorldID, err
	}
	at, err := s.worldsOn(ctx, c.ServerID)
	return at[p.Folder], err
}

func (s *Service) sightings(ctx context.Context, c records.Changeover) ([]wire.Sighting, error) {
	id, err := s.worldOf(ctx, c)
	if err != nil || id == 0 || !plan.Lasting(c.Kind) {
		return nil, err
	}
	list, err := s.records.Sightings(ctx, id, c.ID)
	out := make([]wire.Sighting, 0, len(list))
	for _, l := range list {
		one := wire.Sighting{Landmark: wireLandmark(l.Landmark), Seen: l.Seen, ToldAt: l.ToldAt}
		if l.ToldBy != nil {
			one.ToldBy = *l.ToldBy
		}
		out = append(out, one)
	}
	return out, err
}

// Sight records whether a landmark was found after a changeover.
func (s *Service) Sight(ctx context.Context, id, landmark int64, seen bool, by string) (wire.Changeover, error) {
	c, err := s.Changeover(ctx, id)
	if err != nil {
		return c, err
	}
	for _, l := range c.Landmarks {
		if l.ID == landmark {
			if err := s.records.Sight(ctx, id, landmark, seen, by); err != nil {
				return c, err
			}
			return s.Changeover(ctx, id)
		}
	}
	return c, fault.New(fault.NotFound, "tick", "landmark", "changeover %d shows no landmark %d", id, landmark).
		With("Landmarks are ticked after a changeover that is done: reshard changeovers show lists them.")
}
