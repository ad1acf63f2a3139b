package e2e

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/tollen"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// A world goes over as one archive where a provider unpacks it: by the page's own upload when it takes that
// much, else over FTP. One that does not unpack, or not all of it, is done without.
func TestAWorldAsOneArchive(t *testing.T) {
	t.Parallel()
	var plot *tollen.Plot
	b := setup(t)
	_, root := b.rented(func(p *tollen.Plot) { plot = p })
	stored := b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 60})
	server, err := b.api.Server(context.Background(), "north")
	require.NoError(t, err)
	require.NotNil(t, server.Server.Can)
	assert.True(t, server.Server.Can.UnpackFiles)
	// One with few files, and some folders, goes file by file.
	b.send("few", quarrymoss.Options{Title: "Few", Seed: 3, Tiles: 22})
	few := b.do(wire.Wish{Kind: plan.Put, World: "few", Server: "north", Beside: true})
	assert.Equal(t, plan.Done, few.State)
	assert.Zero(t, plot.Unwrapped)
	var first map[string]string
	for i, c := range []struct {
		name               string
		change             func()
		choices            map[string]string
		note               string
		carried, unwrapped int
	}{
		{"uploaded", func() {}, nil, "The world went over as one archive, which Tollen Plots unpacked.", 1, 1},
		{"too large for the page", func() { plot.MostCarried = 100 }, nil, "which Tollen Plots unpacked", 0, 1},
		{"read back whole", func() { plot.MostCarried = 0 }, map[string]string{"comparison": "whole"},
			"which Tollen Plots unpacked", 1, 1},
		{"not all of it", func() { plot.LosesEach = 20 }, nil, "left out 3 of 61 files", 1, 1},
		{"nothing", func() { plot.Spoils = "the knife is blunt" }, nil, "the knife is blunt", 1, 0},
	} {
		c.change()
		carried, unwrapped := plot.Carried, plot.Unwrapped
		folder := "fen-" + string(rune('a'+i))
		choices := map[string]string{"folder-name": folder}
		for k, v := range c.choices {
			choices[k] = v
		}
		done := b.do(wire.Wish{Kind: plan.Put, World: stored.ID[:16], Server: "north", Beside: true, Choices: choices})
		require.Equal(t, plan.Done, done.State, done.Failure)
		var note string
		for _, step := range done.Steps {
			if step.Kind == plan.Stage {
				note = step.Note
			}
		}
		assert.Contains(t, note, c.note, c.name)
		assert.Equal(t, c.carried, plot.Carried-carried, c.name)
		assert.Equal(t, c.unwrapped, plot.Unwrapped-unwrapped, c.name)
		now := snapshot(t, filepath.Join(root, "worlds", folder))
		if i == 0 {
			first = now
			require.Len(t, first, 64)
		}
		assert.Equal(t, first, now, c.name)
	}
}
