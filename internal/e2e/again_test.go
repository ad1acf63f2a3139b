package e2e

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// What another machine has of a world already is copied there: by hashes or read back, so that a
// file that has rotted there is sent; by size, time and an earlier staging where that is chosen.
func TestWhatAHostHasIsNotSentAgain(t *testing.T) {
	t.Parallel()
	for name, shape := range map[string]farhost.Shape{
		"with commands": {}, "files alone": {FilesOnly: true}, "commands that copy": {NoCopyData: true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			far := b.machine(shape, 0)
			root := b.quarry("north", plot{})
			first := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 24, TileBytes: 1 << 20})
			made := filepath.Join(b.madeDir(), "fen")
			place := func(stored wire.Copy, as string, choices map[string]string) (step wire.Step, sent int64) {
				all := map[string]string{"folder-name": as}
				maps.Copy(all, choices)
				draft, err := b.api.Draft(context.Background(), wire.Wish{
					Kind: plan.Put, World: stored.ID, Server: "north", Beside: true, Choices: all,
				})
				require.NoError(t, err)
				before := far.line.Passed()
				last := b.carry(draft)
				require.Equal(t, plan.Done, last.State, last.Failure)
				step = last.Steps[slices.IndexFunc(last.Steps, func(s wire.Step) bool { return s.Kind == plan.Stage })]
				assert.Equal(t, snapshot(t, made), snapshot(t, filepath.Join(root, "worlds", as)), as)
				return step, far.line.Passed() - before
			}
			step, sent := place(first, "fen", nil)
			assert.NotContains(t, step.Note, "not sent")
			assert.Greater(t, sent, int64(24<<20))

			tiles, err := filepath.Glob(filepath.Join(made, "ground", "*"))
			require.NoError(t, err)
			spoil := func(file string) {
				info, err := os.Stat(file)
				require.NoError(t, err)
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				data[len(data)/2] ^= 0xff
				require.NoError(t, os.WriteFile(file, data, 0o644))
				require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
			}
			require.NoError(t, os.Remove(tiles[0]))
			spoil(tiles[1])
			require.NoError(t, os.WriteFile(tiles[2], []byte("shorter"), 0o644))
			second := b.sendMade(made)

			step, sent = place(second, "fen-known", map[string]string{"comparison": "sample"})
			assert.Contains(t, step.Note, "of a sample the content")
			assert.Contains(t, step.Note, "taken by size, time and an earlier staging")
			assert.Less(t, sent, int64(8<<20), "little was sent, and little read back")

			spoil(filepath.Join(root, "worlds", "fen", "ground", filepath.Base(tiles[3])))
			spoil(filepath.Join(root, "worlds", "fen-known", "ground", filepath.Base(tiles[3])))
			step, sent = place(second, "fen-read", nil)
			assert.Contains(t, step.Note, "were not sent")
			assert.NotContains(t, step.Note, "by size")
			if !shape.FilesOnly {
				assert.Less(t, sent, int64(8<<20), "it was compared by hashes")
			}
		})
	}
}

// A large file that is something else on the host, of the same size and time, is sent from its first
// byte on.
func TestALargeFileThatHasRottedIsSentWhole(t *testing.T) {
	t.Parallel()
	for name, shape := range map[string]farhost.Shape{"with commands": {}, "files alone": {FilesOnly: true}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			b.machine(shape, 0)
			root := b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 2, TileBytes: 10 << 20})
			for _, as := range []string{"fen", "fen-two"} {
				draft, err := b.api.Draft(context.Background(), wire.Wish{
					Kind: plan.Put, World: "fen", Server: "north", Beside: true,
					Choices: map[string]string{"folder-name": as},
				})
				require.NoError(t, err)
				c := b.carry(draft)
				require.Equal(t, plan.Done, c.State, c.Failure)
				placed := filepath.Join(root, "worlds", as)
				assert.Equal(t, snapshot(t, filepath.Join(b.madeDir(), "fen")), snapshot(t, placed), as)
				tiles, err := filepath.Glob(filepath.Join(placed, "ground", "*"))
				require.NoError(t, err)
				info, err := os.Stat(tiles[0])
				require.NoError(t, err)
				data, err := os.ReadFile(tiles[0])
				require.NoError(t, err)
				data[100] ^= 0xff
				require.NoError(t, os.WriteFile(tiles[0], data, 0o644))
				require.NoError(t, os.Chtimes(tiles[0], info.ModTime(), info.ModTime()))
			}
		})
	}
}

// A host that cannot do any more what its check had found: what is staged goes the other way, and
// the host is checked again by itself.
func TestAHostThatCanDoLessThanWasFound(t *testing.T) {
	t.Parallel()
	b := setup(t)
	programs := t.TempDir()
	b.machine(farhost.Shape{Programs: programs}, 0)
	root := b.quarry("north", plot{})
	found := func() bool {
		h, err := b.api.Host(context.Background(), "moor")
		require.NoError(t, err)
		return h.Found.Set.Unpack
	}
	require.True(t, found())
	require.NoError(t, os.WriteFile(filepath.Join(programs, "tar"), []byte("#!/bin/sh\nexit 127\n"), 0o755))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Beside: true})
	require.NoError(t, err)
	c := b.carry(draft)
	require.Equal(t, plan.Done, c.State, c.Failure)
	assert.Equal(t, snapshot(t, filepath.Join(b.madeDir(), "fen")), snapshot(t, filepath.Join(root, "worlds", "fen")))
	require.Eventually(t, func() bool { return !found() }, 20*time.Second, 200*time.Millisecond)
}
