package budget_test

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/budget"
)

func TestABudgetIsSpentOnce(t *testing.T) {
	t.Parallel()
	b := budget.World()
	defer b.Done()
	require.NoError(t, b.Hold(60<<20))
	var spent *budget.Spent
	require.ErrorAs(t, b.Hold(10<<20), &spent)
	require.NoError(t, b.Hold(1<<20), "what was refused was not taken")
	_, err := io.Copy(io.Discard, b.Unpacked(io.LimitReader(zeros{}, 1<<30+1)))
	require.ErrorAs(t, err, &spent)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// Large readings wait for each other; small ones do not.
func TestTheGate(t *testing.T) {
	one, two := budget.World(), budget.World()
	require.NoError(t, one.Hold(2<<20))
	require.NoError(t, two.Hold(2<<20))
	small := budget.World()
	require.NoError(t, small.Hold(1000), "it does not wait")
	small.Done()
	entered := make(chan struct{})
	go func() {
		third := budget.World()
		_ = third.Hold(2 << 20)
		close(entered)
		third.Done()
	}()
	select {
	case <-entered:
		t.Fatal("three large readings at once")
	default:
	}
	done := 0
	one.After(func() { done++ })
	one.Done()
	<-entered
	two.Done()
	assert.Equal(t, 1, done)
}

func TestAFileIsReadToItsBound(t *testing.T) {
	t.Parallel()
	tree := fstest.MapFS{"a": {Data: bytes.Repeat([]byte("x"), 100)}, "d/b": {}}
	data, err := budget.ReadFile(tree, "a", 100)
	require.NoError(t, err)
	assert.Len(t, data, 100)
	var spent *budget.Spent
	_, err = budget.ReadFile(tree, "a", 99)
	require.ErrorAs(t, err, &spent)
	_, err = budget.ReadFile(tree, "d", 99)
	assert.Error(t, err)
	_, err = budget.ReadFile(tree, "none", 99)
	assert.True(t, errors.Is(err, errNone(tree)))
}

func errNone(tree fstest.MapFS) error {
	_, err := tree.Open("none")
	return errors.Unwrap(err)
}
