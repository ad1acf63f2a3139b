package bench

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/internal/hostile"
	"reshard/internal/pgserver"
	"reshard/internal/testdir"
)

// Every hostile file, sent to a service of its own process: what each takes of memory beyond
// the idle service, and of the cores, as a table with the worst first.
func BenchmarkHostileFiles(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		dir := b.TempDir()
		require.NoError(b, testdir.Open(dir))
		ctx := context.Background()
		pg, err := pgserver.Start(ctx, filepath.Join(dir, "postgres"))
		require.NoError(b, err)
		database, err := pg.Database(ctx, "bench")
		require.NoError(b, err)
		bin, err := programs()
		require.NoError(b, err)
		s, err := hostile.Start(ctx, filepath.Join(bin, "reshard"), database, dir)
		require.NoError(b, err)
		idle, err := s.Idle()
		require.NoError(b, err)
		type row struct {
			name string
			hostile.Cost
		}
		var rows []row
		b.StartTimer()
		for _, f := range hostile.All()[:size(len(hostile.All()), 2)] {
			cost, err := s.Send(ctx, f, idle)
			require.NoError(b, err, f.Name())
			rows = append(rows, row{f.Name(), cost})
		}
		b.StopTimer()
		require.NoError(b, s.Stop())
		require.NoError(b, pg.Stop())
		slices.SortFunc(rows, func(x, y row) int { return int(y.Peak>>10 - x.Peak>>10) })
		b.Logf("%d files; the idle service has %d MB", len(rows), idle>>20)
		b.Logf("%8s %8s %8s %6s  %s", "MB", "cpu s", "s", "answer", "file")
		for _, r := range rows {
			b.Logf("%8d %8.2f %8.2f %6d  %s", r.Peak>>20, r.CPU.Seconds(), r.Took.Seconds(), r.Status, r.name)
		}
		slowest := slices.MaxFunc(rows, func(x, y row) int { return int((x.CPU - y.CPU) / time.Microsecond) })
		b.Logf("worst of memory: %s, %d MB; worst of time: %s, %.2f s", rows[0].name, rows[0].Peak>>20, slowest.name,
			slowest.CPU.Seconds())
		b.ReportMetric(float64(rows[0].Peak>>20), "MB-worst")
		b.ReportMetric(slowest.CPU.Seconds(), "cpu-s-worst")
		b.StartTimer() // the loop asks for a timer that runs
	}
}
