package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
)

// Failure is why a changeover went back, in words for people.
type Failure struct {
	Code string `json:"code"`
	What string `json:"what"`
	Next string `json:"next"`
}

// Changeover is one changeover's row in the journal.
type Changeover struct {
	ID       int64            `db:"id"`
	ServerID int64            `db:"server_id"`
	Server   string           `db:"server"` // the server's name
	Kind     string           `db:"kind"`
	State    plan.State       `db:"state"`
	Plan     JSON[plan.Plan]  `db:"plan"`
	Sheet    JSON[fit.Sheet]  `db:"sheet"`
	CopyID   *string          `db:"copy_id"`
	SourceID *int64           `db:"source_id"`
	Undoes   *int64           `db:"undoes"`
	UndoneBy *int64           `db:"undone_by"`
	Proof    JSON[plan.Proof] `db:"proof"`
	// Before is what was in the worlds folder right before the switch; nil: it has not come to that.
	Before    JSON[*plan.Before] `db:"before"`
	Failure   JSON[*Failure]     `db:"failure"`
	CreatedBy string             `db:"created_by"`
	CreatedAt time.Time          `db:"created_at"`
	StartedAt *time.Time         `db:"started_at"`
	EndedAt   *time.Time         `db:"ended_at"`
	Steps     []plan.StepRecord  `db:"-"`
}

const changeoverColumns = `c.id, c.server_id, s.name AS server, c.kind, c.state, c.plan, c.sheet, c.copy_id,
	c.source_id, c.undoes,
	(SELECT max(u.id) FROM changeovers u WHERE u.undoes = c.id
	AND u.state = 'done') AS undone_by, c.proof, c.before, c.failure, c.created_by, c.created_at, c.started_at,
	c.ended_at`

// NextChangeoverID reserves an id, so that a plan can name its working folder.
func (r *Records) NextChangeoverID(ctx context.Context) (id int64, err error) {
	err = r.db.GetContext(ctx, &id, `SELECT nextval('changeovers_id_seq')`)
	return id, classify("reserve", "changeover", err)
}

// AddDraft records a drafted changeover with its steps.
func (r *Records) AddDraft(ctx context.Context, c Changeover) error {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return classify("add", "changeover", err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	_, err = tx.ExecContext(ctx, `INSERT INTO changeovers (id, server_id, kind, state, plan, sheet, copy_id, source_id,
		undoes, created_by) VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10)`,
		c.ID, c.ServerID, c.Kind, plan.Drafted, c.Plan, c.Sheet, c.CopyID, c.SourceID, c.Undoes, c.CreatedBy)
	if err != nil {
		return classify("add", "changeover", err)
	}
	for n, s := range c.Plan.V.Steps {
		if _, err := tx.ExecContext(ctx, `INSERT INTO steps (changeover_id, n, kind, state) VALUES ($1,$2,$3,$4)`, c.ID,
			n, s.Kind, plan.StepPlanned); err != nil {
			return classify("add", "changeover", err)
		}
	}
	return classify("add", "changeover", tx.Commit())
}

// Changeover gives one changeover with its steps.
func (r *Records) Changeover(ctx context.Context, id int64) (c Changeover, err error) {
	err = r.db.GetContext(ctx, &c, `SELECT `+changeoverColumns+
		` FROM changeovers c JOIN servers s ON s.id = c.server_id WHERE c.id = $1`, id)
	if err != nil {
		e := classify("find changeover", "", err)
		if fault.CodeOf(e) == fault.NotFound {
			e = fault.New(fault.NotFound, "find", "changeover", "there is no changeover %d", id).
				With("reshard changeovers lists them.")
		}
		return c, e
	}
	c.Steps, err = r.Steps(ctx, id)
	return c, err
}

const stepColumns = `n, kind, state, detail, done_at, intended_even, done_even, undone_even`

// Steps gives a changeover's steps in their order.
func (r *Records) Steps(ctx context.Context, id int64) (out []plan.StepRecord, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT `+stepColumns+` FROM steps
		WHERE changeover_id = $1 ORDER BY n`, id)
	return out, classify("find steps of", "changeover", err)
}

// OpenChangeovers gives those that hold a server, oldest first, with steps.
func (r *Records) OpenChangeovers(ctx context.Context) ([]Changeover, error) {
	var ids []int64
	if err := r.db.SelectContext(
		ctx, &ids, `SELECT id FROM changeovers WHERE state
			IN ('staging', 'waiting', 'switching', 'proving', 'undoing', 'held') ORDER BY id`); err != nil {
		return nil, classify("list open", "changeovers", err)
	}
	out := make([]Changeover, 0, len(ids))
	for _, id := range ids {
		c, err := r.Changeover(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Holders maps the name of each server that is held to the changeover that holds it.
func (r *Records) Holders(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		ID     int64  `db:"id"`
		Server string `db:"server"`
	}
	err := r.db.SelectContext(ctx, &rows, `SELECT h.changeover_id AS id, s.name AS server FROM holds h
		JOIN servers s ON s.id = h.server_id`)
	out := make(map[string]int64, len(rows))
	for _, row := range rows {
		out[row.Server] = row.ID
	}
	return out, classify("list open", "changeovers", err)
}

// Ended is a changeover that succeeded: what the order of undoing needs.
type Ended struct {
	ID     int64  `db:"id"`
	Undoes *int64 `db:"undoes"`
}

// Done gives a server's successful changeovers that an undo could take back, oldest
// first.
func (r *Records) Done(ctx context.Context, serverID int64) (out []Ended, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT id, undoes FROM changeovers WHERE server_id = $1 AND state = 'done'
		AND kind IN (`+lasting+`) ORDER BY ended_no`, serverID)
	return out, classify("list done", "changeovers", err)
}

