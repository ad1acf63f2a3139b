package records

import (
	"context"
	"time"
)

// Tidied is a changeover whose working folder was removed for good.
type Tidied struct {
	ChangeoverID int64     `db:"changeover_id"`
	Bytes        int64     `db:"bytes"`
	By           string    `db:"tidied_by"`
	At           time.Time `db:"tidied_at"`
}

// AddTidied records that a changeover's working folder is removed. It is content when
// told again.
func (r *Records) AddTidied(ctx context.Context, t Tidied) error {
	_, err := r.db.ExecContext(
		ctx, `INSERT INTO tidied (changeover_id, bytes, tidied_by) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		t.ChangeoverID, t.Bytes, t.By)
	return classify("record", "tidying", err)
}

// TidiedOf tells whether a changeover's working folder has been removed.
func (r *Records) TidiedOf(ctx context.Context, serverID int64) (map[int64]Tidied, error) {
	var rows []Tidied
	err := r.db.SelectContext(ctx, &rows, `SELECT t.changeover_id, t.bytes, t.tidied_by, t.tidied_at FROM tidied t
		JOIN changeovers c ON c.id = t.changeover_id WHERE c.server_id = $1`, serverID)
	out := make(map[int64]Tidied, len(rows))
	for _, t := range rows {
		out[t.ChangeoverID] = t
	}
	return out, classify("list", "tidied", err)
}
