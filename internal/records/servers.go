package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/server"
)

// Server is one game server on a host.
type Server struct {
	ID              int64                   `db:"id"`
	HostID          int64                   `db:"host_id"`
	Host            string                  `db:"host"` // its name
	Name            string                  `db:"name"`
	Game            string                  `db:"game"`
	Kind            string                  `db:"kind"`
	System          string                  `db:"system"` // linux, macos or windows; "": linux
	Root            string                  `db:"root"`
	Command         JSON[[]string]          `db:"command"`
	Env             JSON[map[string]string] `db:"env"`
	DeclaredVersion string                  `db:"declared_version"`
	// Means are how it is controlled, GameRoot the name by which the game itself knows its
	// folder, where that is another one.
	Means       JSON[server.Means] `db:"means"`
	GameRoot    string             `db:"game_root"`
	Wanted      string             `db:"wanted"`        // running or stopped
	LastStartMS int64              `db:"last_start_ms"` // -1: never seen
	LastStopMS  int64              `db:"last_stop_ms"`
	Asked       []byte             `db:"asked"` // what a person has been asked to do; nil: nothing
	CreatedAt   time.Time          `db:"created_at"`
	RemovedAt   *time.Time         `db:"removed_at"`
}

const selectServers = `SELECT s.*, h.name AS host FROM servers s JOIN hosts h ON h.id = s.host_id
	WHERE s.removed_at IS NULL`

// AddServer records a server; its name and root must be new.
func (r *Records) AddServer(ctx context.Context, s Server) (Server, error) {
	err := r.db.GetContext(ctx, &s.ID, `INSERT INTO servers (name, game, kind, root, command, env, declared_version,
		system, host_id, means, game_root)
		VALUES ($1,$2,$3,$4,$5,$6,$7,$8,(SELECT id FROM hosts WHERE name = $9),$10,$11) RETURNING id`,
		s.Name, s.Game, s.Kind, s.Root, s.Command, s.Env, s.DeclaredVersion, s.System, s.Host, s.Means, s.GameRoot)
	if e := classify("add server", s.Name, err); fault.CodeOf(e) == fault.Exists {
		return s, fault.New(fault.Exists, "add server", s.Name,
			"a server of that name, or with the folder %s, is there already", s.Root).
			With("reshard servers lists them.")
	} else if e != nil {
		return s, e
	}
	return r.Server(ctx, s.Name)
}

// Server gives a server by name.
func (r *Records) Server(ctx context.Context, name string) (s Server, err error) {
	err = r.db.GetContext(ctx, &s, selectServers+` AND s.name = $1`, name)
	return s, named(classify("find server", name, err), "server", name, "reshard servers")
}

// ServerHeld gives a server by name, with the changeover that holds it.
func (r *Records) ServerHeld(ctx context.Context, name string) (l Listed, err error) {
	err = r.db.GetContext(ctx, &l, `SELECT s.*, h.name AS host, COALESCE(held.changeover_id, 0) AS holder
		FROM servers s JOIN hosts h ON h.id = s.host_id LEFT JOIN holds held ON held.server_id = s.id
		WHERE s.removed_at IS NULL AND s.name = $1`, name)
	return l, named(classify("find server", name, err), "server", name, "reshard servers")
}

// Servers gives all servers in the order of their names.
func (r *Records) Servers(ctx context.Context) (out []Server, err error) {
	err = r.db.SelectContext(ctx, &out, selectServers+` ORDER BY s.name`)
	return out, classify("list", "servers", err)
}

// ChangeServer records how a server is controlled and how the game names its folder.
func (r *Records) ChangeServer(ctx context.Context, s Server) error {
	_, err := r.db.ExecContext(ctx, `UPDATE servers SET means = $2, game_root = $3, command = $4 WHERE id = $1`, s.ID,
		s.Means, s.GameRoot, s.Command)
	return classify("change", "server", err)
}

// KeepAsked records what a person has been asked to do at a server; nil is nothing.
func (r *Records) KeepAsked(ctx context.Context, id int64, raw []byte) error {
	_, err := r.db.ExecContext(ctx, `UPDATE servers SET asked = $2 WHERE id = $1`, id, raw)
	return classify("update", "server", err)
}

// RemoveServer forgets a server; its changeovers stay on record.
func (r *Records) RemoveServer(ctx context.Context, id int64) error {
	_, err := r.db.ExecContext(ctx, `UPDATE servers SET removed_at = now(), wanted = 'stopped' WHERE id = $1`, id)
	return classify("remove", "server", err)
}

// SetWanted records whether a server should run.
func (r *Records) SetWanted(ctx context.Context, id int64, wanted string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE servers SET wanted = $2 WHERE id = $1`, id, wanted)
	return classify("update", "server", err)
}

// Unmeasured is given for a duration that is not known.
const Unmeasured = -time.Millisecond

// SetDurations records how long the last start and stop took; Unmeasured leaves
// what is there.
func (r *Records) SetDurations(ctx context.Context, id int64, start, stop time.Duration) error {
	_, err := r.db.ExecContext(ctx, `UPDATE servers SET
		last_start_ms = CASE WHEN $2 < 0 THEN last_start_ms ELSE $2 END,
		last_stop_ms  = CASE WHEN $3 < 0 THEN last_stop_ms ELSE $3 END WHERE id = $1`, id, start.Milliseconds(),
		stop.Milliseconds())
	return classify("update", "server", err)
}
