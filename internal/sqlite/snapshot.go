package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"reshard/internal/core/fault"
)

// busyFor is how long a database that somebody writes to is waited for.
const busyFor = 30 * time.Second

// Empty is the smallest database: one page that holds no table (sqlite.org/fileformat2.html).
func Empty() []byte {
	page := make([]byte, 512)
	copy(page, "SQLite format 3\x00\x02\x00\x01\x01\x00\x40\x20\x20") // 512 bytes a page, no journal ahead
	page[27], page[31] = 1, 1                                         // changed once; one page
	page[47], page[59], page[95] = 4, 1, 1                            // the latest form, UTF-8, as of that change
	copy(page[100:], "\x0d\x00\x00\x00\x00\x02\x00\x00")              // a leaf without cells
	return page
}

// Unnamed opens a file for a database that is read once: it goes when it is closed.
func Unnamed() (*os.File, error) {
	f, err := os.CreateTemp("", "reshard-database-")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// Snapshot copies a database of this machine as it stands at one moment, while others may write to it, and
// opens the copy, which goes when it is closed. It uses SQLite's backup interface
// (sqlite.org/backup.html): whoever wants to write meanwhile waits, as for any reader.
func Snapshot(ctx context.Context, name string) (*os.File, error) {
	dir, err := os.MkdirTemp("", "reshard-database-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // what is open stays readable
	to := filepath.Join(dir, "db")
	source := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: name}).EscapedPath(), RawQuery: "mode=ro"}).String()
	db, err := sql.Open("sqlite", source)
	if err != nil {
		return nil, words(err)
	}
	defer db.Close() //nolint:errcheck // only read
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, words(err)
	}
	defer conn.Close() //nolint:errcheck // only read
	err = conn.Raw(func(driver any) error {
		from, ok := driver.(interface {
			NewBackup(to string) (*sqlite.Backup, error)
		})
		if !ok {
			return errors.New("this build of SQLite makes no backups")
		}
		return backUp(ctx, from.NewBackup, "file:"+(&url.URL{Path: to}).EscapedPath()+
			"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)")
	})
	if err != nil {
		return nil, err
	}
	return os.Open(to)
}

func backUp(ctx context.Context, begin func(string) (*sqlite.Backup, error), to string) error {
	b, err := begin(to)
	if err != nil {
		return words(err)
	}
	for until := time.Now().Add(busyFor); ; {
		more, err := b.Step(-1) // all at once: in parts it would begin anew whenever somebody writes
		var e *sqlite.Error
		busy := errors.As(err, &e) && (e.Code()&0xff == lib.SQLITE_BUSY || e.Code()&0xff == lib.SQLITE_LOCKED)
		switch {
		case err == nil && !more:
			return words(b.Finish())
		case err != nil && !busy:
			return errors.Join(fault.Wrap(fault.Invalid, "take", "the database", err), b.Finish())
		case time.Now().After(until):
			return errors.Join(
				fault.New(fault.TooSlow, "take", "the database", "somebody has been writing to it for %s", busyFor),
				b.Finish())
		}
		select {
		case <-ctx.Done():
			return errors.Join(context.Cause(ctx), b.Finish())
		case <-time.After(20 * time.Millisecond):
		}
	}
}
