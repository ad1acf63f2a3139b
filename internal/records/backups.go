package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
)

// Rule is a rule of backups of one server.
type Rule struct {
	ID        int64           `db:"id"`
	ServerID  int64           `db:"server_id"`
	Server    string          `db:"server"`
	Host      string          `db:"host"`
	Name      string          `db:"name"` // unique among the server's
	Rule      JSON[keep.Rule] `db:"rule"`
	DueAt     *time.Time      `db:"due_at"`   // nil: while somebody plays
	BegunAt   *time.Time      `db:"begun_at"` // nil: never
	PausedAt  *time.Time      `db:"paused_at"`
	PausedBy  string          `db:"paused_by"`
	CreatedBy string          `db:"created_by"`
	CreatedAt time.Time       `db:"created_at"`
	RemovedAt *time.Time      `db:"removed_at"`
	// SlotsTrouble is why its last try to have the provider make a backup of its own failed; "": it did not.
	SlotsTrouble string     `db:"slots_trouble"`
	SlotsAt      *time.Time `db:"slots_at"` // of that try
}

const selectRules = `SELECT r.*, s.name AS server, h.name AS host FROM rules r JOIN servers s ON s.id = r.server_id
	JOIN hosts h ON h.id = s.host_id WHERE r.removed_at IS NULL AND s.removed_at IS NULL`

// AddRule records a rule; its name must be new on its server.
func (r *Records) AddRule(ctx context.Context, rule Rule) (Rule, error) {
	err := r.db.GetContext(ctx, &rule.ID, `INSERT INTO rules (server_id, name, rule, due_at, created_by)
		VALUES ($1, $2, $3, $4, $5) RETURNING id`, rule.ServerID, rule.Name, rule.Rule, rule.DueAt, rule.CreatedBy)
	if e := classify("add rule", rule.Name, err); fault.CodeOf(e) == fault.Exists {
		return rule, fault.New(fault.Exists, "add rule", rule.Name, "the server has a rule of that name").
			With("Give it another name with --name, or change the one that is there: reshard rules change.")
	} else if e != nil {
		return rule, e
	}
	return r.RuleByID(ctx, rule.ID)
}

// RuleByID gives a rule, also one that was removed.
func (r *Records) RuleByID(ctx context.Context, id int64) (rule Rule, err error) {
	err = r.db.GetContext(ctx, &rule, `SELECT r.*, s.name AS server, h.name AS host FROM rules r
		JOIN servers s ON s.id = r.server_id JOIN hosts h ON h.id = s.host_id WHERE r.id = $1`, id)
	return rule, classify("find", "rule", err)
}

// RuleNamed gives a server's rule by its name.
func (r *Records) RuleNamed(ctx context.Context, server, name string) (rule Rule, err error) {
	err = r.db.GetContext(ctx, &rule, selectRules+` AND s.name = $1 AND r.name = $2`, server, name)
	if e := classify("find rule", name, err); fault.CodeOf(e) == fault.NotFound {
		return rule, fault.New(fault.NotFound, "find rule", name, "%s has no rule of that name", server).
			With("reshard rules " + server + " lists them.")
	} else if e != nil {
		return rule, e
	}
	return rule, nil
}

// Rules gives the rules of a server, or of all when it is "", in the order of their names.
func (r *Records) Rules(ctx context.Context, server string) (out []Rule, err error) {
	err = r.db.SelectContext(ctx, &out, selectRules+` AND ($1 = '' OR s.name = $1) ORDER BY s.name, r.name`, server)
	return out, classify("list", "rules", err)
}

// ChangeRule records what a rule says, when it is due and whether it is paused.
func (r *Records) ChangeRule(ctx context.Context, rule Rule) error {
	_, err := r.db.ExecContext(ctx, `UPDATE rules SET rule = $2, due_at = $3, paused_at = $4, paused_by = $5
		WHERE id = $1`, rule.ID, rule.Rule, rule.DueAt, rule.PausedAt, rule.PausedBy)
	return classify("change", "rule", err)
}

