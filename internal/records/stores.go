package records

import (
	"context"
	"time"

	"reshard/internal/core/fault"
)

// StoreSettings say where a store is.
type StoreSettings struct {
	// Kind is files or s3.
	Kind string `json:"kind"`
	// Folder is that of files, absolute on the service's machine.
	Folder string `json:"folder,omitempty"`
	// Of an S3-compatible store: where it answers, the bucket, what names begin with, and its region. User is
	// the access key's id; Private says that its address may be one of a private network.
	Endpoint string `json:"endpoint,omitempty"`
	Bucket   string `json:"bucket,omitempty"`
	Prefix   string `json:"prefix,omitempty"`
	Region   string `json:"region,omitempty"`
	User     string `json:"user,omitempty"`
	Private  bool   `json:"private,omitempty"`
	// Plain: what goes there is not encrypted.
	Plain bool `json:"plain,omitempty"`
}

// StoreMark is what stands in a store beside its packs: which store it is, and whose.
type StoreMark struct {
	// ID tells the store from every other; Generation grows whenever somebody takes it over.
	ID         string `json:"id,omitempty"`
	Generation int    `json:"generation,omitempty"`
	// Vault is the identity of the data folder that sends there, Service what people know its service by.
	Vault   string    `json:"vault"`
	Service string    `json:"service,omitempty"`
	Plain   bool      `json:"plain"`
	Made    time.Time `json:"made"`
	// Taken is when it was taken over last.
	Taken *time.Time `json:"taken,omitempty"`
}

// Store is another place that gets everything that the vault has.
type Store struct {
	ID           int64               `db:"id"`
	Name         string              `db:"name"`
	Settings     JSON[StoreSettings] `db:"settings"`
	Sealed       []byte              `db:"sealed"`
	CreatedBy    string              `db:"created_by"`
	CreatedAt    time.Time           `db:"created_at"`
	ReachedAt    *time.Time          `db:"reached_at"`
	Trouble      string              `db:"trouble"`
	TroubleNext  string              `db:"trouble_next"`
	TroubleSince *time.Time          `db:"trouble_since"`
	RemovedAt    *time.Time          `db:"removed_at"`
	// Mark is what its mark must say; nil: it has none with an id yet.
	Mark *JSON[StoreMark] `db:"mark"`
	// Writes is false while it is only read.
	Writes      bool       `db:"writes"`
	SurveyedAt  *time.Time `db:"surveyed_at"`
	ConfirmedAt *time.Time `db:"confirmed_at"`
	ConfirmedBy string     `db:"confirmed_by"`
	// Asks is why packs are not removed before a person confirms that.
	Asks      string     `db:"asks"`
	AsksSince *time.Time `db:"asks_since"`
}

// AddStore records a store; its name must be new.
func (r *Records) AddStore(ctx context.Context, s Store) (Store, error) {
	err := r.db.GetContext(ctx, &s.ID, `INSERT INTO stores (name, settings, sealed, created_by, mark, writes)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, s.Name, s.Settings, s.Sealed, s.CreatedBy, s.Mark, s.Writes)
	if e := classify("add store", s.Name, err); fault.CodeOf(e) == fault.Exists {
		return s, fault.New(fault.Exists, "add store", s.Name, "there is a store of that name").
			With("reshard stores lists them.")
	} else if e != nil {
		return s, e
	}
	return r.StoreNamed(ctx, s.Name)
}

// StoreNamed gives a store by its name.
func (r *Records) StoreNamed(ctx context.Context, name string) (s Store, err error) {
	err = r.db.GetContext(ctx, &s, `SELECT * FROM stores WHERE removed_at IS NULL AND name = $1`, name)
	return s, named(classify("find store", name, err), "store", name, "reshard stores")
}

// Stores gives all stores in the order of their names.
func (r *Records) Stores(ctx context.Context) (out []Store, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM stores WHERE removed_at IS NULL ORDER BY name`)
	return out, classify("list", "stores", err)
}

// RemoveStore forgets a store; what is in it stays there.
func (r *Records) RemoveStore(ctx context.Context, id int64) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET removed_at = now(), sealed = NULL WHERE id = $1`, id)
	if err == nil {
		_, err = r.db.ExecContext(ctx, `WITH waits AS (DELETE FROM store_waits WHERE store_id = $1)
			DELETE FROM store_packs WHERE store_id = $1`, id)
	}
	return classify("remove", "store", err)
}

// StoreStands records that a store does what is asked, or why it does not and what helps.
func (r *Records) StoreStands(ctx context.Context, id int64, trouble, next string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET trouble = $2, trouble_next = $4,
		trouble_since = CASE WHEN $2 = '' THEN NULL ELSE COALESCE(trouble_since, $3) END,
		reached_at = CASE WHEN $2 = '' THEN $3 ELSE reached_at END WHERE id = $1`, id, trouble, at, next)
	return classify("change", "store", err)
}

