package world_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	_ "reshard/internal/sqlite"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/game"
	"reshard/internal/core/world"
)

// pictured makes a profile whose picture is drawn in one way.
func pictured(t *testing.T, picture string) *game.Profile {
	t.Helper()
	p, err := game.Parse("g", []byte(`
reshard: game/1
id: g
title: G
world:
  shape: folder
  recognise: {require: [a]}
  picture: `+picture+`
server:
  kinds: {g: {}}
  worlds: w/
  settings: {main: {file: s, format: ini}}
  keys: {active-world: [{in: main, key: k}]}
  console: {ready: r, stop: {signal: SIGINT}}
`))
	require.NoError(t, err)
	return p
}

// draw writes a world's files and draws it.
func draw(t *testing.T, picture string, files map[string]string) (image.Image, error) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o600))
	for name, data := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o600))
	}
	if strings.Contains(picture, "sqlite") {
		db, err := sql.Open("sqlite", filepath.Join(dir, "m.sqlite"))
		require.NoError(t, err)
		_, err = db.Exec("CREATE TABLE m (x, z, v); INSERT INTO m VALUES (-1, 0, 50), (1, 2, 100), (0, 'far', 1)")
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	_, found, err := world.Inspect(os.DirFS(dir), ".", "w", "", []*game.Profile{pictured(t, picture)})
	require.NoError(t, err)
	img, _, err := world.Picture(os.DirFS(dir), found)
	return img, err
}

func rgb(img image.Image, x, y int) color.RGBA {
	return color.RGBAModel.Convert(img.At(x, y)).(color.RGBA)
}

func TestPicturesAreDrawnFromTiles(t *testing.T) {
	t.Parallel()
	img, err := draw(t, `{
		tiles: "g/t.{x}.{z}.q", colours: {at: 2, width: 2, height: 1, palette: ["#ff0000", "#00ff00"]}
	}`, map[string]string{
		"g/t.-1.0.q": "##\x00\x01", "g/t.0.1.q": "##\x01\x03", "g/t.0.0.q": "##", "g/other": "", "g/t.x.1.q": "",
	})
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 4, 2), img.Bounds())
	assert.Equal(t, color.RGBA{255, 0, 0, 255}, rgb(img, 0, 0))
	assert.Equal(t, color.RGBA{0, 255, 0, 255}, rgb(img, 1, 0))
	assert.Equal(t, color.RGBA{}, rgb(img, 2, 0), "a tile that is cut short leaves a hole")
	assert.Equal(t, color.RGBA{0, 255, 0, 255}, rgb(img, 3, 1), "a byte beyond the palette begins it again")
}

func TestPicturesAreDrawnFromSizesRowsAndImages(t *testing.T) {
	t.Parallel()
	img, err := draw(t, `{tiles: "r.{x}.{z}.bin"}`,
		map[string]string{"r.0.0.bin": strings.Repeat("x", 100), "r.1.0.bin": strings.Repeat("x", 50)})
	require.NoError(t, err)
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, rgb(img, 0, 0))
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, rgb(img, 15, 15),
		"a tile of one colour is shown as more than a pixel")
	assert.Equal(t, color.RGBA{127, 127, 127, 255}, rgb(img, 16, 0))

	img, err = draw(t, `{query: {read: m.sqlite, through: [sqlite], query: "SELECT x, z, v FROM m WHERE z != 'far'"}}`,
		nil)
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 48, 48), img.Bounds())
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, rgb(img, 40, 40))
	assert.Equal(t, color.RGBA{127, 127, 127, 255}, rgb(img, 0, 0))

	var data bytes.Buffer
	require.NoError(t, png.Encode(&data, image.NewGray(image.Rect(0, 0, 5, 7))))
	img, err = draw(t, `{image: p.png}`, map[string]string{"p.png": data.String()})
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 5, 7), img.Bounds())
}

func TestPicturesAreBoundedAndSayWhyThereIsNone(t *testing.T) {
	t.Parallel()
	img, err := draw(t, `{tiles: "t.{x}.{z}"}`,
		map[string]string{
			"t.-2000000000.0": "x",
			"t.2000000000.5":  "x",
			fmt.Sprintf("t.%s.1", strings.Repeat("9", 30)): "x",
		})
	require.NoError(t, err)
	assert.LessOrEqual(t, img.Bounds().Dx(), 2048, "far apart is drawn small")
	for picture, why := range map[string]string{
		`{tiles: "t.{x}.{z}"}`: "nothing to draw yet",
		`{image: p.png}`:       "no such file",
		`{image: a}`:           "is no PNG or JPEG",
		`{query: {read: m.sqlite, through: [sqlite], query: "SELECT x, z FROM m"}}`:    "fewer than three columns",
		`{query: {read: m.sqlite, through: [sqlite], query: "SELECT x, z, v FROM m"}}`: "are no coordinates",
	} {
		_, err := draw(t, picture, nil)
		assert.ErrorContains(t, err, why, picture)
	}
}

// Where z grows to the north, the north is at the top all the same, and places are found.
func TestNorthIsAtTheTop(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("4.5 20"), 0o600))
	db, err := sql.Open("sqlite", filepath.Join(dir, "m.sqlite"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE m (x, z, v); INSERT INTO m VALUES (-1, -2, 50), (1, 1, 100)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	ground := func(z string) world.Ground {
		profile := pictured(t, `{z: `+z+
			`, across: 10, query: {read: m.sqlite, through: [sqlite], query: "SELECT x, z, v FROM m"},
			spawn: {x: {read: a, through: [text], match: "^(?P<value>\\S+)"},
				z: {read: a, through: [text], match: "(?P<value>\\S+)$"}}}`)
		_, found, err := world.Inspect(os.DirFS(dir), ".", "w", "", []*game.Profile{profile})
		require.NoError(t, err)
		g, err := world.ReadGround(os.DirFS(dir), found)
		require.NoError(t, err)
		return g
	}
	img, m, err := ground("north").Draw()
	require.NoError(t, err)
	assert.Equal(t, world.Map{
		Width:  48,
		Height: 64,
		Left:   -10,
		Top:    20,
		Scale:  0.625,
		Down:   -0.625,
		Tiles:  2,
		Spawn:  &world.Point{X: 4.5, Z: 20},
	}, m)
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, rgb(img, 40, 0), "the tile with the greatest z")
	assert.Equal(t, color.RGBA{127, 127, 127, 255}, rgb(img, 0, 63))
	x, y, shown := m.At(world.Point{X: 15, Z: 15})
	assert.Equal(t, [3]any{40, 8, true}, [3]any{x, y, shown}, "a place in that tile")
	_, _, shown = m.At(world.Point{X: 15, Z: -25})
	assert.False(t, shown)

	img, m, err = ground("south").Draw()
	require.NoError(t, err)
	assert.Equal(t, [2]float64{-20, 0.625}, [2]float64{m.Top, m.Down})
	assert.Equal(t, color.RGBA{255, 255, 255, 255}, rgb(img, 40, 63))

	// A brighter place elsewhere makes greys darker, and that is no change of a tile.
	before := ground("north")
	db, err = sql.Open("sqlite", filepath.Join(dir, "m.sqlite"))
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO m VALUES (0, 0, 1000)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, _, d, err := world.DrawDifference(before, ground("north"), nil)
	require.NoError(t, err)
	assert.Equal(t, world.Differences{Added: 1, Same: 2}, d)
}