// SetRuleSlots records how it went with the provider's own backup of a rule; "" is well.
func (r *Records) SetRuleSlots(ctx context.Context, id int64, at time.Time, trouble string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE rules SET slots_trouble = $2, slots_at = $3 WHERE id = $1`, id, trouble, at)
	return classify("record provider's backup of rule", "", err)
}

// RemoveRule forgets a rule; its backups stay.
func (r *Records) RemoveRule(ctx context.Context, id int64) error {
	_, err := r.db.ExecContext(ctx, `UPDATE rules SET removed_at = now() WHERE id = $1`, id)
	return classify("remove", "rule", err)
}

// TakeDue moves a rule that is due on to when it is due next, and does something in the same
// transaction; false when another has done so already, or this service may not act.
func (r *Records) TakeDue(ctx context.Context, rule Rule, now time.Time, next *time.Time,
	with func(tx pgx.Tx) error) (taken bool, err error) {
	tx, err := r.pool.Begin(ctx)
	if err != nil {
		return false, classify("take", "rule", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx)) //nolint:errcheck // no effect after Commit
	got, err := tx.Exec(ctx, mineCTE+`UPDATE rules SET due_at = $4, begun_at = $5 WHERE id = $3
		AND due_at IS NOT DISTINCT FROM $6 AND begun_at IS NOT DISTINCT FROM $7
		AND paused_at IS NULL AND removed_at IS NULL AND EXISTS (SELECT FROM mine)`,
		r.lease.holder, r.lease.epoch, rule.ID, next, now, rule.DueAt, rule.BegunAt)
	if err != nil || got.RowsAffected() == 0 {
		return false, classify("take", "rule", err)
	}
	if err := with(tx); err != nil {
		return false, classify("take", "rule", err)
	}
	return true, classify("take", "rule", tx.Commit(ctx))
}

// MoveDue has a rule be due at another time, unless it has been taken or changed meanwhile.
func (r *Records) MoveDue(ctx context.Context, rule Rule, due *time.Time) error {
	_, err := r.db.ExecContext(ctx, mineCTE+`UPDATE rules SET due_at = $4 WHERE id = $3
		AND due_at IS NOT DISTINCT FROM $5 AND paused_at IS NULL AND removed_at IS NULL AND EXISTS (SELECT FROM mine)`,
		r.lease.holder, r.lease.epoch, rule.ID, due, rule.DueAt)
	return classify("move", "rule", err)
}

// The states of a backup.
const (
	BackupRunning = "running"
	BackupDone    = "done"
	BackupFailed  = "failed"
	BackupGaveWay = "gave-way" // to a changeover of its server; it is made again
)

// Backup is a backup of a server.
type Backup struct {
	ID           int64             `db:"id"`
	ServerID     *int64            `db:"server_id"` // nil: found in a store, of a server that is not known
	Server       string            `db:"server"`
	RuleID       *int64            `db:"rule_id"`
	Rule         *string           `db:"rule"` // its name
	ChangeoverID *int64            `db:"changeover_id"`
	State        string            `db:"state"`
	DueAt        *time.Time        `db:"due_at"`
	BegunAt      time.Time         `db:"begun_at"`
	EndedAt      *time.Time        `db:"ended_at"`
	CountedAt    time.Time         `db:"counted_at"`
	CreatedBy    string            `db:"created_by"`
	Note         string            `db:"note"`
	Pinned       bool              `db:"pinned"`
	Record       *string           `db:"record"`
	About        JSON[keep.Record] `db:"about"`
	Bytes        int64             `db:"bytes"`
	Written      int64             `db:"written"`
	ReadAt       *time.Time        `db:"read_at"`
	Damage       string            `db:"damage"`
	Failure      JSON[*Failure]    `db:"failure"`
	AsideAt      *time.Time        `db:"aside_at"`
	AsideBy      string            `db:"aside_by"`
	GoneAt       *time.Time        `db:"gone_at"`
	Worlds       []BackupWorld     `db:"-"`
}

// Good reports whether a backup is one to go back to: stored and read back, whole, and what it is was
// read.
func (b Backup) Good() bool {
	if b.State != BackupDone || b.Damage != "" || len(b.Worlds) == 0 {
		return false
	}
	for _, w := range b.Worlds {
		if !w.Wholeness.Whole() {
			return false
		}
	}
	return true
}

// BackupWorld is one world of a backup.
type BackupWorld struct {
	BackupID  int64          `db:"backup_id"`
	World     string         `db:"world"` // its name on disk
	CopyID    string         `db:"copy_id"`
	Library   string         `db:"library"` // its name in the library
	Title     string         `db:"title"`
	Bytes     int64          `db:"bytes"`
	AsBefore  bool           `db:"as_before"`
	Wholeness plan.Wholeness `db:"wholeness"`
	Moved     JSON[[]string] `db:"moved"`
	Read      int64          `db:"read"`
	Gone      bool           `db:"gone"`
	Pinned    bool           `db:"pinned"` // its copy is
}

const selectBackups = `SELECT b.*, r.name AS rule FROM backups b LEFT JOIN rules r ON r.id = b.rule_id WHERE true`

// BeginBackup records a backup that is being made.
func (r *Records) BeginBackup(ctx context.Context, b Backup) (id int64, err error) {
	err = r.db.GetContext(ctx, &id, `INSERT INTO backups (server_id, server, rule_id, changeover_id, state, due_at,
		counted_at, created_by, note, pinned) VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10) RETURNING id`, b.ServerID,
		b.Server,
		b.RuleID, b.ChangeoverID, b.State, b.DueAt, b.CountedAt, b.CreatedBy, b.Note, b.Pinned)
	return id, classify("begin", "backup", err)
}

// AddBackupWorld records a world that a backup has stored. Told twice, it says the last.
func (r *Records) AddBackupWorld(ctx context.Context, w BackupWorld) error {
	_, err := r.db.ExecContext(
		ctx, `INSERT INTO backup_worlds (backup_id, world, copy_id, as_before, wholeness, moved, read)
		VALUES ($1,$2,$3,$4,$5,$6,$7) ON CONFLICT (backup_id, world) DO UPDATE SET copy_id = $3, as_before = $4,
		wholeness = $5, moved = $6, read = $7`, w.BackupID, w.World, w.CopyID, w.AsBefore, w.Wholeness, w.Moved, w.Read)
	return classify("add to", "backup", err)
}

// LastCopyBefore gives the copy of a world that the last good backup of the same server before a backup has, "" for
// none.
func (r *Records) LastCopyBefore(ctx context.Context, id int64, world string) (copyID string, err error) {
	err = r.db.GetContext(ctx, &copyID, `SELECT w.copy_id FROM backups b JOIN backups me ON me.id = $1
		AND b.server_id = me.server_id AND b.id < me.id JOIN backup_worlds w ON w.backup_id = b.id AND w.world = $2
		WHERE b.state = 'done' AND b.aside_at IS NULL AND b.gone_at IS NULL ORDER BY b.id DESC LIMIT 1`, id, world)
	if e := classify("find copy of", world, err); fault.CodeOf(e) != fault.NotFound {
		return copyID, e
	}
	return "", nil
}

// SetBackupRecord records what a server was when it was backed up.
func (r *Records) SetBackupRecord(ctx context.Context, id int64, record string, about keep.Record) error {
	_, err := r.db.ExecContext(ctx, `UPDATE backups SET record = $2, about = $3 WHERE id = $1`, id, record,
		JSON[keep.Record]{about})
	return classify("add to", "backup", err)
}

// EndBackup records how a backup that was running has ended; false when it had ended already. What a
// server's backups have written grows with it.
func (r *Records) EndBackup(ctx context.Context, id int64, state string, failure *Failure, at time.Time) (bool, error) {
	got, err := r.db.ExecContext(ctx, `UPDATE backups b SET state = $2, ended_at = $4, failure = $3,
		read_at = CASE WHEN $2::text = 'done' THEN $4::timestamptz END,
		bytes = COALESCE((SELECT sum(c.bytes) FROM backup_worlds w JOIN copies c ON c.id = w.copy_id
		WHERE w.backup_id = b.id), 0),
		written = COALESCE((SELECT max(o.written) FROM backups o WHERE o.server_id = b.server_id AND o.id < b.id), 0)
			+ COALESCE((SELECT sum(w.read) FROM backup_worlds w WHERE w.backup_id = b.id AND NOT w.as_before), 0)
		WHERE id = $1 AND state = 'running'`, id, state, JSON[*Failure]{failure}, at)
	if err != nil {
		return false, classify("end", "backup", err)
	}
	n, _ := got.RowsAffected()
	return n > 0, nil
}

// BackupByID gives a backup with its worlds.
func (r *Records) BackupByID(ctx context.Context, id int64) (b Backup, err error) {
	err = r.db.GetContext(ctx, &b, selectBackups+` AND b.id = $1`, id)
	if e := classify("find", "backup", err); fault.CodeOf(e) == fault.NotFound {
		return b, fault.New(fault.NotFound, "find", "backup", "there is no backup %d", id).
			With("reshard backups lists them.")
	} else if e != nil {
		return b, e
	}
	list := []Backup{b}
	err = r.takeBackupWorlds(ctx, list)
	return list[0], err
}

// BackupOf gives the backup that a changeover makes.
func (r *Records) BackupOf(ctx context.Context, changeover int64) (b Backup, err error) {
	err = r.db.GetContext(ctx, &b, selectBackups+` AND b.changeover_id = $1`, changeover)
	return b, classify("find", "backup", err)
}

// BackupQuery is which backups are wanted. What is empty asks for nothing.
type BackupQuery struct {
	Page
	Server, Rule, State string
	// Aside asks for those that are set aside, and only these.
	Aside bool
}

// BackupPage gives a page of backups, newest first, and where the next one begins; "" after the last.
func (r *Records) BackupPage(ctx context.Context, bq BackupQuery) (out []Backup, next string, err error) {
	from, err := bq.begin("-begun")
	if err != nil {
		return nil, "", err
	}
	var q query
	if bq.Server != "" {
		q.add("b.server = ?", bq.Server)
	}
	if bq.Rule != "" {
		q.add("r.name = ?", bq.Rule)
	}
	if bq.State != "" {
		q.add("b.state = ?", bq.State)
	}
	q.add("(b.aside_at IS NOT NULL) = ?", bq.Aside)
	q.where = append(q.where, "b.gone_at IS NULL")
	q.after(order{down: true}, "b.id", from, bq.After != "")
	limit := bq.limit()
	err = r.db.SelectContext(ctx, &out, selectBackups+q.String()+order{down: true}.by("b.id")+
		fmt.Sprintf(" LIMIT %d", limit+1), q.args...)
	if len(out) > limit {
		out = out[:limit]
		next = cursor{Order: "-begun", ID: out[limit-1].ID}.String()
	}
	if err != nil {
		return nil, "", classify("list", "backups", err)
	}
	return out, next, r.takeBackupWorlds(ctx, out)
}

// KeptBackups gives all backups that are done and not set aside, of all servers, oldest first, with their
// worlds.
func (r *Records) KeptBackups(ctx context.Context) (out []Backup, err error) {
	err = r.db.SelectContext(ctx, &out, selectBackups+
		` AND b.state = 'done' AND b.aside_at IS NULL AND b.gone_at IS NULL
		ORDER BY b.id`)
	if err != nil {
		return nil, classify("list", "backups", err)
	}
	return out, r.takeBackupWorlds(ctx, out)
}

// DamagedBackups gives those that are kept and do not read any more.
func (r *Records) DamagedBackups(ctx context.Context) (out []Backup, err error) {
	err = r.db.SelectContext(ctx, &out, selectBackups+` AND b.damage <> '' AND b.aside_at IS NULL AND b.gone_at IS NULL
		AND b.read_at IS NOT NULL ORDER BY b.id`)
	return out, classify("list", "backups", err)
}

// RunningBackups gives those that are being made, as far as the records know, with the state of their
// changeovers.
func (r *Records) RunningBackups(ctx context.Context) (out []struct {
	Backup
	Changeover *string `db:"changeover_state"`
}, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT b.*, NULL::text AS rule, c.state AS changeover_state FROM backups b
		LEFT JOIN changeovers c ON c.id = b.changeover_id WHERE b.state = 'running' ORDER BY b.id`)
	return out, classify("list", "backups", err)
}

