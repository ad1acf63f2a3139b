package e2e

import (
	"context"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/hostile"
)

// What docs/security.md promises of any file that anybody can send: memory beyond the idle
// service, and time of a core for what unpacks to little.
const (
	mostMemory = 256 << 20
	mostTime   = 10 * time.Second
	perMB      = 300 * time.Millisecond
	mostAnswer = 1 << 20 // of any answer, in bytes
)

// Every hostile file is sent to a service of its own process, whose memory is limited. It
// measures, and runs before the others, by itself (Makefile).
func TestNoFileCostsMoreThanItIsWorth(t *testing.T) {
	dir := t.TempDir()
	program := filepath.Join(dir, "reshard")
	out, err := exec.Command("go", "build", "-o", program, "reshard/cmd/reshard").CombinedOutput()
	require.NoError(t, err, string(out))
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Minute)
	defer cancel()
	s, err := hostile.Start(ctx, program, emptyDatabase(t), dir)
	require.NoError(t, err)
	idle, err := s.Idle()
	require.NoError(t, err)
	for _, f := range hostile.All() {
		t.Run(f.Name(), func(t *testing.T) {
			cost, err := s.Send(ctx, f, idle)
			require.NoError(t, err, "it ended the service")
			assert.LessOrEqual(t, cost.Peak, int64(mostMemory), "%d MB", cost.Peak>>20)
			assert.LessOrEqual(t, cost.CPU, mostTime+time.Duration(f.Unpacked)*perMB/(1<<20))
			assert.Less(t, cost.Status, 500, cost.Answer)
			assert.LessOrEqual(t, cost.Bytes, mostAnswer)
			t.Logf("%4d MB %6.2f s cpu %6.2f s %d %7d", cost.Peak>>20, cost.CPU.Seconds(), cost.Took.Seconds(),
				cost.Status, cost.Bytes)
			t.Log(cost.Answer)
		})
	}
	for _, p := range hostile.Peers() {
		t.Run("peer/"+p.Name, func(t *testing.T) {
			cost, err := s.Meet(ctx, p, idle)
			require.NoError(t, err, "it ended the service")
			assert.LessOrEqual(t, cost.Peak, int64(mostMemory), "%d MB", cost.Peak>>20)
			assert.LessOrEqual(t, cost.CPU, mostTime)
			assert.LessOrEqual(t, cost.Took, 30*time.Second)
			assert.NotEqual(t, 500, cost.Status, cost.Answer)
			if cost.Status < 400 || strings.Contains(p.Name, "listing") { // it is on record, and what it does is told
				assert.Contains(t, cost.Answer, "it sends ")
			}
			t.Logf("%4d MB %6.2f s cpu %6.2f s %d", cost.Peak>>20, cost.CPU.Seconds(), cost.Took.Seconds(), cost.Status)
			t.Log(cost.Answer)
		})
	}
	_, list, err := s.Ask(ctx, "GET", "/worlds", "", nil)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(list), mostAnswer)
	require.NoError(t, s.Stop())
}
