package world

import (
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/jpeg" // the formats of image files that games keep
	_ "image/png"
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"

	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// Bounds of a picture.
const (
	mostTiles   = 16_384
	longestSide = 2048
	largestFile = 16 << 20 // of an image file, in bytes
)

// Picture draws a world from above as its profile says. The error says why there
// is none; fault codes are not needed, since nothing depends on a picture.
func Picture(fsys fs.FS, f Found) (image.Image, error) {
	p := f.Game.World.Picture
	if p == nil {
		return nil, errors.New("the game profile does not say how to draw a world")
	}
	root, err := fs.Sub(fsys, f.Root)
	if err != nil {
		return nil, err
	}
	r := fact.NewReader(root)
	r.File, r.Name = f.Main(), f.Folder
	switch {
	case p.Image != "":
		return imageFile(root, p.Image)
	case p.Query != nil:
		return fromRows(r, *p.Query)
	}
	return fromTiles(root, r, p)
}

func imageFile(root fs.FS, name string) (image.Image, error) {
	f, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > largestFile {
		return nil, fmt.Errorf("%s has more than %d bytes", name, largestFile)
	}
	data, err := fs.ReadFile(root, name)
	if err != nil {
		return nil, err
	}
	conf, _, err := image.DecodeConfig(strings.NewReader(string(data)))
	if err != nil || conf.Width > longestSide || conf.Height > longestSide {
		return nil, fmt.Errorf("%s is no PNG or JPEG of at most %d by %d", name, longestSide, longestSide)
	}
	img, _, err := image.Decode(strings.NewReader(string(data)))
	return img, err
}

// spot is one tile, or one row of a query: where, and how it looks.
type spot struct {
	x, z   int
	pixels [][]color.RGBA
}

// draw lays spots of one size beside each other, x to the right and z down.
func draw(spots []spot) (image.Image, error) {
	if len(spots) == 0 {
		return nil, errors.New("the world has nothing to draw yet")
	}
	minX, minZ, maxX, maxZ := spots[0].x, spots[0].z, spots[0].x, spots[0].z
	height, width := len(spots[0].pixels), len(spots[0].pixels[0])
	for _, s := range spots {
		minX, maxX, minZ, maxZ = min(minX, s.x), max(maxX, s.x), min(minZ, s.z), max(maxZ, s.z)
	}
	w, h := float64(maxX)-float64(minX)+1, float64(maxZ)-float64(minZ)+1
	scale := 1.0 // far-off spots make a world larger than a picture: pixels are left out
	if most := max(w*float64(width), h*float64(height)); most > longestSide {
		scale = longestSide / most
	}
	img := image.NewRGBA(image.Rect(0, 0, max(1, int(w*float64(width)*scale)), max(1, int(h*float64(height)*scale))))
	for _, s := range spots {
		left, top := (float64(s.x)-float64(minX))*float64(width), (float64(s.z)-float64(minZ))*float64(height)
		for row, line := range s.pixels {
			for col, c := range line {
				img.SetRGBA(int((left+float64(col))*scale), int((top+float64(row))*scale), c)
			}
		}
	}
	return img, nil
}

func fromRows(r *fact.Reader, s game.Source) (image.Image, error) {
	rows, err := r.Rows(s)
	if err != nil {
		return nil, err
	}
	var spots []spot
	most := 1.0
	values := make([]float64, len(rows))
	for i, row := range rows {
		if len(row) < 3 {
			return nil, errors.New("the query gives fewer than three columns: x, z and a value")
		}
		if values[i], err = strconv.ParseFloat(row[2], 64); err != nil {
			return nil, fmt.Errorf("the value %q is no number", row[2])
		}
		most = max(most, values[i])
	}
	for i, row := range rows {
		x, err := strconv.Atoi(row[0])
		z, zerr := strconv.Atoi(row[1])
		if err != nil || zerr != nil {
			return nil, fmt.Errorf("%q, %q are no coordinates", row[0], row[1])
		}
		spots = append(spots, spot{x, z, [][]color.RGBA{{grey(255 * max(0, values[i]) / most)}}})
	}
	return draw(spots)
}

func grey(v float64) color.RGBA {
	g := uint8(min(255, max(0, v)))
	return color.RGBA{g, g, g, 255}
}

func fromTiles(root fs.FS, r *fact.Reader, p *game.Picture) (image.Image, error) {
	name := regexp.QuoteMeta(path.Base(p.Tiles))
	name = strings.NewReplacer(`\{x\}`, `(?P<x>-?\d+)`, `\{z\}`, `(?P<z>-?\d+)`).Replace(name)
	re, err := regexp.Compile("^" + name + "$")
	if err != nil {
		return nil, err
	}
	entries, err := fs.ReadDir(root, path.Dir(p.Tiles))
	if err != nil {
		return nil, err
	}
	var spots []spot
	for _, e := range entries {
		m := re.FindStringSubmatch(e.Name())
		if m == nil {
			continue
		}
		if len(spots) == mostTiles {
			return nil, fmt.Errorf("more than %d tiles are not drawn", mostTiles)
		}
		x, err := strconv.Atoi(m[re.SubexpIndex("x")])
		z, zerr := strconv.Atoi(m[re.SubexpIndex("z")])
		if err != nil || zerr != nil {
			continue // a number too long for a coordinate
		}
		file := path.Join(path.Dir(p.Tiles), e.Name())
		pixels, err := tile(root, r, p, file)
		if err != nil {
			continue // a damaged tile leaves a hole, and the rest is still to be seen
		}
		spots = append(spots, spot{x, z, pixels})
	}
	if p.Colours == nil {
		brighten(spots)
	}
	return draw(spots)
}

func tile(root fs.FS, r *fact.Reader, p *game.Picture, file string) ([][]color.RGBA, error) {
	c := p.Colours
	if c == nil {
		info, err := fs.Stat(root, file)
		if err != nil {
			return nil, err
		}
		size := uint32(min(info.Size(), 1<<31)) // kept in the pixel until all are known
		return [][]color.RGBA{{{uint8(size >> 24), uint8(size >> 16), uint8(size >> 8), uint8(size)}}}, nil
	}
	data, err := r.First(file, p.Through, c.At+c.Width*c.Height)
	if err != nil {
		return nil, err
	}
	if len(data) < c.At+c.Width*c.Height {
		return nil, errors.New("the tile is cut short")
	}
	pixels := make([][]color.RGBA, c.Height)
	for row := range pixels {
		pixels[row] = make([]color.RGBA, c.Width)
		for col := range pixels[row] {
			pixels[row][col] = c.Of(data[c.At+row*c.Width+col])
		}
	}
	return pixels, nil
}

// brighten turns sizes into greys: the largest file is white.
func brighten(spots []spot) {
	size := func(c color.RGBA) float64 {
		return float64(uint32(c.R)<<24 | uint32(c.G)<<16 | uint32(c.B)<<8 | uint32(c.A))
	}
	most := 1.0
	for _, s := range spots {
		most = max(most, size(s.pixels[0][0]))
	}
	for _, s := range spots {
		s.pixels[0][0] = grey(255 * size(s.pixels[0][0]) / most)
	}
}
