package ftp_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/core/account"

	"reshard/internal/host"
	"reshard/internal/host/ftp"
)

// What a check finds of real accounts of several shapes.
func TestACheckFindsWhatCanBeDone(t *testing.T) {
	t.Parallel()
	if !farhost.FTPAvailable() {
		t.Skip("a real FTP server needs vsftpd and root")
	}
	for name, c := range map[string]struct {
		shape farhost.FTPShape
		check func(t *testing.T, f account.Findings)
	}{
		"plain": {farhost.FTPShape{}, func(t *testing.T, f account.Findings) {
			assert.True(t, f.Set.AtomicReplace)
			assert.True(t, f.Set.RenameFolders)
			assert.False(t, f.Set.NoRename)
			assert.True(t, f.Set.ExactCase)
			assert.True(t, f.Set.AnyName)
			assert.False(t, f.Set.Exclusive, "a name is only looked at before")
			assert.Equal(t, account.MostSessions, f.Set.AtOnce)
			assert.Zero(t, f.Clock)
			assert.Positive(t, f.Up)
			assert.Positive(t, f.Down)
		}},
		"encrypted": {farhost.FTPShape{TLS: account.Explicit}, func(t *testing.T, f account.Findings) {
			assert.True(t, f.Set.AtomicReplace)
		}},
		"one connection": {farhost.FTPShape{Connections: 1}, func(t *testing.T, f account.Findings) {
			assert.Equal(t, 1, f.Connections)
			assert.Equal(t, 1, f.Set.AtOnce)
			assert.True(t, f.Set.AtomicReplace)
		}},
		"read only": {farhost.FTPShape{ReadOnly: true}, func(t *testing.T, f account.Findings) {
			assert.True(t, f.ReadOnly)
			assert.Contains(t, f.Says(account.Provided{})[0], "Nothing can be written")
		}},
		"no renames": {farhost.FTPShape{NoRename: true}, func(t *testing.T, f account.Findings) {
			assert.False(t, f.Set.AtomicReplace)
			assert.False(t, f.Set.RenameFolders)
			assert.True(t, f.Set.NoRename)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h, err := farhost.StartFTP(t.TempDir(), c.shape)
			require.NoError(t, err)
			t.Cleanup(h.Close)
			line, err := h.Line(5 * time.Millisecond)
			require.NoError(t, err)
			t.Cleanup(line.Close)
			a := h.Account(line.Address(), line.Port())
			a.Folder = t.TempDir()
			m, err := ftp.Open(context.Background(), host.Spec{Name: "quay", Kind: ftp.Kind, Account: a})
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, m.(host.Closer).Close()) })
			ctx, done := context.WithTimeout(context.Background(), 20*time.Second)
			defer done()
			var said []string
			found, err := m.(host.Checker).Check(ctx, nil, func(s string) { said = append(said, s) })
			require.NoError(t, err, "%v %v", said, errors.Unwrap(err))
			assert.GreaterOrEqual(t, found.RoundTrip, 5*time.Millisecond)
			c.check(t, found)
		})
	}
}
