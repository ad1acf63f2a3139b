package bench

import (
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"reshard/internal/pgserver"
	"reshard/internal/records"
	"reshard/internal/testdir"
	"reshard/internal/vault"
)

// folderSources lists a folder's files for the vault; those that stand in an earlier
// copy with the same size and time are known.
func folderSources(b *testing.B, dir string, earlier vault.Copy) (out []vault.Source) {
	b.Helper()
	before := map[string]vault.File{}
	for _, f := range earlier.Files {
		before[f.Path] = f
	}
	require.NoError(b, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		rel, _ := filepath.Rel(dir, p)
		src := vault.Source{
			Path:     filepath.ToSlash(rel),
			Modified: info.ModTime(),
			Open:     func() (io.ReadCloser, error) { return os.Open(p) },
		}
		if f, ok := before[src.Path]; ok && f.Size == info.Size() &&
			f.Modified.Equal(info.ModTime().UTC().Truncate(time.Second)) {
			src.Known = f.Chunks
		}
		out = append(out, src)
		return err
	}))
	return out
}

// takeOut writes a copy into a folder, as staging does, several files at a time.
func takeOut(b *testing.B, v *vault.Vault, c vault.Copy, to string) {
	b.Helper()
	v.Expect(context.Background(), c)
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, f := range c.Files {
		require.NoError(b, os.MkdirAll(filepath.Dir(filepath.Join(to, f.Path)), 0o755))
		group.Go(func() error {
			out, err := os.Create(filepath.Join(to, f.Path))
			if err != nil {
				return err
			}
			if _, err = io.Copy(out, v.Read(context.Background(), f)); err != nil {
				return err
			}
			return out.Close()
		})
	}
	require.NoError(b, group.Wait())
}

func shell(b *testing.B, script string, args ...string) float64 {
	b.Helper()
	begun := time.Now()
	out, err := exec.Command("sh", append([]string{"-c", script, "sh"}, args...)...).CombinedOutput()
	require.NoError(b, err, string(out))
	return time.Since(begun).Seconds()
}

// BenchmarkVault1GB compares storing a folder, storing it again with one file in a
// hundred changed (once as a backup does, which knows unchanged files by size and time,
// and once reading every byte), and taking it out, with tar and zstd in the same place.
// Both sides end with a sync. The memory is that of this process, in which the vault
// works.
func BenchmarkVault1GB(b *testing.B) {
	dir, err := testdir.New("reshard-bench-")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx := context.Background()
	pg, err := pgserver.Start(ctx, filepath.Join(dir, "postgres"))
	require.NoError(b, err)
	b.Cleanup(func() { _ = pg.Stop() })
	arrivalWorld(b, dir)
	world := filepath.Join(dir, "fen")
	shell(b, `sync -f "$1"`, dir)
	debug.FreeOSMemory()
	require.NoError(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)) // the peak begins here
	figures := map[string][]float64{}
	add := func(name string, v float64) { figures[name] = append(figures[name], v) }
	round := 0
	for b.Loop() {
		for range rounds {
			round++
			database, err := pg.Database(ctx, "bench"+strings.Repeat("x", round))
			require.NoError(b, err)
			r, err := records.Open(ctx, database, records.Claim{Who: "bench"})
			require.NoError(b, err)
			blobs, err := vault.Files(filepath.Join(dir, "vault"))
			require.NoError(b, err)
			v, err := vault.Open(ctx, blobs, r.VaultIndex())
			require.NoError(b, err)

			packed := filepath.Join(dir, "fen.tar.zst")
			tar := shell(b, `tar -C "$1" -cf - fen | zstd -q -1 -T0 -o "$2" && sync -f "$2"`, dir, packed)
			begun := time.Now()
			c, err := v.Store(ctx, folderSources(b, world, vault.Copy{}), nil)
			require.NoError(b, err)
			store := time.Since(begun).Seconds()

			// What is known by size and time needs another second on its clock.
			time.Sleep(time.Duration(size(0, 1100)) * time.Millisecond)
			for i, f := range c.Files {
				if i%100 == 0 {
					file, err := os.OpenFile(filepath.Join(world, f.Path), os.O_WRONLY, 0)
					require.NoError(b, err)
					_, err = file.WriteAt([]byte(time.Now().String()), f.Size/2)
					require.NoError(b, err)
					require.NoError(b, file.Close())
				}
			}
			begun = time.Now()
			next, err := v.Store(ctx, folderSources(b, world, c), nil)
			require.NoError(b, err)
			again := time.Since(begun).Seconds()
			require.NotEqual(b, c.ID, next.ID)
			begun = time.Now()
			read, err := v.Store(ctx, folderSources(b, world, vault.Copy{}), nil)
			require.NoError(b, err)
			require.Equal(b, next.ID, read.ID)
			add("again-reading-ratio", time.Since(begun).Seconds()/tar)
			shell(b, `sync -f "$1"`, dir)

			untar := shell(b, `mkdir "$2" && zstd -q -d -c "$1" | tar -C "$2" -x && sync -f "$2"`, packed,
				filepath.Join(dir, "untarred"))
			require.NoError(b, os.RemoveAll(filepath.Join(dir, "untarred")))
			begun = time.Now()
			takeOut(b, v, c, filepath.Join(dir, "taken"))
			shell(b, `sync -f "$1"`, dir)
			out := time.Since(begun).Seconds()
			add("store-s", store)
			add("store-ratio", store/tar)
			add("again-ratio", again/tar)
			add("out-s", out)
			add("out-ratio", out/untar)
			r.Close()
			shell(b, `rm -r "$1/taken" "$1/vault" "$2"`, dir, packed)
		}
	}
	for name, v := range figures {
		slices.Sort(v)
		b.ReportMetric(median(v), name)
	}
	b.ReportMetric(peakMemory(b, os.Getpid()), "MB")
	b.ReportMetric(0, "ns/op")
}
