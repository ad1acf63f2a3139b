// Package recordstest gives tests of rooms a PostgreSQL of their own, with a database a
// test.
package recordstest

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"reshard/internal/pgserver"
	"reshard/internal/records"
)

var (
	server  *pgserver.Server
	counter atomic.Int64
)

// Main runs a package's tests beside a PostgreSQL and ends both. TestMain calls it.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "reshard-records-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)                      //nolint:errcheck // a temporary folder
	if err := os.Chmod(dir, 0o755); err != nil { // the user postgres must get through
		log.Fatal(err)
	}
	server, err = pgserver.Start(context.Background(), filepath.Join(dir, "pg"), "fsync=off", "max_connections=200")
	if err != nil {
		log.Fatal(err)
	}
	defer server.Stop() //nolint:errcheck // the tests have ended
	return m.Run()
}

// Database gives the address of a database that only this test has.
func Database(t *testing.T) string {
	t.Helper()
	return Named(t, fmt.Sprintf("r%d", counter.Add(1)))
}

// Named gives the address of the database of that name, which is made unless it is there.
func Named(t *testing.T, name string) string {
	t.Helper()
	address, err := server.Database(context.Background(), name)
	require.NoError(t, err)
	return address
}

// Open opens new records.
func Open(t *testing.T) *records.Records {
	t.Helper()
	r, err := records.Open(context.Background(), Database(t), records.Claim{Who: "test"})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}
