package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/core/world"
)

// BenchmarkFacts2GB reads all facts of a world of 2 GB in 2,048 tiles with 200 player
// records: cold (nothing of it in memory) and warm, beside find, which only lists
// the same files.
func BenchmarkFacts2GB(b *testing.B) {
	dir, err := os.MkdirTemp("", "reshard-bench-")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	folk := make([]string, 200)
	for i := range folk {
		folk[i] = fmt.Sprintf("Member %d", i)
	}
	root := filepath.Join(dir, "fen")
	require.NoError(b, quarrymoss.Make(
		root, quarrymoss.Options{Title: "Fen", Tiles: size(2048, 8), TileBytes: size(1<<20, 1<<10), Folk: folk}))
	unix.Sync()
	for b.Loop() {
		how := forget(b, root)
		cold := timed(func() { readFacts(b, dir) })
		warm := timed(func() { readFacts(b, dir) })
		forget(b, root)
		listing := timed(func() {
			out, err := exec.Command("find", root, "-type", "f", "-printf", "%s %T@\n").Output()
			require.NoError(b, err)
			require.NotEmpty(b, out)
		})
		b.Logf("facts of 2 GB: cold (%s) %v, warm %v; find, cold, %v; ratio cold %.2f", how,
			cold.Round(time.Millisecond), warm.Round(time.Millisecond), listing.Round(time.Millisecond),
			cold.Seconds()/listing.Seconds())
		b.ReportMetric(float64(cold.Milliseconds()), "cold-ms")
		b.ReportMetric(float64(warm.Milliseconds()), "warm-ms")
		b.ReportMetric(cold.Seconds()/listing.Seconds(), "cold/find")
	}
}

func readFacts(b *testing.B, dir string) {
	b.Helper()
	w, _, err := world.Inspect(os.DirFS(dir), "fen", "fen", "", games.All())
	require.NoError(b, err)
	require.Equal(b, "Fen", w.Title)
	require.Len(b, w.Players, 200)
	require.Equal(b, size(2048, 8)+201, w.Files)
}

func timed(act func()) time.Duration {
	begun := time.Now()
	act()
	return time.Since(begun)
}

// forget drops a tree from the system's memory: all of it where the machine lets us,
// else at least the files' content.
func forget(b *testing.B, root string) string {
	b.Helper()
	if os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o200) == nil {
		return "caches dropped"
	}
	require.NoError(b, filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close() //nolint:errcheck // only advice is given
		return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
	}))
	return "content dropped, names kept"
}
