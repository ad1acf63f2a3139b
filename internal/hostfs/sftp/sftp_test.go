package sftp_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/core/capability"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/hostfstest"
	"reshard/internal/hostfs/sftp"
	"reshard/internal/sshlink"
)

func link(t *testing.T, h *farhost.Host, port int) *sshlink.Link {
	t.Helper()
	l := sshlink.New(h.Account(port))
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return l
}

// far is a driver with what its test needs to know of it.
type far struct {
	*sftp.Files
	dir  string
	line *farhost.Line
}

func me() string { return fmt.Sprintf("%d:%d", os.Geteuid(), os.Getegid()) }

func TestConformance(t *testing.T) {
	t.Parallel()
	all := capability.Set{
		AtomicReplace: true, Exclusive: true, RenameFolders: true, Sync: true, FreeSpace: true, Modes: true,
		Owners: os.Geteuid() == 0, Account: me(), ExactCase: true, AnyName: true, TimePrecision: time.Second,
		Pace: 250 * time.Millisecond, AtOnce: 64, Copy: true,
	}
	commands := all
	commands.Commands, commands.Hash, commands.Unpack = true, true, true
	without := all
	without.AtomicReplace = false
	sent := all
	sent.Copy = false
	for name, c := range map[string]struct {
		shape farhost.Shape
		can   capability.Set
	}{
		"with commands":                    {farhost.Shape{}, commands},
		"files only":                       {farhost.Shape{FilesOnly: true}, all},
		"files only, and no copy":          {farhost.Shape{FilesOnly: true, NoCopyData: true}, sent},
		"with commands that copy":          {farhost.Shape{NoCopyData: true}, commands},
		"a rename does not replace a file": {farhost.Shape{NoPosixRename: true}, without},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h, err := farhost.Start(t.TempDir(), c.shape)
			require.NoError(t, err)
			t.Cleanup(h.Close)
			hostfstest.Run(t, hostfstest.Harness{
				Can: c.can,
				Open: func(t *testing.T) hostfs.Driver {
					line, err := farhost.NewLine(h.Address(), 0)
					require.NoError(t, err)
					t.Cleanup(line.Close)
					dir := t.TempDir()
					l := link(t, h, line.Port())
					root, err := sftp.Root(context.Background(), l, dir)
					require.NoError(t, err)
					return far{sftp.Open(l, root, &sftp.Found{
						Account: me(), Commands: c.can.Commands, Hash: c.can.Hash, Unpack: c.can.Unpack,
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
