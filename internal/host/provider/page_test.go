package provider_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/tollen"
	"reshard/internal/core/fault"
	"reshard/internal/host"
	"reshard/internal/host/provider"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/memory"
	"reshard/providers"
)

// What is set on a provider's page stands among the server's files, is replaced like one and read back.
func TestAPageAmongTheFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte("a=b\nworld.folder=winter\n"), 0o600))
	p, err := tollen.Start(&tollen.Plot{ID: "14", Dir: dir, Settings: "conf", Command: []string{"true"}})
	require.NoError(t, err)
	t.Cleanup(p.Close)
	hired, err := provider.Open(host.ProviderSpec{
		Name: "quay", Description: string(providers.Example()), Origin: p.Origin(), User: p.User, Secret: p.Phrase,
		Private: true,
	})
	require.NoError(t, err)
	page, name, fields := hired.Page("14")
	assert.Equal(t, map[string]string{"active-world": "World-name"}, fields)
	files := hostfs.New("host", memory.New())
	files.AddPage(name, page)
	ctx := context.Background()

	seen, settled := files.Observe(ctx)
	text, err := fs.ReadFile(seen, name)
	require.NoError(t, settled(err))
	assert.Equal(t, "# What is set on the page of Tollen Plots.\nWorld-name=winter\n", string(text))
	info, err := fs.Stat(seen, name)
	require.NoError(t, err)
	assert.True(t, info.Mode().IsRegular())
	there, err := files.Exists(ctx, name)
	require.NoError(t, err)
	assert.True(t, there)

	next := []byte("# What is set on the page of Tollen Plots.\nWorld-name=fen\n")
	require.NoError(t, files.Prepare(ctx, name, next))
	same, err := files.ReadFile(ctx, name, 1000)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(same), "nothing is set before")
	require.NoError(t, files.Commit(ctx, name, next))
	require.NoError(t, files.Commit(ctx, name, next), "twice is fine")
	require.NoError(t, files.Forget(ctx, name))
	require.NoError(t, files.Mend(ctx, name))
	now, err := files.ReadFile(ctx, name, 1000)
	require.NoError(t, err)
	assert.Equal(t, string(next), string(now))

	assert.ErrorIs(t, files.Replace(ctx, name, []byte("World-name=\n")), fault.Refused.As(), "it says why")
	p.Away(true)
	_, err = files.Exists(ctx, name)
	assert.ErrorIs(t, err, fault.Unreachable.As(), "a page that does not answer is not absent")
}