// SetStoreMark records what the mark of a store says from now on.
func (r *Records) SetStoreMark(ctx context.Context, id int64, m StoreMark, writes bool) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET mark = $2, writes = $3 WHERE id = $1`, id, JSON[StoreMark]{m},
		writes)
	return classify("note mark of", "store", err)
}

// StoreSurveyed records that a store was listed to its end.
func (r *Records) StoreSurveyed(ctx context.Context, id int64, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET surveyed_at = $2 WHERE id = $1`, id, at)
	return classify("change", "store", err)
}

// ConfirmPlace records that a store is meant to be where it is.
func (r *Records) ConfirmPlace(ctx context.Context, id int64, by string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET confirmed_at = $2, confirmed_by = $3 WHERE id = $1`, id, at, by)
	return classify("change", "store", err)
}

// TakenFolders are the folders of the service's own machine that belong to servers, and the database's, as far as
// the database says that.
func (r *Records) TakenFolders(ctx context.Context) (roots []string, database string, err error) {
	err = r.db.SelectContext(ctx, &roots, `SELECT s.root FROM servers s JOIN hosts h ON h.id = s.host_id
		WHERE s.removed_at IS NULL AND h.kind = 'local'`)
	if err != nil {
		return nil, "", classify("list folders of", "servers", err)
	}
	_ = r.db.GetContext(ctx, &database, `SHOW data_directory`) // not everybody is told
	return roots, database, nil
}

// StorePack is a pack as a store has it.
type StorePack struct {
	StoreID    int64      `db:"store_id"`
	Pack       string     `db:"pack"`
	Bytes      int64      `db:"bytes"`
	Key        string     `db:"key"` // UnreadKey: nobody has read it here yet
	Sum        []byte     `db:"sum"`
	StoredAt   time.Time  `db:"stored_at"`
	CheckedAt  time.Time  `db:"checked_at"`
	UnneededAt *time.Time `db:"unneeded_at"`
	// Listed says that the vault has listed it, now or before; Ours that this service wrote it there, took it over
	// or recovered it.
	Listed bool `db:"listed"`
	Ours   bool `db:"ours"`
	// Trouble is why it was not read when that was last tried.
	Trouble string `db:"trouble"`
}

// UnreadKey stands for the key of a pack that was found in a store and not read yet.
const UnreadKey = "?"

// SetStorePack records that this service has written a pack of its vault to a store.
func (r *Records) SetStorePack(ctx context.Context, p StorePack) error {
	_, err := r.db.ExecContext(ctx, `WITH sent AS (DELETE FROM store_waits WHERE store_id = $1 AND pack = $2)
		INSERT INTO store_packs (store_id, pack, bytes, key, sum, stored_at, checked_at, listed, ours)
		VALUES ($1, $2, $3, $4, $5, $6, $7, true, true) ON CONFLICT (store_id, pack) DO UPDATE
		SET bytes = $3, key = $4, sum = $5, stored_at = $6, checked_at = $7, unneeded_at = NULL, listed = true,
			ours = true, trouble = ''`,
		p.StoreID, p.Pack, p.Bytes, p.Key, p.Sum, p.StoredAt, p.CheckedAt)
	return classify("note pack of", "store", err)
}

// FoundStorePacks records what a store was found to have. What is on record already stays as it is.
func (r *Records) FoundStorePacks(ctx context.Context, found []StorePack) error {
	if len(found) == 0 {
		return nil
	}
	_, err := r.db.NamedExecContext(ctx, `INSERT INTO store_packs
		(store_id, pack, bytes, key, sum, stored_at, checked_at)
		VALUES (:store_id, :pack, :bytes, :key, :sum, :stored_at, :checked_at) ON CONFLICT DO NOTHING`, found)
	return classify("note packs of", "store", err)
}

// OwnStorePacks takes packs of a store for this service's own: with all those that are there now, else those that
// the vault lists. It says how many were not before.
func (r *Records) OwnStorePacks(ctx context.Context, store int64, all bool) (int64, error) {
	done, err := r.db.ExecContext(ctx, `UPDATE store_packs s SET ours = true, listed = s.listed OR p.listed
		FROM (SELECT pack, EXISTS (SELECT FROM vault_packs v WHERE v.id = pack) AS listed
			FROM store_packs WHERE store_id = $1) p
		WHERE s.store_id = $1 AND s.pack = p.pack AND ($2 OR p.listed) AND NOT (s.ours AND s.listed)`, store, all)
	if err != nil {
		return 0, classify("take over packs of", "store", err)
	}
	n, err := done.RowsAffected()
	return n, classify("take over packs of", "store", err)
}

// StorePackChecked records that a pack of a store was read back, and how the store has it.
func (r *Records) StorePackChecked(ctx context.Context, p StorePack) error {
	_, err := r.db.ExecContext(ctx, `UPDATE store_packs SET checked_at = $3, bytes = $4, sum = $5, key = $6,
		trouble = '' WHERE store_id = $1 AND pack = $2`, p.StoreID, p.Pack, p.CheckedAt, p.Bytes, p.Sum, p.Key)
	return classify("note check of", "store", err)
}

// StorePackUnread records why a pack of a store was not read.
func (r *Records) StorePackUnread(ctx context.Context, store int64, pack, trouble string) error {
	_, err := r.db.ExecContext(ctx, `UPDATE store_packs SET trouble = $3 WHERE store_id = $1 AND pack = $2`, store,
		pack, trouble)
	return classify("note check of", "store", err)
}

// ForgetStorePack records that a store does not have a pack.
func (r *Records) ForgetStorePack(ctx context.Context, store int64, pack string) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM store_packs WHERE store_id = $1 AND pack = $2`, store, pack)
	return classify("forget pack of", "store", err)
}

