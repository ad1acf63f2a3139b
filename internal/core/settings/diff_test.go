package settings_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/settings"
)

// A diff says what one of the whole documents would.
func TestADiffIsThatOfTheWhole(t *testing.T) {
	t.Parallel()
	lines := make([]string, 60)
	for i := range lines {
		lines[i] = fmt.Sprintf("k%d=1\n", i)
	}
	for _, at := range []int{0, 1, 2, 3, 29, 57, 58, 59} {
		for what, change := range map[string]func([]string) []string{
			"another value": func(l []string) []string { l[at] = "other\n"; return l },
			"a line more": func(l []string) []string {
				return append(l[:at], append([]string{"new\n"}, l[at:]...)...)
			},
			"a line less": func(l []string) []string { return append(l[:at], l[at+1:]...) },
		} {
			after := change(append([]string{}, lines...))
			want, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
				A: lines, B: after, FromFile: "f", ToFile: "f", Context: 2,
			})
			require.NoError(t, err)
			got := settings.Diff("f", []byte(strings.Join(lines, "")), []byte(strings.Join(after, "")))
			assert.Equal(t, want, got, "%s at %d", what, at)
		}
	}
}

func TestADiffOfALongDocumentTakesNoTime(t *testing.T) {
	before := strings.Repeat("a=1\nb=2\n", 90_000)
	budgettest.Within(t, func() {
		got := settings.Diff("f", []byte(before), []byte(before+"c=3\n"))
		assert.Contains(t, got, "@@ -179999,2 +179999,3 @@")
		assert.Contains(t, settings.Diff("f", []byte(before), []byte(strings.ReplaceAll(before, "1", "2"))),
			"are replaced")
	})
}
