package records

import (
	"context"
	"time"
)

// DamagedCopy is a copy of the library that does not read whole.
type DamagedCopy struct {
	ID     string    `db:"id"`
	World  string    `db:"world"`
	Damage string    `db:"damage"`
	At     time.Time `db:"at"`
}

// DamagedCopies gives those that are no part of a backup, which is told of itself, in the order of their worlds.
func (r *Records) DamagedCopies(ctx context.Context) (out []DamagedCopy, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT c.id, w.name AS world, d.damage, d.at FROM copy_damage d
		JOIN copies c ON c.id = d.copy_id JOIN worlds w ON w.id = c.world_id
		WHERE c.gone_at IS NULL AND NOT EXISTS (SELECT FROM backup_worlds b WHERE b.copy_id = c.id)
		ORDER BY w.name, c.id`)
	return out, classify("list", "damaged copies", err)
}

// SetCopyDamage records which copies are damaged, and how; all others are whole.
func (r *Records) SetCopyDamage(ctx context.Context, damage map[string]string, at time.Time) error {
	ids, say := []string{}, []string{}
	for id, what := range damage {
		ids, say = append(ids, id), append(say, what)
	}
	_, err := r.db.ExecContext(ctx, `DELETE FROM copy_damage WHERE NOT copy_id = ANY($1)`, ids)
	if err != nil {
		return classify("note damage of", "copies", err)
	}
	_, err = r.db.ExecContext(ctx, `INSERT INTO copy_damage (copy_id, damage, at)
		SELECT d.id, d.damage, $3 FROM unnest($1::text[], $2::text[]) AS d (id, damage) JOIN copies c ON c.id = d.id
		ON CONFLICT (copy_id) DO UPDATE SET damage = EXCLUDED.damage`, ids, say, at)
	return classify("note damage of", "copies", err)
}

// BrokenPacks gives the packs of a store, "" for the vault, whose damage nothing could mend when it was found last.
func (r *Records) BrokenPacks(ctx context.Context, store string) (out []string, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT pack FROM (
			SELECT DISTINCT ON (pack) pack, mended FROM findings WHERE store = $1 ORDER BY pack, id DESC
		) f WHERE NOT mended ORDER BY pack`, store)
	return out, classify("list", "findings", err)
}