// ForgetBackup forgets a backup that was never begun.
func (r *Records) ForgetBackup(ctx context.Context, id int64) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM backups WHERE id = $1 AND record IS NULL
		AND NOT EXISTS (SELECT FROM backup_worlds WHERE backup_id = $1)`, id)
	return classify("forget", "backup", err)
}

// RuleStanding is what has come of a rule.
type RuleStanding struct {
	RuleID int64 `db:"rule_id"`
	// LastGood is when the last good backup of it was begun, ReadAt when that was read back.
	LastGood *time.Time `db:"last_good"`
	ReadAt   *time.Time `db:"read_at"`
	Kept     int        `db:"kept"`
	// LastState and LastWhy are those of the last one that has ended, LastAt when that was.
	LastState *string    `db:"last_state"`
	LastWhy   *string    `db:"last_why"`
	LastAt    *time.Time `db:"last_at"`
	// Running is when the one that is being made was begun.
	Running *time.Time `db:"running"`
}

// RuleStandings tells what has come of each rule, by its id.
func (r *Records) RuleStandings(ctx context.Context) (map[int64]RuleStanding, error) {
	var list []RuleStanding
	err := r.db.SelectContext(ctx, &list, `SELECT r.id AS rule_id,
			good.begun_at AS last_good, good.read_at, COALESCE(n.kept, 0) AS kept, last.state AS last_state,
			last.failure->>'what' AS last_why, last.ended_at AS last_at, running.begun_at AS running
		FROM rules r
		LEFT JOIN LATERAL (SELECT count(*) AS kept FROM backups b WHERE b.rule_id = r.id AND b.state = 'done'
			AND b.aside_at IS NULL AND b.gone_at IS NULL) n ON true
		LEFT JOIN LATERAL (SELECT b.begun_at, b.read_at FROM backups b WHERE b.rule_id = r.id AND b.state = 'done'
		AND b.damage = ''
			AND b.aside_at IS NULL AND b.gone_at IS NULL AND EXISTS (SELECT FROM backup_worlds w
			WHERE w.backup_id = b.id)
			AND NOT EXISTS (SELECT FROM backup_worlds w WHERE w.backup_id = b.id AND w.wholeness IN ('', 'moving'))
			ORDER BY b.id DESC LIMIT 1) good ON true
		LEFT JOIN LATERAL (SELECT b.state, b.failure, b.ended_at FROM backups b WHERE b.rule_id = r.id
		AND b.state <> 'running'
			ORDER BY b.id DESC LIMIT 1) last ON true
		LEFT JOIN LATERAL (SELECT b.begun_at FROM backups b WHERE b.rule_id = r.id AND b.state = 'running'
			ORDER BY b.id DESC LIMIT 1) running ON true
		WHERE r.removed_at IS NULL`)
	out := make(map[int64]RuleStanding, len(list))
	for _, s := range list {
		out[s.RuleID] = s
	}
	return out, classify("list", "backups", err)
}

// Unheld is a server's last backup, which was made while the server was to hold its writes, and did not.
type Unheld struct {
	ID      int64          `db:"id"`
	Server  string         `db:"server"`
	EndedAt time.Time      `db:"ended_at"`
	World   string         `db:"world"`
	Moved   JSON[[]string] `db:"moved"`
}

// UnheldBackups gives the servers whose last backup shows that they did not hold their writes.
func (r *Records) UnheldBackups(ctx context.Context) (out []Unheld, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT DISTINCT ON (last.id) last.id, s.name AS server, last.ended_at, w.world,
			w.moved
		FROM servers s
		JOIN LATERAL (SELECT b.id, b.ended_at, b.changeover_id FROM backups b WHERE b.server_id = s.id
			AND b.state = 'done' ORDER BY b.id DESC LIMIT 1) last ON true
		JOIN changeovers c ON c.id = last.changeover_id
		JOIN backup_worlds w ON w.backup_id = last.id AND w.wholeness = 'moving'
		WHERE s.removed_at IS NULL
			AND jsonb_path_exists(c.plan, '$.steps[*] ? (@.kind == "copy" && @.wholeness == "held")')
		ORDER BY last.id, w.world`)
	return out, classify("list", "backups", err)
}

