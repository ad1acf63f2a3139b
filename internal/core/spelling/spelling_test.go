package spelling_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/spelling"
)

func TestSay(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"Fen-Garden": "capital F, capital G, a hyphen after “Fen”, no blank, 10 characters",
		"fen garden": "small letters only, a blank after “fen”, 10 characters",
		" fen_2":     "small letters only, a blank first, an underscore after “fen”, 6 characters",
		"w0rld l1": "small letters only, a blank after “w0rld”, 0 is a zero, l is a small L, 1 is a one, 8 " +
			"characters",
		"WINTER":      "capitals only, no blank, 6 characters",
		"Über":        "capital Ü, no blank, 'Ü' is latin capital letter u with diaeresis, 4 characters",
		"42":          "no blank, 2 characters",
		"-42":         "a minus first, no blank, 3 characters",
		"-":           "a hyphen first, no blank, 1 character",
		"a..b":        "small letters only, a dot after “a”, then a dot, no blank, 4 characters",
		"":            "nothing at all: empty the field",
		"fen\u00a0up": "small letters only, '\\u00a0' is no-break space, 6 characters",
	} {
		assert.Equal(t, want, spelling.Say(text), "%q", text)
	}
}
