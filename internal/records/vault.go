package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"reshard/internal/vault"
)

// VaultIndex is the vault's index in the database.
type VaultIndex struct{ r *Records }

// VaultIndex gives the vault's index.
func (r *Records) VaultIndex() VaultIndex { return VaultIndex{r} }

var _ vault.Index = VaultIndex{}

func raw(names []vault.Name) [][]byte {
	out := make([][]byte, len(names))
	for i := range names {
		out[i] = names[i][:]
	}
	return out
}

// Find gives the places of those entries that are known.
func (x VaultIndex) Find(ctx context.Context, kind vault.Kind,
	names []vault.Name) (map[vault.Name]vault.Position, error) {
	if len(names) == 0 {
		return map[vault.Name]vault.Position{}, nil
	}
	rows, err := x.r.pool.Query(
		ctx, `SELECT name, pack, start, stored, coding, size FROM vault_entries WHERE kind = $1 AND name = ANY($2)`,
		int16(kind), raw(names))
	if err != nil {
		return nil, classify("find in", "the vault's index", err)
	}
	out := make(map[vault.Name]vault.Position, len(names))
	var e scanned
	_, err = pgx.ForEachRow(rows, []any{&e.name, &e.pack, &e.start, &e.stored, &e.coding, &e.size}, func() error {
		out[vault.Name(e.name)] = e.place()
		return nil
	})
	return out, classify("find in", "the vault's index", err)
}

// scanned is an entry as the database gives it.
type scanned struct {
	kind, coding        int16
	name                []byte
	pack                string
	start, stored, size int64
}

func (s scanned) place() vault.Position {
	return vault.Position{
		Pack:   s.pack,
		Start:  s.start,
		Stored: s.stored,
		Coding: byte(s.coding),
		Size:   s.size,
	} //nolint:gosec // written from a byte
}

// Add makes packs known, all or none.
func (x VaultIndex) Add(ctx context.Context, packs []vault.Pack, made time.Time) error {
	return x.change(ctx, "add to", func(tx pgx.Tx) error {
		for _, p := range packs {
			if _, err := tx.Exec(ctx, `INSERT INTO vault_packs (id, bytes, made_at) VALUES ($1, $2, $3)
				ON CONFLICT (id) DO UPDATE SET bytes = $2`, p.ID, p.Bytes,
				made); err != nil {
				return err
			}
			if err := addEntries(ctx, tx, p.Entries); err != nil {
				return err
			}
		}
		return nil
	})
}

func addEntries(ctx context.Context, tx pgx.Tx, entries []vault.Entry) error {
	c := columnsOf(entries)
	_, err := tx.Exec(ctx, `INSERT INTO vault_entries (kind, name, pack, start, stored, coding, size)
		SELECT * FROM unnest($1::smallint[], $2::bytea[], $3::text[], $4::bigint[], $5::bigint[], $6::smallint[],
		$7::bigint[]) ON CONFLICT DO NOTHING`,
		c.kinds, c.names, c.packs, c.starts, c.stored, c.codings, c.sizes)
	return err
}

type columns struct {
	kinds, codings        []int16
	names                 [][]byte
	packs                 []string
	starts, stored, sizes []int64
}

func columnsOf(entries []vault.Entry) (c columns) {
	for i := range entries {
		e := &entries[i]
		c.kinds, c.codings = append(c.kinds, int16(e.Kind)), append(c.codings, int16(e.Coding))
		c.names, c.packs = append(c.names, e.Name[:]), append(c.packs, e.Pack)
		c.starts, c.stored, c.sizes = append(c.starts, e.Start), append(c.stored, e.Stored), append(c.sizes, e.Size)
	}
	return c
}

func (x VaultIndex) change(ctx context.Context, op string, do func(pgx.Tx) error) error {
	return classify(op, "the vault's index", pgx.BeginFunc(ctx, x.r.pool, do))
}

// Names hands out the names of all entries of a kind.
func (x VaultIndex) Names(ctx context.Context, kind vault.Kind, see func(vault.Name)) error {
	rows, err := x.r.pool.Query(ctx, `SELECT name FROM vault_entries WHERE kind = $1`, int16(kind))
	if err != nil {
		return classify("read", "the vault's index", err)
	}
	var name []byte
	_, err = pgx.ForEachRow(rows, []any{&name}, func() error { see(vault.Name(name)); return nil })
	return classify("read", "the vault's index", err)
}

// Holdings is what the vault holds: packs and their bytes, what stands in them, and the
// library's copies with the bytes that they would have without the vault.
type Holdings struct {
	Packs, Chunks, Copies int
	Bytes, Content        int64
}

// Holdings adds up what the vault holds.
func (r *Records) Holdings(ctx context.Context) (h Holdings, err error) {
	err = r.db.GetContext(ctx, &h, `SELECT
		(SELECT count(*) FROM vault_packs) AS packs, (SELECT coalesce(sum(bytes), 0)::bigint
		FROM vault_packs) AS bytes, (SELECT count(*) FROM vault_entries) AS chunks,
		(SELECT count(*) FROM copies WHERE gone_at IS NULL) AS copies, (SELECT coalesce(sum(bytes), 0)::bigint
		FROM copies WHERE gone_at IS NULL) AS content`)
	return h, classify("add up", "the vault", err)
}

