package bench

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/wire"
)

// far is a service with a server on another machine, at the end of a line.
type far struct {
	*bundle
	host *farhost.Host
	line *farhost.Line
	keys string
	root string
}

func startFar(b *testing.B, shape farhost.Shape, roundTrip time.Duration) *far {
	b.Helper()
	if tiny {
		roundTrip = 0
	}
	s := &far{bundle: setup(b)}
	s.keys = filepath.Join(s.dir, "keys")
	require.NoError(b, os.Mkdir(s.keys, 0o700))
	var err error
	s.host, err = farhost.Start(s.keys, shape)
	require.NoError(b, err)
	b.Cleanup(s.host.Close)
	s.line, err = farhost.NewLine(s.host.Address(), roundTrip)
	require.NoError(b, err)
	b.Cleanup(s.line.Close)
	ctx, key := context.Background(), s.host.ClientKey
	_, err = s.api.AddHost(ctx, wire.NewHost{
		Name: "moor", Address: fmt.Sprintf("sftp://%s@127.0.0.1:%d", s.host.User, s.line.Port()), Folder: s.dir,
		SignIn: wire.SignIn{PrivateKey: &key}, AcceptKey: s.host.Fingerprint(),
	})
	require.NoError(b, err)
	_, err = s.api.CheckHost(ctx, "moor")
	require.NoError(b, err)
	s.root = filepath.Join(s.dir, "servers", "fen")
	require.NoError(b, quarrymoss.MakeServer(s.root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1,
		0))
	require.NoError(b, quarrymoss.Make(filepath.Join(s.root, "worlds", "winter"),
		quarrymoss.Options{Title: "winter", Seed: 1}))
	n := wire.NewServer{Name: "fen", Host: "moor", Game: "quarrymoss", Kind: "plain", Root: s.root}
	if shape.FilesOnly {
		n.Control.By = server.ByHand
	} else {
		n.Control.Session = fmt.Sprintf("reshard-bench-%d", os.Getpid())
		n.Command = []string{s.tool, "quarrymoss", "serve", "."}
	}
	_, err = s.api.AddServer(ctx, n)
	require.NoError(b, err)
	if shape.FilesOnly {
		_, err = s.api.SayStopped(ctx, "fen")
	} else {
		_, err = s.api.StartServer(ctx, "fen", wire.StartServer{})
		b.Cleanup(func() { _, _ = s.api.StopServer(ctx, "fen", wire.StopServer{}) })
	}
	require.NoError(b, err)
	return s
}

// world makes a world of tiles and sends it to the library.
func (s *far) world(name string, tiles, bytes int) (folder string, stored wire.Copy) {
	s.b.Helper()
	dir := filepath.Join(s.dir, "made")
	require.NoError(s.b, os.MkdirAll(dir, 0o755))
	require.NoError(s.b, quarrymoss.Make(filepath.Join(dir, name),
		quarrymoss.Options{Title: name, Seed: 2, Tiles: tiles, TileBytes: bytes}))
	return filepath.Join(dir, name), s.send(dir, name)
}

// played changes one file in a hundred, and sends the world again.
func (s *far) played(folder string) wire.Copy {
	s.b.Helper()
	tiles, err := filepath.Glob(filepath.Join(folder, "*", "t.*.qt"))
	require.NoError(s.b, err)
	require.NotEmpty(s.b, tiles)
	for i := 0; i < len(tiles); i += 100 {
		data, err := os.ReadFile(tiles[i])
		require.NoError(s.b, err)
		data[len(data)/2] ^= 0xff
		require.NoError(s.b, os.WriteFile(tiles[i], data, 0o644))
	}
	return s.send(filepath.Dir(folder), filepath.Base(folder))
}

// placed puts a copy beside under a name and gives how long its staging took, in seconds.
func (s *far) placed(copyID, name string, choices map[string]string) (took float64, id int64) {
	s.b.Helper()
	all := map[string]string{"folder-name": name}
	maps.Copy(all, choices)
	c := s.do(wire.Wish{Kind: plan.Put, World: copyID[:16], Server: "fen", Beside: true, Choices: all})
	for _, step := range c.Steps {
		if step.Kind == plan.Stage {
			took = float64(step.TookMS) / 1000
			s.b.Log(name, step.Note)
		}
	}
	require.Positive(s.b, took)
	return took, c.ID
}

