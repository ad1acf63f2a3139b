package recordstest

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"reshard/internal/pgserver"
	"reshard/internal/records"
	"reshard/internal/testdir"
)

// Shared names the environment variable with the address of a PostgreSQL that all test binaries of a run share. Without
// it each binary starts its own.
const Shared = "RESHARD_TEST_POSTGRES"

// Cluster is a PostgreSQL for tests. It is safe for concurrent use.
type Cluster struct {
	admin   string // the address of its database "postgres"
	stop    func() error
	counter atomic.Int64
}

// Settings are those of a PostgreSQL for tests: what it holds need not survive anything.
var Settings = []string{"fsync=off", "synchronous_commit=off", "full_page_writes=off", "max_connections=600"}

// Start gives the run's PostgreSQL, or one of its own. Stop ends only its own.
func Start(ctx context.Context) (*Cluster, error) {
	if admin := os.Getenv(Shared); admin != "" {
		return &Cluster{admin: admin, stop: func() error { return nil }}, nil
	}
	dir, err := testdir.New("reshard-records-")
	if err != nil {
		return nil, err
	}
	admin, stop, err := Run(ctx, filepath.Join(dir, "pg"))
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	return &Cluster{admin: admin, stop: func() error { return errors.Join(stop(), os.RemoveAll(dir)) }}, nil
}

// Run runs a PostgreSQL for tests in a folder and gives the address of its database "postgres".
//
// It asks for no password on loopback: services connect thousands of times, and checking a password takes longer than
// most queries. It holds nothing of value.
func Run(ctx context.Context, dir string) (admin string, stop func() error, err error) {
	server, err := pgserver.Start(ctx, dir, Settings...)
	if err != nil {
		return "", nil, err
	}
	admin, err = server.Database(ctx, "postgres")
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "cluster", "pg_hba.conf"), []byte("host all all 127.0.0.1/32 trust\n"),
			0o600)
	}
	c := &Cluster{admin: admin}
	if err == nil {
		err = c.Do(ctx, "SELECT pg_reload_conf()")
	}
	if err != nil {
		return "", nil, errors.Join(err, server.Stop())
	}
	return admin, server.Stop, nil
}

// Stop ends the PostgreSQL, if this cluster started it.
func (c *Cluster) Stop() error { return c.stop() }

// Name gives a name that no other database of the run has.
func (c *Cluster) Name() string { return fmt.Sprintf("t%d_%d", os.Getpid(), c.counter.Add(1)) }

// Address gives the address of the database of that name.
func (c *Cluster) Address(name string) string {
	u, err := url.Parse(c.admin)
	if err != nil {
		panic(err) // pgserver wrote it
	}
	u.Path = "/" + name
	return u.String()
}

// Do runs a statement about databases.
func (c *Cluster) Do(ctx context.Context, statement string) error {
	conn, err := pgx.Connect(ctx, c.admin)
	if err != nil {
		return err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is pending
	_, err = conn.Exec(ctx, statement)
	return err
}

// Empty makes a database without tables and gives its address.
func (c *Cluster) Empty(ctx context.Context) (string, error) {
	name := c.Name()
	return c.Address(name), c.Do(ctx, "CREATE DATABASE "+name)
}

// Copy makes a copy of a model and gives its address.
func (c *Cluster) Copy(ctx context.Context, model string) (string, error) {
	name := c.Name()
	return c.Address(name), c.Do(ctx, "CREATE DATABASE "+name+" TEMPLATE "+model)
}

// Model makes a database that tests get copies of, unless another test binary of the run has made it. It begins as a
// copy of from, is filled under another name, and takes its own name only when it is whole.
func (c *Cluster) Model(
	ctx context.Context, name, from string, fill func(ctx context.Context, address string) error,
) error {
	conn, err := pgx.Connect(ctx, c.admin)
	if err != nil {
		return err
	}
	defer conn.Close(ctx) //nolint:errcheck // its lock goes with it
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock(hashtext($1))", name); err != nil {
		return err
	}
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(
		&there); err != nil || there {
		return err
	}
	address, err := c.Copy(ctx, from)
	if err == nil {
		err = fill(ctx, address)
	}
	if err != nil {
		return err
	}
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	_, err = conn.Exec(ctx, fmt.Sprintf("ALTER DATABASE %s RENAME TO %s", u.Path[1:], name))
	return err
}

// Tables is a model with all tables, those of the job queue included, and no rows of anybody's.
const Tables = "tables"

// MakeTables makes the model [Tables].
func (c *Cluster) MakeTables(ctx context.Context) error {
	return c.Model(ctx, Tables, "template1", func(ctx context.Context, address string) error {
		r, err := records.Open(ctx, address, records.Claim{Who: "the tests"})
		if err != nil {
			return err
		}
		defer r.Close()
		queue, err := rivermigrate.New(riverpgxv5.New(r.Pool()), nil)
		if err == nil {
			_, err = queue.Migrate(ctx, rivermigrate.DirectionUp, nil)
		}
		return err
	})
}
