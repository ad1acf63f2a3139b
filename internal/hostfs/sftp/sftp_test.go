package sftp_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/hostfstest"
	"reshard/internal/hostfs/sftp"
	"reshard/internal/sqlite"
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

// Somebody writes the same number into two tables, in one transaction, again and again: what is taken is whole,
// by either program, and nothing of it stays over there.
func TestADatabaseIsTakenAsItStood(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ program, journal string }{
		"by sqlite3":            {"", "DELETE"},
		"by sqlite3, log ahead": {"", "WAL"},
		"by python3":            {"exit 127", "DELETE"},
		"by python3, log ahead": {"exit 127", "WAL"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			programs, dir, temporary, ctx := t.TempDir(), t.TempDir(), t.TempDir(), context.Background()
			require.NoError(t, os.WriteFile(filepath.Join(programs, "mktemp"),
				[]byte("#!/bin/sh\ncase $* in (*reshard-database*) exec /usr/bin/mktemp -d "+temporary+
					"/XXXXXXXX ;; esac\nexec /usr/bin/mktemp \"$@\"\n"), 0o755))
			if c.program != "" {
				require.NoError(t, os.WriteFile(filepath.Join(programs, "sqlite3"),
					[]byte("#!/bin/sh\n"+c.program+"\n"), 0o755))
			}
			h, err := farhost.Start(t.TempDir(), farhost.Shape{Programs: programs})
			require.NoError(t, err)
			t.Cleanup(h.Close)
			const file = "it's a world.db"
			db, err := sql.Open("sqlite", "file:"+url.PathEscape(filepath.Join(dir, file))+
				"?_pragma=busy_timeout(20000)&_pragma=journal_mode("+c.journal+")")
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, db.Close()) })
			for _, s := range []string{
				"CREATE TABLE dug (n integer)", "CREATE TABLE hauled (n integer)", "CREATE TABLE ground (of blob)",
				"INSERT INTO dug VALUES (1)", "INSERT INTO hauled VALUES (1)",
				"WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c LIMIT 2000) " +
					"INSERT INTO ground SELECT randomblob(2000) FROM c",
			} {
				_, err := db.Exec(s)
				require.NoError(t, err)
			}
			writing, stop := context.WithCancel(ctx)
			var wrote sync.WaitGroup
			wrote.Go(func() {
				for writing.Err() == nil {
					_, err := db.Exec("BEGIN IMMEDIATE; UPDATE dug SET n = n + 1; UPDATE hauled SET n = n + 1; COMMIT")
					assert.NoError(t, err)
					time.Sleep(time.Millisecond)
				}
			})
			defer func() { stop(); wrote.Wait() }()

			l := link(t, h, h.Port)
			root, err := sftp.Root(ctx, l, dir)
			require.NoError(t, err)
			f, err := sftp.Open(l, root, &sftp.Found{Commands: true, Databases: true}).Snapshot(ctx, file)
			require.NoError(t, err)
			got, err := io.ReadAll(f)
			require.NoError(t, errors.Join(err, f.Close()))
			taken := filepath.Join(t.TempDir(), "taken")
			require.NoError(t, os.WriteFile(taken, got, 0o600))
			of, err := sql.Open("sqlite", "file:"+taken)
			require.NoError(t, err)
			defer of.Close() //nolint:errcheck // only read
			var dug, hauled, ground int
			var says string
			require.NoError(t, of.QueryRow("SELECT (SELECT n FROM dug), (SELECT n FROM hauled), "+
				"(SELECT count(*) FROM ground)").Scan(&dug, &hauled, &ground))
			require.NoError(t, of.QueryRow("PRAGMA integrity_check").Scan(&says))
			assert.Equal(t, dug, hauled, "no transaction was cut in two")
			assert.Equal(t, 2000, ground)
			assert.Equal(t, "ok", says)
			left, err := os.ReadDir(temporary)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// What is no database, is not there or leads out of the folder is told, and a host without a folder for them says so.
func TestADatabaseThatCannotBeTaken(t *testing.T) {
	t.Parallel()
	programs, dir, ctx := t.TempDir(), t.TempDir(), context.Background()
	h, err := farhost.Start(t.TempDir(), farhost.Shape{Programs: programs})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	outside := filepath.Join(t.TempDir(), "outside.db")
	require.NoError(t, os.WriteFile(outside, sqlite.Empty(), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text.db"), []byte("no database at all, only words"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "led.db")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "empty.db"), sqlite.Empty(), 0o600))
	l := link(t, h, h.Port)
	root, err := sftp.Root(ctx, l, dir)
	require.NoError(t, err)
	able := sftp.Open(l, root, &sftp.Found{Commands: true, Databases: true})
	for name, code := range map[string]fault.Code{"text.db": fault.Refused, "led.db": fault.Invalid} {
		_, err := able.Snapshot(ctx, name)
		assert.Equal(t, code, fault.CodeOf(err), "%s: %v", name, err)
	}
	_, err = able.Snapshot(ctx, "none.db")
	require.ErrorIs(t, err, fs.ErrNotExist)
	f, err := able.Snapshot(ctx, "empty.db")
	require.NoError(t, err)
	got, err := io.ReadAll(f)
	require.NoError(t, errors.Join(err, f.Close()))
	assert.Len(t, got, len(sqlite.Empty()))

	_, err = sftp.Open(l, root, &sftp.Found{Commands: true}).Snapshot(ctx, "empty.db")
	assert.Equal(t, fault.Unsupported, fault.CodeOf(err))
	require.NoError(t, os.WriteFile(filepath.Join(programs, "mktemp"), []byte("#!/bin/sh\nexit 1\n"), 0o755))
	_, err = able.Snapshot(ctx, "empty.db")
	assert.Equal(t, fault.Unsupported, fault.CodeOf(err), "%v", err)
}
