// Package recordstest gives tests a PostgreSQL, with a database for each test.
package recordstest

import (
	"context"
	"log"
	"net/url"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"reshard/internal/records"
	"reshard/internal/testdir"
)

var cluster *Cluster

// Main runs a package's tests with a PostgreSQL. TestMain calls it.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	alone := testdir.Watch()
	ctx := context.Background()
	var err error
	if cluster, err = Start(ctx); err != nil {
		log.Fatal(err)
	}
	defer cluster.Stop() //nolint:errcheck // the tests have ended
	if err := cluster.MakeTables(ctx); err != nil {
		log.Fatal(err)
	}
	code := m.Run()
	if err := alone(); err != nil {
		log.Print(err)
		return 1
	}
	return code
}

// Database gives the address of a database that only this test has, with all tables.
func Database(t *testing.T) string {
	t.Helper()
	address, err := cluster.Copy(context.Background(), Tables)
	require.NoError(t, err)
	return address
}

// Empty gives the address of a database that only this test has, without tables.
func Empty(t *testing.T) string {
	t.Helper()
	address, err := cluster.Empty(context.Background())
	require.NoError(t, err)
	return address
}

// Close lets nobody into a database any more and ends the connections to it.
func Close(t *testing.T, address string) {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	name := u.Path[1:]
	require.NoError(t, cluster.Do(context.Background(), "ALTER DATABASE "+name+" ALLOW_CONNECTIONS false"))
	require.NoError(t, cluster.Do(context.Background(),
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+name+"'"))
}

// Open opens new records.
func Open(t *testing.T) *records.Records {
	t.Helper()
	r, err := records.Open(context.Background(), Database(t), records.Claim{Who: "test"})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}
