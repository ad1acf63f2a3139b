package hostfs_test

import (
	"context"
	"io/fs"
	"path"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/memory"
)

// liar lists what no folder has.
type liar struct {
	*memory.Files
	lists string
	asked []string
	gone  []string
}

func (l *liar) List(ctx context.Context, name string) ([]fs.DirEntry, error) {
	l.asked = append(l.asked, name)
	if path.Base(name) != "aside" && path.Base(name) != l.lists {
		return l.Files.List(ctx, name)
	}
	return []fs.DirEntry{fs.FileInfoToDirEntry(hostfs.Info{Named: l.lists, Modes: fs.ModeDir | 0o755})}, nil
}

func (l *liar) Remove(ctx context.Context, name string) error {
	l.gone = append(l.gone, name)
	return l.Files.Remove(ctx, name)
}

// A host that lists a name which leads elsewhere, or folders within folders without an end, misbehaves: nothing is
// removed elsewhere because of it, and nothing goes on for ever.
func TestNoNameLeadsElsewhere(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"..", ".", "../live", "/live", "a/../../live", "", "a\x00b", "deeper"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := &liar{Files: memory.New(), lists: name}
			p := hostfs.New("moor", l)
			for _, dir := range []string{"live", ".reshard", ".reshard/going-1", ".reshard/going-1/aside"} {
				require.NoError(t, l.Mkdir(t.Context(), dir))
			}
			_, err := p.List(t.Context(), ".reshard/going-1/aside")
			if name != "deeper" {
				require.ErrorIs(t, err, fault.Misbehaving.As())
			}
			require.ErrorIs(t, p.Discard(t.Context(), ".reshard/going-1/aside"), fault.Misbehaving.As())
			assert.Empty(t, l.gone)
			assert.Less(t, len(l.asked), 1000)
		})
	}
}
