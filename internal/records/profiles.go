package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
)

// Profile is one version of a game profile that a user has uploaded.
type Profile struct {
	ID          int64      `db:"id"`
	Game        string     `db:"game"`
	Version     int        `db:"version"`
	Document    string     `db:"document"`
	CreatedBy   string     `db:"created_by"`
	CreatedAt   time.Time  `db:"created_at"`
	WithdrawnAt *time.Time `db:"withdrawn_at"`
}

// AddProfile records the next version of a game's profile.
func (r *Records) AddProfile(ctx context.Context, game, document, by string) (p Profile, err error) {
	err = r.db.GetContext(ctx, &p, `INSERT INTO profiles (game, version, document, created_by)
		SELECT $1, coalesce(max(version), 0) + 1, $2, $3 FROM profiles WHERE game = $1 RETURNING *`, game, document, by)
	if e := classify("add profile", game, err); fault.CodeOf(e) == fault.Exists {
		return p, fault.New(fault.Busy, "add profile", game, "somebody else has saved a version at the same moment")
	}
	return p, classify("add profile", game, err)
}

// CurrentProfiles gives of each game the newest version that has not been withdrawn.
func (r *Records) CurrentProfiles(ctx context.Context) (out []Profile, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT DISTINCT ON (game) * FROM profiles WHERE withdrawn_at IS NULL
		ORDER BY game, version DESC`)
	return out, classify("list", "profiles", err)
}

// Profiles gives every version of a game's profile, newest first.
func (r *Records) Profiles(ctx context.Context, game string) (out []Profile, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM profiles WHERE game = $1 ORDER BY version DESC`, game)
	return out, classify("list", "profiles", err)
}

// WithdrawProfiles takes every version of a game's profile out of use. They stay on
// record.
func (r *Records) WithdrawProfiles(ctx context.Context, game string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE profiles SET withdrawn_at = now() WHERE game = $1 AND withdrawn_at IS NULL`,
		game)
	return classify("withdraw", game, err)
}
