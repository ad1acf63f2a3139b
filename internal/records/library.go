package records

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/jmoiron/sqlx"
	"golang.org/x/text/unicode/norm"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
)

// WorldEntry is a world of the library.
type WorldEntry struct {
	ID        int64          `db:"id"`
	Name      string         `db:"name"` // unique, for commands and addresses
	Game      string         `db:"game"`
	Title     string         `db:"title"`
	CreatedAt time.Time      `db:"created_at"`
	Note      string         `db:"note"`
	Tags      JSON[[]string] `db:"tags"`
}

// Copy is a stored state of a world.
type Copy struct {
	ID        string            `db:"id"`
	WorldID   int64             `db:"world_id"`
	World     string            `db:"world"` // the world's name
	Kind      string            `db:"kind"`
	Facts     JSON[world.Facts] `db:"facts"`
	Bytes     int64             `db:"bytes"`
	Files     int64             `db:"files"`
	Source    string            `db:"source"`
	CreatedBy string            `db:"created_by"`
	CreatedAt time.Time         `db:"created_at"`
	Note      string            `db:"note"`
	Pinned    bool              `db:"pinned"`
	AsideAt   *time.Time        `db:"aside_at"`
	AsideBy   string            `db:"aside_by"`
	GoneAt    *time.Time        `db:"gone_at"`
	// Where it was taken from, and the copy that had been brought there.
	ServerID     *int64  `db:"server_id"`
	Server       *string `db:"server"`
	ChangeoverID *int64  `db:"changeover_id"`
	MadeOf       *string `db:"made_of"`
}

// told is what a person may remember of a copy, as one text to search in.
func (c Copy) told() string {
	f := c.Facts.V
	out := []string{c.ID, c.Kind, c.Note, c.Source, c.CreatedBy, f.Title, f.Folder}
	for _, one := range f.Facts {
		out = append(out, one.Text)
		for _, it := range one.Items {
			out = append(out, it.Name)
		}
	}
	for _, p := range f.Players {
		out = append(out, p.Name, p.ID)
	}
	slices.Sort(out) // facts come in any order
	return strings.ToValidUTF8(strings.ReplaceAll(folded(strings.Join(out, " ")), "\x00", ""), "")
}

const (
	copyColumns = `c.id, c.world_id, w.name AS world, c.kind, c.facts, c.bytes, c.files, c.source, c.created_by,
		c.created_at,
		c.note, c.pinned, c.aside_at, c.aside_by, c.gone_at, c.server_id, s.name AS server, c.changeover_id, c.made_of`
	copyTables = `copies c JOIN worlds w ON w.id = c.world_id LEFT JOIN servers s ON s.id = c.server_id`
)

