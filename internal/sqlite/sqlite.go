// Package sqlite lets facts be read out of SQLite databases: a program that imports it can.
//
// Both the database and the query come from strangers. SQLite itself holds what they may do:
// an authorizer lets a query read plain tables and nothing else, limits bound texts and
// programs, and a query ends with its time.
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
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"modernc.org/libc"
	"modernc.org/sqlite" // the driver "sqlite"
	lib "modernc.org/sqlite/lib"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
)

func init() {
	// SQLite holds its limit of the heap only where it keeps account of it, which this build
	// does when it is told so before anything else (sqlite.org/c3ref/c_config_covering_index_scan).
	tls := libc.NewTLS()
	defer tls.Close()
	args := libc.NewVaList(int32(1))
	defer libc.Xfree(tls, args)
	if rc := lib.Xsqlite3_config(tls, lib.SQLITE_CONFIG_MEMSTATUS, args); rc != lib.SQLITE_OK {
		panic(fmt.Sprintf("SQLite keeps no account of its memory: %d", rc)) // it was used before
	}
	// A lock of the usual kind goes whenever this process closes the same file anywhere; where the system
	// has those that stay with who took them, they are used, as Snapshot needs them.
	_, _ = sqlite.OFDLocking(true) // where it has none, all stays as it was
	fact.OpenTables = func(b *budget.Budget, fsys fs.FS, name string) (fact.Tables, error) {
		return Open(b, fsys, name)
	}
}

// Bounds of reading a database. The heap is of all databases of the process together, which
// the budget's gate keeps at two.
const (
	patience    = 10 * time.Second // for a query
	heap        = 48 << 20         // in bytes
	longestText = 16 << 20         // of one value, in bytes: a map's tile may be one
	longestCell = 64 << 10         // of a value that is given out
	mostGiven   = 32 << 20         // of all that a query gives, in bytes
	mostTables  = 10_000
)

// limits bound what a query may be made of (SQLITE_LIMIT_…, sqlite.org/c3ref/c_limit_attached).
var limits = map[int]int{
	lib.SQLITE_LIMIT_LENGTH: longestText, lib.SQLITE_LIMIT_SQL_LENGTH: 1 << 20, lib.SQLITE_LIMIT_EXPR_DEPTH: 100,
	lib.SQLITE_LIMIT_COMPOUND_SELECT: 20, lib.SQLITE_LIMIT_VDBE_OP: 25_000, lib.SQLITE_LIMIT_ATTACHED: 0,
	lib.SQLITE_LIMIT_LIKE_PATTERN_LENGTH: 1000, lib.SQLITE_LIMIT_VARIABLE_NUMBER: 0,
	lib.SQLITE_LIMIT_TRIGGER_DEPTH: 1, lib.SQLITE_LIMIT_WORKER_THREADS: 0,
}

// pragmas are set before any query is authorized. SQLite reads a copy; that it does not
// write to it either makes what is read the same for every query.
const pragmas = "_defensive=1&_pragma=trusted_schema(0)&_pragma=query_only(1)&_pragma=cell_size_check(1)" +
	"&_pragma=mmap_size(0)&_pragma=cache_size(-8000)&_pragma=temp_store(1)&_pragma=hard_heap_limit(%d)"

// DB is a database that is read: a copy, in a folder of its own.
type DB struct {
	budget *budget.Budget
	dir    string
	db     *sql.DB
	conn   *sql.Conn
	tables map[string]bool // the plain ones
	taken  map[string]bool // all names that its schema has
	own    map[string]bool // that the query gives to parts of itself
	denied string          // why the last query was not authorized
}

