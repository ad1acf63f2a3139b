package yamldoc_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/yamldoc"
)

func TestWhatAPersonWritesIsRead(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"", "a: 1\n", "- a\n- b: {c: [1, 2]}\n", "a: &x {b: 1}\nc: *x\n", "a: |\n  text - - - [[[[\nb: '[[[['\n",
		"---\na: 1\n---\nb: 2\n", strings.Repeat("a:\n", 1) + "  b:\n    c:\n      d: 1\n",
	} {
		_, err := yamldoc.Parse([]byte(text))
		require.NoError(t, err, text)
	}
}

func TestWhatIsTooMuchIsNotParsed(t *testing.T) {
	for what, c := range map[string]struct{ text, why string }{
		"dashes":    {strings.Repeat("- ", 65) + "a", "deeper"},
		"brackets":  {strings.Repeat("[", 65), "deeper"},
		"braces":    {strings.Repeat("{a: ", 65), "deeper"},
		"questions": {strings.Repeat("? ", 65) + "a", "deeper"},
		"anchors":   {strings.Repeat("&a ", 65) + "a", "unexpected"},
		"many":      {strings.Repeat("- a\n", 100_000), "words and signs"},
		"long":      {strings.Repeat("a", 1<<20+1), "bytes"},
		"itself":    {"a: &a [*a, *a]", "values"},
		"aliases": {"a: &a [1,1,1,1,1,1,1,1,1,1]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a,*a]\n" +
			"c: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c,*c]\n" +
			"e: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: [*e,*e,*e,*e,*e,*e,*e,*e,*e,*e]\n", "values"},
	} {
		budgettest.Within(t, func() {
			_, err := yamldoc.Parse([]byte(c.text))
			assert.ErrorContains(t, err, c.why, what)
		})
	}
}