// ForgetStorePacks records that nothing is known of what a store has.
func (r *Records) ForgetStorePacks(ctx context.Context, store int64) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM store_packs WHERE store_id = $1`, store)
	return classify("forget packs of", "store", err)
}

// StoreAsks records why packs of a store are not removed before a person confirms that, "" for no such thing.
func (r *Records) StoreAsks(ctx context.Context, id int64, why string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET asks = $2,
		asks_since = CASE WHEN $2 = '' THEN NULL ELSE COALESCE(asks_since, $3) END WHERE id = $1`, id, why, at)
	return classify("change", "store", err)
}

// StoreWait is a pack that a store did not take.
type StoreWait struct {
	StoreID int64     `db:"store_id"`
	Pack    string    `db:"pack"`
	Tries   int       `db:"tries"`
	AgainAt time.Time `db:"again_at"`
	Trouble string    `db:"trouble"`
}

// The first wait after a pack was not taken, which doubles with each try, and the longest.
const (
	firstWait   = time.Minute
	longestWait = time.Hour
)

// StorePackWaits records that a store did not take a pack, which is tried again later each time.
func (r *Records) StorePackWaits(ctx context.Context, store int64, pack, trouble string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO store_waits (store_id, pack, tries, again_at, trouble)
		VALUES ($1, $2, 1, $3::timestamptz + make_interval(secs => $4), $5)
		ON CONFLICT (store_id, pack) DO UPDATE SET tries = store_waits.tries + 1, trouble = $5,
			again_at = $3::timestamptz + make_interval(secs => LEAST($6, $4 * 2 ^ LEAST(store_waits.tries, 20)))`,
		store, pack, at, firstWait.Seconds(), trouble, longestWait.Seconds())
	return classify("note pack of", "store", err)
}

// StoreWaits gives the packs that a store did not take, as far as the vault has them still, those first that are
// tried first, at most that many.
func (r *Records) StoreWaits(ctx context.Context, store int64, most int) (out []StoreWait, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT w.* FROM store_waits w JOIN vault_packs p ON p.id = w.pack
		WHERE w.store_id = $1 ORDER BY w.again_at, w.pack LIMIT $2`, store, most)
	return out, classify("list packs that wait for", "store", err)
}

// PackOfVault is a pack that the vault has and a store lacks.
type PackOfVault struct {
	ID     string    `db:"id"`
	Bytes  int64     `db:"bytes"`
	MadeAt time.Time `db:"made_at"`
}

