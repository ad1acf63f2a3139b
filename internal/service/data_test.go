package service

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
)

// Services that begin at once in a new folder know it by one name, which stays.
func TestAFolderHasOneIdentity(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var wg sync.WaitGroup
	var mu sync.Mutex
	names := map[string]bool{}
	for range 16 {
		wg.Go(func() {
			name, err := identityOf(dir)
			assert.NoError(t, err)
			mu.Lock()
			names[name] = true
			mu.Unlock()
		})
	}
	wg.Wait()
	require.Len(t, names, 1)
	again, err := identityOf(dir)
	require.NoError(t, err)
	assert.True(t, names[again])
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing else is left")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "identity"), nil, 0o600))
	_, err = identityOf(dir)
	assert.ErrorIs(t, err, fault.Damaged.As(), "another is not drawn in its place: its servers would not be known")
}

// One service at a time holds a folder's lock.
func TestTheFoldersLock(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "lock")
	a, b := &folderLock{file: file}, &folderLock{file: file}
	assert.True(t, a.alone())
	assert.True(t, a.alone())
	assert.False(t, b.alone())
	require.NoError(t, a.release())
	assert.True(t, b.alone())
	require.NoError(t, b.release())
	require.NoError(t, b.release(), "twice is fine")
}
