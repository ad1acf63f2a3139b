// Package records keeps Reshard's records in PostgreSQL.
package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"reshard/internal/core/fault"
	"reshard/internal/line"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is the database.
type Records struct {
	db    *sqlx.DB
	pool  *pgxpool.Pool
	lease *lease
	end   func() // ends what watches the connections
}

// Open connects, waits until this service is the one that acts on the records, and
// brings the schema up to date. A service that stands by has changed nothing.
func Open(ctx context.Context, url string, c Claim) (*Records, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fault.New(fault.Invalid, "open", "database",
			"the address does not parse; it should look like postgres://user@127.0.0.1:5432/reshard")
	}
	params := config.ConnConfig.RuntimeParams
	for name, limit := range statementLimits {
		if _, own := params[name]; !own { // an address may set its own
			params[name] = limit
		}
	}
	config.MaxConns = max(config.MaxConns, fewestConns)
	unwatched := config.ConnConfig.Copy()
	life, end := context.WithCancel(context.WithoutCancel(ctx))
	if config.ConnConfig.ConnectTimeout == 0 {
		config.ConnConfig.ConnectTimeout = line.ProbeFor
	}
	config.ConnConfig.DialFunc = line.Watched(life, unwatched.DialFunc, func(ctx context.Context) error {
		c, err := pgx.ConnectConfig(ctx, unwatched)
		if err != nil {
			return err
		}
		defer c.Close(ctx) //nolint:errcheck // it was only asked
		return c.Ping(ctx)
	})
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		end()
		return nil, fault.Wrap(fault.Unreachable, "open", "database", err)
	}
	changes, err := fs.Sub(migrations, "migrations")
	if err != nil {
		end()
		return nil, fault.Wrap(fault.Internal, "read", "migrations", err)
	}
	was, err := schemaOf(ctx, unwatched, changes)
	if err == nil {
		err = was.usable()
	}
	if err != nil {
		pool.Close()
		end()
		return nil, err
	}
	r := &Records{pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), end: end}
	if r.lease, err = takeLease(ctx, pool, c); err == nil {
		err = r.upgrade(ctx, unwatched, changes)
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// fewestConns is how many connections may be open at least: the job queue keeps some for itself.
const fewestConns = 12

// statementLimits are how long PostgreSQL works at one statement, and waits for one that was
// begun and not ended, in milliseconds: what takes longer has lost its caller.
var statementLimits = map[string]string{
	"statement_timeout": "60000", "idle_in_transaction_session_timeout": "120000",
}

// upgrade brings the schema up to date. It is looked at once more: while this service stood by, another build may have
// changed it.
func (r *Records) upgrade(ctx context.Context, config *pgx.ConnConfig, changes fs.FS) error {
	was, err := schemaOf(ctx, config, changes)
	if err == nil {
		err = was.usable()
	}
	if err == nil {
		err = announce(ctx, config, was, changes)
	}
	if err == nil {
		err = r.migrate(ctx, config, changes)
	}
	if err == nil {
		err = r.signBuild(ctx, was)
	}
	return err
}

// migrate works on connections of its own: changing a large table takes as long as it takes.
func (r *Records) migrate(ctx context.Context, config *pgx.ConnConfig, changes fs.FS) error {
	config = config.Copy()
	config.RuntimeParams["statement_timeout"] = "0"
	db := stdlib.OpenDB(*config)
	defer db.Close() //nolint:errcheck // nothing is pending
	provider, err := goose.NewProvider(goose.DialectPostgres, db, changes)
	if err != nil {
		return fault.Wrap(fault.Internal, "read", "migrations", err)
	}
	_, err = provider.Up(ctx)
	return classify("migrate", "database", err)
}

// Close gives up the lease and all connections.
func (r *Records) Close() {
	if r.lease != nil {
		r.lease.release()
	}
	_ = r.db.Close() // the pool below is what holds connections
	r.pool.Close()
	r.end()
}

// Pool gives the connections themselves, for the job queue on the same database.
func (r *Records) Pool() *pgxpool.Pool { return r.pool }

// Ping tells whether the database answers.
func (r *Records) Ping(ctx context.Context) error {
	return classify("ask", "database", r.pool.Ping(ctx))
}

// away is the error of a database that cannot be asked now.
func away(op, what, why string, err error) error {
	return &fault.Error{
		Code: fault.Unreachable, Op: op, Path: what, What: why, Err: err,
		Next: "The service goes on by itself when it answers again. The log of PostgreSQL says what is wrong there.",
	}
}

// NotUpYet reports whether an error says that the database cannot be asked now, and may be soon: nothing listens there,
// or it starts. One that refuses the account, or has no such database, will not by itself.
func NotUpYet(err error) bool {
	var pg *pgconn.PgError
	if fault.CodeOf(err) != fault.Unreachable || errors.As(err, &pg) && pg.Code[:2] != "57" && pg.Code[:2] != "53" {
		return false
	}
	var connecting *pgconn.ConnectError
	return pg != nil || errors.As(err, &connecting)
}

// classify gives a database error its code: here, once.
func classify(op, what string, err error) error {
	if err == nil {
		return nil
	}
	var coded *fault.Error
	if errors.As(err, &coded) {
		return err
	}
	code := fault.Internal
	var pg *pgconn.PgError
	var connecting *pgconn.ConnectError
	switch {
	case errors.Is(err, sql.ErrNoRows):
		code = fault.NotFound
	case errors.Is(err, context.DeadlineExceeded):
		// A database that does not answer in time is not reached; the write may have
		// been made. What waits for the journal tries again.
		return away(op, what, "the database did not answer in time", err)
	case errors.As(err, &connecting) && !errors.Is(err, context.Canceled):
		// Whatever it says to a new connection (it starts, it takes none, it knows the
		// user no more): nothing can be asked of it now.
		return away(op, what, "the database cannot be reached", err)
	case errors.Is(err, context.Canceled):
		code = fault.Interrupted
	case errors.As(err, &pg):
		switch {
		case pg.Code == "23505":
			code = fault.Exists
		case pg.Code == "22021" || pg.Code == "22P05": // bytes that are no text to it, such as a NUL
			return fault.New(fault.Invalid, op, what, "it holds a character that cannot be stored")
		case pg.Code == "57014": // a statement's limit of time
			return away(op, what, "the database did not answer in time", err)
		case pg.Code[:2] == "57" || pg.Code[:2] == "08" ||
			pg.Code == "53300": // the last: it has no connection to spare
			return away(op, what, "the database does not answer", err)
		case pg.Code[:2] == "53":
			code = fault.NoSpace
		}
	default: // whatever is not an answer of the server is a lost connection
		return away(op, what, "the connection to the database was lost", err)
	}
	return fault.Wrap(code, op, what, err)
}

// JSON stores a value as jsonb and reads it back.
type JSON[T any] struct{ V T }

// Value implements driver.Valuer.
func (j JSON[T]) Value() (driver.Value, error) {
	data, err := json.Marshal(j.V)
	return string(data), err
}

// Scan implements sql.Scanner; NULL gives the zero value.
func (j *JSON[T]) Scan(src any) error {
	switch s := src.(type) {
	case nil:
		return nil
	case string:
		return json.Unmarshal([]byte(s), &j.V)
	case []byte:
		return json.Unmarshal(s, &j.V)
	}
	return fmt.Errorf("cannot read %T as JSON", src)
}
