package ftp_test

import (
	"context"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/core/account"
	"reshard/internal/core/capability"
	"reshard/internal/ftplink"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/ftp"
	"reshard/internal/hostfs/hostfstest"
)

// far is a driver with what its test needs to know of it.
type far struct {
	*ftp.Files
	dir  string
	line *farhost.Line
}

func TestConformance(t *testing.T) {
	t.Parallel()
	if !farhost.FTPAvailable() {
		t.Skip("a real FTP server needs vsftpd and root")
	}
	most := capability.Set{
		AtomicReplace: true, RenameFolders: true, ExactCase: true, AnyName: true, TimePrecision: 24 * time.Hour,
		Pace: 500 * time.Millisecond, AtOnce: 4, Costly: true,
	}
	least := most
	least.AtomicReplace = false
	one := most
	one.AtOnce = 1
	for name, c := range map[string]struct {
		shape farhost.FTPShape
		can   capability.Set
	}{
		"plain":          {farhost.FTPShape{}, most},
		"two renames":    {farhost.FTPShape{}, least},
		"explicit TLS":   {farhost.FTPShape{TLS: account.Explicit}, most},
		"implicit TLS":   {farhost.FTPShape{TLS: account.Implicit}, most},
		"one connection": {farhost.FTPShape{}, one},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h, err := farhost.StartFTP(t.TempDir(), c.shape)
			require.NoError(t, err)
			t.Cleanup(h.Close)
			hostfstest.Run(t, hostfstest.Harness{
				Can:    c.can,
				Untold: []string{"new\nline"},
				Open: func(t *testing.T) hostfs.Driver {
					line, err := h.Line(0)
					require.NoError(t, err)
					t.Cleanup(line.Close)
					a := h.Account(line.Address(), line.Port())
					a.Sessions = c.can.AtOnce
					l := ftplink.New(a)
					t.Cleanup(func() { assert.NoError(t, l.Close()) })
					dir := t.TempDir()
					root, err := ftp.Root(context.Background(), l, dir)
					require.NoError(t, err)
					return far{ftp.Open(l, root, &ftp.Found{
						AtomicReplace: c.can.AtomicReplace, RenameFolders: true, AtOnce: c.can.AtOnce,
					}), dir, line}
				},
				Pipe: func(t *testing.T, d hostfs.Driver, name string) {
					require.NoError(t, syscall.Mkfifo(filepath.Join(d.(far).dir, name), 0o600))
				},
				Away: func(t *testing.T, d hostfs.Driver) func() {
					line := d.(far).line
					line.Refuse(true)
					line.Cut()
					return func() { line.Refuse(false) }
				},
			})
		})
	}
}
