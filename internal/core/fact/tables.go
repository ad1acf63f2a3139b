package fact

import (
	"errors"
	"io/fs"

	"reshard/internal/core/game"
)

// Tables runs a query over a database in a tree and gives at most most rows, as text; more
// are an error. Neither the database nor its folder is written to. nil: this program reads
// no databases, and a fact in one stays unknown.
//
// A program that reads them imports a package that sets it, before anything is read.
var Tables func(fsys fs.FS, name, query string, most int) ([][]string, error)

// Rows runs a source's query and gives its rows as text.
func (r *Reader) Rows(s game.Source, most int) ([][]string, error) {
	if Tables == nil {
		return nil, errors.New("this program reads no databases")
	}
	return Tables(r.fsys, s.Read, s.Query, most)
}
