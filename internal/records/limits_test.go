package records_test

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
)

// A statement that PostgreSQL cannot get done is given up, and told as a database that does
// not answer: it may go through later.
func TestAStatementHasALimit(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	address := recordstest.Database(t)
	r, err := records.Open(ctx, address+"&statement_timeout=500", records.Claim{Who: "test"})
	require.NoError(t, err)
	defer r.Close()
	other, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer other.Close(ctx) //nolint:errcheck // nothing is pending
	tx, err := other.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "LOCK TABLE users IN ACCESS EXCLUSIVE MODE")
	require.NoError(t, err)
	begun := time.Now()
	_, err = r.Users(ctx)
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.Less(t, time.Since(begun), 10*time.Second)
	require.NoError(t, tx.Rollback(ctx))
	_, err = r.Users(ctx)
	assert.NoError(t, err)
}

// What a text cannot hold is told as that.
func TestANULIsNoDefect(t *testing.T) {
	t.Parallel()
	r := recordstest.Open(t)
	assert.ErrorIs(t, r.AddUser(context.Background(), "a\x00b", "x"), fault.Invalid.As())
}
