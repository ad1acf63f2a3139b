package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
)

// Landmark is a person's note of something to look for in a world.
type Landmark struct {
	ID        int64     `db:"id"`
	Say       string    `db:"say"`
	Place     string    `db:"place"` // as people write it: 120 / -30
	CreatedBy string    `db:"created_by"`
	CreatedAt time.Time `db:"created_at"`
}

// Sighting is what was found of a landmark after a changeover.
type Sighting struct {
	Landmark
	Seen   *bool      `db:"seen"` // nil: not looked for yet
	ToldBy *string    `db:"told_by"`
	ToldAt *time.Time `db:"told_at"`
}

// AddLandmark adds a landmark to a world.
func (r *Records) AddLandmark(ctx context.Context, worldID int64, l Landmark) (id int64, err error) {
	err = r.db.GetContext(ctx, &id, `INSERT INTO landmarks (world_id, say, place, created_by) VALUES ($1, $2, $3, $4)
		RETURNING id`, worldID, l.Say, l.Place, l.CreatedBy)
	return id, classify("add", "landmark", err)
}

// Landmarks gives a world's landmarks, oldest first.
func (r *Records) Landmarks(ctx context.Context, worldID int64) (out []Landmark, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT id, say, place, created_by, created_at FROM landmarks
		WHERE world_id = $1 ORDER BY id`, worldID)
	return out, classify("list", "landmarks", err)
}

// RemoveLandmark removes a world's landmark.
func (r *Records) RemoveLandmark(ctx context.Context, worldID, id int64) error {
	res, err := r.db.ExecContext(ctx, `DELETE FROM landmarks WHERE world_id = $1 AND id = $2`, worldID, id)
	if err != nil {
		return classify("remove", "landmark", err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fault.New(fault.NotFound, "remove", "landmark", "the world has no landmark %d", id)
	}
	return nil
}

// Sightings gives a world's landmarks with what was found of them after a changeover.
func (r *Records) Sightings(ctx context.Context, worldID, changeover int64) (out []Sighting, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT l.id, l.say, l.place, l.created_by, l.created_at, s.seen, s.told_by,
		s.told_at
		FROM landmarks l LEFT JOIN sightings s ON s.landmark_id = l.id AND s.changeover_id = $2 WHERE l.world_id = $1
		ORDER BY l.id`, worldID, changeover)
	return out, classify("list", "landmarks", err)
}

// Sight records whether a landmark was found after a changeover.
func (r *Records) Sight(ctx context.Context, changeover, landmark int64, seen bool, by string) error {
	_, err := r.db.ExecContext(
		ctx, `INSERT INTO sightings (changeover_id, landmark_id, seen, told_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (changeover_id, landmark_id) DO UPDATE SET seen = $3, told_by = $4, told_at = now()`, changeover,
		landmark, seen, by)
	return classify("tick", "landmark", err)
}
