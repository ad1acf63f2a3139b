package e2e

import (
	"context"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/cli"
	"reshard/internal/core/plan"
	"reshard/internal/fleet"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	files "reshard/internal/hostfs/local"
	"reshard/internal/wire"
)

// counting is the service's own machine, with every opening of a file counted.
type counting struct {
	host.Driver
	opened *openings
}

type openings struct {
	mu   sync.Mutex
	of   map[string]int
	down bool // while true, nothing is counted
}

func (o *openings) count(name string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.down {
		o.of[name]++
	}
}

// taken gives what was opened below a folder since the last time, and forgets it.
func (o *openings) taken(below string) map[string]int {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := maps.Clone(o.of)
	maps.DeleteFunc(out, func(name string, _ int) bool { return !strings.HasPrefix(name, below) })
	o.of = map[string]int{}
	return out
}

func (c counting) Files(ctx context.Context, root string) (hostfs.Driver, io.Closer, error) {
	f, closer, err := c.Driver.Files(ctx, root)
	if err != nil {
		return nil, nil, err
	}
	return counted{f.(*files.Files), c.opened}, closer, nil
}

type counted struct {
	*files.Files
	opened *openings
}

func (c counted) Open(ctx context.Context, name string) (hostfs.Content, error) {
	c.opened.count(name)
	return c.Files.Open(ctx, name)
}

// A put reads the worlds of its server once: sheet, draft and check share what was seen.
// Beside that only the samples and the proof of what it places are read.
func TestAPutReadsTheWorldsOfItsServerOnce(t *testing.T) {
	t.Parallel()
	opened := &openings{of: map[string]int{}}
	b := &bundle{t: t, dir: t.TempDir(), database: newDatabase(t)}
	t.Cleanup(b.end)
	c := b.config()
	kinds := fleet.Kinds()
	local := kinds["local"]
	kinds["local"] = func(ctx context.Context, s host.Spec) (host.Driver, error) {
		d, err := local(ctx, s)
		return counting{d, opened}, err
	}
	c.Kinds = kinds
	d, err := cli.Serve(t.Context(), c)
	require.NoError(t, err)
	b.daemon, b.api = d, signIn(t, d.Address)
	b.quarry("north", plot{stopped: true})
	old := time.Now().Add(-time.Hour)
	root := filepath.Join(b.dir, "servers", "north")
	require.NoError(t, filepath.WalkDir(root, func(name string, _ fs.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Chtimes(name, old, old)
	}))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Version: "2.5.1"})
	ctx := t.Context()
	wish := wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Choices: map[string]string{"folder-name": "fen"}}
	for range 2 { // the first may find times that are too young to say anything
		_, err = b.api.Sheet(ctx, wish)
		require.NoError(t, err)
	}
	opened.taken("")

	for range 3 {
		_, err = b.api.Sheet(ctx, wish)
		require.NoError(t, err)
	}
	draft, err := b.api.Draft(ctx, wish)
	require.NoError(t, err)
	assert.Empty(t, opened.taken("worlds/"), "the sheet and the draft know the worlds that stand there")

	_, err = b.api.Act(ctx, draft.ID, "start")
	require.NoError(t, err)
	b.until(draft.ID, plan.Done)
	read := opened.taken("")
	staged := 0
	for _, name := range slices.Sorted(maps.Keys(read)) {
		switch {
		case strings.HasPrefix(name, "worlds/winter"):
			assert.Fail(t, "the world that leaves is read again", "%s %d times", name, read[name])
		case strings.HasPrefix(name, "worlds/fen/"):
			// Samples and the facts of one look; the server's page may have looked beside it.
			assert.LessOrEqual(t, read[name], 4, name)
		case strings.Contains(name, "/staged/"):
			assert.LessOrEqual(t, read[name], 2, "%s is read back, and sampled", name)
			staged++
		}
	}
	assert.Positive(t, staged, "it is counted")
}
