// Package sqlite lets facts be read out of SQLite databases: a program that imports it can.
package sqlite

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
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"reshard/internal/core/fact"
)

func init() { fact.Tables = Query }

// Query implements fact.Tables. The database is copied
// first (with its write-ahead log, if it has one): opening one in place may
// write to its folder, and a world is never written to by reading it.
func Query(fsys fs.FS, name, query string, most int) (rows [][]string, err error) {
	dir, err := os.MkdirTemp("", "reshard-sqlite-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
	local := filepath.Join(dir, "db")
	if err := copyOut(fsys, name, local); err != nil {
		return nil, err
	}
	if err := copyOut(fsys, name+"-wal", local+"-wal"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	// Writes stay impossible even to the copy: a query comes from a profile
	// that a stranger may have written.
	dsn := (&url.URL{
		Scheme:   "file",
		Opaque:   local,
		RawQuery: "_pragma=query_only(1)&_pragma=trusted_schema(0)",
	}).String()
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	defer db.Close() //nolint:errcheck // only read
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return queryText(ctx, db, query, most)
}

func queryText(ctx context.Context, db *sql.DB, query string, most int) (out [][]string, err error) {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, fmt.Errorf("query: %w", err)
	}
	defer rows.Close() //nolint:errcheck // Err is asked below
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		if len(out) == most {
			return nil, fmt.Errorf("the query gives more than %d rows", most)
		}
		cells := make([]sql.NullString, len(columns))
		targets := make([]any, len(columns))
		for i := range cells {
			targets[i] = &cells[i]
		}
		if err := rows.Scan(targets...); err != nil {
			return nil, err
		}
		row := make([]string, len(columns))
		for i, c := range cells {
			row[i] = c.String
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

func copyOut(fsys fs.FS, name, to string) error {
	in, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer in.Close() //nolint:errcheck // only read
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(in, fact.LongestFile+1))
	if n > fact.LongestFile {
		err = fmt.Errorf("has more than the %d bytes that are read", fact.LongestFile)
	}
	return errors.Join(err, out.Close())
}
