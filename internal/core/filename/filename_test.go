package filename_test

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/filename"
)

func TestNamesComeBack(t *testing.T) {
	t.Parallel()
	for raw, shown := range map[string]string{
		"fen":               "fen",
		"G\xe4rten":         `G\xe4rten`,
		"Gärten":            "Gärten",
		"a\nb\tc\x1b[2J":    `a\nb\tc\x1b[2J`,
		`back\slash`:        `back\\slash`,
		"\xff\xfe":          `\xff\xfe`,
		"own \U0010ffe4":    `own \xf4\x8f\xbf\xa4`,
		"half \xe4\xb8":     `half \xe4\xb8`,
		"\U0010ff00 is one": `\u{10ff00} is one`,
	} {
		name := filename.Encode(raw)
		assert.True(t, utf8.ValidString(name))
		assert.Equal(t, raw, filename.Decode(name))
		assert.Equal(t, shown, filename.Show(name))
	}
	assert.Equal(t, `"a\"b"`, filename.Quote(`a"b`))
}

func FuzzNamesComeBack(f *testing.F) {
	f.Add("G\xe4rten")
	f.Add("own \U0010ffe4")
	f.Fuzz(func(t *testing.T, raw string) {
		name := filename.Encode(raw)
		if !utf8.ValidString(name) || filename.Decode(name) != raw {
			t.Fatalf("%q becomes %q and %q", raw, name, filename.Decode(name))
		}
		for _, r := range filename.Show(name) {
			if r < ' ' {
				t.Fatalf("%q is shown with a control character", raw)
			}
		}
	})
}