// Packs lists the packs with what of them is known.
func (x VaultIndex) Packs(ctx context.Context) (out []vault.PackUse, err error) {
	err = x.r.db.SelectContext(
		ctx, &out, `SELECT p.id, p.bytes, p.made_at,
			count(e.name) AS entries, coalesce(sum(e.stored + 48), 0)::bigint AS known
		FROM vault_packs p LEFT JOIN vault_entries e ON e.pack = p.id GROUP BY p.id ORDER BY p.id`)
	return out, classify("list packs of", "the vault's index", err)
}

// Entries lists the known entries of a pack, in the order in which they stand there.
func (x VaultIndex) Entries(ctx context.Context, pack string) (out []vault.Entry, err error) {
	rows, err := x.r.pool.Query(
		ctx, `SELECT kind, name, pack, start, stored, coding, size FROM vault_entries WHERE pack = $1 ORDER BY start`,
		pack)
	if err != nil {
		return nil, classify("list entries of", pack, err)
	}
	var e scanned
	_, err = pgx.ForEachRow(rows, []any{&e.kind, &e.name, &e.pack, &e.start, &e.stored, &e.coding, &e.size},
		func() error {
			out = append(out, vault.Entry{
				Kind:     vault.Kind(e.kind),
				Name:     vault.Name(e.name),
				Position: e.place(),
			}) //nolint:gosec // written from a byte
			return nil
		})
	return out, classify("list entries of", pack, err)
}

// neededAtATime bounds what is held in memory of what copies need.
const neededAtATime = 10_000

// Forget drops every entry of a pack made before then that keep does not hand out.
func (x VaultIndex) Forget(ctx context.Context, keep func(need func(vault.Kind, vault.Name) error) error,
	before time.Time) (entries int, bytes int64, err error) {
	err = x.change(ctx, "forget in", func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `CREATE TEMPORARY TABLE needed (kind smallint NOT NULL,
			name bytea NOT NULL) ON COMMIT DROP`); err != nil {
			return err
		}
		var kinds []int16
		var names [][]byte
		flush := func() error {
			_, err := tx.Exec(ctx, `INSERT INTO needed SELECT DISTINCT * FROM unnest($1::smallint[], $2::bytea[])`,
				kinds, names)
			kinds, names = kinds[:0], names[:0]
			return err
		}
		err := keep(func(kind vault.Kind, name vault.Name) error {
			kinds, names = append(kinds, int16(kind)), append(names, name[:])
			if len(kinds) < neededAtATime {
				return nil
			}
			return flush()
		})
		if err != nil {
			return err
		}
		if err := flush(); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `ANALYZE needed`); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `WITH gone AS (DELETE FROM vault_entries e USING vault_packs p
			WHERE p.id = e.pack AND p.made_at < $1 AND NOT EXISTS (SELECT FROM needed n WHERE n.kind = e.kind
			AND n.name = e.name) RETURNING e.stored)
			SELECT count(*), coalesce(sum(stored), 0)::bigint FROM gone`, before).Scan(&entries, &bytes)
	})
	return entries, bytes, err
}

// Drop drops single entries.
func (x VaultIndex) Drop(ctx context.Context, entries []vault.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	c := columnsOf(entries)
	_, err := x.r.pool.Exec(ctx, `DELETE FROM vault_entries WHERE (kind, name) IN (SELECT *
		FROM unnest($1::smallint[], $2::bytea[]))`, c.kinds, c.names)
	return classify("drop from", "the vault's index", err)
}

// Move puts the entries that to has in the place of the same ones of the packs in from.
func (x VaultIndex) Move(ctx context.Context, from []string, to []vault.Pack) error {
	return x.change(ctx, "move in", func(tx pgx.Tx) error {
		for _, p := range to {
			if _, err := tx.Exec(
				ctx, `INSERT INTO vault_packs (id, bytes, made_at) SELECT $1, $2, max(made_at) FROM vault_packs
					WHERE id = ANY($3)`, p.ID, p.Bytes, from); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `DELETE FROM vault_entries WHERE pack = ANY($1)`, from); err != nil {
			return err
		}
		for _, p := range to {
			if err := addEntries(ctx, tx, p.Entries); err != nil {
				return err
			}
		}
		return nil
	})
}

// Remove forgets a pack that has no entries.
func (x VaultIndex) Remove(ctx context.Context, pack string) error {
	_, err := x.r.pool.Exec(ctx, `DELETE FROM vault_packs WHERE id = $1`, pack)
	return classify("remove from", "the vault's index", err)
}

// Clear forgets everything.
func (x VaultIndex) Clear(ctx context.Context) error {
	_, err := x.r.pool.Exec(ctx, `TRUNCATE vault_entries, vault_packs`)
	return classify("clear", "the vault's index", err)
}
