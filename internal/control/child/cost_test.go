package child

import (
	"context"
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func cpu() int64 {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return u.Utime.Nano() + u.Stime.Nano()
}

func BenchmarkCensus(b *testing.B) {
	dir := b.TempDir()
	for range 2000 {
		c := exec.Command("sleep", "600")
		require.NoError(b, c.Start())
		defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	}
	c, err := New(Spec{Command: Command{Args: []string{"x"}, Dir: dir}, State: b.TempDir(), Mark: "m"})
	require.NoError(b, err)
	_ = os.Getpid()
	t := cpu()
	for b.Loop() {
		_, err := c.Others(context.Background())
		require.NoError(b, err)
	}
	b.ReportMetric(float64(cpu()-t)/float64(b.N)/1e6, "cpu-ms")
	t = cpu()
	for range 20 {
		_, err = c.marked(context.Background())
		require.NoError(b, err)
	}
	b.ReportMetric(float64(cpu()-t)/20/1e6, "marks-cpu-ms")
}
