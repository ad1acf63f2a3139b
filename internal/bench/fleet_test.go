package bench

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// manyServers records so many stopped servers of about 60 kB.
func manyServers(b *testing.B, dir, database string, n int) {
	b.Helper()
	ctx := context.Background()
	r, err := records.Open(ctx, database, records.Claim{Who: "bench"})
	require.NoError(b, err)
	defer r.Close()
	model := filepath.Join(dir, "model")
	require.NoError(b, quarrymoss.MakeServer(model, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1, 0))
	require.NoError(b, quarrymoss.Make(filepath.Join(model, "worlds", "winter"),
		quarrymoss.Options{Title: "Winter", Seed: 1, Tiles: 16, TileBytes: 3500}))
	for i := range n {
		root := filepath.Join(dir, "many", fmt.Sprintf("plot-%04d", i))
		require.NoError(b, os.CopyFS(root, os.DirFS(model)))
		_, err := r.AddServer(ctx, records.Server{
			Name: filepath.Base(root), Host: "local", Game: "quarrymoss", Kind: "plain", Root: root,
			Command: records.JSON[[]string]{V: []string{"/bin/false"}}, Env: records.JSON[map[string]string]{},
		})
		require.NoError(b, err)
	}
}

// percentile gives the time that p of 100 calls stay below.
func percentile(took []time.Duration, p int) float64 {
	slices.Sort(took)
	return float64(took[min(len(took)-1, len(took)*p/100)].Microseconds()) / 1000
}

func repeat(n int, do func()) []time.Duration {
	out := make([]time.Duration, n)
	for i := range out {
		begun := time.Now()
		do()
		out[i] = time.Since(begun)
	}
	return out
}

// A service with 2,000 stopped servers: how long until all have been looked at once after
// a start, and how long a list takes then, while they are looked at again and again.
func BenchmarkServers2000(b *testing.B) {
	n := size(2000, 20)
	for b.Loop() {
		b.StopTimer()
		s := start(b, func(dir, database string) { manyServers(b, dir, database, n) })
		ctx := context.Background()
		b.StartTimer()
		begun := time.Now()
		for {
			list, err := s.api.Servers(ctx, wire.ServerQuery{})
			require.NoError(b, err)
			require.Len(b, list, n)
			if !slices.ContainsFunc(list, func(v wire.Server) bool { return v.SeenAt == nil }) {
				require.Equal(b, "Winter", list[n-1].ActiveTitle)
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		b.ReportMetric(time.Since(begun).Seconds(), "s-first-picture")
		page := repeat(size(300, 3), func() {
			_, err := s.api.Servers(ctx, wire.ServerQuery{Part: wire.Part{Limit: 100}})
			require.NoError(b, err)
		})
		b.ReportMetric(percentile(page, 50), "ms-page-of-100-p50")
		b.ReportMetric(percentile(page, 95), "ms-page-of-100-p95")
		all := repeat(size(30, 3), func() {
			_, err := s.api.Servers(ctx, wire.ServerQuery{})
			require.NoError(b, err)
		})
		b.ReportMetric(percentile(all, 95), "ms-all-2000-p95")
		b.ReportMetric(s.peakMemory(), "MB-peak")
	}
}

// A sheet for a server with 300 saves of about 10 kB, the first time and then.
func BenchmarkSheet300Saves(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		s := setup(b)
		ctx := context.Background()
		root := filepath.Join(s.dir, "servers", "many")
		require.NoError(b, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "w0", 1, 0))
		old := time.Now().Add(-time.Hour)
		for i := range size(300, 5) {
			at := filepath.Join(root, "worlds", fmt.Sprintf("w%d", i))
			require.NoError(b, quarrymoss.Make(at, quarrymoss.Options{Title: "W", Seed: 1, Tiles: 16, TileBytes: 500}))
			require.NoError(b, filepath.WalkDir(at, func(p string, _ os.DirEntry, err error) error {
				require.NoError(b, err)
				return os.Chtimes(p, old, old)
			}))
		}
		_, err := s.api.AddServer(ctx, wire.NewServer{
			Name: "many", Game: "quarrymoss", Kind: "plain", Root: root,
			Command: []string{s.tool, "quarrymoss", "serve", "."},
		})
		require.NoError(b, err)
		require.NoError(b, quarrymoss.Make(filepath.Join(s.dir, "fen"), quarrymoss.Options{Title: "Fen", Seed: 3}))
		copied := s.send(s.dir, "fen")
		wish := wire.Wish{Kind: plan.Put, World: copied.World, Server: "many", Choices: map[string]string{
			"folder-name": "fen",
		}}
		b.StartTimer()
		sheet := func() {
			_, err := s.api.Sheet(ctx, wish)
			require.NoError(b, err)
		}
		facts := func() {
			got, err := s.api.Server(ctx, "many")
			require.NoError(b, err)
			require.Len(b, got.Facts.Worlds, size(300, 5))
		}
		b.ReportMetric(percentile(repeat(1, sheet), 50), "ms-sheet-first")
		b.ReportMetric(percentile(repeat(size(30, 3), sheet), 95), "ms-sheet-warm-p95")
		b.ReportMetric(percentile(repeat(1, facts), 50), "ms-all-worlds-first")
		b.ReportMetric(percentile(repeat(size(30, 3), facts), 95), "ms-all-worlds-warm-p95")
	}
}

