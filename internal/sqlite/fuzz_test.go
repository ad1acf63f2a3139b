package sqlite_test

import (
	"os"
	"testing"
	"testing/fstest"

	"reshard/internal/core/budget"
	"reshard/internal/hostile"
	"reshard/internal/sqlite"
)

// Whatever a query and a database are, reading makes no file and answers in time.
func FuzzQuery(f *testing.F) {
	whole := hostile.Database([]string{"CREATE TABLE player (name)", "INSERT INTO player VALUES ('ada')",
		"CREATE VIEW v AS SELECT name FROM player"})
	f.Add("SELECT name FROM player", 0, byte(0))
	f.Add("WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM c LIMIT 9) SELECT n FROM c", 100, byte(1))
	f.Add("SELECT name FROM v; ATTACH 'made' AS m", 3000, byte(255))
	f.Fuzz(func(t *testing.T, query string, at int, by byte) {
		t.Chdir(t.TempDir())
		data := append([]byte{}, whole...)
		if at >= 0 && at < len(data) {
			data[at] ^= by
		}
		b := budget.World()
		defer b.Done()
		if d, err := sqlite.Open(b, fstest.MapFS{"db": {Data: data}}, "db"); err == nil {
			_, _ = d.Query(query, 100)
			d.Close()
		}
		if left, err := os.ReadDir("."); err != nil || len(left) > 0 {
			t.Fatalf("%q made %v %v", query, left, err)
		}
	})
}
