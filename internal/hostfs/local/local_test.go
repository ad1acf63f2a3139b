package local_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/hostfstest"
	"reshard/internal/hostfs/local"
)

func open(t *testing.T, dir string) *local.Files {
	t.Helper()
	f, err := local.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, f.Close()) })
	return f
}

// in gives the folder of a driver with it.
type in struct {
	*local.Files
	dir string
}

func TestConformance(t *testing.T) {
	t.Parallel()
	hostfstest.Run(t, hostfstest.Harness{
		Can: capability.Set{
			AtomicReplace: true, Exclusive: true, RenameFolders: true, Sync: true, FreeSpace: true, Commands: true,
			Events: true, Databases: true,
			Owners: os.Geteuid() == 0, Account: fmt.Sprintf("%d:%d", os.Geteuid(), os.Getegid()), Modes: true,
			ExactCase: true, AnyName: true, TimePrecision: time.Millisecond, Pace: 20 * time.Millisecond, AtOnce: 2,
		},
		Open: func(t *testing.T) hostfs.Driver {
			dir := t.TempDir()
			return in{open(t, dir), dir}
		},
		Pipe: func(t *testing.T, d hostfs.Driver, name string) {
			require.NoError(t, syscall.Mkfifo(filepath.Join(d.(in).dir, name), 0o600))
		},
	})
}

func TestLinksDoNotLeadOut(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), context.Background()
	p := hostfs.New("host", open(t, dir))
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "way-out")))
	require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(dir, "folder-out")))
	_, err := p.ReadFile(ctx, "way-out", 10)
	assert.Error(t, err)
	_, err = p.Write(ctx, "way-out", strings.NewReader("y"), hostfs.Attributes{})
	assert.Error(t, err)
	_, err = p.List(ctx, "folder-out")
	assert.Error(t, err)
	assert.Error(t, p.Move(ctx, "folder-out/secret", "mine"))
	kept, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "x", string(kept))
}

func TestStanding(t *testing.T) {
	t.Parallel()
	dir, ctx := filepath.Join(t.TempDir(), "server"), context.Background()
	require.NoError(t, os.Mkdir(dir, 0o755))
	p := hostfs.New("host", open(t, dir))
	stands := func() bool {
		ok, err := p.Standing(ctx)
		require.NoError(t, err)
		return ok
	}
	assert.True(t, stands())
	require.NoError(t, os.Rename(dir, dir+".away"))
	assert.False(t, stands())
	require.NoError(t, os.Mkdir(dir, 0o755))
	assert.False(t, stands(), "another folder of that name is not the one that was opened")
}

// Who a file belongs to can be given away by root, and who may write is told by the
// modes.
func TestAccounts(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), context.Background()
	p := hostfs.New("host", open(t, dir))
	_, err := p.Write(ctx, "f", strings.NewReader("x"), hostfs.Attributes{Account: "12345:54321", Mode: 0o640})
	if os.Geteuid() != 0 {
		assert.ErrorIs(t, err, fault.Refused.As())
		return
	}
	require.NoError(t, err)
	info, err := p.Stat(ctx, "f")
	require.NoError(t, err)
	assert.Equal(t, "12345:54321", info.Account)
	for account, want := range map[string]bool{"12345:1": true, "0:0": true, "7:54321": false, "7:7": false} {
		may, known := p.MayWrite(account, info)
		assert.True(t, known)
		assert.Equal(t, want, may, account)
	}
	_, known := p.MayWrite("somebody", info)
	assert.False(t, known)
	require.NoError(t, p.Replace(ctx, "f", []byte("y")))
	info, err = p.Stat(ctx, "f")
	require.NoError(t, err)
	assert.Equal(t, "12345:54321", info.Account, "a replaced file belongs to whom it did")
}
