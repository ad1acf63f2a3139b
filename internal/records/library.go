package records

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode"

	"github.com/jmoiron/sqlx"
	"golang.org/x/text/unicode/norm"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
)

// World is a world of the library.
type World struct {
	ID        int64     `db:"id"`
	Name      string    `db:"name"` // unique, for commands and addresses
	Game      string    `db:"game"`
	Title     string    `db:"title"`
	CreatedAt time.Time `db:"created_at"`
}

// Copy is a stored state of a world.
type Copy struct {
	ID        string            `db:"id"`
	WorldID   int64             `db:"world_id"`
	World     string            `db:"world"` // the world's name
	Kind      string            `db:"kind"`
	Facts     JSON[world.World] `db:"facts"`
	Bytes     int64             `db:"bytes"`
	Files     int64             `db:"files"`
	Source    string            `db:"source"`
	CreatedBy string            `db:"created_by"`
	CreatedAt time.Time         `db:"created_at"`
}

const copyColumns = `c.id, c.world_id, w.name AS world, c.kind, c.facts, c.bytes, c.files, c.source, c.created_by, c.created_at`

// AddCopy records a stored copy of a world, or, when it names none, of a world of its own. Content
// that is in the library already gives the copy that has it, and isNew false.
func (r *Records) AddCopy(ctx context.Context, c Copy) (out Copy, isNew bool, err error) {
	if out, err = r.CopyByID(ctx, c.ID); err == nil {
		return out, false, nil
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
	_, err = tx.ExecContext(ctx, `INSERT INTO copies (id, world_id, kind, facts, bytes, files, source, created_by) VALUES ($1,$2,$3,$4,$5,$6,$7,$8)`,
		c.ID, c.WorldID, c.Kind, c.Facts, c.Bytes, c.Files, c.Source, c.CreatedBy)
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return Copy{}, false, classify("add copy", c.ID, err)
	}
	out, err = r.CopyByID(ctx, c.ID)
	return out, true, err
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
		err := tx.GetContext(ctx, &c.WorldID, `INSERT INTO worlds (name, game, title) VALUES ($1, $2, $3) ON CONFLICT (name) DO NOTHING RETURNING id`, name, c.Facts.V.Game, title)
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
	err = r.db.GetContext(ctx, &c, `SELECT `+copyColumns+` FROM copies c JOIN worlds w ON w.id = c.world_id WHERE c.id = $1`, id)
	return c, classify("find copy", id, err)
}

// Copies gives all copies, newest first.
func (r *Records) Copies(ctx context.Context) (out []Copy, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT `+copyColumns+` FROM copies c JOIN worlds w ON w.id = c.world_id ORDER BY c.created_at DESC, c.id`)
	return out, classify("list", "copies", err)
}

// FindCopy finds what a person means: a world's name (its newest copy), or the
// beginning (at least 6 digits) of a copy's id.
func (r *Records) FindCopy(ctx context.Context, ref string) (c Copy, err error) {
	err = r.db.GetContext(ctx, &c, `SELECT `+copyColumns+` FROM copies c JOIN worlds w ON w.id = c.world_id WHERE w.name = $1 ORDER BY c.created_at DESC LIMIT 1`, ref)
	if err == nil {
		return c, nil
	}
	if e := classify("find world", ref, err); fault.CodeOf(e) != fault.NotFound || len(ref) < 6 {
		return c, named(e, "world", ref, "reshard worlds")
	}
	var found []Copy
	err = r.db.SelectContext(ctx, &found, `SELECT `+copyColumns+` FROM copies c JOIN worlds w ON w.id = c.world_id WHERE starts_with(c.id, $1) LIMIT 2`, strings.ToLower(ref))
	switch {
	case err != nil:
		return c, classify("find copy", ref, err)
	case len(found) == 1:
		return found[0], nil
	case len(found) == 2:
		return c, fault.New(fault.Invalid, "find copy", ref, "several copies begin so").With("Give more digits of the copy's id.")
	}
	return c, fault.New(fault.NotFound, "find world", ref, "there is no world of that name and no copy whose id begins so").With("reshard worlds lists them.")
}

// named turns "no rows" into words about the thing that was asked for.
func named(err error, what, name, lister string) error {
	if fault.CodeOf(err) == fault.NotFound {
		return fault.New(fault.NotFound, "find "+what, name, "there is no %s of that name", what).With(lister + " lists them.")
	}
	return err
}
