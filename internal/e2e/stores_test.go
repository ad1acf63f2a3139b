package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// says waits until what a command prints holds some words.
func (b *bundle) says(words string, args ...string) string {
	b.t.Helper()
	var out string
	require.Eventually(b.t, func() bool {
		out = b.must(args...)
		return strings.Contains(strings.Join(strings.Fields(out), " "), words)
	}, 30*time.Second, 50*time.Millisecond, "%s, %v", words, args)
	return out
}

// A store on a disk that is unmounted while the service runs: nothing is written to where it was, that is said at
// once, and it goes on by itself when the disk is there again.
func TestAStoresDiskIsUnmounted(t *testing.T) {
	t.Parallel()
	b := setup(t, quickRules)
	b.quarry("north", plot{})
	disk, place := filepath.Join(b.dir, "disk"), filepath.Join(b.dir, "mnt")
	for _, d := range []string{filepath.Join(disk, "reshard"), place} {
		require.NoError(t, os.MkdirAll(d, 0o700))
	}
	mount := func() { require.NoError(t, syscall.Mount(disk, place, "", syscall.MS_BIND, "")) }
	if err := syscall.Mount(disk, place, "", syscall.MS_BIND, ""); err != nil {
		t.Skipf("only root mounts disks: %v", err)
	}
	mounted := true
	t.Cleanup(func() {
		if mounted {
			assert.NoError(t, syscall.Unmount(place, 0))
		}
	})
	store := filepath.Join(place, "reshard")
	b.must("stores", "add", "granary", "--folder", store, "--yes")
	b.backup("north")
	b.says("lacks nothing", "stores")

	require.NoError(t, syscall.Unmount(place, 0), "nothing holds the disk")
	mounted = false
	require.NoError(t, os.Mkdir(store, 0o700)) // as if the mount point were the folder itself
	b.backup("north", "--note", "without the disk")
	out := b.says("reshard-store.json is missing", "stores")
	assert.NotContains(t, out, "lacks nothing\n")
	b.says("Store granary: reshard-store.json is missing at its place", "alerts")
	code, _, told := b.cli("stores", "check", "granary")
	assert.NotZero(t, code)
	assert.Contains(t, told, "mount it")
	left, err := os.ReadDir(store)
	require.NoError(t, err)
	assert.Empty(t, left)

	require.NoError(t, os.Remove(store))
	mount()
	mounted = true
	b.must("stores", "check", "granary")
	b.backup("north", "--note", "with the disk")
	b.says("lacks nothing", "stores")
	assert.NotContains(t, b.must("alerts"), "granary")
}

// Two services, each on a database of its own, and one store: the second reads, and takes over when it is told to. The
// first is fenced off, and says so.
func TestTwoServicesAndOneStore(t *testing.T) {
	t.Parallel()
	first := setup(t, quickRules)
	first.quarry("north", plot{})
	granary := filepath.Join(first.dir, "granary")
	first.must("stores", "add", "granary", "--folder", granary, "--yes")
	first.backup("north")
	first.says("lacks nothing", "stores")
	key, err := os.ReadFile(filepath.Join(first.dir, "data", "stores.keys"))
	require.NoError(t, err)
	packs := func() []string {
		found, err := filepath.Glob(filepath.Join(granary, "packs", "*", "*"))
		require.NoError(t, err)
		return found
	}
	before := packs()

	second := setup(t, func(n *bundle) {
		n.data = filepath.Join(n.dir, "fresh")
		require.NoError(t, os.MkdirAll(n.data, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(n.data, "stores.keys"), key, 0o600))
	})
	code, _, told := second.cli("stores", "add", "granary", "--folder", granary, "--yes")
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(told), " "),
		"it is another service's store. It belongs to the service on")
	assert.Contains(t, second.must("stores", "add", "granary", "--folder", granary, "--recover"), "read-only")
	second.quarry("south", plot{})
	second.backup("south")
	assert.Equal(t, before, packs(), "it is only read")
	second.must("stores", "check", "granary")
	code, _, told = second.cli("stores", "take-over", "granary")
	assert.NotZero(t, code, "it asks, and nobody is there")
	assert.Contains(t, told, "add --yes")
	second.must("stores", "take-over", "granary", "--yes")
	second.says("lacks nothing", "stores", "show", "granary")
	assert.Greater(t, len(packs()), len(before))

	first.backup("north", "--note", "too late")
	first.says("it was taken over by the service on", "stores")
	there := packs()
	code, _, _ = first.cli("stores", "check", "granary")
	assert.NotZero(t, code)
	assert.Equal(t, there, packs())
	assert.Subset(t, there, before)
}
