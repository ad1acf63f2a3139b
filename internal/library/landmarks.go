package library

import (
	"context"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Landmarks gives a world's landmarks.
func (lib *Library) Landmarks(ctx context.Context, ref string) ([]wire.Landmark, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	list, err := lib.records.Landmarks(ctx, c.WorldID)
	out := make([]wire.Landmark, 0, len(list))
	for _, l := range list {
		out = append(out, LandmarkOf(l))
	}
	return out, err
}

func LandmarkOf(l records.Landmark) wire.Landmark {
	return wire.Landmark{ID: l.ID, Say: l.Say, Place: l.Place, CreatedBy: l.CreatedBy, CreatedAt: l.CreatedAt}
}

// AddLandmark adds a landmark to a world.
func (lib *Library) AddLandmark(ctx context.Context, ref string, n wire.NewLandmark,
	by string) ([]wire.Landmark, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	say := strings.TrimSpace(n.Say)
	if say == "" || strings.ContainsAny(say+n.Place, "\r\n\x00") {
		return nil, fault.New(fault.Invalid, "add", "landmark",
			"a landmark is one line of words, such as: red roof by the well")
	}
	if _, err := lib.records.AddLandmark(ctx, c.WorldID,
		records.Landmark{Say: say, Place: strings.TrimSpace(n.Place), CreatedBy: by}); err != nil {
		return nil, err
	}
	return lib.Landmarks(ctx, ref)
}

// RemoveLandmark removes a world's landmark.
func (lib *Library) RemoveLandmark(ctx context.Context, ref string, id int64) error {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return err
	}
	return lib.records.RemoveLandmark(ctx, c.WorldID, id)
}
