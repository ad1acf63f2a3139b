package game_test

import (
	"testing"

	"reshard/games"
	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/game"
)

// A profile may come from a stranger: whatever it is, the lint answers.
func FuzzLint(f *testing.F) {
	for _, text := range []string{"- - - -", "? ? ? a", "[[[[", "a: &a [*a]", "a: &a {x: 1}\nb: {<<: *a}"} {
		f.Add([]byte(text))
	}
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var p *game.Profile
		var complaints []game.Complaint
		budgettest.Within(t, func() { p, complaints = game.Lint(data) })
		if (p == nil) != (len(complaints) > 0) {
			t.Fatalf("a profile and %d complaints", len(complaints))
		}
	})
}
