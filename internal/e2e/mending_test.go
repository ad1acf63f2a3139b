package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
)

// A check of the vault mends what is damaged from a store, and says from which. What no store has is told in every
// check, marks the copy with an alert, and is well again once a store answers that has it.
func TestACheckMendsFromAStore(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	granary := filepath.Join(b.dir, "granary")
	b.must("stores", "add", "granary", "--folder", granary, "--yes")
	b.sentAll()
	spoil := func() {
		packs, err := filepath.Glob(filepath.Join(b.dir, "data", "vault", "packs", "*", "*"))
		require.NoError(t, err)
		require.NotEmpty(t, packs)
		for _, pack := range packs {
			data, err := os.ReadFile(pack)
			require.NoError(t, err)
			for i := range 20 {
				data[(i+1)*len(data)/22] ^= 1
			}
			require.NoError(t, os.WriteFile(pack, data, 0o600))
		}
	}
	words := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	spoil()
	out := words(b.must("vault", "check"))
	assert.Contains(t, out, "it is whole again, from store granary")
	assert.Contains(t, out, "Everything that was damaged is whole again.")
	assert.Contains(t, words(b.must("vault", "check")), "Everything is as it was stored.")

	// Whoever reads is not kept waiting for a check.
	spoil()
	c := b.put("fen", "north", nil)
	assert.Equal(t, plan.Done, c.State)
	b.undo(c.ID)
	assert.NotContains(t, b.must("vault", "check"), "! ")

	require.NoError(t, os.Rename(granary, granary+"-away"))
	spoil()
	for range 2 {
		code, out, errs := b.cli("vault", "check")
		assert.NotZero(t, code)
		assert.Contains(t, out, "! pack ", "each check names it")
		assert.Contains(t, words(errs), "No store has that whole.")
	}
	alert := b.alertOf("copy")
	assert.Contains(t, alert.Says, "of fen in the library is damaged: ")
	require.NoError(t, os.Rename(granary+"-away", granary))
	assert.Contains(t, words(b.must("vault", "check")), "Everything that was damaged is whole again.")
	b.noAlertOf("copy")
	b.put("fen", "north", nil)
}