// What watching a changeover asks of the database: a put that is watched by one and by
// fifty, in statements from the moment when all watch to its end.
func BenchmarkWatchers(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		s := setup(b, "log_statement=all", "logging_collector=off")
		ctx := context.Background()
		s.server("north", "winter")
		require.NoError(b, quarrymoss.Make(filepath.Join(s.dir, "fen"),
			quarrymoss.Options{
				Title: "Fen", Seed: 3, Version: "2.5.1", Tiles: size(256, 4), TileBytes: size(1<<20, 1<<10),
			}))
		copied := s.send(s.dir, "fen")
		b.StartTimer()
		watched := func(watchers int) float64 {
			draft, err := s.api.Draft(ctx, wire.Wish{
				Kind: plan.Put, World: copied.World, Server: "north", Choices: map[string]string{"folder-name": "fen"},
			})
			require.NoError(b, err)
			var all, watching sync.WaitGroup
			for range watchers {
				watching.Add(1)
				first := sync.OnceFunc(watching.Done)
				all.Go(func() {
					last, err := s.api.Watch(ctx, draft.ID, func(wire.Changeover) { first() })
					require.NoError(b, err)
					require.Equal(b, plan.Done, last.State)
				})
			}
			watching.Wait()
			before := s.statements()
			_, err = s.api.Act(ctx, draft.ID, "start")
			require.NoError(b, err)
			all.Wait()
			asked := s.statements() - before
			s.undo(draft.ID)
			return asked
		}
		watched(1) // what the vault looks up once is known afterwards
		one, fifty := watched(1), watched(size(50, 3))
		b.ReportMetric(one, "statements-1-watcher")
		b.ReportMetric(fifty, "statements-50-watchers")
		b.ReportMetric(fifty/one, "ratio")
	}
}

// undo takes a changeover back.
func (s *bundle) undo(id int64) {
	s.b.Helper()
	ctx := context.Background()
	draft, err := s.api.Draft(ctx, wire.Wish{Kind: plan.Undo, Undoes: id})
	require.NoError(s.b, err)
	_, err = s.api.Act(ctx, draft.ID, "start")
	require.NoError(s.b, err)
	last, err := s.api.Watch(ctx, draft.ID, func(wire.Changeover) {})
	require.NoError(s.b, err)
	require.Equal(s.b, plan.Done, last.State)
}

// statements counts what the database has been asked, by its own log; the lease, which
// goes on by itself, does not count.
func (s *bundle) statements() (n float64) {
	s.b.Helper()
	time.Sleep(200 * time.Millisecond) // the log is written a moment later
	f, err := os.Open(filepath.Join(s.dir, "postgres", "log"))
	require.NoError(s.b, err)
	defer f.Close() //nolint:errcheck // only read
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		text := lines.Text()
		if (strings.Contains(text, "execute ") || strings.Contains(text, "statement: ")) &&
			!strings.Contains(text, "service_lease") {
			n++
		}
	}
	require.NoError(s.b, lines.Err())
	return n
}