// AddCopy records a stored copy of a world, or, when it names none, of a world of its own. Content
// that is in the library already gives the copy that has it, and isNew false.
func (r *Records) AddCopy(ctx context.Context, c Copy) (out Copy, isNew bool, err error) {
	if out, err = r.CopyByID(ctx, c.ID); err == nil {
		return r.bringBack(ctx, out)
	}
	if fault.CodeOf(err) != fault.NotFound {
		return Copy{}, false, err
	}
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return Copy{}, false, classify("add copy", c.ID, err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	if c.WorldID == 0 {
		if c, err = newWorld(ctx, tx, c); err != nil {
			return Copy{}, false, err
		}
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO copies (id, world_id, kind, facts, bytes, files, source, created_by,
		server_id, changeover_id, made_of, told) VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12)`,
		c.ID, c.WorldID, c.Kind, c.Facts, c.Bytes, c.Files, c.Source, c.CreatedBy, c.ServerID, c.ChangeoverID, c.MadeOf,
		c.told())
	if err == nil {
		err = tx.Commit()
	}
	if err = classify("add copy", c.ID, err); fault.CodeOf(err) == fault.Exists { // it has arrived twice at once
		_ = tx.Rollback() // its connection may be the one that is asked for next
		out, err = r.CopyByID(ctx, c.ID)
		return out, false, err
	}
	if err != nil {
		return Copy{}, false, err
	}
	out, err = r.CopyByID(ctx, c.ID)
	return out, true, err
}

// bringBack makes a copy that is stored again one of the library again.
func (r *Records) bringBack(ctx context.Context, c Copy) (Copy, bool, error) {
	if c.AsideAt == nil && c.GoneAt == nil {
		return c, false, nil
	}
	_, err := r.db.ExecContext(ctx, `UPDATE copies SET aside_at = NULL, aside_by = '', gone_at = NULL WHERE id = $1`,
		c.ID)
	if err != nil {
		return c, false, classify("bring back", c.ID, err)
	}
	was := c.GoneAt != nil
	c, err = r.CopyByID(ctx, c.ID)
	return c, was, err
}

// newWorld adds a world for a copy, under a name that is free.
func newWorld(ctx context.Context, tx *sqlx.Tx, c Copy) (Copy, error) {
	title := c.Facts.V.Title
	if title == "" {
		title = c.Facts.V.Folder
	}
	base := Slug(title)
	for i := 1; ; i++ {
		name := base
		if i > 1 {
			name = fmt.Sprintf("%s-%d", base, i)
		}
		err := tx.GetContext(ctx, &c.WorldID, `INSERT INTO worlds (name, game, title) VALUES ($1, $2, $3)
			ON CONFLICT (name) DO NOTHING RETURNING id`, name, c.Facts.V.Game, title)
		if err == nil {
			c.World = name
			return c, nil
		}
		if e := classify("add world", name, err); fault.CodeOf(e) != fault.NotFound {
			return Copy{}, e
		}
	}
}

// Slug makes a name for commands and addresses out of a title.
func Slug(title string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(title)) {
		switch {
		case r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			b.WriteRune(r)
		case unicode.Is(unicode.Mn, r): // the mark of a decomposed letter
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
		if b.Len() >= 40 {
			break
		}
	}
	if s := strings.Trim(b.String(), "-"); s != "" {
		return s
	}
	return "world"
}

// CopyByID gives a copy by its full id.
func (r *Records) CopyByID(ctx context.Context, id string) (c Copy, err error) {
	err = r.db.GetContext(ctx, &c, `SELECT `+copyColumns+` FROM `+copyTables+` WHERE c.id = $1`, id)
	return c, classify("find copy", id, err)
}

// Copies gives all copies that the vault has, newest first; those that are set aside too.
func (r *Records) Copies(ctx context.Context) (out []Copy, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT `+copyColumns+` FROM `+copyTables+
		` WHERE c.gone_at IS NULL ORDER BY c.arrived_no DESC`)
	return out, classify("list", "copies", err)
}