// StoreLacks gives the packs of the vault that a store does not have from this service, oldest first, at most that
// many, but for those that wait until after now.
func (r *Records) StoreLacks(ctx context.Context, store int64, now time.Time, most int) (out []PackOfVault, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT p.id, p.bytes, p.made_at FROM vault_packs p
		LEFT JOIN store_packs s ON s.store_id = $1 AND s.pack = p.id
		LEFT JOIN store_waits w ON w.store_id = $1 AND w.pack = p.id
		WHERE (s.pack IS NULL OR NOT s.ours) AND (w.again_at IS NULL OR w.again_at <= $2)
		ORDER BY p.made_at, p.id LIMIT $3`, store, now, most)
	return out, classify("list packs that lack in", "store", err)
}

// StoreOldKeys gives the packs of the vault that a store has from this service for another key than the one that
// counts, at most that many, but for those that wait until after now.
func (r *Records) StoreOldKeys(ctx context.Context, store int64, key string, now time.Time, most int) (
	out []PackOfVault, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT p.id, p.bytes, p.made_at FROM vault_packs p
		JOIN store_packs s ON s.store_id = $1 AND s.pack = p.id
		LEFT JOIN store_waits w ON w.store_id = $1 AND w.pack = p.id
		WHERE s.ours AND s.key <> $2 AND (w.again_at IS NULL OR w.again_at <= $3)
		ORDER BY p.made_at, p.id LIMIT $4`, store, key, now, most)
	return out, classify("list packs of older keys in", "store", err)
}

// StoreLag is how far a store is behind.
type StoreLag struct {
	Packs int   `db:"packs"` // that it lacks
	Bytes int64 `db:"bytes"`
	// Since is when the oldest of them was made; nil: it has everything.
	Since *time.Time `db:"since"`
	// Has is how many it has, HasBytes how much that is there; OldKeys how many of them are for another key than
	// the one that counts, as far as they were read, and Unread how many were not read here yet.
	Has      int   `db:"has"`
	HasBytes int64 `db:"has_bytes"`
	OldKeys  int   `db:"old_keys"`
	Unread   int   `db:"unread"`
	// Foreign is how many of them are not this service's own, Troubled how many were not read when that was tried.
	Foreign  int `db:"foreign_packs"`
	Troubled int `db:"troubled"`
	// Waits is how many packs it did not take and is asked again.
	Waits int `db:"waits"`
	// Checked is when the one was read back that was read back longest ago.
	Checked *time.Time `db:"checked"`
}

// LagOf tells how far a store is behind.
func (r *Records) LagOf(ctx context.Context, store int64, key string) (l StoreLag, err error) {
	err = r.db.GetContext(ctx, &l, `WITH lacks AS (SELECT p.* FROM vault_packs p
			WHERE NOT EXISTS (SELECT FROM store_packs s WHERE s.store_id = $1 AND s.pack = p.id AND s.ours))
		SELECT (SELECT count(*) FROM lacks) AS packs, (SELECT coalesce(sum(bytes), 0)::bigint FROM lacks) AS bytes,
		(SELECT min(made_at) FROM lacks) AS since,
		(SELECT count(*) FROM store_waits w JOIN vault_packs p ON p.id = w.pack WHERE w.store_id = $1) AS waits,
		count(*) AS has, coalesce(sum(s.bytes), 0)::bigint AS has_bytes,
		count(*) FILTER (WHERE s.key NOT IN ($2, $3)) AS old_keys, count(*) FILTER (WHERE s.key = $3) AS unread,
		count(*) FILTER (WHERE NOT s.ours) AS foreign_packs, count(*) FILTER (WHERE s.trouble <> '') AS troubled,
		min(s.checked_at) AS checked FROM store_packs s WHERE s.store_id = $1`, store, key, UnreadKey)
	return l, classify("tell how far behind is", "store", err)
}

// StorePacks gives what a store has, what was read back longest ago first, at most that many; 0: all.
func (r *Records) StorePacks(ctx context.Context, store int64, most int) (out []StorePack, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM store_packs WHERE store_id = $1 ORDER BY checked_at, pack
		LIMIT NULLIF($2, 0)`, store, most)
	return out, classify("list packs of", "store", err)
}

// MarkUnneeded notes since when the vault has no such packs any more as a store has, and takes that back where it
// has them again. A pack that the vault has never listed, or that is not this service's own, is never unneeded.
func (r *Records) MarkUnneeded(ctx context.Context, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE store_packs s SET listed = s.listed OR p.now,
		unneeded_at = CASE WHEN p.now OR NOT s.ours OR NOT s.listed THEN NULL ELSE COALESCE(s.unneeded_at, $1) END
		FROM (SELECT store_id, pack, EXISTS (SELECT FROM vault_packs v WHERE v.id = pack) AS now FROM store_packs) p
		WHERE s.store_id = p.store_id AND s.pack = p.pack AND (p.now AND NOT s.listed
			OR (s.unneeded_at IS NULL) = (NOT p.now AND s.ours AND s.listed))`, at)
	return classify("mark packs of", "stores", err)
}

