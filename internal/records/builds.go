package records

import (
	"context"
	"errors"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"reshard/internal/build"
	"reshard/internal/core/fault"
)

// oldestBuild is the oldest build that may use a database that this build has changed. It is raised by a change of the
// schema that older builds would misunderstand.
const oldestBuild = "0.1.0"

// schema is what is known of a database's schema.
type schema struct {
	// have is the last change that was made to it, 0 for none; newest the last one that this build knows.
	have, newest int64
	// oldest is the oldest build that may use it, changed the one that changed it last; "" when no build said so.
	oldest, changed string
}

// usable is an error when this build may not use a database: code Unsupported, with both versions.
func (s schema) usable() error {
	by := s.changed
	if by == "" {
		by = "another build"
	}
	next := "Start the build that changed it, or a later one; or restore the copy of the database from before the " +
		"update (docs/operations.md, “Updates”)."
	switch {
	case s.oldest != "" && build.Older(build.Version, s.oldest):
		return fault.New(fault.Unsupported, "open", "database", "it may be used from Reshard %s on; this is Reshard %s",
			s.oldest, build.Name()).With(next)
	case s.have > s.newest:
		return fault.New(fault.Unsupported, "open", "database",
			"it was changed by Reshard %s (schema %d); this is Reshard %s, which knows schemas up to %d", by, s.have,
			build.Name(), s.newest).With(next)
	}
	return nil
}

// forGood is what a migration's comment says when it cannot be undone.
var forGood = regexp.MustCompile(`(?m)^-- cannot be undone: (.+)$`)

// lasting gives what the migrations that are still to be made do that cannot be undone.
func (s schema) lasting(changes fs.FS) (out []string, err error) {
	if s.have == 0 {
		return nil, nil // there is nothing to lose
	}
	names, err := fs.Glob(changes, "*.sql")
	slices.Sort(names)
	for _, name := range names {
		if numberOf(name) <= s.have {
			continue
		}
		data, err := fs.ReadFile(changes, name)
		if err != nil {
			return nil, err
		}
		for _, m := range forGood.FindAllStringSubmatch(string(data), -1) {
			out = append(out, m[1])
		}
	}
	return out, err
}

// numberOf is the number that a migration's file begins with, 0 for none.
func numberOf(name string) (n int64) {
	for _, c := range name {
		if c < '0' || c > '9' {
			break
		}
		n = 10*n + int64(c-'0')
	}
	return n
}

// schemaOf reads what a database says of its schema.
func schemaOf(ctx context.Context, config *pgx.ConnConfig, changes fs.FS) (s schema, err error) {
	names, err := fs.Glob(changes, "*.sql")
	if err != nil {
		return s, fault.Wrap(fault.Internal, "read", "migrations", err)
	}
	for _, name := range names {
		s.newest = max(s.newest, numberOf(name))
	}
	c, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return s, classify("open", "database", err)
	}
	defer c.Close(ctx) //nolint:errcheck // it was only asked
	var versions, builds bool
	err = c.QueryRow(ctx, `SELECT to_regclass('goose_db_version') IS NOT NULL, to_regclass('builds') IS NOT NULL`).Scan(
		&versions, &builds)
	if err == nil && versions {
		err = c.QueryRow(ctx, `SELECT COALESCE(max(version_id), 0) FROM goose_db_version WHERE is_applied`).Scan(
			&s.have)
	}
	if err == nil && builds {
		err = c.QueryRow(ctx, `SELECT oldest, changed FROM builds`).Scan(&s.oldest, &s.changed)
		if errors.Is(err, pgx.ErrNoRows) {
			err = nil
		}
	}
	return s, classify("open", "database", err)
}

// announce says once what the migrations that are to be made do for good: the service that comes up next makes them.
// Code NeedsChoice: it was said now.
func announce(ctx context.Context, config *pgx.ConnConfig, s schema, changes fs.FS) error {
	what, err := s.lasting(changes)
	if err != nil || len(what) == 0 {
		return err
	}
	c, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return classify("open", "database", err)
	}
	defer c.Close(ctx) //nolint:errcheck // nothing is pending
	tag, err := c.Exec(ctx, `CREATE TABLE IF NOT EXISTS announced (schema bigint PRIMARY KEY)`)
	if err == nil {
		tag, err = c.Exec(ctx, `INSERT INTO announced (schema) VALUES ($1) ON CONFLICT DO NOTHING`, s.newest)
	}
	if err != nil || tag.RowsAffected() == 0 {
		return classify("announce", "changes of the database", err)
	}
	return fault.New(fault.NeedsChoice, "update", "database",
		"Reshard %s changes it in ways that cannot be undone: %s. Nothing was changed yet", build.Name(),
		strings.Join(what, "; ")).
		With("Make a copy first: pg_dump --format custom --file reshard-before-update.dump DATABASE. Then start " +
			"Reshard again: it then makes the changes.")
}

// signBuild notes which builds may use the database now, when this one has changed it.
func (r *Records) signBuild(ctx context.Context, s schema) error {
	if s.have == s.newest && s.changed != "" {
		return nil
	}
	_, err := r.db.ExecContext(ctx, `INSERT INTO builds (oldest, changed) VALUES ($1, $2)
		ON CONFLICT (one) DO UPDATE SET oldest = $1, changed = $2`, oldestBuild, build.Name())
	return classify("sign", "database", err)
}
