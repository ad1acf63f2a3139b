package testdir

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpenStopsAtTheTemporaryFolder(t *testing.T) {
	above := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(above), 0o755)) // the testing package closes it to others
	root := filepath.Join(above, "tmp")
	require.NoError(t, os.Mkdir(root, 0o1777))
	require.NoError(t, os.Chmod(root, os.ModeSticky|0o777))
	t.Setenv("TMPDIR", root)
	dir, err := New("run-")
	require.NoError(t, err)
	inside := filepath.Join(dir, "a", "b")
	require.NoError(t, os.MkdirAll(inside, 0o700))
	check := watch([]string{root, above, "/", "/tmp", "/dev", "/dev/shm"})
	require.NoError(t, Open(inside))
	assert.NoError(t, check(), "what the test did not make stays as it is")
	for _, name := range []string{inside, filepath.Dir(inside), dir} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.EqualValues(t, 0o755, info.Mode().Perm(), name)
	}
	assert.ErrorContains(t, Open(root), "not below", "nor its root")
	assert.ErrorContains(t, Open("/dev/shm"), "not below")

	require.NoError(t, os.Chmod(above, 0o700))
	assert.ErrorContains(t, Open(inside), "Set TMPDIR to a folder they can reach")
}

func TestWatchNamesWhatChanged(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, os.ModeSticky|0o777))
	check := watch([]string{dir, filepath.Join(dir, "not there")})
	require.NoError(t, check())
	require.NoError(t, os.Chmod(dir, 0o755))
	assert.ErrorContains(t, check(), dir+" was mode 1777")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "not there"), nil, 0o600))
	assert.ErrorContains(t, check(), "was missing before the tests")
}
