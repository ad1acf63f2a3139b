package settings_test

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"reshard/internal/core/settings"
)

// Random values into documents of every format: whatever is written reads back, and
// what stands before and after the value is what stood there.
func TestSetKeepsAllOtherBytes(t *testing.T) {
	t.Parallel()
	docs := map[string]struct{ text, key, before, after string }{
		"properties": {"# é\r\na=1\r\nk = old\\\r\n  on\r\nz=2", "k", "# é\r\na=1\r\nk = ", "\r\nz=2"},
		"key-value": {"# c\nk =  old  \nz = {\n a = 1\n}\n", "k", "# c\nk =  ",
			"  \nz = {\n a = 1\n}\n"},
		"ini": {"[s]\nk = \"old\"\n; c\n[t]\nk=2\n", "s/k", "[s]\nk = ", "\n; c\n[t]\nk=2\n"},
		"env": {"A=1\nexport K='old' # c\n", "K", "A=1\nexport K=", " # c\n"},
		"json": {"{ // c\n \"k\": \"old\", \"z\": [1,2,],\n}", "/k", "{ // c\n \"k\": ",
			", \"z\": [1,2,],\n}"},
		"yaml": {"a: 1 # c\nk: 'old' # d\nz: [1, 2]\n", "/k", "a: 1 # c\nk: ", " # d\nz: [1, 2]\n"},
		"toml": {"# c\n[t]\nk = \"old\" # d\nz = 1979-05-27\n", "/t/k", "# c\n[t]\nk = ",
			" # d\nz = 1979-05-27\n"},
		"xml": {"<a><!-- c --><k x=\"old\"/>\n<z/></a>", "/a/k/@x", "<a><!-- c --><k x=\"",
			"\"/>\n<z/></a>"},
		"shell": {"#!/bin/sh\n./g --k \"old\" \\\n -z 1 # c\n", "--k", "#!/bin/sh\n./g --k ",
			" \\\n -z 1 # c\n"},
		"batch": {"rem c\r\ng.exe -k \"old\" ^\r\n -z 1\r\n", "-k", "rem c\r\ng.exe -k ",
			" ^\r\n -z 1\r\n"},
		"lines: set {key} {value}": {"// c\nset k \"old\"\nset z 1\n", "k", "// c\nset k ", "\nset z 1\n"},
	}
	require.Len(t, docs, len(settings.Formats()), "a format without a document here")
	letters := []rune("abcXYZ019 -_./\\'\"$%#=;:,{}[]<>&é🍎\t")
	r := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // a test that repeats
	for format, d := range docs {
		doc, err := settings.Parse("f", syntax(format), []byte(d.text))
		require.NoError(t, err, format)
		written := 0
		for range 400 {
			var value strings.Builder
			for range r.IntN(12) {
				value.WriteRune(letters[r.IntN(len(letters))])
			}
			next, err := doc.Set(d.key, value.String())
			if err != nil {
				continue // refused, with the document as it was
			}
			written++
			got, ok := next.Get(d.key)
			require.True(t, ok, format)
			require.Equal(t, value.String(), got.Value, format)
			out := next.Bytes()
			require.True(t, bytes.HasPrefix(out, []byte(d.before)), "%s: %q", format, out)
			require.True(t, bytes.HasSuffix(out, []byte(d.after)), "%s: %q", format, out)
		}
		require.Greater(t, written, 40, format)
	}
}
