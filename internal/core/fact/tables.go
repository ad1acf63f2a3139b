package fact

import (
	"errors"
	"io/fs"

	"reshard/internal/core/budget"
	"reshard/internal/core/game"
)

// Tables are a database that is read.
type Tables interface {
	// Query runs one query that changes nothing and gives at most most rows, as text;
	// more are an error.
	Query(query string, most int) ([][]string, error)
	Close()
}

// OpenTables opens a database in a tree. Neither the database nor its folder is written to,
// and what it takes is spent of the budget. nil: this program reads no databases, and a
// fact in one stays unknown.
//
// A program that reads them imports a package that sets it, before anything is read.
var OpenTables func(b *budget.Budget, fsys fs.FS, name string) (Tables, error)

// Rows runs a source's query and gives its rows as text. A database stays open until the
// reading is done.
func (r *Reader) Rows(s game.Source, most int) ([][]string, error) {
	if OpenTables == nil {
		return nil, errors.New("this program reads no databases")
	}
	t, ok := r.tables[s.Read]
	if !ok {
		t.tables, t.err = OpenTables(r.budget, r.fsys, s.Read)
		if t.err == nil {
			r.budget.After(t.tables.Close)
		}
		r.tables[s.Read] = t
	}
	if t.err != nil {
		return nil, t.err
	}
	return t.tables.Query(s.Query, most)
}

type opened struct {
	tables Tables
	err    error
}
