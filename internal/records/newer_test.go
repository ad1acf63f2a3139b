package records_test

import (
	"context"
	"testing"
	"testing/fstest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/build"
	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
)

// A database that a newer build has changed is refused, and left as it is.
func TestANewerSchemaIsRefused(t *testing.T) {
	t.Parallel()
	address := recordstest.Database(t)
	open := func() error {
		r, err := records.Open(t.Context(), address, records.Claim{Who: "test"})
		if err == nil {
			r.Close()
		}
		return err
	}
	require.NoError(t, open())
	c, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer c.Close(context.Background()) //nolint:errcheck // the test has ended
	do := func(statement string) {
		_, err := c.Exec(t.Context(), statement)
		require.NoError(t, err)
	}
	var changed string
	require.NoError(t, c.QueryRow(t.Context(), "SELECT changed FROM builds").Scan(&changed))
	assert.Equal(t, build.Name(), changed)
	do("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)")
	do("UPDATE builds SET changed = '0.9.0'")
	err = open()
	require.ErrorIs(t, err, fault.Unsupported.As())
	assert.ErrorContains(t, err, "it was changed by Reshard 0.9.0 (schema 99999)")
	do("DELETE FROM goose_db_version WHERE version_id = 99999")
	do("UPDATE builds SET oldest = '0.9.0'")
	assert.ErrorContains(t, open(), "it may be used from Reshard 0.9.0 on")
	do("UPDATE builds SET oldest = '0.1.0'")
	require.NoError(t, open())

	// What cannot be undone is said once, before it is done.
	changes := fstest.MapFS{"00099_x.sql": {Data: []byte("-- cannot be undone: it forgets who sent a world\n")}}
	err = records.Announce(t.Context(), address, changes)
	require.ErrorIs(t, err, fault.NeedsChoice.As())
	what, next := fault.Words(err)
	assert.Contains(t, what, "it forgets who sent a world. Nothing was changed yet")
	assert.Contains(t, next, "pg_dump")
	require.NoError(t, records.Announce(t.Context(), address, changes), "it is said once")
}
