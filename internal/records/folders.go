package records

import (
	"context"
	"time"
)

// FoundFolder is a working folder on a server of which no changeover is on record.
type FoundFolder struct {
	ServerID int64     `db:"server_id"`
	Server   string    `db:"server"`
	Folder   string    `db:"folder"`
	FoundAt  time.Time `db:"found_at"`
	// Last is the highest number of a changeover that was on record when it was found.
	Last int64 `db:"last"`
	// KeptBy and KeptAt are who said that it stays as it is, and when.
	KeptBy *string    `db:"kept_by"`
	KeptAt *time.Time `db:"kept_at"`
}

// FoundFolders gives all of them, in the order of their servers' names and their own.
func (r *Records) FoundFolders(ctx context.Context) (out []FoundFolder, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT f.*, s.name AS server FROM found_folders f
		JOIN servers s ON s.id = f.server_id WHERE s.removed_at IS NULL ORDER BY s.name, f.folder`)
	return out, classify("list", "found folders", err)
}

// SetFoundFolders notes which working folders of a server no changeover on record has made; those that are gone are
// forgotten. It reports whether anything changed.
func (r *Records) SetFoundFolders(ctx context.Context, serverID int64, folders []string, at time.Time) (bool, error) {
	if folders == nil {
		folders = []string{}
	}
	gone, err := r.db.ExecContext(ctx, `DELETE FROM found_folders WHERE server_id = $1 AND NOT folder = ANY($2)`,
		serverID, folders)
	if err != nil {
		return false, classify("record", "found folders", err)
	}
	come, err := r.db.ExecContext(ctx, `INSERT INTO found_folders (server_id, folder, found_at, last)
		SELECT $1, unnest($2::text[]), $3, COALESCE((SELECT max(id) FROM changeovers WHERE state <> 'drafted'), 0)
		ON CONFLICT DO NOTHING`, serverID, folders, at)
	if err != nil {
		return false, classify("record", "found folders", err)
	}
	less, _ := gone.RowsAffected() // PostgreSQL tells it
	more, _ := come.RowsAffected()
	return less+more > 0, nil
}

// KeepFoundFolder notes that somebody wants a folder to stay as it is. Code NotFound: there is none of that name.
func (r *Records) KeepFoundFolder(ctx context.Context, serverID int64, folder, by string, at time.Time) error {
	var one string
	err := r.db.GetContext(ctx, &one, `UPDATE found_folders SET kept_by = $3, kept_at = $4
		WHERE server_id = $1 AND folder = $2 RETURNING folder`, serverID, folder, by, at)
	return classify("keep", folder, err)
}

// FoldersClaimed reports whether the working folders of a server that are named by a number alone have been looked at.
func (r *Records) FoldersClaimed(ctx context.Context, serverID int64) (done bool, err error) {
	err = r.db.GetContext(ctx, &done, `SELECT EXISTS (SELECT FROM claimed_servers WHERE server_id = $1)`, serverID)
	return done, classify("look at", "server", err)
}

// ClaimFolders notes which working folders of a server that are named by a number alone hold what their changeover put
// there. Later calls change nothing.
func (r *Records) ClaimFolders(ctx context.Context, serverID int64, of map[string]int64, at time.Time) error {
	folders, ids := []string{}, []int64{}
	for folder, id := range of {
		folders, ids = append(folders, folder), append(ids, id)
	}
	_, err := r.db.ExecContext(ctx, `WITH once AS (
			INSERT INTO claimed_servers (server_id, claimed_at) VALUES ($1, $4) ON CONFLICT DO NOTHING
			RETURNING server_id
		) INSERT INTO claimed_folders (server_id, folder, changeover_id)
		SELECT once.server_id, f.folder, f.id FROM once, unnest($2::text[], $3::bigint[]) AS f (folder, id)
		ON CONFLICT DO NOTHING`, serverID, folders, ids, at)
	return classify("claim", "folders", err)
}

// ClaimedFolders gives the changeovers of a server's working folders that are named by a number alone.
func (r *Records) ClaimedFolders(ctx context.Context, serverID int64) (map[string]int64, error) {
	var rows []struct {
		Folder string `db:"folder"`
		ID     int64  `db:"changeover_id"`
	}
	err := r.db.SelectContext(ctx, &rows, `SELECT folder, changeover_id FROM claimed_folders WHERE server_id = $1`,
		serverID)
	out := make(map[string]int64, len(rows))
	for _, row := range rows {
		out[row.Folder] = row.ID
	}
	return out, classify("list", "claimed folders", err)
}

// mostAhead is how far the numbers of changeovers are moved on at once: a folder's name may say anything.
const mostAhead = 100_000

// NumberAfter has the next changeover get a number after this one, which a folder on a server has: numbers that begin
// again would be taken for those of others.
func (r *Records) NumberAfter(ctx context.Context, number int64) error {
	_, err := r.db.ExecContext(ctx, `SELECT setval('changeovers_id_seq', $1) FROM changeovers_id_seq
		WHERE ($1 > last_value OR $1 = last_value AND NOT is_called) AND $1 < last_value + $2`,
		number, mostAhead)
	return classify("number", "changeovers", err)
}
