package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
)

// LastDone tells when a task of the upkeep was done last; the zero time for never.
func (r *Records) LastDone(ctx context.Context, task string) (at time.Time, err error) {
	err = classify("find", task, r.db.GetContext(ctx, &at, `SELECT done_at FROM upkeep WHERE task = $1`, task))
	if fault.CodeOf(err) == fault.NotFound {
		return time.Time{}, nil
	}
	return at, err
}

// SetDone notes when a task of the upkeep was done last.
func (r *Records) SetDone(ctx context.Context, task string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO upkeep (task, done_at) VALUES ($1, $2)
		ON CONFLICT (task) DO UPDATE SET done_at = $2`, task, at)
	return classify("note", task, err)
}

// RemoveDrafts forgets changeovers that were drafted before a moment and that nobody has
// started, and tells how many.
func (r *Records) RemoveDrafts(ctx context.Context, before time.Time) (int64, error) {
	res, err := r.db.ExecContext(ctx, `DELETE FROM changeovers WHERE state = 'drafted' AND created_at < $1`, before)
	if err != nil {
		return 0, classify("tidy", "drafts", err)
	}
	n, _ := res.RowsAffected()
	return n, nil
}
