// Package budgettest holds what tests try against what a budget allows.
package budgettest

import (
	"runtime/metrics"
	"testing"
	"time"
)

// What one reading may allocate in all, garbage included, in bytes, and take of time.
const (
	most    = 256 << 20
	longest = 10 * time.Second
)

// Within fails when what is done costs more than any file may. Nothing else may be running.
func Within(t *testing.T, do func()) {
	t.Helper()
	allocated := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	metrics.Read(allocated)
	before, begun := allocated[0].Value.Uint64(), time.Now()
	do()
	metrics.Read(allocated)
	if n := allocated[0].Value.Uint64() - before; n > most {
		t.Fatalf("%d MB were allocated", n>>20)
	}
	if took := time.Since(begun); took > longest {
		t.Fatalf("it took %s", took)
	}
}
