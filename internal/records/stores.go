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
	TroubleSince *time.Time          `db:"trouble_since"`
	RemovedAt    *time.Time          `db:"removed_at"`
}

// AddStore records a store; its name must be new.
func (r *Records) AddStore(ctx context.Context, s Store) (Store, error) {
	err := r.db.GetContext(ctx, &s.ID, `INSERT INTO stores (name, settings, sealed, created_by) VALUES ($1, $2, $3, $4)
		RETURNING id`, s.Name, s.Settings, s.Sealed, s.CreatedBy)
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
		_, err = r.db.ExecContext(ctx, `DELETE FROM store_packs WHERE store_id = $1`, id)
	}
	return classify("remove", "store", err)
}

// StoreStands records that a store does what is asked, or why it does not.
func (r *Records) StoreStands(ctx context.Context, id int64, trouble string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE stores SET trouble = $2,
		trouble_since = CASE WHEN $2 = '' THEN NULL ELSE COALESCE(trouble_since, $3) END,
		reached_at = CASE WHEN $2 = '' THEN $3 ELSE reached_at END WHERE id = $1`, id, trouble, at)
	return classify("change", "store", err)
}

// StorePack is a pack as a store has it.
type StorePack struct {
	StoreID    int64      `db:"store_id"`
	Pack       string     `db:"pack"`
	Bytes      int64      `db:"bytes"`
	Key        string     `db:"key"`
	Sum        []byte     `db:"sum"`
	StoredAt   time.Time  `db:"stored_at"`
	CheckedAt  time.Time  `db:"checked_at"`
	UnneededAt *time.Time `db:"unneeded_at"`
}

// SetStorePack records that a store has a pack.
func (r *Records) SetStorePack(ctx context.Context, p StorePack) error {
	_, err := r.db.ExecContext(ctx, `INSERT INTO store_packs (store_id, pack, bytes, key, sum, stored_at, checked_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (store_id, pack) DO UPDATE
		SET bytes = $3, key = $4, sum = $5, stored_at = $6, checked_at = $7, unneeded_at = NULL`,
		p.StoreID, p.Pack, p.Bytes, p.Key, p.Sum, p.StoredAt, p.CheckedAt)
	return classify("note pack of", "store", err)
}

// StorePackChecked records that a pack of a store was read back, and how the store has it.
func (r *Records) StorePackChecked(ctx context.Context, p StorePack) error {
	_, err := r.db.ExecContext(ctx, `UPDATE store_packs SET checked_at = $3, bytes = $4, sum = $5, key = $6
		WHERE store_id = $1 AND pack = $2`, p.StoreID, p.Pack, p.CheckedAt, p.Bytes, p.Sum, p.Key)
	return classify("note check of", "store", err)
}

// ForgetStorePack records that a store does not have a pack.
func (r *Records) ForgetStorePack(ctx context.Context, store int64, pack string) error {
	_, err := r.db.ExecContext(ctx, `DELETE FROM store_packs WHERE store_id = $1 AND pack = $2`, store, pack)
	return classify("forget pack of", "store", err)
}

// PackOfVault is a pack that the vault has and a store lacks.
type PackOfVault struct {
	ID     string    `db:"id"`
	Bytes  int64     `db:"bytes"`
	MadeAt time.Time `db:"made_at"`
}

// StoreLacks gives the packs of the vault that a store does not have, or has for another key than the one
// that counts, oldest first, at most that many.
func (r *Records) StoreLacks(ctx context.Context, store int64, key string, most int) (out []PackOfVault, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT p.id, p.bytes, p.made_at FROM vault_packs p
		LEFT JOIN store_packs s ON s.store_id = $1 AND s.pack = p.id WHERE s.pack IS NULL OR s.key <> $2
		ORDER BY (s.pack IS NULL) DESC, p.made_at, p.id LIMIT $3`, store, key, most)
	return out, classify("list packs that lack in", "store", err)
}

// StoreLag is how far a store is behind.
type StoreLag struct {
	Packs int   `db:"packs"` // that it lacks
	Bytes int64 `db:"bytes"`
	// Since is when the oldest of them was made; nil: it has everything.
	Since *time.Time `db:"since"`
	// Has is how many it has, HasBytes how much that is there; OldKeys how many of them are for another key.
	Has      int   `db:"has"`
	HasBytes int64 `db:"has_bytes"`
	OldKeys  int   `db:"old_keys"`
	// Checked is when the one was read back that was read back longest ago.
	Checked *time.Time `db:"checked"`
}

// LagOf tells how far a store is behind.
func (r *Records) LagOf(ctx context.Context, store int64, key string) (l StoreLag, err error) {
	err = r.db.GetContext(ctx, &l, `SELECT
		(SELECT count(*) FROM vault_packs p WHERE NOT EXISTS (SELECT FROM store_packs s WHERE s.store_id = $1
		AND s.pack = p.id)) AS packs,
		(SELECT coalesce(sum(p.bytes), 0)::bigint FROM vault_packs p
			WHERE NOT EXISTS (SELECT FROM store_packs s WHERE s.store_id = $1 AND s.pack = p.id)) AS bytes,
		(SELECT min(p.made_at) FROM vault_packs p
			WHERE NOT EXISTS (SELECT FROM store_packs s WHERE s.store_id = $1 AND s.pack = p.id)) AS since,
		count(*) AS has, coalesce(sum(s.bytes), 0)::bigint AS has_bytes, count(*) FILTER (WHERE s.key <> $2)
		AS old_keys,
		min(s.checked_at) AS checked FROM store_packs s WHERE s.store_id = $1`, store, key)
	return l, classify("tell how far behind is", "store", err)
}

// StorePacks gives what a store has, what was read back longest ago first, at most that many; 0: all.
func (r *Records) StorePacks(ctx context.Context, store int64, most int) (out []StorePack, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM store_packs WHERE store_id = $1 ORDER BY checked_at, pack
		LIMIT NULLIF($2, 0)`, store, most)
	return out, classify("list packs of", "store", err)
}

// MarkUnneeded notes since when the vault has no such packs any more as a store has, and takes that back where it
// has them again.
func (r *Records) MarkUnneeded(ctx context.Context, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE store_packs s SET unneeded_at =
		CASE WHEN EXISTS (SELECT FROM vault_packs p WHERE p.id = s.pack) THEN NULL ELSE COALESCE(s.unneeded_at, $1) END
		WHERE (s.unneeded_at IS NULL) = NOT EXISTS (SELECT FROM vault_packs p WHERE p.id = s.pack)`, at)
	return classify("mark packs of", "stores", err)
}

// Unneeded gives the packs of a store that the vault has not had since before then.
func (r *Records) Unneeded(ctx context.Context, store int64, before time.Time) (out []StorePack, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT * FROM store_packs WHERE store_id = $1 AND unneeded_at < $2
		ORDER BY pack`,
		store, before)
	return out, classify("list packs of", "store", err)
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
