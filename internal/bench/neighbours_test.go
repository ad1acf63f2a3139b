package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/control"
	"reshard/internal/control/child"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// BenchmarkNeighbours measures what a crowded machine costs a changeover: with 2,000 other processes and 50 running
// servers, the processor time of one look at who works in a server's folder, asked alone and by 50 servers at once, and
// our part of the stop window of a put and its undo, beside the same without the crowd.
func BenchmarkNeighbours(b *testing.B) {
	s := setup(b)
	s.server("north", "winter")
	dir := filepath.Join(s.dir, "made")
	require.NoError(b, os.Mkdir(dir, 0o755))
	require.NoError(b, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: size(16, 1), TileBytes: size(1<<20, 1<<10)}))
	s.send(dir, "fen")
	for b.Loop() {
		alone := s.puts(size(5, 1))
		b.ReportMetric(float64(len(processes(b))), "processes-before")
		crowd(b, size(2000, 20))
		for n := range size(50, 2) {
			s.server(fmt.Sprintf("plot-%d", n), "winter")
		}
		crowded := s.puts(size(5, 1))
		b.ReportMetric(alone, "ours-alone-ms")
		b.ReportMetric(crowded, "ours-crowded-ms")
		b.ReportMetric(crowded/alone, "ratio")
		one, shared := looks(b, size(20, 1))
		b.ReportMetric(one, "look-cpu-ms")
		b.ReportMetric(shared, "look-of-50-cpu-ms")
		b.ReportMetric(0, "ns/op")
	}
}

// puts gives the median of our part of the stop windows of some puts and their undos, in milliseconds.
func (s *bundle) puts(n int) float64 {
	var ours []float64
	for range n {
		put := s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
		back := s.do(wire.Wish{Kind: plan.Undo, Undoes: put.ID})
		ours = append(ours, float64(put.Window.OursMS), float64(back.Window.OursMS))
	}
	return median(ours)
}

// crowd starts processes that sleep.
func crowd(b *testing.B, n int) {
	b.Helper()
	for range n {
		c := exec.Command("sleep", "1000")
		require.NoError(b, c.Start())
		b.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	}
}

func processes(b *testing.B) []string {
	b.Helper()
	found, err := filepath.Glob("/proc/[0-9]*")
	require.NoError(b, err)
	return found
}

// looks gives the processor time of a question who else works in a server's folder, in milliseconds: of one that is
// asked alone, and of one of 50 that are asked at the same time.
func looks(b *testing.B, n int) (one, shared float64) {
	b.Helper()
	var all []control.Neighbour
	for range 50 {
		dir := b.TempDir()
		c, err := child.New(child.Spec{
			Command: child.Command{Args: []string{"game"}, Dir: dir}, State: b.TempDir(), Mark: "bench/" + dir,
		})
		require.NoError(b, err)
		all = append(all, c)
	}
	ask := func(c control.Neighbour) {
		_, err := c.Others(context.Background())
		require.NoError(b, err)
	}
	ask(all[0]) // the first look reads all there is
	begun := processorTime(b)
	for range n {
		ask(all[0])
	}
	one = (processorTime(b) - begun) / float64(n)
	begun = processorTime(b)
	for range n {
		var asked sync.WaitGroup
		for _, c := range all {
			asked.Go(func() { ask(c) })
		}
		asked.Wait()
	}
	return one, (processorTime(b) - begun) / float64(n*len(all))
}

// processorTime is what this process has taken of the processors, in milliseconds.
func processorTime(b *testing.B) float64 {
	b.Helper()
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return float64(u.Utime.Nano()+u.Stime.Nano()) / float64(time.Millisecond)
}
