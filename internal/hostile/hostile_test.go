package hostile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/hostile"
)

// The corpus is what other tests and the benchmarks read; here only that it is one.
func TestTheCorpusHasAName(t *testing.T) {
	t.Parallel()
	names, kinds := map[string]bool{}, map[hostile.Kind]int{}
	for _, f := range hostile.All() {
		assert.False(t, names[f.Name()], "%s is there twice", f.Name())
		names[f.Name()] = true
		kinds[f.Kind]++
	}
	t.Log(len(names), kinds)
	assert.GreaterOrEqual(t, len(names), 120)
	assert.Len(t, kinds, 5)
}