// StagedOn gives the copies that successful changeovers have placed on a server, the latest
// first, at most that many.
func (r *Records) StagedOn(ctx context.Context, serverID int64, most int) (out []string, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT copy_id FROM changeovers WHERE server_id = $1 AND state = 'done'
		AND kind IN ('put', 'restore', 'clone') AND copy_id IS NOT NULL
		GROUP BY copy_id ORDER BY max(id) DESC LIMIT $2`, serverID, most)
	return out, classify("list staged", "copies", err)
}

// HistoryEntry is a successful changeover with the world that its copy belongs to.
type HistoryEntry struct {
	ID      int64           `db:"id"`
	Kind    string          `db:"kind"`
	Plan    JSON[plan.Plan] `db:"plan"`
	WorldID *int64          `db:"world_id"`
}

// History gives a server's successful changeovers, oldest first.
func (r *Records) History(ctx context.Context, serverID int64) (out []HistoryEntry, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT c.id, c.kind, c.plan, k.world_id FROM changeovers c LEFT
		JOIN copies k ON k.id = c.copy_id
		WHERE c.server_id = $1 AND c.state = 'done' AND c.kind IN (`+lasting+`)
		ORDER BY c.ended_no`, serverID)
	return out, classify("list done", "changeovers", err)
}

// SetChangeoverCopy records the copy that a changeover has made.
func (r *Records) SetChangeoverCopy(ctx context.Context, id int64, copyID string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE changeovers SET copy_id = $2 WHERE id = $1`, id, copyID)
	return classify("record copy of", "changeover", err)
}

// Patch is what a change of state records beside the state.
type Patch struct {
	Proof   *plan.Proof
	Before  *plan.Before
	Failure *Failure
}

// Advance moves a changeover from one state to another, and only if it still
// has the first one. Told twice, because an answer was lost, it is content the
// second time. Another changeover that holds the server is code Busy.
func (r *Records) Advance(ctx context.Context, id int64, from, to plan.State, p Patch) error {
	if !from.May(to) {
		return fault.New(fault.Internal, "advance", "changeover", "no way leads from %s to %s", from, to)
	}
	var proof, before, failure any
	if p.Proof != nil {
		proof = JSON[plan.Proof]{*p.Proof}
	}
	if p.Before != nil {
		before = JSON[*plan.Before]{p.Before}
	}
	if p.Failure != nil {
		failure = JSON[*Failure]{p.Failure}
	}
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return classify("advance", "changeover", err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	res, err := tx.ExecContext(ctx, mineCTE+`UPDATE changeovers SET state = $5,
		proof = COALESCE($6::jsonb, proof), failure = COALESCE($7::jsonb, failure),
		before = COALESCE($8::jsonb, before),
		started_at = COALESCE(started_at, now()),
		ended_at = CASE WHEN $5 IN ('done', 'undone', 'held') THEN now() END,
		ended_no = CASE WHEN $5 IN ('done', 'undone', 'held') THEN nextval('changeovers_ended') END
		WHERE id = $3 AND state = $4 AND EXISTS (SELECT FROM mine)`,
		r.lease.holder, r.lease.epoch, id, string(from), string(to), proof, failure, before)
	if err != nil {
		return classify("advance", "changeover", err)
	}
	if n, _ := res.RowsAffected(); n == 1 {
		if err := holdOrLetGo(ctx, tx, id, from, to); err != nil {
			return err
		}
		return classify("advance", "changeover", tx.Commit())
	}
	var now plan.State
	if err := r.db.GetContext(ctx, &now, `SELECT state FROM changeovers WHERE id = $1`, id); err != nil {
		return classify("advance", "changeover", err)
	}
	if err := r.orLost(ctx, nil); err != nil || now == to {
		return err
	}
	return fault.New(fault.WrongState, "advance", "changeover", "changeover %d is %s, not %s", id, now, from)
}

// holdOrLetGo takes the servers of a changeover that begins, and lets them go when it
// has ended.
func holdOrLetGo(ctx context.Context, tx *sqlx.Tx, id int64, from, to plan.State) (err error) {
	switch {
	case from == plan.Drafted:
		_, err = tx.ExecContext(ctx, `INSERT INTO holds (server_id, changeover_id)
			SELECT server_id, id FROM changeovers WHERE id = $1 UNION SELECT source_id, id FROM changeovers
			WHERE id = $1 AND source_id IS NOT NULL`, id)
	case to == plan.Done || to == plan.Undone:
		_, err = tx.ExecContext(ctx, `DELETE FROM holds WHERE changeover_id = $1`, id)
	}
	if e := classify("advance", "changeover", err); fault.CodeOf(e) == fault.Exists {
		return fault.New(fault.Busy, "start", "changeover", "another changeover holds the server")
	} else if e != nil {
		return e
	}
	return nil
}

// SetStepDetail adds what a step should know while it goes on, such as a person's word.
func (r *Records) SetStepDetail(ctx context.Context, id int64, n int, detail any) error {
	_, err := r.db.ExecContext(
		ctx, `UPDATE steps SET detail = COALESCE(detail, '{}'::jsonb) || $3::jsonb WHERE changeover_id = $1 AND n = $2`,
		id, n, JSON[any]{detail})
	return classify("record", "step", err)
}

// AdvanceStep moves a step from one of some states to another; content when
// it has that state already.
func (r *Records) AdvanceStep(ctx context.Context, id int64, n int, from []plan.StepState, to plan.StepState,
	detail any) error {
	var d any
	if detail != nil {
		d = JSON[any]{detail}
	}
	states := JSON[[]plan.StepState]{append(from, to)}
	res, err := r.db.ExecContext(ctx, mineCTE+`UPDATE steps SET state = $5, detail = COALESCE($6::jsonb, detail),
		intended_at = CASE WHEN $5 = 'intended' AND moved THEN now() ELSE intended_at END,
		done_at     = CASE WHEN $5 = 'done' AND moved THEN now() ELSE done_at END,
		undone_at   = CASE WHEN $5 = 'undone' AND moved THEN now() ELSE undone_at END,
		intended_even = CASE WHEN $5 = 'intended' AND moved THEN $8::timestamptz ELSE intended_even END,
		done_even     = CASE WHEN $5 = 'done' AND moved THEN $8::timestamptz ELSE done_even END,
		undone_even   = CASE WHEN $5 = 'undone' AND moved THEN $8::timestamptz ELSE undone_even END
		FROM (SELECT state <> $5 OR $6::jsonb IS NULL AS moved FROM steps WHERE changeover_id = $3 AND n = $4) was
		WHERE changeover_id = $3 AND n = $4 AND state IN (SELECT jsonb_array_elements_text($7::jsonb)) AND
		EXISTS (SELECT FROM mine)`,
		r.lease.holder, r.lease.epoch, id, n, string(to), d, states, even())
	if err != nil {
		return classify("advance step of", "changeover", err)
	}
	if rows, _ := res.RowsAffected(); rows != 1 {
		return r.orLost(ctx, fault.New(fault.WrongState, "advance", "step",
			"step %d of changeover %d is not in a state from which it can be %s", n, id, to))
	}
	return nil
}
