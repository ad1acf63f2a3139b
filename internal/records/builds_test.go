package records

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/build"
	"reshard/internal/core/fault"
)

func TestWhoMayUseADatabase(t *testing.T) {
	t.Parallel()
	assert.NoError(t, schema{have: 7, newest: 7, oldest: build.Version, changed: build.Version}.usable())
	assert.NoError(t, schema{have: 3, newest: 7}.usable(), "an older one is changed")
	err := schema{have: 9, newest: 7, changed: "0.9.0 (0123abcd)"}.usable()
	require.ErrorIs(t, err, fault.Unsupported.As())
	what, next := fault.Words(err)
	assert.Contains(t, what, "it was changed by Reshard 0.9.0 (0123abcd) (schema 9); this is Reshard "+build.Version)
	assert.Contains(t, what, "which knows schemas up to 7")
	assert.Contains(t, next, "restore the copy of the database")
	err = schema{have: 7, newest: 7, oldest: "7.0.0", changed: "7.1.0"}.usable()
	require.ErrorIs(t, err, fault.Unsupported.As())
	assert.ErrorContains(t, err, "it may be used from Reshard 7.0.0 on")
	changes := fstest.MapFS{
		"00001_a.sql": {Data: []byte("-- +goose Up\n")},
		"00002_b.sql": {Data: []byte("-- +goose Up\n-- cannot be undone: it forgets who sent a world\n")},
	}
	what2, err := schema{have: 1, newest: 2}.lasting(changes)
	require.NoError(t, err)
	assert.Equal(t, []string{"it forgets who sent a world"}, what2)
	for _, have := range []int64{0, 2} {
		none, err := schema{have: have, newest: 2}.lasting(changes)
		require.NoError(t, err)
		assert.Empty(t, none)
	}
}
