package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// backup has a backup made and waits for it. It gives what it took from its job's start, in seconds,
// how long writes were held, in seconds, and the backup.
func (s *bundle) backup(server string) (took, held float64, made wire.Backup) {
	s.b.Helper()
	ctx := context.Background()
	made, err := s.api.MakeBackup(ctx, wire.MakeBackup{Server: server})
	require.NoError(s.b, err)
	for made.State == "running" {
		time.Sleep(50 * time.Millisecond)
		made, err = s.api.Backup(ctx, made.ID)
		require.NoError(s.b, err)
	}
	require.Equal(s.b, "done", made.State, made.Failure)
	c, err := s.api.Changeover(ctx, made.Changeover)
	require.NoError(s.b, err)
	var tells []time.Time
	for i, step := range c.Steps {
		s.b.Log(step.Kind, step.Say, step.TookMS, "ms", step.Note)
		if step.Kind == plan.Tell {
			at := *step.DoneAt
			if len(tells) == 0 && i > 0 { // held from when the word was said, not from its answer
				at = *c.Steps[i-1].DoneAt
			} else if len(tells) == 0 {
				at = *c.StartedAt
			}
			tells = append(tells, at)
		}
	}
	if len(tells) > 1 {
		held = tells[len(tells)-1].Sub(tells[0]).Seconds()
	}
	return made.Ended.Sub(made.Begun).Seconds(), held, made
}

// changed rewrites that many bytes of a world, a tile at a time as a game does; of the last tile only as much as is
// still wanted. The files' times are as old as the last save's would be.
func changed(b *testing.B, folder string, random *rand.Rand, bytes int64) {
	b.Helper()
	files, err := filepath.Glob(filepath.Join(folder, "ground", "*.qt"))
	require.NoError(b, err)
	require.NotEmpty(b, files)
	for left := bytes; left > 0; {
		name := files[random.IntN(len(files))]
		data, err := os.ReadFile(name)
		require.NoError(b, err)
		require.NotEmpty(b, data, name)
		n := int(min(left, int64(len(data))))
		for at := 0; at < n; at += 4096 {
			for i := at; i < min(n, at+2560); i++ {
				data[i] = byte(random.Uint32())
			}
		}
		require.NoError(b, os.WriteFile(name, data, 0o644))
		at := time.Now().Add(-time.Minute)
		require.NoError(b, os.Chtimes(name, at, at))
		left -= int64(n)
	}
}

// bigServer makes a server that plays the world of arrivals, 1 GB in 2,130 files.
func (s *bundle) bigServer(name string) (world string) {
	s.b.Helper()
	root := filepath.Join(s.dir, "servers", name)
	require.NoError(s.b, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "fen", 3, 0))
	arrivalWorld(s.b, filepath.Join(root, "worlds"))
	world = filepath.Join(root, "worlds", "fen")
	at := time.Now().Add(-time.Hour)
	files, err := filepath.Glob(filepath.Join(world, "*", "*"))
	require.NoError(s.b, err)
	for _, f := range files {
		require.NoError(s.b, os.Chtimes(f, at, at))
	}
	ctx := context.Background()
	_, err = s.api.AddServer(ctx, wire.NewServer{
		Name: name, Game: "quarrymoss", Kind: "plain", Root: root,
		Command: []string{s.tool, "quarrymoss", "serve", "."},
	})
	require.NoError(s.b, err)
	return world
}