// Open copies a database out of a tree (with its write-ahead log, if it has one) and opens
// the copy: opening one in place may write to its folder, and a world is never written to by
// reading it.
func Open(b *budget.Budget, fsys fs.FS, name string) (*DB, error) {
	b.Enter()
	dir, err := os.MkdirTemp("", "reshard-sqlite-")
	if err != nil {
		return nil, err
	}
	d := &DB{budget: b, dir: dir, tables: map[string]bool{}, taken: map[string]bool{}}
	if err := d.open(fsys, name); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

func (d *DB) open(fsys fs.FS, name string) error {
	local := filepath.Join(d.dir, "db")
	if err := d.copyOut(fsys, name, local); err != nil {
		return err
	}
	if err := d.copyOut(fsys, name+"-wal", local+"-wal"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	dsn := (&url.URL{Scheme: "file", Opaque: local, RawQuery: fmt.Sprintf(pragmas, heap)}).String()
	var err error
	if d.db, err = sql.Open("sqlite", dsn); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	if d.conn, err = d.db.Conn(ctx); err != nil {
		return words(err)
	}
	for id, most := range limits {
		if _, err := sqlite.Limit(d.conn, id, most); err != nil {
			return err
		}
	}
	err = d.conn.Raw(func(driver any) error {
		guarded, ok := driver.(sqlite.AuthorizerRegisterer)
		if !ok {
			return errors.New("this build of SQLite authorizes nothing")
		}
		return guarded.RegisterAuthorizer(d.authorize)
	})
	if err != nil {
		return err
	}
	return d.findTables(ctx)
}

// named finds what a row of the schema makes, and its name, in what SQLite keeps of its making.
var named = regexp.MustCompile("(?is)^CREATE (TABLE|VIRTUAL TABLE|VIEW|TEMP VIEW|TEMPORARY VIEW) (?:IF NOT EXISTS )?" +
	"(?:\"((?:[^\"]|\"\")*)\"|\\[([^\\]]*)\\]|`((?:[^`]|``)*)`|'((?:[^']|'')*)'|([^\\s(\"\\[`']+))")

// findTables notes which names are plain tables, and which are taken by anything else: what
// views and virtual tables do is the stranger's choice.
func (d *DB) findTables(ctx context.Context) error {
	d.tables["sqlite_master"] = true
	rows, err := d.rows(ctx, "SELECT sql, name FROM sqlite_master WHERE type IN ('table', 'view') AND sql IS NOT NULL",
		mostTables)
	if err != nil {
		return err
	}
	for _, row := range rows {
		d.taken[strings.ToLower(row[1])] = true
		m := named.FindStringSubmatch(row[0])
		if m == nil {
			return fmt.Errorf("its schema makes %q in a way that no program writes", row[1])
		}
		for i, quote := range []string{`"`, "", "`", "'", ""} {
			if name := strings.ToLower(strings.ReplaceAll(m[i+2], quote+quote, quote)); name != "" {
				d.taken[name] = true
				if strings.EqualFold(m[1], "TABLE") {
					d.tables[name] = true
				}
			}
		}
	}
	return nil
}

// temporary finds the names that a query gives to parts of itself (WITH name AS …).
var temporary = regexp.MustCompile(
	`(?is)([a-z_][a-z0-9_]*)\s*(?:\([^()]*\)\s*)?\bAS\s+(?:NOT\s+)?(?:MATERIALIZED\s*)?\(|` +
		`([a-z_][a-z0-9_]*)\s*(?:\([^()]*\)\s*)?\bAS\(`)

// parts gives those names, but for what means something in the database or in SQLite itself:
// outside of its own part such a name would be that.
func (d *DB) parts(query string) map[string]bool {
	out := map[string]bool{}
	for _, m := range temporary.FindAllStringSubmatch(query, -1) {
		name := strings.ToLower(m[1] + m[2])
		if !d.taken[name] && !modules()[name] && !strings.HasPrefix(name, "pragma_") &&
			!strings.HasPrefix(name, "sqlite_") {
			out[name] = true
		}
	}
	return out
}

// modules are SQLite's own virtual tables, which are there in every database.
var modules = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return out
	}
	defer db.Close() //nolint:errcheck // it holds nothing
	rows, err := queryText(context.Background(), db, "SELECT name FROM pragma_module_list", 1000)
	if err != nil {
		panic(fmt.Sprintf("SQLite does not tell its modules: %v", err)) // its build is known
	}
	for _, row := range rows {
		out[strings.ToLower(row[0])] = true
	}
	return out
})

// functions are those that a query may call: what they give is bounded by what they are given.
var functions = strings.Fields(`abs avg cast ceil ceiling changes char coalesce concat concat_ws count cume_dist
	date datetime dense_rank first_value floor format glob group_concat hex if ifnull iif instr json json_array_length
	json_extract json_type json_valid julianday lag last_value lead length like likelihood likely lower ltrim max min
	mod nth_value ntile nullif octet_length percent_rank pow power printf quote rank replace round row_number rtrim
	sign sqrt strftime string_agg substr substring sum time timediff total trim trunc typeof unhex unicode unixepoch
	unlikely upper -> ->>`)

