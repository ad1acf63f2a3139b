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
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"reshard/internal/core/fault"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is the database.
type Records struct {
	db   *sqlx.DB
	pool *pgxpool.Pool
	// lock is a connection that holds the service's lock on the database.
	lock *pgxpool.Conn
}

// serviceLock is the advisory lock that one service holds for its lifetime.
const serviceLock = 0x52657368

// Open connects, brings the schema up to date and takes the lock that keeps a
// second service from working on the same records.
func Open(ctx context.Context, url string) (*Records, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fault.New(fault.Invalid, "open", "database", "the address does not parse; it should look like postgres://user@127.0.0.1:5432/reshard")
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fault.Wrap(fault.Unreachable, "open", "database", err)
	}
	r := &Records{pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")}
	if err := r.prepare(ctx); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

func (r *Records) prepare(ctx context.Context) error {
	if err := r.waitForLock(ctx); err != nil {
		return err
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fault.Wrap(fault.Internal, "read", "migrations", err)
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, r.db.DB, sub)
	if err != nil {
		return fault.Wrap(fault.Internal, "read", "migrations", err)
	}
	_, err = provider.Up(ctx)
	return classify("migrate", "database", err)
}

// lockPatience is how long a start waits for the lock: after an earlier life was
// killed, the database may need a moment to notice that its connection is gone.
const lockPatience = 5 * time.Second

func (r *Records) waitForLock(ctx context.Context) error {
	deadline := time.Now().Add(lockPatience)
	for {
		err := r.takeLock(ctx)
		if fault.CodeOf(err) != fault.Busy || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (r *Records) takeLock(ctx context.Context) error {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return fault.Wrap(fault.Unreachable, "connect to", "database", err)
	}
	var free bool
	if err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", serviceLock).Scan(&free); err != nil {
		conn.Release()
		return classify("lock", "database", err)
	}
	if !free {
		conn.Release()
		return fault.New(fault.Busy, "open", "database", "another service works on it").With("Stop the other service, or give this one a database of its own.")
	}
	r.lock = conn
	return nil
}

// KeepLock takes the service's lock again when the connection that held it has
// broken. Code Busy means that another service has taken it meanwhile.
func (r *Records) KeepLock(ctx context.Context) error {
	if r.lock != nil {
		if err := r.lock.Ping(ctx); err == nil {
			return nil
		}
		r.lock.Release()
		r.lock = nil
	}
	return r.takeLock(ctx)
}

// Close gives up the lock and all connections.
func (r *Records) Close() {
	if r.lock != nil {
		r.lock.Release()
	}
	_ = r.db.Close() // the pool below is what holds connections
	r.pool.Close()
}

// Ping tells whether the database answers.
func (r *Records) Ping(ctx context.Context) error {
	return classify("ask", "database", r.pool.Ping(ctx))
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
	code := fault.Unreachable // whatever is not an answer of the server is a lost connection
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, sql.ErrNoRows):
		code = fault.NotFound
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		code = fault.Interrupted
	case errors.As(err, &pg):
		switch {
		case pg.Code == "23505":
			code = fault.Exists
		case pg.Code[:2] == "57" || pg.Code[:2] == "08":
			code = fault.Unreachable
		case pg.Code[:2] == "53":
			code = fault.NoSpace
		default:
			code = fault.Internal
		}
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
