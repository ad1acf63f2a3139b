package archive_test

import (
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"reshard/internal/archive"
)

func TestAPlainFileIsATree(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "upload.part")
	require.NoError(t, os.WriteFile(file, []byte("OTTX"), 0o600))
	a, err := archive.OpenFile(file, "first game.sav")
	require.NoError(t, err)
	require.NoError(t, fstest.TestFS(a, "first game.sav"))
	require.NoError(t, a.Close())
	_, err = archive.OpenFile(file+"x", "x")
	require.Error(t, err)
}