// takeBackupWorlds fills in the worlds of many backups at once.
func (r *Records) takeBackupWorlds(ctx context.Context, list []Backup) error {
	ids, at := make([]int64, len(list)), make(map[int64]int, len(list))
	for i, b := range list {
		ids[i], at[b.ID] = b.ID, i
	}
	var worlds []BackupWorld
	err := r.db.SelectContext(ctx, &worlds, `SELECT bw.*, w.name AS library, COALESCE(c.facts->>'title', '') AS title,
		c.bytes, c.gone_at IS NOT NULL AS gone, c.pinned
		FROM backup_worlds bw JOIN copies c ON c.id = bw.copy_id JOIN worlds w ON w.id = c.world_id
		WHERE bw.backup_id IN (SELECT jsonb_array_elements($1::jsonb)::bigint) ORDER BY bw.backup_id, bw.world`,
		JSON[[]int64]{ids})
	for _, w := range worlds {
		b := &list[at[w.BackupID]]
		b.Worlds = append(b.Worlds, w)
	}
	return classify("list worlds of", "backups", err)
}

// SetBackup records what people, and the check, say of a backup.
func (r *Records) SetBackup(ctx context.Context, b Backup) error {
	got, err := r.db.ExecContext(ctx, `UPDATE backups SET note = $2, pinned = $3, read_at = $4, damage = $5
		WHERE id = $1 AND gone_at IS NULL`, b.ID, b.Note, b.Pinned, b.ReadAt, b.Damage)
	if err != nil {
		return classify("change", "backup", err)
	}
	if n, _ := got.RowsAffected(); n == 0 {
		return fault.New(fault.NotFound, "change", "backup", "backup %d is gone", b.ID)
	}
	return nil
}