// Unneeded gives the packs of a store that the vault has not had since some time, the longest ago first.
func (r *Records) Unneeded(ctx context.Context, store int64) (out []StorePack, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM store_packs WHERE store_id = $1 AND unneeded_at IS NOT NULL
		AND ours AND listed ORDER BY unneeded_at, pack`, store)
	return out, classify("list packs of", "store", err)
}

// StoreKeys gives how many packs stores have for each key, by its public part.
func (r *Records) StoreKeys(ctx context.Context, store int64) (map[string]int, error) {
	var list []struct {
		Key   string `db:"key"`
		Packs int    `db:"packs"`
	}
	err := r.db.SelectContext(ctx, &list, `SELECT key, count(*) AS packs FROM store_packs
		WHERE store_id = $1 OR $1 = 0 GROUP BY key`, store)
	out := map[string]int{}
	for _, k := range list {
		out[k.Key] = k.Packs
	}
	return out, classify("count packs of", "stores", err)
}

// UncheckedPacks gives the packs of the vault that were read back longest ago, at most that many, and how many there
// are in all.
func (r *Records) UncheckedPacks(ctx context.Context, most int) (out []string, all int, err error) {
	if err = r.db.GetContext(ctx, &all, `SELECT count(*) FROM vault_packs`); err == nil {
		err = r.db.SelectContext(
			ctx, &out, `SELECT id FROM vault_packs ORDER BY COALESCE(checked_at, made_at), id LIMIT $1`, most)
	}
	return out, all, classify("list packs of", "the vault", err)
}

// PackChecked records that a pack of the vault was read back.
func (r *Records) PackChecked(ctx context.Context, id string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE vault_packs SET checked_at = $2 WHERE id = $1`, id, at)
	return classify("note check of", "the vault", err)
}

// VaultChecked is when the pack of the vault was read back, or made, that was so longest ago; nil: there is none.
func (r *Records) VaultChecked(ctx context.Context) (at *time.Time, err error) {
	err = r.db.GetContext(ctx, &at, `SELECT min(COALESCE(checked_at, made_at)) FROM vault_packs`)
	return at, classify("ask about", "the vault", err)
}

// Finding is something that the standing check has found.
type Finding struct {
	ID     int64     `db:"id" json:"id"`
	At     time.Time `db:"at" json:"at"`
	Store  string    `db:"store" json:"store"`
	Pack   string    `db:"pack" json:"pack"`
	What   string    `db:"what" json:"what"`
	Mended bool      `db:"mended" json:"mended"`
}

// AddFinding records what the standing check has found.
func (r *Records) AddFinding(ctx context.Context, f Finding) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO findings (store, pack, what, mended) VALUES ($1, $2, $3, $4)`, f.Store,
		f.Pack,
		f.What, f.Mended)
	return classify("note", "finding", err)
}

// Findings gives the latest, newest first.
func (r *Records) Findings(ctx context.Context, most int) (out []Finding, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM findings ORDER BY id DESC LIMIT $1`, most)
	return out, classify("list", "findings", err)
}

// BackupsWith gives the backups that have one of some copies, or one of them as their record.
func (r *Records) BackupsWith(ctx context.Context, copies []string) (ids []int64, err error) {
	err = r.db.SelectContext(ctx, &ids, `SELECT DISTINCT b.id FROM backups b LEFT JOIN backup_worlds w
		ON w.backup_id = b.id
		WHERE b.gone_at IS NULL AND (w.copy_id IN (SELECT jsonb_array_elements_text($1::jsonb))
			OR b.record IN (SELECT jsonb_array_elements_text($1::jsonb))) ORDER BY b.id`, JSON[[]string]{copies})
	return ids, classify("find backups of", "copies", err)
}

// SetDamage records that backups are damaged, or with "" that they are whole again.
func (r *Records) SetDamage(ctx context.Context, ids []int64, damage string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE backups SET damage = $2, read_at = $3
		WHERE id IN (SELECT jsonb_array_elements($1::jsonb)::bigint)`, JSON[[]int64]{ids}, damage, at)
	return classify("note damage of", "backups", err)
}
