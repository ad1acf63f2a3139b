package sqlite_test

import (
	"database/sql"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"reshard/internal/core/budget"
	"reshard/internal/hostile"
	"reshard/internal/sqlite"
)

func database(t *testing.T, script ...string) fs.FS {
	t.Helper()
	return fstest.MapFS{"db": {Data: hostile.Database(script)}}
}

func query(t *testing.T, tree fs.FS, text string) ([][]string, error) {
	t.Helper()
	b := budget.World()
	defer b.Done()
	d, err := sqlite.Open(b, tree, "db")
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.Query(text, 1000)
}

func TestAQuerySelectsFromPlainTables(t *testing.T) {
	t.Parallel()
	tree := database(t, `CREATE TABLE player (name TEXT, "odd ""name" TEXT, j TEXT)`, `CREATE TABLE "a b" (x)`,
		`INSERT INTO player VALUES ('ada', 'x', '["one","two"]'), ('bryn', NULL, '[]')`, `INSERT INTO "a b" VALUES (7)`)
	for text, want := range map[string][][]string{
		"SELECT name FROM player ORDER BY name":                                {{"ada"}, {"bryn"}},
		`SELECT "odd ""name" FROM player WHERE name = 'bryn'`:                  {{""}},
		`SELECT upper(name), (SELECT x FROM "a b") FROM PLAYER LIMIT 1`:        {{"ADA", "7"}},
		"WITH p AS (SELECT name FROM player) SELECT count(*), 2 FROM p":        {{"2", "2"}},
		"SELECT value FROM player, json_each(player.j) ORDER BY value":         {{"one"}, {"two"}},
		"SELECT group_concat(name, ',') FROM (SELECT name FROM player);":       {{"ada,bryn"}},
		"SELECT name FROM player WHERE name LIKE 'a%' -- a comment":            {{"ada"}},
		"SELECT row_number() OVER (ORDER BY name), name FROM player LIMIT 1":   {{"1", "ada"}},
		"SELECT strftime('%Y', 0, 'unixepoch') AS y FROM player LIMIT 1":       {{"1970"}},
		"SELECT name FROM sqlite_master WHERE type='table' ORDER BY 1 LIMIT 1": {{"a b"}},
	} {
		got, err := query(t, tree, text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

// Whatever a query tries, it writes nothing and reads nothing but this database's tables.
func TestAQueryDoesNothingElse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	other := filepath.Join(dir, "other.sqlite")
	require.NoError(t, os.WriteFile(other, hostile.Database([]string{"CREATE TABLE secret (x)",
		"INSERT INTO secret VALUES ('token')"}), 0o600))
	made := filepath.Join(dir, "made")
	tree := database(t, "CREATE TABLE player (name)", "INSERT INTO player VALUES ('ada')",
		"CREATE VIEW shown AS SELECT name FROM player", "CREATE VIRTUAL TABLE words USING fts5(word)")
	for _, text := range []string{
		"PRAGMA query_only=0",
		"PRAGMA query_only=0; ATTACH '" + made + "' AS m; CREATE TABLE m.t(x)",
		"SELECT name FROM player; ATTACH '" + made + "' AS m; CREATE TABLE m.t(x)",
		"ATTACH '" + other + "' AS o",
		"SELECT name FROM player; ATTACH '" + other + "' AS o; SELECT x FROM o.secret",
		"VACUUM INTO '" + made + "'",
		"SELECT name FROM player; VACUUM INTO '" + made + "'",
		"INSERT INTO player VALUES ('x')", "DELETE FROM player", "UPDATE player SET name = 'x'", "DROP TABLE player",
		"CREATE TABLE t (x)", "CREATE TEMP TABLE t (x)", "BEGIN", "SAVEPOINT s", "REINDEX", "ANALYZE",
		"SELECT load_extension('x')", "SELECT randomblob(1000)", "SELECT zeroblob(100000000)",
		"SELECT * FROM pragma_database_list", "SELECT * FROM pragma_function_list", "SELECT * FROM dbstat",
		"SELECT name FROM shown", "SELECT word FROM words", "SELECT * FROM words_content",
		"WITH a AS (WITH shown AS (SELECT 1 AS name) SELECT name FROM shown) SELECT s.name FROM a, shown s",
		"WITH a AS (WITH dbstat AS (SELECT 1 AS name) SELECT name FROM dbstat) SELECT d.name FROM a, dbstat d",
		"SELECT sqlite_version()", "EXPLAIN SELECT name FROM player; DROP TABLE player",
	} {
		got, err := query(t, tree, text)
		if text != "SELECT * FROM words_content" { // a plain table all the same
			assert.Error(t, err, "%s: %v", text, got)
		}
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, left, 1, "%s made %v", text, left)
	}
}

// A query ends with its time, its rows, the length of what it gives, and its memory.
func TestAQueryHasBounds(t *testing.T) {
	t.Parallel()
	tree := database(t, "CREATE TABLE player (name)", "INSERT INTO player VALUES ('ada')")
	endless := "WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c) SELECT "
	for text, why := range map[string]string{
		endless + "n FROM c":        "more than 1000 rows",
		endless + "count(*) FROM c": "took longer",
		"SELECT replace(printf('%10000d', 1), ' ', printf('%10000d', 1)) FROM player": "",
		"SELECT printf('%100000d', 1) FROM player":                                    "more than the 65536",
		"WITH RECURSIVE c(n, x) AS (SELECT 1, printf('%9000000d', 1) UNION ALL SELECT n + 1, x || n FROM c LIMIT 90) " +
			"SELECT group_concat(x) FROM c": "",
		"SELECT name FROM player WHERE " + strings.Repeat("1+(", 200) + "1" + strings.Repeat(")", 200): "",
		"SELECT name FROM player" + strings.Repeat(" UNION ALL SELECT name FROM player", 50):           "",
	} {
		begun := time.Now()
		_, err := query(t, tree, text)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), why, text)
		}
		assert.Less(t, time.Since(begun), 15*time.Second, text)
	}
}

func TestWhatIsNoDatabaseSaysSo(t *testing.T) {
	t.Parallel()
	for what, data := range map[string]string{"text": "hello", "a header alone": "SQLite format 3\x00", "nothing": ""} {
		_, err := query(t, fstest.MapFS{"db": {Data: []byte(data)}}, "SELECT name FROM player")
		assert.Error(t, err, what)
	}
	_, err := query(t, fstest.MapFS{"db": {Mode: fs.ModeNamedPipe}}, "SELECT 1")
	assert.Error(t, err)
	_, err = sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
}