// SetBackupsAside sets backups aside, and the copies that nothing else has: only those that backups have
// made, that nobody has pinned and that no other backup has. A service that may not act any more sets
// nothing aside. It gives how many of them there were.
func (r *Records) SetBackupsAside(ctx context.Context, ids []int64, by string, at time.Time) (n int64, err error) {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, classify("set aside", "backups", err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	got, err := tx.ExecContext(ctx, mineCTE+`UPDATE backups SET aside_at = $4, aside_by = $5
		WHERE id IN (SELECT jsonb_array_elements($3::jsonb)::bigint) AND aside_at IS NULL AND NOT pinned
		AND state <> 'running' AND EXISTS (SELECT FROM mine)`, r.lease.holder, r.lease.epoch, JSON[[]int64]{ids}, at,
		by)
	if err != nil {
		return 0, classify("set aside", "backups", err)
	}
	if n, _ = got.RowsAffected(); n == 0 {
		return 0, r.orLost(ctx, nil)
	}
	_, err = tx.ExecContext(ctx, `UPDATE copies SET aside_at = $2, aside_by = $3 WHERE aside_at IS NULL
		AND gone_at IS NULL
		AND kind = 'backup' AND NOT pinned AND id IN (SELECT w.copy_id FROM backup_worlds w
			WHERE w.backup_id IN (SELECT jsonb_array_elements($1::jsonb)::bigint))
		AND NOT EXISTS (SELECT FROM backup_worlds w JOIN backups b ON b.id = w.backup_id
			WHERE w.copy_id = copies.id AND b.aside_at IS NULL AND b.gone_at IS NULL)`, JSON[[]int64]{ids}, at, by)
	if err == nil {
		err = tx.Commit()
	}
	return n, classify("set aside", "backups", err)
}

// BringBackupBack takes back that a backup was set aside, and its copies.
func (r *Records) BringBackupBack(ctx context.Context, id int64) error {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return classify("bring back", "backup", err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	got, err := tx.ExecContext(
		ctx, `UPDATE backups SET aside_at = NULL, aside_by = '' WHERE id = $1 AND gone_at IS NULL`, id)
	if err != nil {
		return classify("bring back", "backup", err)
	}
	if n, _ := got.RowsAffected(); n == 0 {
		return fault.New(fault.NotFound, "bring back", "backup", "backup %d is gone", id)
	}
	_, err = tx.ExecContext(ctx, `UPDATE copies SET aside_at = NULL, aside_by = '' WHERE gone_at IS NULL
		AND id IN (SELECT copy_id FROM backup_worlds WHERE backup_id = $1)`, id)
	if err == nil {
		err = tx.Commit()
	}
	return classify("bring back", "backup", err)
}

// BackupsGone records that backups which were set aside before then are gone, as far as their copies are
// or others have them, and gives how many.
func (r *Records) BackupsGone(ctx context.Context, before time.Time) (int64, error) {
	got, err := r.db.ExecContext(
		ctx, mineCTE+`UPDATE backups SET gone_at = now() WHERE aside_at < $3 AND gone_at IS NULL
		AND NOT pinned AND EXISTS (SELECT FROM mine)`, r.lease.holder, r.lease.epoch, before)
	if err != nil {
		return 0, classify("tidy", "backups", err)
	}
	n, _ := got.RowsAffected()
	return n, nil
}

// Kept gives the ids of all that the vault must go on holding: copies of worlds, and what backups say of
// their servers.
func (r *Records) Kept(ctx context.Context) (out []string, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT id FROM copies WHERE gone_at IS NULL
		UNION SELECT record FROM backups WHERE record IS NOT NULL AND gone_at IS NULL`)
	return out, classify("list", "copies", err)
}

// KnownFile is a file of a server's world as its last backup found it.
type KnownFile struct {
	Key      string    `json:"k"` // part and path
	Size     int64     `json:"s"`
	Modified time.Time `json:"m"`
}

// KnownFiles are the files of a server's world as its last backup found them.
type KnownFiles struct {
	CopyID string
	// WholeAt is when all of them were read last.
	WholeAt time.Time
	Files   []KnownFile
}

// mostKnown bounds what is unpacked of them, in bytes.
const mostKnown = 256 << 20

// KnownFilesOf gives what is known of a server's world; fault.NotFound when nothing is.
func (r *Records) KnownFilesOf(ctx context.Context, serverID int64, world string) (k KnownFiles, err error) {
	var row struct {
		CopyID  string    `db:"copy_id"`
		WholeAt time.Time `db:"whole_at"`
		Files   []byte    `db:"files"`
	}
	err = r.db.GetContext(ctx, &row, `SELECT copy_id, whole_at, files FROM known_files WHERE server_id = $1 AND
		world = $2`,
		serverID, world)
	if err != nil {
		return k, classify("find files of", world, err)
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostKnown))
	if err != nil {
		return k, fault.Wrap(fault.Internal, "read files of", world, err)
	}
	defer dec.Close()
	data, err := dec.DecodeAll(row.Files, nil)
	if err == nil {
		err = json.Unmarshal(data, &k.Files)
	}
	k.CopyID, k.WholeAt = row.CopyID, row.WholeAt
	return k, fault.Wrap(fault.Internal, "read files of", world, err)
}

// SetKnownFiles records what is known of a server's world.
func (r *Records) SetKnownFiles(ctx context.Context, serverID int64, world string, k KnownFiles) error {
	data, err := json.Marshal(k.Files)
	if err != nil {
		return fault.Wrap(fault.Internal, "keep files of", world, err)
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return fault.Wrap(fault.Internal, "keep files of", world, err)
	}
	defer enc.Close() //nolint:errcheck // nothing is pending
	_, err = r.db.ExecContext(ctx, `INSERT INTO known_files (server_id, world, copy_id, whole_at, files) VALUES
		($1,$2,$3,$4,$5)
		ON CONFLICT (server_id, world) DO UPDATE SET copy_id = $3, whole_at = $4, files = $5`, serverID, world,
		k.CopyID,
		k.WholeAt, enc.EncodeAll(data, nil))
	return classify("keep files of", world, err)
}

// AdoptBackup records a backup that was found in the vault; false when it is known already, by its record.
func (r *Records) AdoptBackup(ctx context.Context, b Backup) (bool, error) {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, classify("adopt", "backup", err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	var known bool
	if err := tx.GetContext(ctx, &known, `SELECT EXISTS (SELECT FROM backups WHERE record = $1)`,
		b.Record); err != nil || known {
		return false, classify("adopt", "backup", err)
	}
	err = tx.GetContext(ctx, &b.ID, `INSERT INTO backups (server_id, server, state, begun_at, ended_at,
		counted_at, created_by, note,
		record, about, read_at) VALUES ((SELECT id FROM servers WHERE name = $1 AND removed_at IS NULL),
		$1, 'done', $2, $2, $2, $3, $4, $5, $6, $7)
		RETURNING id`, b.Server, b.BegunAt, b.CreatedBy, b.Note, b.Record, b.About, b.ReadAt)
	for _, w := range b.Worlds {
		if err == nil {
			_, err = tx.ExecContext(
				ctx, `INSERT INTO backup_worlds (backup_id, world, copy_id, as_before, wholeness, moved, read)
				VALUES ($1, $2, $3, false, $4, $5, 0)`, b.ID, w.World, w.CopyID, w.Wholeness, w.Moved)
		}
	}
	if err == nil {
		_, err = tx.ExecContext(ctx, `UPDATE backups SET bytes = COALESCE((SELECT sum(c.bytes) FROM backup_worlds w
			JOIN copies c ON c.id = w.copy_id WHERE w.backup_id = $1), 0) WHERE id = $1`, b.ID)
	}
	if err == nil {
		err = tx.Commit()
	}
	return err == nil, classify("adopt", "backup", err)
}
