package world_test

import (
	"image"
	"image/color"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

func TestPlaceOf(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]world.Point{
		"120 / -30": {X: 120, Z: -30}, "120, 64, -30": {X: 120, Z: -30}, "x=1.5 z=-2": {X: 1.5, Z: -2},
		"-7 8": {X: -7, Z: 8},
	} {
		got, ok := world.PlaceOf(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "by the well", "12", "1 2 3 4"} {
		_, ok := world.PlaceOf(text)
		assert.False(t, ok, text)
	}
}

// groundOf reads the ground of a world of tiles with 2 by 2 colours.
func groundOf(t *testing.T, files map[string]string) world.Ground {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/a", nil, 0o600))
	for name, data := range files {
		require.NoError(t, os.WriteFile(dir+"/"+name, []byte(data), 0o600))
	}
	_, found, err := world.Inspect(os.DirFS(dir), ".", "w", "",
		[]*game.Profile{pictured(t, `{tiles: "t.{x}.{z}", colours: {width: 8, height: 8}, across: 32}`)})
	require.NoError(t, err)
	g, err := world.ReadGround(os.DirFS(dir), found)
	require.NoError(t, err)
	return g
}

func tileOf(b byte) string {
	out := make([]byte, 64)
	for i := range out {
		out[i] = b
	}
	return string(out)
}

func TestMapAndMarks(t *testing.T) {
	t.Parallel()
	g := groundOf(t, map[string]string{"t.-1.0": tileOf(100), "t.1.0": tileOf(200)})
	img, m, err := g.Draw()
	require.NoError(t, err)
	assert.Equal(t, world.Map{Width: 24, Height: 8, Left: -32, Top: 0, Scale: 4, Down: 4, Tiles: 2}, m)
	x, y, shown := m.At(world.Point{X: 32, Z: 16})
	assert.Equal(t, [2]int{16, 4}, [2]int{x, y})
	assert.True(t, shown)
	_, _, shown = m.At(world.Point{X: 64, Z: 0})
	assert.False(t, shown)
	marked := world.Marked(img, m, []world.Mark{
		{Point: world.Point{X: 32, Z: 16}},
		{Point: world.Point{X: 1e9, Z: 0}},
		{Point: world.Point{X: -20, Z: 16}, Spawn: true},
	})
	white := color.RGBA{255, 255, 255, 255}
	assert.Equal(t, white, marked.At(16, 4), "the middle of a cross")
	assert.NotEqual(t, white, marked.At(3, 4), "a ring is open in its middle")
	assert.Equal(t, white, marked.At(7, 4))
	assert.Equal(t, img.Bounds(), marked.Bounds())
}

func TestDrawDifference(t *testing.T) {
	t.Parallel()
	before := groundOf(t, map[string]string{"t.0.0": tileOf(1), "t.1.0": tileOf(2), "t.2.0": tileOf(3)})
	after := groundOf(t, map[string]string{"t.0.0": tileOf(1), "t.1.0": tileOf(9), "t.3.0": tileOf(4)})
	img, m, d, err := world.DrawDifference(before, after, nil)
	require.NoError(t, err)
	assert.Equal(t, world.Differences{Added: 1, Changed: 1, Lost: 1, Same: 1}, d)
	assert.Equal(t, 32, m.Width)
	corner := func(tile int) color.Color { return img.At(8*tile, 0) }
	seen := map[color.Color]bool{corner(0): true, corner(1): true, corner(2): true, corner(3): true}
	assert.Len(t, seen, 4, "each has a colour of its own")
	assert.Equal(t, corner(2), img.(*image.RGBA).At(19, 3), "what is lost is crossed out")
	_, _, d, err = world.DrawDifference(before, after, func(file string) bool { return file != "t.0.0" })
	require.NoError(t, err)
	assert.Equal(t, world.Differences{Added: 1, Changed: 1, Lost: 1, Same: 1}, d,
		"what the files hold counts, not what is seen")
	_, _, _, err = world.DrawDifference(world.Ground{}, world.Ground{}, nil)
	assert.Error(t, err)
}
