package records

import (
	"context"
	"time"

	"reshard/internal/core/plan"
	"reshard/internal/core/server"
)

// Intended is the world that a server is meant to run: the one that its last changeover left there, or the one that a
// person has named since.
type Intended struct {
	World server.Identity
	// Changeover is the last that left a world there, 0 for none, and At when it ended, or when the person said so.
	Changeover int64
	At         time.Time
	// By is the person; empty: nobody has said anything since that changeover. Open is the world that was open when
	// they named another one, which the next start is to open.
	By   string
	Open string
	// Other is what was seen to run instead, nil for nothing.
	Other *OtherWorld
}

// OtherWorld is what was seen of a server that runs another world than the intended one.
type OtherWorld struct {
	// Seen is the name of the other world; of another content what differs, in words.
	Seen string `json:"seen"`
	// Says and Next are for people.
	Says  string    `json:"says"`
	Next  string    `json:"next"`
	Since time.Time `json:"-"`
}

// said is a person's word that the world that runs is intended.
type said struct {
	World server.Identity `json:"world"`
	// After is the last changeover at that time; a later one counts more than the word.
	After int64     `json:"after"`
	Open  string    `json:"open,omitempty"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// IntendedWorld gives the world that a server is meant to run; nil: nothing was ever put there.
func (r *Records) IntendedWorld(ctx context.Context, serverID int64) (*Intended, error) {
	var rows []struct {
		ID      *int64            `db:"id"`
		Plan    JSON[*plan.Plan]  `db:"plan"`
		Proof   JSON[plan.Proof]  `db:"proof"`
		EndedAt *time.Time        `db:"ended_at"`
		Said    JSON[*said]       `db:"said"`
		Other   JSON[*OtherWorld] `db:"other"`
		Since   *time.Time        `db:"other_since"`
	}
	err := r.db.SelectContext(ctx, &rows, `SELECT c.id, c.plan, c.proof, c.ended_at, w.said, w.other, w.other_since
		FROM (SELECT $1::bigint AS server_id) s
		LEFT JOIN LATERAL (SELECT * FROM changeovers WHERE server_id = s.server_id AND state = 'done'
			AND kind IN (`+lasting+`) AND plan->'expect'->>'placed' IS NULL AND plan->'expect'->>'folder' <> ''
			ORDER BY ended_no DESC LIMIT 1) c ON true
		LEFT JOIN running_worlds w ON w.server_id = s.server_id`, serverID)
	if err != nil || len(rows) == 0 {
		return nil, classify("find intended world of", "server", err)
	}
	row, out := rows[0], &Intended{}
	if row.ID != nil {
		out.Changeover, out.At = *row.ID, *row.EndedAt
		out.World = server.Identity{Folder: row.Plan.V.Expect.Folder}
		if w := row.Proof.V.World; w != nil {
			out.World = *w
		}
	}
	if s := row.Said.V; s != nil && s.After == out.Changeover {
		out.World, out.By, out.Open, out.At = s.World, s.By, s.Open, s.At
	}
	if out.World.Folder == "" {
		return nil, nil
	}
	if out.Other = row.Other.V; out.Other != nil && row.Since != nil {
		out.Other.Since = *row.Since
	}
	return out, nil
}

// IntendWorld records a person's word, i.By, that i.World is intended on a server.
func (r *Records) IntendWorld(ctx context.Context, serverID int64, i Intended) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO running_worlds (server_id, said) VALUES ($1, $2)
		ON CONFLICT (server_id) DO UPDATE SET said = excluded.said, other = NULL, other_since = NULL`, serverID,
		JSON[said]{said{World: i.World, After: i.Changeover, Open: i.Open, By: i.By, At: i.At}})
	return classify("note intended world of", "server", err)
}

// NoteOtherWorld records that a server runs another world than the intended one, or with nil that it does not.
func (r *Records) NoteOtherWorld(ctx context.Context, serverID int64, other *OtherWorld) error {
	var seen any
	if other != nil {
		seen = JSON[OtherWorld]{*other}
	}
	res, err := r.db.ExecContext(ctx, mineCTE+`INSERT INTO running_worlds (server_id, other, other_since)
		SELECT $3, $4::jsonb, CASE WHEN $4::jsonb IS NULL THEN NULL ELSE now() END WHERE EXISTS (SELECT FROM mine)
		ON CONFLICT (server_id) DO UPDATE SET other = excluded.other, other_since =
		CASE WHEN running_worlds.other->>'seen' = excluded.other->>'seen' THEN running_worlds.other_since
		ELSE excluded.other_since END`, r.lease.holder, r.lease.epoch, serverID, seen)
	if err != nil {
		return classify("note running world of", "server", err)
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return r.orLost(ctx, nil)
	}
	return nil
}

// OtherRunning is a server that was seen to run another world than the intended one.
type OtherRunning struct {
	Server string            `db:"server"`
	Other  JSON[*OtherWorld] `db:"other"`
	Since  time.Time         `db:"other_since"`
}

// OtherWorlds gives the servers that were seen to run another world than the intended one, the first seen first.
func (r *Records) OtherWorlds(ctx context.Context) (out []OtherRunning, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT s.name AS server, w.other, w.other_since FROM running_worlds w
		JOIN servers s ON s.id = w.server_id WHERE s.removed_at IS NULL AND w.other IS NOT NULL
		ORDER BY w.other_since, s.name`)
	return out, classify("list", "running worlds", err)
}
