package bench

import (
	"context"
	"io"
	"net"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/internal/hostile"
	"reshard/internal/pgserver"
	"reshard/internal/testdir"
)

// serviceAlone starts a service in its own process, with its own database.
func serviceAlone(ctx context.Context, b *testing.B) (s *hostile.Service, stop func()) {
	b.Helper()
	dir := b.TempDir()
	require.NoError(b, testdir.Open(dir))
	pg, err := pgserver.Start(ctx, filepath.Join(dir, "postgres"))
	require.NoError(b, err)
	database, err := pg.Database(ctx, "bench")
	require.NoError(b, err)
	bin, err := programs()
	require.NoError(b, err)
	s, err = hostile.Start(ctx, filepath.Join(bin, "reshard"), database, dir)
	require.NoError(b, err)
	return s, func() {
		require.NoError(b, s.Stop())
		require.NoError(b, pg.Stop())
	}
}

// Every hostile file, sent to a service of its own process, and every peer that the service is told to reach: what each
// takes of memory beyond the idle service, and of the cores, as a table with the worst first.
func BenchmarkHostileFiles(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		ctx := context.Background()
		s, stop := serviceAlone(ctx, b)
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
		for _, p := range hostile.Peers()[:size(len(hostile.Peers()), 2)] {
			cost, err := s.Meet(ctx, p, idle)
			require.NoError(b, err, p.Name)
			rows = append(rows, row{"peer/" + p.Name, cost})
		}
		b.StopTimer()
		stop()
		slices.SortFunc(rows, func(x, y row) int { return int(y.Peak>>10 - x.Peak>>10) })
		b.Logf("%d files and peers; the idle service has %d MB", len(rows), idle>>20)
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

// Connections that say nothing, from other addresses, and meanwhile calls from this one: how much longer 95 of 100 take
// than without them.
func BenchmarkStalledConnections(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		ctx := context.Background()
		s, stop := serviceAlone(ctx, b)
		calls := func() time.Duration {
			var took []time.Duration
			for range size(400, 20) {
				begun := time.Now()
				status, _, err := s.Ask(ctx, "GET", "/servers", "", nil)
				require.NoError(b, err)
				require.Equal(b, 200, status)
				took = append(took, time.Since(begun))
			}
			slices.Sort(took)
			return took[len(took)*95/100]
		}
		calls() // what is made once is made
		alone := calls()
		var stalled []net.Conn
		for n := range size(2000, 100) {
			from := &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(2+n%39))}
			c, err := (&net.Dialer{LocalAddr: from}).Dial("tcp", s.Address())
			require.NoError(b, err)
			_, err = io.WriteString(c, "GET / HT")
			require.NoError(b, err)
			stalled = append(stalled, c)
		}
		b.StartTimer()
		beside := calls()
		b.StopTimer()
		b.Logf("95 of 100 calls: %v alone, %v beside %d stalled connections", alone, beside, len(stalled))
		b.ReportMetric(float64(beside)/float64(alone), "x-p95")
		for _, c := range stalled {
			_ = c.Close()
		}
		stop()
		b.StartTimer() // the loop asks for a timer that runs
	}
}