// BenchmarkBackup1GB compares backups of a running server's world of 1 GB, from their job's start,
// with tar and zstd of the same folder: the first, one of the world as it stood, and one after a
// hundredth of its bytes has changed. It also says for how long writes were held.
func BenchmarkBackup1GB(b *testing.B) {
	s := setup(b)
	world := s.bigServer("north")
	_, err := s.api.StartServer(context.Background(), "north", wire.StartServer{})
	require.NoError(b, err)
	figures := map[string][]float64{}
	add := func(name string, v float64) { figures[name] = append(figures[name], v) }
	random := rand.New(rand.NewPCG(1, 2))
	packed := filepath.Join(s.dir, "fen.tar.zst")
	for b.Loop() {
		first, held, _ := s.backup("north")
		b.ReportMetric(first, "first-s")
		b.ReportMetric(held, "first-held-s")
		for range rounds {
			shell(b, `sync -f "$1"`, s.dir)
			tar := shell(b, `tar -C "$1" -cf - fen | zstd -q -1 -T0 -f -o "$2" && sync -f "$2"`, filepath.Dir(world),
				packed)
			same, held, _ := s.backup("north")
			add("unchanged-ratio", same/tar)
			add("unchanged-held-s", held)
			changed(b, world, random, int64(size(10_000_000, 10_000)))
			shell(b, `sync -f "$1"`, s.dir)
			played, held, _ := s.backup("north")
			add("changed-ratio", played/tar)
			add("changed-held-s", held)
			add("tar-s", tar)
		}
	}
	for name, v := range figures {
		b.ReportMetric(median(v), name)
	}
	b.ReportMetric(s.peakMemory(), "service-MB")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkHundredBackups says how much room a hundred backups of a world take, of which a hundredth
// changes between any two, beside that of one.
func BenchmarkHundredBackups(b *testing.B) {
	s := setup(b)
	world := s.bigServer("north")
	random := rand.New(rand.NewPCG(3, 4))
	var one, all int64
	for b.Loop() {
		s.backup("north")
		one = sizeOf(b, filepath.Join(s.dir, "data", "vault"))
		for range size(99, 2) {
			changed(b, world, random, int64(size(10_100_000, 10_100)))
			_, _, made := s.backup("north")
			require.False(b, made.Worlds[0].AsBefore)
		}
		all = sizeOf(b, filepath.Join(s.dir, "data", "vault"))
	}
	b.ReportMetric(float64(one)/1e6, "one-MB")
	b.ReportMetric(float64(all)/1e6, "hundred-MB")
	b.ReportMetric(float64(all)/float64(one), "ratio")
	b.ReportMetric(0, "ns/op")
}

func sizeOf(b *testing.B, dir string) (n int64) {
	b.Helper()
	require.NoError(b, filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			n += info.Size()
		}
		return err
	}))
	return n
}

// BenchmarkFarBackup1GB compares backups over SFTP at a round trip of 50 ms with OpenSSH's sftp get
// -r of the same world, 1 GB in 256 files, over the same line; and measures how long a running server's
// writes are held over SSH, with 1 GB in 2,000 files.
func BenchmarkFarBackup1GB(b *testing.B) {
	const roundTrip = 50 * time.Millisecond
	played := func(s *far, tiles, bytes int) string {
		world := filepath.Join(s.root, "worlds", "winter")
		require.NoError(b, os.RemoveAll(world))
		require.NoError(b, quarrymoss.Make(world,
			quarrymoss.Options{Title: "winter", Seed: 1, Tiles: tiles, TileBytes: bytes}))
		at := time.Now().Add(-time.Hour)
		require.NoError(b, filepath.WalkDir(world, func(p string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Chtimes(p, at, at)
		}))
		return world
	}
	b.Run("files-alone", func(b *testing.B) {
		s := startFar(b, farhost.Shape{FilesOnly: true}, roundTrip)
		world := played(s, size(256, 4), size(4<<20, 4<<10))
		for b.Loop() {
			first, _, _ := s.backup("fen")
			theirs := s.sftp("get -r " + world + " " + filepath.Join(s.dir, "by-sftp") + "\n")
			same, _, _ := s.backup("fen")
			changed(b, world, rand.New(rand.NewPCG(5, 6)), int64(size(10_000_000, 10_000)))
			again, _, _ := s.backup("fen")
			b.ReportMetric(theirs, "sftp-s")
			b.ReportMetric(first/theirs, "first-ratio")
			b.ReportMetric(same/theirs, "unchanged-ratio")
			b.ReportMetric(again/theirs, "changed-ratio")
			b.ReportMetric(0, "ns/op")
		}
	})
	for _, trip := range []time.Duration{0, roundTrip} {
		b.Run(fmt.Sprintf("held-over-ssh-at-%s", trip), func(b *testing.B) {
			s := startFar(b, farhost.Shape{}, trip)
			ctx := context.Background()
			_, err := s.api.StopServer(ctx, "fen", wire.StopServer{})
			require.NoError(b, err)
			world := played(s, size(2000, 20), size(512<<10, 512))
			_, err = s.api.StartServer(ctx, "fen", wire.StartServer{})
			require.NoError(b, err)
			for b.Loop() {
				_, first, _ := s.backup("fen")
				_, same, _ := s.backup("fen")
				changed(b, world, rand.New(rand.NewPCG(7, 8)), int64(size(10_000_000, 5_000)))
				_, again, _ := s.backup("fen")
				b.ReportMetric(first, "first-held-s")
				b.ReportMetric(same, "unchanged-held-s")
				b.ReportMetric(again, "changed-held-s")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