// authorize lets a query read plain tables, and the elements of JSON in them.
func (d *DB) authorize(act sqlite.AuthorizerActionCode, arg1, arg2, _, through string) sqlite.AuthorizerReturnCode {
	why := ""
	switch act {
	case sqlite.AuthSelect, sqlite.AuthRecursive:
	case sqlite.AuthRead:
		table := strings.ToLower(arg1)
		if !d.tables[table] && !d.own[table] && table != "sqlite_schema" && table != "json_each" &&
			table != "json_tree" {
			why = fmt.Sprintf("%s is no plain table of this database", arg1)
		}
	case sqlite.AuthFunction:
		if !slices.Contains(functions, strings.ToLower(arg2)) {
			why = fmt.Sprintf("the function %s is not among those that a query may use", arg2)
		}
	default:
		why = "a query may only select"
	}
	if why == "" && through != "" && !d.own[strings.ToLower(through)] {
		why = fmt.Sprintf("%s is a view, and views are not followed", through)
	}
	if why != "" {
		d.denied = why
		return sqlite.AuthorizerDeny
	}
	return sqlite.AuthorizerOK
}

// Query implements fact.Tables.
func (d *DB) Query(query string, most int) ([][]string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return d.rows(ctx, query, most)
}

func (d *DB) rows(ctx context.Context, query string, most int) (out [][]string, err error) {
	d.denied, d.own = "", d.parts(query)
	defer func() {
		if err == nil {
			err = d.budget.Time()
		} else if d.denied != "" {
			err = errors.New(d.denied)
		} else if ctx.Err() != nil {
			err = fmt.Errorf("the query took longer than the %s that it may take", patience)
		}
	}()
	out, err = queryText(ctx, d.conn, query, most)
	for _, row := range out {
		size := budget.Value
		for _, cell := range row {
			size += budget.Value + len(cell)
		}
		if over := d.budget.Hold(int64(size)); err == nil {
			err = over
		}
	}
	return out, err
}

// queryText gives a query's rows as text.
func queryText(ctx context.Context, db interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, query string, most int) (out [][]string, err error) {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, words(err)
	}
	defer rows.Close() //nolint:errcheck // Err is asked below
	columns, err := rows.Columns()
	if err != nil {
		return nil, words(err)
	}
	for total := 0; rows.Next(); {
		if len(out) == most {
			return nil, fmt.Errorf("the query gives more than %d rows", most)
		}
		cells := make([]sql.NullString, len(columns))
		targets := make([]any, len(columns))
		for i := range cells {
			targets[i] = &cells[i]
		}
		if err := rows.Scan(targets...); err != nil {
			return nil, words(err)
		}
		row := make([]string, len(columns))
		for i, c := range cells {
			if len(c.String) > longestCell {
				return nil, fmt.Errorf("the query gives a value of %d bytes, more than the %d that are read",
					len(c.String), longestCell)
			}
			row[i] = c.String
			if total += len(c.String) + budget.Value; total > mostGiven {
				return nil, fmt.Errorf("the query gives more than the %d MB that are read", mostGiven>>20)
			}
		}
		out = append(out, row)
	}
	return out, words(rows.Err())
}

// words tells an error of SQLite's as one of the query.
func words(err error) error {
	var own *sqlite.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &own) && own.Code()&0xff == lib.SQLITE_NOMEM:
		return fmt.Errorf("the query needs more memory than the %d MB that it may take", heap>>20)
	}
	return fmt.Errorf("query: %w", err)
}

// Close forgets the copy.
func (d *DB) Close() {
	if d.conn != nil {
		_ = d.conn.Close() // it was only read
	}
	if d.db != nil {
		_ = d.db.Close() // likewise
	}
	_ = os.RemoveAll(d.dir) // a temporary folder
}

func (d *DB) copyOut(fsys fs.FS, name, to string) error {
	in, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer in.Close() //nolint:errcheck // only read
	if info, err := in.Stat(); err != nil || !info.Mode().IsRegular() {
		return errors.Join(err, fmt.Errorf("%s is no regular file", name))
	}
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, d.budget.File(io.LimitReader(in, fact.LongestFile+1)))
	if n > fact.LongestFile {
		err = fmt.Errorf("has more than the %d bytes that are read", fact.LongestFile)
	}
	return errors.Join(err, out.Close())
}
