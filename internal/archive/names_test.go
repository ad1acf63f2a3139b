package archive_test

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/archive"
	"reshard/internal/core/filename"
)

// Names that are no text go into every archive that is made, and come out of it as they were.
func TestNamesOfAnyBytesComeBack(t *testing.T) {
	t.Parallel()
	raw := []string{"w/G\xe4rten", "w/line\nbreak", "w/sub \xff/a", "w/Gärten", "w/\x1b[2J"}
	items := []archive.Item{}
	for _, r := range raw {
		items = append(items, archive.Item{
			Name: filename.Encode(r),
			Size: int64(len(r)),
			Open: func() (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader(r)), nil
			},
		})
	}
	for ending, write := range map[string]func(io.Writer) error{
		"zip":     func(w io.Writer) error { return archive.WriteZip(w, items, nil) },
		"tar.zst": func(w io.Writer) error { return archive.WriteTarZst(w, items) },
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		file := filepath.Join(t.TempDir(), "w."+ending)
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		a, err := archive.Open(file, "w."+ending, t.TempDir(), archive.Limits{})
		require.NoError(t, err, ending)
		var got []string
		require.NoError(t, fs.WalkDir(a, ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := fs.ReadFile(a, name)
			got = append(got, filename.Decode(name))
			assert.Equal(t, filename.Decode(name), string(data), ending)
			return err
		}))
		assert.ElementsMatch(t, raw, got, ending)
		require.NoError(t, a.Close())
	}
}