// sftp sends folders with OpenSSH's own program, one of them for each of the jobs, and gives how
// long that took, in seconds.
func (s *far) sftp(jobs ...string) float64 {
	s.b.Helper()
	to := filepath.Join(s.dir, "by-sftp")
	require.NoError(s.b, os.MkdirAll(to, 0o755))
	begun := time.Now()
	var group errgroup.Group
	for _, job := range jobs {
		group.Go(func() error {
			cmd := exec.Command("sftp", "-q", "-b", "-", "-P", fmt.Sprint(s.line.Port()), "-i",
				filepath.Join(s.keys, "client_key"),
				"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", s.host.User+"@127.0.0.1")
			cmd.Stdin = strings.NewReader(job)
			out, err := cmd.CombinedOutput()
			if err != nil {
				return fmt.Errorf("%w: %s", err, out)
			}
			return nil
		})
	}
	require.NoError(s.b, group.Wait())
	took := time.Since(begun).Seconds()
	require.NoError(s.b, os.RemoveAll(to))
	return took
}

// putAll is a job that sends a folder.
func (s *far) putAll(folder string) string {
	return "put -r " + folder + " " + filepath.Join(s.dir, "by-sftp") + "\n"
}

// shared are eight jobs that send a folder's files between them.
func (s *far) shared(folder string) []string {
	s.b.Helper()
	jobs := make([]string, 8)
	n := 0
	require.NoError(s.b, filepath.WalkDir(folder, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			jobs[n%8] += fmt.Sprintf("put %s %s/by-sftp/%d\n", p, s.dir, n)
			n++
		}
		return err
	}))
	return jobs
}

var farShapes = []struct {
	name string
	farhost.Shape
}{{"commands", farhost.Shape{}}, {"files-alone", farhost.Shape{FilesOnly: true}}}

// BenchmarkFarStaging compares staging a world on another machine, compared with the copy when it
// is there, with OpenSSH's sftp put -r of the same files over the same line: 300 files of 6 kB at
// a round trip of 50 ms, and 1 GB on loopback; and there the same again after one file in a
// hundred has changed, hashed or read back whole, and known by size and time.
func BenchmarkFarStaging(b *testing.B) {
	const roundTrip = 50 * time.Millisecond
	for _, shape := range farShapes {
		b.Run(shape.name+"/300x6kB-at-50ms", func(b *testing.B) {
			s := startFar(b, shape.Shape, roundTrip)
			made, stored := s.world("fen", size(300, 10), 5200)
			for b.Loop() {
				ours, _ := s.placed(stored.ID, "fen", nil)
				theirs, eight := s.sftp(s.putAll(made)), s.sftp(s.shared(made)...)
				b.ReportMetric(ours, "ours-s")
				b.ReportMetric(theirs, "sftp-s")
				b.ReportMetric(ours/theirs, "ratio")
				b.ReportMetric(ours/eight, "of-eight")
			}
		})
		b.Run(shape.name+"/1GB", func(b *testing.B) {
			s := startFar(b, shape.Shape, 0)
			made, stored := s.world("fen", size(1024, 101), size(1<<20, 1<<10))
			for b.Loop() {
				ours, _ := s.placed(stored.ID, "fen", nil)
				theirs := s.sftp(s.putAll(made))
				played := s.played(made)
				again, id := s.placed(played.ID, "fen-two", nil)
				s.do(wire.Wish{Kind: plan.Undo, Undoes: id})
				known, _ := s.placed(played.ID, "fen-three", map[string]string{"comparison": "sample"})
				b.ReportMetric(ours, "ours-s")
				b.ReportMetric(theirs, "sftp-s")
				b.ReportMetric(ours/theirs, "ratio")
				b.ReportMetric(again/theirs, "again")
				b.ReportMetric(known/theirs, "again-by-size-and-time")
			}
			b.ReportMetric(s.peakMemory(), "service-MB")
		})
	}
}

// thereAndBack puts a world on the server and takes that back, and reports our part of both stop windows.
func (s *far) thereAndBack(choices map[string]string) {
	s.b.Helper()
	put := s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "fen", Choices: choices})
	s.b.ReportMetric(float64(put.Window.OursMS), "put-ms")
	back := s.do(wire.Wish{Kind: plan.Undo, Undoes: put.ID})
	s.b.ReportMetric(float64(back.Window.OursMS), "undo-ms")
}

// BenchmarkFarStopWindow measures our part of the stop window at a round trip of 50 ms.
func BenchmarkFarStopWindow(b *testing.B) {
	for _, tiles := range []int{16, 256, 2048} {
		if tiny && tiles > 16 {
			continue
		}
		b.Run(fmt.Sprintf("%dMB", tiles), func(b *testing.B) {
			s := startFar(b, farhost.Shape{}, 50*time.Millisecond)
			s.world("fen", tiles, size(1<<20, 1<<10))
			for b.Loop() {
				s.thereAndBack(nil)
			}
		})
	}
}
