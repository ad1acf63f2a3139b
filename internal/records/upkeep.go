package records

import (
	"context"
	"encoding/json"
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

// Setting reads what is set for the service as a whole into a value, which stays as it is when nothing is.
func (r *Records) Setting(ctx context.Context, name string, into any) error {
	var raw JSON[json.RawMessage]
	err := classify("read setting", name, r.db.GetContext(ctx, &raw, `SELECT value FROM settings WHERE name = $1`,
		name))
	switch {
	case fault.CodeOf(err) == fault.NotFound:
		return nil
	case err != nil:
		return err
	}
	return fault.Wrap(fault.Internal, "read setting", name, json.Unmarshal(raw.V, into))
}

// Set sets something for the service as a whole.
func (r *Records) Set(ctx context.Context, name string, value any) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO settings (name, value) VALUES ($1, $2)
		ON CONFLICT (name) DO UPDATE SET value = $2`, name, JSON[any]{value})
	return classify("set", name, err)
}
