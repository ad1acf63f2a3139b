package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
		_, err = s.api.StartServer(ctx, "fen")
		b.Cleanup(func() { _, _ = s.api.StopServer(ctx, "fen") })
	}
	require.NoError(b, err)
	return s
}

// world makes a world of tiles and sends it to the library.
func (s *far) world(name string, tiles, bytes int) string {
	s.b.Helper()
	dir := filepath.Join(s.dir, "made")
	require.NoError(s.b, os.MkdirAll(dir, 0o755))
	require.NoError(s.b, quarrymoss.Make(filepath.Join(dir, name),
		quarrymoss.Options{Title: name, Seed: 2, Tiles: tiles, TileBytes: bytes}))
	s.send(dir, name)
	return filepath.Join(dir, name)
}

// staged puts a world beside and gives how long its staging took, in seconds.
func (s *far) staged(name string) float64 {
	s.b.Helper()
	c := s.do(wire.Wish{Kind: plan.Put, World: name, Server: "fen", Beside: true})
	took := 0.0
	for _, step := range c.Steps {
		if step.Kind == plan.Stage {
			took = float64(step.TookMS) / 1000
		}
	}
	require.Positive(s.b, took)
	s.do(wire.Wish{Kind: plan.Undo, Undoes: c.ID})
	require.NoError(s.b, os.RemoveAll(filepath.Join(s.root, ".reshard")))
	return took
}

// sftp sends a folder with OpenSSH's own program, and gives how long that took, in seconds.
func (s *far) sftp(from string) float64 {
	s.b.Helper()
	to := filepath.Join(s.dir, "by-sftp")
	require.NoError(s.b, os.MkdirAll(to, 0o755))
	cmd := exec.Command("sftp", "-q", "-b", "-", "-P", fmt.Sprint(s.line.Port()), "-i",
		filepath.Join(s.keys, "client_key"),
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", s.host.User+"@127.0.0.1")
	cmd.Stdin = strings.NewReader("put -r " + from + " " + to + "\n")
	begun := time.Now()
	out, err := cmd.CombinedOutput()
	require.NoError(s.b, err, string(out))
	took := time.Since(begun).Seconds()
	require.NoError(s.b, os.RemoveAll(to))
	return took
}

// BenchmarkFarStaging compares staging a world on another machine, compared with the copy when it
// is there, with OpenSSH's sftp put -r of the same files over the same line: 300 files of 6 kB at
// a round trip of 50 ms, and 1 GB on loopback.
func BenchmarkFarStaging(b *testing.B) {
	for _, shape := range []struct {
		name string
		farhost.Shape
	}{{"commands", farhost.Shape{}}, {"files-alone", farhost.Shape{FilesOnly: true}}} {
		for _, size := range []struct {
			name         string
			tiles, bytes int
			roundTrip    time.Duration
		}{{"300x6kB-at-50ms", 300, 5200, 50 * time.Millisecond}, {"1GB", 1024, 1 << 20, 0}} {
			b.Run(shape.name+"/"+size.name, func(b *testing.B) {
				s := startFar(b, shape.Shape, size.roundTrip)
				made := s.world("fen", size.tiles, size.bytes)
				for b.Loop() {
					ours := s.staged("fen")
					theirs := s.sftp(made)
					b.ReportMetric(ours, "ours-s")
					b.ReportMetric(theirs, "sftp-s")
					b.ReportMetric(ours/theirs, "ratio")
				}
				b.ReportMetric(s.peakMemory(), "service-MB")
			})
		}
	}
}

// BenchmarkFarStopWindow measures our part of the stop window at a round trip of 50 ms.
func BenchmarkFarStopWindow(b *testing.B) {
	for _, tiles := range []int{16, 256} {
		b.Run(fmt.Sprintf("%dMB", tiles), func(b *testing.B) {
			s := startFar(b, farhost.Shape{}, 50*time.Millisecond)
			s.world("fen", tiles, 1<<20)
			for b.Loop() {
				c := s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "fen"})
				b.ReportMetric(float64(c.Window.OursMS), "put-ms")
				back := s.do(wire.Wish{Kind: plan.Undo, Undoes: c.ID})
				b.ReportMetric(float64(back.Window.OursMS), "undo-ms")
			}
		})
	}
}