// CopiesOf gives a world's copies that the vault has, newest first.
func (r *Records) CopiesOf(ctx context.Context, worldID int64) (out []Copy, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT `+copyColumns+` FROM `+copyTables+
		` WHERE c.world_id = $1 AND c.gone_at IS NULL ORDER BY c.arrived_no DESC`, worldID)
	return out, classify("list", "copies", err)
}

// FindCopy finds what a person means: a world's name (its newest copy), or the
// beginning (at least 6 digits) of a copy's id.
func (r *Records) FindCopy(ctx context.Context, ref string) (c Copy, err error) {
	err = r.db.GetContext(ctx, &c, `SELECT `+copyColumns+` FROM `+copyTables+
		` WHERE w.name = $1 AND c.aside_at IS NULL AND c.gone_at IS NULL ORDER BY c.arrived_no DESC LIMIT 1`, ref)
	if err == nil {
		return c, nil
	}
	if e := classify("find world", ref, err); fault.CodeOf(e) != fault.NotFound || len(ref) < 6 {
		return c, named(e, "world", ref, "reshard worlds")
	}
	var found []Copy
	err = r.db.SelectContext(ctx, &found, `SELECT `+copyColumns+` FROM `+copyTables+
		` WHERE starts_with(c.id, $1) AND c.gone_at IS NULL LIMIT 2`, strings.ToLower(
		ref))
	switch {
	case err != nil:
		return c, classify("find copy", ref, err)
	case len(found) == 1:
		return found[0], nil
	case len(found) == 2:
		return c, fault.New(fault.Invalid, "find copy", ref, "several copies begin so").
			With("Give more digits of the copy's id.")
	}
	return c, fault.New(fault.NotFound, "find world", ref,
		"there is no world of that name and no copy whose id begins so").
		With("reshard worlds lists them.")
}

// named turns "no rows" into words about the thing that was asked for.
func named(err error, what, name, lister string) error {
	if fault.CodeOf(err) == fault.NotFound {
		return fault.New(fault.NotFound, "find "+what, name, "there is no %s of that name", what).
			With(lister + " lists them.")
	}
	return err
}

// Worlds gives all worlds, by id.
func (r *Records) Worlds(ctx context.Context) (map[int64]WorldEntry, error) {
	var list []WorldEntry
	if err := r.db.SelectContext(ctx, &list, `SELECT * FROM worlds`); err != nil {
		return nil, classify("list", "worlds", err)
	}
	out := make(map[int64]WorldEntry, len(list))
	for _, w := range list {
		out[w.ID] = w
	}
	return out, nil
}

// SetWorld records what people say of a world.
func (r *Records) SetWorld(ctx context.Context, w WorldEntry) error {
	_, err := r.db.ExecContext(ctx, `UPDATE worlds SET title = $2, note = $3, tags = $4 WHERE id = $1`, w.ID, w.Title,
		w.Note, w.Tags)
	return classify("change world", w.Name, err)
}

// SetCopy records what people say of a copy, and whether it is set aside. It fails with
// fault.NotFound when the copy has gone since it was read: it may not be brought back
// any more.
func (r *Records) SetCopy(ctx context.Context, c Copy) error {
	got, err := r.db.ExecContext(
		ctx, `UPDATE copies SET note = $2, pinned = $3, aside_at = $4, aside_by = $5, told = $6
			WHERE id = $1 AND gone_at IS NULL`, c.ID, c.Note, c.Pinned, c.AsideAt, c.AsideBy, c.told())
	if err != nil {
		return classify("change copy", c.ID, err)
	}
	if n, err := got.RowsAffected(); err != nil || n == 0 {
		return fault.New(fault.NotFound, "change copy", c.ID, "it is gone")
	}
	return nil
}

// CopiesGone records that copies which were set aside before then are gone, but for
// those that a changeover still needs, and gives them.
func (r *Records) CopiesGone(ctx context.Context, before time.Time) (out []string, err error) {
	err = r.db.SelectContext(ctx, &out, `UPDATE copies SET gone_at = now() WHERE aside_at < $1 AND gone_at IS NULL
		AND NOT pinned
		AND NOT EXISTS (SELECT FROM backup_worlds w JOIN backups b ON b.id = w.backup_id
			WHERE w.copy_id = copies.id AND b.aside_at IS NULL AND b.gone_at IS NULL)
		AND id NOT IN (SELECT copy_id FROM changeovers WHERE copy_id IS NOT NULL AND state
		IN ('waiting', 'staging', 'switching', 'proving', 'undoing', 'held')) RETURNING id`, before)
	return out, classify("tidy", "copies", err)
}

// Join makes the copies and landmarks of one world another's, and forgets the one.
func (r *Records) Join(ctx context.Context, from, into WorldEntry) error {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return classify("join", from.Name, err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	for _, do := range []string{
		`UPDATE copies SET world_id = $2 WHERE world_id = $1`, `UPDATE landmarks SET world_id = $2 WHERE world_id = $1`,
		`DELETE FROM worlds WHERE id = $1 AND $2::bigint > 0`,
	} {
		if _, err := tx.ExecContext(ctx, do, from.ID, into.ID); err != nil {
			return classify("join", from.Name, err)
		}
	}
	if _, err := tx.ExecContext(ctx, `UPDATE worlds SET note = $2, tags = $3 WHERE id = $1`, into.ID, into.Note,
		into.Tags); err != nil {
		return classify("join", from.Name, err)
	}
	return classify("join", from.Name, tx.Commit())
}

// Split makes a copy the first of a world of its own, and gives the world's name.
func (r *Records) Split(ctx context.Context, c Copy) (string, error) {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return "", classify("split off", c.ID, err)
	}
	defer tx.Rollback() //nolint:errcheck // no effect after Commit
	if c, err = newWorld(ctx, tx, c); err != nil {
		return "", err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE copies SET world_id = $2 WHERE id = $1`, c.ID, c.WorldID); err != nil {
		return "", classify("split off", c.ID, err)
	}
	return c.World, classify("split off", c.ID, tx.Commit())
}

// SayApart records that two worlds are not the same.
func (r *Records) SayApart(ctx context.Context, a, b int64, by string) error {
	_, err := r.db.ExecContext(
		ctx, `INSERT INTO apart (world_id, other_id, told_by)
			VALUES (least($1::bigint, $2), greatest($1::bigint, $2), $3) ON CONFLICT DO NOTHING`, a, b, by)
	return classify("tell apart", "worlds", err)
}

