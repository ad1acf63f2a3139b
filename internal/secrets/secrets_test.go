package secrets_test

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/secrets"
)

func TestSealedSecretsOpenAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	k, made, err := secrets.Open(dir)
	require.NoError(t, err)
	assert.True(t, made)
	info, err := os.Stat(filepath.Join(dir, secrets.File))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else reads it")
	sealed, err := k.Seal([]byte("hunter2"), "moor")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "hunter2")
	other, err := k.Seal([]byte("hunter2"), "moor")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, other, "the same secret does not look the same")

	again, made, err := secrets.Open(dir)
	require.NoError(t, err)
	assert.False(t, made)
	got, err := again.Open(sealed, "moor")
	require.NoError(t, err)
	assert.Equal(t, "hunter2", string(got))

	_, err = again.Open(sealed, "fen")
	assert.ErrorIs(t, err, fault.Refused.As(), "another host's")
	for i := range sealed {
		bad := append([]byte{}, sealed...)
		bad[i] ^= 1
		_, err := again.Open(bad, "moor")
		assert.ErrorIs(t, err, fault.Refused.As(), i)
	}
	_, err = again.Open(sealed[:20], "moor")
	assert.ErrorIs(t, err, fault.Refused.As())
}

func TestALostKeyIsExplained(t *testing.T) {
	t.Parallel()
	k, _, err := secrets.Open(t.TempDir())
	require.NoError(t, err)
	sealed, err := k.Seal([]byte("x"), "moor")
	require.NoError(t, err)
	other, _, err := secrets.Open(t.TempDir())
	require.NoError(t, err)
	_, err = other.Open(sealed, "moor")
	what, next := fault.Words(err)
	assert.Contains(t, what, "sealed with another key")
	assert.Contains(t, next, "reshard hosts change moor --password")

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, secrets.File), []byte("short"), 0o600))
	_, _, err = secrets.Open(dir)
	assert.ErrorContains(t, err, "it is no key", "a damaged key is not replaced by a new one")
}

func TestAKeyFromAVariable(t *testing.T) {
	t.Setenv(secrets.Variable, base64.StdEncoding.EncodeToString([]byte(strings.Repeat("k", 32))))
	dir := t.TempDir()
	_, made, err := secrets.Open(dir)
	require.NoError(t, err)
	assert.False(t, made)
	assert.NoFileExists(t, filepath.Join(dir, secrets.File))
	t.Setenv(secrets.Variable, "no key")
	_, _, err = secrets.Open(dir)
	assert.ErrorIs(t, err, fault.Invalid.As())
}
