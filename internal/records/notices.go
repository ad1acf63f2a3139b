package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"reshard/internal/core/fault"
)

// NoticeSettings say how a target is told.
type NoticeSettings struct {
	// Kind is webhook or mail.
	Kind string `json:"kind"`
	URL  string `json:"url,omitempty"`
	// Of mail: the machine and port that takes it, how the way there is encrypted (tls, starttls or none), the
	// account, from whom and to whom.
	Server string   `json:"server,omitempty"`
	Secure string   `json:"secure,omitempty"`
	User   string   `json:"user,omitempty"`
	From   string   `json:"from,omitempty"`
	To     []string `json:"to,omitempty"`
	// Private: its address may be one of a private network.
	Private bool `json:"private,omitempty"`
}

// NoticeTarget is whom the service tells of what needs a person.
type NoticeTarget struct {
	ID        int64                `db:"id"`
	Name      string               `db:"name"`
	Settings  JSON[NoticeSettings] `db:"settings"`
	Sealed    []byte               `db:"sealed"`
	CreatedBy string               `db:"created_by"`
	CreatedAt time.Time            `db:"created_at"`
	ToldAt    *time.Time           `db:"told_at"`
	Trouble   string               `db:"trouble"`
	// TroubleSince is since when telling it has failed; nil while it does not.
	TroubleSince *time.Time `db:"trouble_since"`
}

// AddNoticeTarget records a target; its name must be new.
func (r *Records) AddNoticeTarget(ctx context.Context, t NoticeTarget) (NoticeTarget, error) {
	err := r.db.GetContext(ctx, &t.ID, `INSERT INTO notice_targets (name, settings, sealed, created_by) VALUES
		($1, $2, $3, $4)
		RETURNING id`, t.Name, t.Settings, t.Sealed, t.CreatedBy)
	if e := classify("add target", t.Name, err); fault.CodeOf(e) == fault.Exists {
		return t, fault.New(fault.Exists, "add target", t.Name, "there is a target of that name").
			With("reshard alerts targets lists them.")
	} else if e != nil {
		return t, e
	}
	return r.NoticeTargetNamed(ctx, t.Name)
}

// NoticeTargetNamed gives a target by its name.
func (r *Records) NoticeTargetNamed(ctx context.Context, name string) (t NoticeTarget, err error) {
	err = r.db.GetContext(ctx, &t, `SELECT * FROM notice_targets WHERE name = $1`, name)
	return t, named(classify("find target", name, err), "target", name, "reshard alerts targets")
}

// NoticeTargets gives all targets in the order of their names.
func (r *Records) NoticeTargets(ctx context.Context) (out []NoticeTarget, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM notice_targets ORDER BY name`)
	return out, classify("list", "targets", err)
}

// RemoveNoticeTarget forgets a target.
func (r *Records) RemoveNoticeTarget(ctx context.Context, id int64) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM notice_targets WHERE id = $1`, id)
	return classify("remove", "target", err)
}

// NoticeTold records that a target was told something, or why it could not be.
func (r *Records) NoticeTold(ctx context.Context, id int64, trouble string, at time.Time) error {
	_, err := r.db.ExecContext(
		ctx, `UPDATE notice_targets SET trouble = $2, told_at = CASE WHEN $2 = '' THEN $3 ELSE told_at END,
			trouble_since = CASE WHEN $2 = '' THEN NULL ELSE COALESCE(trouble_since, $3) END
		WHERE id = $1`, id, trouble, at)
	return classify("change", "target", err)
}

// OpenAlert is something that needs a person, as it is on record. Alert is what was said of it.
type OpenAlert struct {
	ID      int64        `db:"id"`
	Kind    string       `db:"kind"`
	Of      string       `db:"of"`
	Alert   JSON[string] `db:"alert"`
	BegunAt time.Time    `db:"begun_at"`
}

// OpenAlerts gives what needs a person and is on record.
func (r *Records) OpenAlerts(ctx context.Context) (out []OpenAlert, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT id, kind, of, alert, begun_at FROM alerts WHERE ended_at IS NULL
		ORDER BY id`)
	return out, classify("list", "alerts", err)
}

// BeginAlert records something that needs a person, and does something in the same transaction; false when it is
// on record already.
func (r *Records) BeginAlert(ctx context.Context, a OpenAlert,
	with func(tx pgx.Tx, id int64) error) (begun bool, err error) {
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, mineCTE+`INSERT INTO alerts (kind, of, alert) SELECT $3, $4, to_jsonb($5::text)
			WHERE EXISTS (SELECT FROM mine) ON CONFLICT DO NOTHING RETURNING id`, r.lease.holder, r.lease.epoch, a.Kind,
			a.Of,
			a.Alert.V).Scan(&id)
		if err == pgx.ErrNoRows { //nolint:errorlint // given as it is
			return nil
		}
		if err == nil {
			begun = true
			err = with(tx, id)
		}
		return err
	})
	return begun && err == nil, classify("note", "alert", err)
}

// EndAlert records that something does not need a person any more, and does something in the same transaction.
func (r *Records) EndAlert(ctx context.Context, id int64, with func(tx pgx.Tx) error) error {
	return classify("note", "alert", pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		got, err := tx.Exec(ctx, mineCTE+`UPDATE alerts SET ended_at = now() WHERE id = $3 AND ended_at IS NULL
			AND EXISTS (SELECT FROM mine)`, r.lease.holder, r.lease.epoch, id)
		if err != nil || got.RowsAffected() == 0 {
			return err
		}
		return with(tx)
	}))
}
