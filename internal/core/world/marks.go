package world

import (
	"errors"
	"image"
	"image/color"
	"image/draw"
	"maps"
	"slices"
)

// Mark is something to be shown on a picture.
type Mark struct {
	Point
	Spawn bool
}

// The colours of marks and of differences; each has a shape of its own as well.
var (
	markInk   = color.RGBA{255, 255, 255, 255}
	markEdge  = color.RGBA{20, 20, 20, 255}
	addedInk  = color.RGBA{58, 190, 92, 255}
	changeInk = color.RGBA{240, 180, 40, 255}
	lostInk   = color.RGBA{226, 62, 50, 255}
)

// Marked gives a picture with marks on it: spawn as a ring, landmarks as crosses.
func Marked(picture image.Image, m Map, marks []Mark) image.Image {
	out := image.NewRGBA(picture.Bounds())
	draw.Draw(out, out.Bounds(), picture, picture.Bounds().Min, draw.Src)
	for _, mark := range marks {
		x, y, shown := m.At(mark.Point)
		if !shown {
			continue
		}
		for dy := -6; dy <= 6; dy++ {
			for dx := -6; dx <= 6; dx++ {
				if c, ok := markPixel(mark.Spawn, dx, dy); ok && (image.Point{x + dx, y + dy}).In(out.Bounds()) {
					out.SetRGBA(x+dx, y+dy, c)
				}
			}
		}
	}
	return out
}

func markPixel(ring bool, dx, dy int) (color.RGBA, bool) {
	ax, ay, d := max(dx, -dx), max(dy, -dy), dx*dx+dy*dy
	switch {
	case ring && d >= 9 && d <= 22:
		return markInk, true
	case ring && (d >= 5 && d <= 34):
		return markEdge, true
	case !ring && ax == ay && ax <= 4:
		return markInk, true
	case !ring && max(ax-ay, ay-ax) == 1 && max(ax, ay) <= 5:
		return markEdge, true
	}
	return color.RGBA{}, false
}

// Differences are the tiles in which two states of a world differ.
type Differences struct {
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Lost    int `json:"lost"`
	Same    int `json:"same"`
}

// DrawDifference draws the later state of a world with what has changed since the
// earlier one: added tiles in a green frame, changed ones in a yellow one, lost ones as
// they were, in a red frame that is crossed out; all else is pale. same, which may be
// nil, tells whether a tile's file is the same in both; without it what is seen counts.
func DrawDifference(before, after Ground, same func(file string) bool) (image.Image, Map, Differences, error) {
	var d Differences
	if before.image != nil || after.image != nil {
		return nil, Map{}, d, errors.New("the picture is an image file: there are no tiles to compare")
	}
	if before.width != after.width || before.height != after.height {
		return nil, Map{}, d, errors.New("their tiles are not of one size")
	}
	all := maps.Clone(before.tiles)
	maps.Copy(all, after.tiles)
	f, err := after.frameOf(slices.Collect(maps.Keys(all)))
	if err != nil {
		return nil, Map{}, d, err
	}
	img := image.NewRGBA(image.Rect(0, 0, f.Width, f.Height))
	for at, tile := range all {
		old, was := before.tiles[at]
		_, is := after.tiles[at]
		switch {
		case !was:
			d.Added++
			paint(img, f, at, tile.pixels, keep)
			outline(img, f, at, addedInk, false)
		case !is:
			d.Lost++
			paint(img, f, at, tile.pixels, pale)
			outline(img, f, at, lostInk, true)
		case differs(old, tile, same):
			d.Changed++
			paint(img, f, at, tile.pixels, keep)
			outline(img, f, at, changeInk, false)
		default:
			d.Same++
			paint(img, f, at, tile.pixels, pale)
		}
	}
	return img, f.Map, d, nil
}

func differs(a, b groundTile, same func(file string) bool) bool {
	if same != nil && b.file != "" && a.file == b.file {
		return !same(b.file)
	}
	if a.file == "" && b.file == "" {
		return a.value != b.value // greys are by the brightest, which may be another now
	}
	return !slices.EqualFunc(a.pixels, b.pixels, slices.Equal)
}

func keep(c color.RGBA) color.RGBA { return c }

// pale takes most of the colour out, so that what has changed stands out.
func pale(c color.RGBA) color.RGBA {
	grey := (int(c.R)*3 + int(c.G)*6 + int(c.B)) / 10
	mix := func(v uint8) uint8 { return uint8((int(v) + 3*grey + 4*200) / 8) } //nolint:gosec // a mean of bytes
	return color.RGBA{mix(c.R), mix(c.G), mix(c.B), 255}
}

// outline frames a tile; a tile of few pixels is filled.
func outline(img *image.RGBA, f frame, at Tile, ink color.RGBA, crossed bool) {
	left, top := f.corner(at)
	x0, y0 := int(left*f.perPixel), int(top*f.perPixel)
	x1, y1 := max(x0, int((left+f.width)*f.perPixel)-1), max(y0, int((top+f.height)*f.perPixel)-1)
	for x := x0; x <= x1; x++ {
		for y := y0; y <= y1; y++ {
			edge := x == x0 || x == x1 || y == y0 || y == y1
			cross := crossed && (x-x0 == y-y0 || x-x0 == y1-y)
			if edge || cross || x1-x0 < 4 {
				img.SetRGBA(x, y, ink)
			}
		}
	}
}