// Apart gives the pairs of worlds that are not the same, the lesser id first.
func (r *Records) Apart(ctx context.Context) (map[[2]int64]bool, error) {
	var list []struct {
		A int64 `db:"world_id"`
		B int64 `db:"other_id"`
	}
	if err := r.db.SelectContext(ctx, &list, `SELECT world_id, other_id FROM apart`); err != nil {
		return nil, classify("list", "worlds", err)
	}
	out := map[[2]int64]bool{}
	for _, p := range list {
		out[[2]int64{p.A, p.B}] = true
	}
	return out, nil
}

// Journey is a changeover that a copy was part of.
type Journey struct {
	ID      int64      `db:"id"`
	Kind    string     `db:"kind"`
	State   string     `db:"state"`
	Server  string     `db:"server"`
	CopyID  string     `db:"copy_id"`
	EndedAt *time.Time `db:"ended_at"`
}

// Journeys gives the changeovers that brought a world's copies somewhere, oldest first.
func (r *Records) Journeys(ctx context.Context, worldID int64) (out []Journey, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT c.id, c.kind, c.state, s.name AS server, c.copy_id, c.ended_at
		FROM changeovers c
		JOIN servers s ON s.id = c.server_id JOIN copies k ON k.id = c.copy_id
		WHERE k.world_id = $1 AND c.kind IN (`+bringing+`) AND c.state <> 'drafted'
		AND c.started_at IS NOT NULL ORDER BY c.id`, worldID)
	return out, classify("list", "changeovers", err)
}

// WorldByID gives a world with the servers that it has been brought onto or was taken from.
func (r *Records) WorldByID(ctx context.Context, id int64) (w ListedWorld, err error) {
	err = r.db.GetContext(ctx, &w, `SELECT w.*, '' AS place, COALESCE((
			SELECT jsonb_agg(DISTINCT s.name ORDER BY s.name) FROM copies k
			LEFT JOIN changeovers c ON c.copy_id = k.id AND c.state = 'done'
				AND c.kind IN (`+bringing+`)
			JOIN servers s ON s.id = c.server_id OR s.id = k.server_id WHERE k.world_id = w.id), '[]') AS servers
		FROM worlds w WHERE w.id = $1`, id)
	return w, classify("find", "world", err)
}

// BroughtThere gives the copy of a world that was last brought onto a server before a
// changeover, "" when none was.
func (r *Records) BroughtThere(ctx context.Context, serverID, worldID, before int64) (id string, err error) {
	err = r.db.GetContext(ctx, &id, `SELECT c.copy_id FROM changeovers c JOIN copies k ON k.id = c.copy_id
		WHERE c.server_id = $1 AND k.world_id = $2 AND c.id < $3 AND c.state = 'done' AND c.kind
		IN (`+bringing+`) ORDER BY c.id DESC LIMIT 1`, serverID, worldID, before)
	if e := classify("find copy of", "changeover", err); fault.CodeOf(e) != fault.NotFound {
		return id, e
	}
	return "", nil
}

// BackedUpAs gives the world of which a copy was last taken from a server under that name on disk, 0 for
// none. What its copies say of its id, or else of its seed, must not be something else.
func (r *Records) BackedUpAs(ctx context.Context, serverID int64, w world.Facts) (id int64, err error) {
	err = r.db.GetContext(ctx, &id, `SELECT world_id FROM copies WHERE server_id = $1 AND facts->>'folder' = $2
		AND facts->>'game' = $5
		AND CASE WHEN COALESCE(facts #>> '{facts,world-id,text}', '') <> '' AND $3 <> ''
		THEN facts #>> '{facts,world-id,text}' = $3
			WHEN COALESCE(facts #>> '{facts,seed,text}', '') <> '' AND $4 <> '' THEN facts #>> '{facts,seed,text}' = $4
			ELSE true END
		ORDER BY arrived_no DESC LIMIT 1`, serverID, w.Folder, w.Fact("world-id").Text, w.Fact("seed").Text, w.Game)
	if e := classify("find copy of", w.Folder, err); fault.CodeOf(e) != fault.NotFound {
		return id, e
	}
	return 0, nil
}

// SetCopyMade records when a copy was made that has been found again.
func (r *Records) SetCopyMade(ctx context.Context, id string, at time.Time) error {
	_, err := r.db.ExecContext(ctx, `UPDATE copies SET created_at = $2 WHERE id = $1`, id, at)
	return classify("change copy", id, err)
}
