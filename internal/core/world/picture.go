package world

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/jpeg" // the formats of image files that games keep
	_ "image/png"
	"io/fs"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
)

// Bounds of a picture.
const (
	mostTiles   = 16_384
	mostRows    = 200_000 // of a query, each a tile
	longestSide = 2048
	largestFile = 16 << 20 // of an image file, in bytes
	shownAs     = 16       // pixels a side, at most, of a tile of one colour
)

// ErrNothingYet is why there is no picture of a world of which nothing has been explored.
var ErrNothingYet = errors.New("the world has nothing to draw yet")

// Ground is what is seen of a world from above, tile by tile; of a world whose picture
// is an image file, that image.
type Ground struct {
	image         image.Image
	tiles         map[Tile]groundTile
	width, height int // colours of a tile
	across        float64
	north         bool // z grows to the north
	spawn         *Point
}

// Tile names a tile by its numbers along x, to the east, and along z.
type Tile struct{ X, Z int }

// groundTile is one tile, or one row of a query: where it was read, and how it looks.
type groundTile struct {
	file   string  // "" for a row
	value  float64 // of a row
	pixels [][]color.RGBA
}

// Point is a place in the game's own units.
type Point struct {
	X float64 `json:"x"`
	Z float64 `json:"z"`
}

// Map says where a picture's pixels stand in the world: a pixel at column c shows the
// place Left + c·Scale, one at row r the place Top + r·Down, in the game's own units.
type Map struct {
	Width  int     `json:"width"`
	Height int     `json:"height"`
	Left   float64 `json:"left"`
	Top    float64 `json:"top"`
	Scale  float64 `json:"scale" doc:"units a pixel; 0: of an image file it is not known"`
	Down   float64 `json:"down" doc:"by how much z is more a pixel further down; negative where z grows to the north"`
	Tiles  int     `json:"tiles" doc:"how many have been explored"`
	Spawn  *Point  `json:"spawn,omitempty"`
}

// At gives the pixel that shows a place.
func (m Map) At(p Point) (x, y int, shown bool) {
	if m.Scale == 0 {
		return 0, 0, false
	}
	fx, fy := (p.X-m.Left)/m.Scale, (p.Z-m.Top)/m.Down
	return int(fx), int(fy), fx >= 0 && fy >= 0 && fx < float64(m.Width) && fy < float64(m.Height)
}

var number = regexp.MustCompile(`-?\d+(\.\d+)?`)

// PlaceOf reads a place as people write it: two numbers, x and z, or three with the
// height between them.
func PlaceOf(text string) (p Point, ok bool) {
	n := number.FindAllString(text, 4)
	if len(n) != 2 && len(n) != 3 {
		return p, false
	}
	x, err := strconv.ParseFloat(n[0], 64)
	z, zerr := strconv.ParseFloat(n[len(n)-1], 64)
	return Point{x, z}, err == nil && zerr == nil
}

// Picture draws a world from above as its profile says. The error says why there
// is none; fault codes are not needed, since nothing depends on a picture.
func Picture(fsys fs.FS, f Found) (image.Image, Map, error) {
	g, err := ReadGround(fsys, f)
	if err != nil {
		return nil, Map{}, err
	}
	return g.Draw()
}

// ReadGround reads what is seen of a world from above.
func ReadGround(fsys fs.FS, f Found) (Ground, error) {
	p := f.Game.World.Picture
	if p == nil {
		return Ground{}, errors.New("the game profile does not say how to draw a world")
	}
	root, err := fs.Sub(fsys, f.Root)
	if err != nil {
		return Ground{}, err
	}
	b := budget.World()
	defer b.Done()
	r := fact.NewReader(root, b)
	r.File, r.Name = f.Main(), f.Folder
	g := Ground{tiles: map[Tile]groundTile{}}
	switch {
	case p.Image != "":
		g.image, err = imageFile(root, p.Image)
		return g, err
	case p.Query != nil:
		err = g.readRows(r, *p.Query)
	default:
		err = g.readTiles(root, r, p)
	}
	if err != nil {
		return g, err
	}
	if g.across = float64(p.Across); p.Across == 0 {
		g.across = float64(g.width)
	}
	g.north, g.spawn = p.Z == "north", spot(r, p.Spawn)
	return g, nil
}

// spot reads a place; one that does not read is none.
func spot(r *fact.Reader, s *game.Spot) *Point {
	if s == nil {
		return nil
	}
	return point(r.Read("x", game.Sources{s.X}).Text, r.Read("z", game.Sources{s.Z}).Text)
}

// point is the place that two numbers name; nil when one is none.
func point(x, z string) *Point {
	px, err := strconv.ParseFloat(x, 64)
	pz, zerr := strconv.ParseFloat(z, 64)
	if err != nil || zerr != nil || math.IsNaN(px) || math.IsNaN(pz) || math.IsInf(px, 0) || math.IsInf(pz, 0) {
		return nil
	}
	return &Point{px, pz}
}

func imageFile(root fs.FS, name string) (image.Image, error) {
	data, err := budget.ReadFile(root, name, largestFile)
	if err != nil {
		return nil, err
	}
	conf, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil || conf.Width > longestSide || conf.Height > longestSide {
		return nil, fmt.Errorf("%s is no PNG or JPEG of at most %d by %d", name, longestSide, longestSide)
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	return img, err
}

// frame is where tiles stand in a picture.
type frame struct {
	Map
	min, max      Tile
	north         bool
	width, height float64 // colours of a tile
	perPixel      float64 // pixels a colour
}

// frameOf lays out a picture of tiles, x to the right and north at the top.
func (g Ground) frameOf(tiles []Tile) (frame, error) {
	if len(tiles) == 0 {
		return frame{}, ErrNothingYet
	}
	lo, hi := tiles[0], tiles[0]
	for _, t := range tiles {
		lo.X, lo.Z, hi.X, hi.Z = min(lo.X, t.X), min(lo.Z, t.Z), max(hi.X, t.X), max(hi.Z, t.Z)
	}
	f := frame{min: lo, max: hi, north: g.north, width: float64(g.width), height: float64(g.height), perPixel: 1}
	w, h := (float64(hi.X)-float64(lo.X)+1)*f.width, (float64(hi.Z)-float64(lo.Z)+1)*f.height
	if most := max(w, h); most > longestSide { // far-off tiles make a world larger than a picture: pixels are left out
		f.perPixel = longestSide / most
	} else if g.width == 1 && g.height == 1 { // one colour a tile would be a picture of a few pixels
		f.perPixel = max(1, min(shownAs, math.Floor(longestSide/2/most)))
	}
	scale := g.across / f.width / f.perPixel
	top, down := float64(lo.Z)*g.across, scale
	if g.north {
		top, down = (float64(hi.Z)+1)*g.across, -scale
	}
	f.Map = Map{
		Width: max(1, int(w*f.perPixel)), Height: max(1, int(h*f.perPixel)),
		Left: float64(lo.X) * g.across, Top: top, Scale: scale, Down: down,
		Tiles: len(g.tiles), Spawn: g.spawn,
	}
	return f, nil
}

// corner gives where a tile's colours begin, before pixels are left out.
func (f frame) corner(t Tile) (x, y float64) {
	y = float64(t.Z) - float64(f.min.Z)
	if f.north {
		y = float64(f.max.Z) - float64(t.Z)
	}
	return (float64(t.X) - float64(f.min.X)) * f.width, y * f.height
}

// pixels gives the first pixel that shows a colour and the one after its last.
func (f frame) pixels(colour float64) (from, to int) {
	from = int(colour * f.perPixel)
	return from, max(from+1, int((colour+1)*f.perPixel))
}

// Draw lays the tiles beside each other.
func (g Ground) Draw() (image.Image, Map, error) {
	if g.image != nil {
		return g.image, Map{Width: g.image.Bounds().Dx(), Height: g.image.Bounds().Dy()}, nil
	}
	f, err := g.frameOf(slices.Collect(maps.Keys(g.tiles)))
	if err != nil {
		return nil, Map{}, err
	}
	img := image.NewRGBA(image.Rect(0, 0, f.Width, f.Height))
	for at, t := range g.tiles {
		paint(img, f, at, t.pixels, func(c color.RGBA) color.RGBA { return c })
	}
	return img, f.Map, nil
}

func paint(img *image.RGBA, f frame, at Tile, pixels [][]color.RGBA, as func(color.RGBA) color.RGBA) {
	left, top := f.corner(at)
	for row, line := range pixels {
		if f.north {
			row = len(pixels) - 1 - row
		}
		y0, y1 := f.pixels(top + float64(row))
		for col, c := range line {
			c = as(c)
			x0, x1 := f.pixels(left + float64(col))
			for y := y0; y < y1; y++ {
				for x := x0; x < x1; x++ {
					img.SetRGBA(x, y, c)
				}
			}
		}
	}
}

func (g *Ground) readRows(r *fact.Reader, s game.Source) error {
	g.width, g.height = 1, 1
	rows, err := r.Rows(s, mostRows)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // the database appears with the first of them
	}
	if err != nil {
		return err
	}
	most := 1.0
	values := make([]float64, len(rows))
	for i, row := range rows {
		if len(row) < 3 {
			return errors.New("the query gives fewer than three columns: x, z and a value")
		}
		if values[i], err = strconv.ParseFloat(row[2], 64); err != nil {
			return fmt.Errorf("the value %q is no number", row[2])
		}
		most = max(most, values[i])
	}
	for i, row := range rows {
		x, err := strconv.Atoi(row[0])
		z, zerr := strconv.Atoi(row[1])
		if err != nil || zerr != nil {
			return fmt.Errorf("%q, %q are no coordinates", row[0], row[1])
		}
		g.tiles[Tile{x, z}] = groundTile{
			value:  values[i],
			pixels: [][]color.RGBA{{grey(255 * max(0, values[i]) / most)}},
		}
	}
	return nil
}

func grey(v float64) color.RGBA {
	g := uint8(min(255, max(0, v)))
	return color.RGBA{g, g, g, 255}
}

// readersAtOnce is how many tiles are read at a time.
const readersAtOnce = 4

func (g *Ground) readTiles(root fs.FS, r *fact.Reader, p *game.Picture) error {
	name := regexp.QuoteMeta(path.Base(p.Tiles))
	name = strings.NewReplacer(`\{x\}`, `(?P<x>-?\d+)`, `\{z\}`, `(?P<z>-?\d+)`).Replace(name)
	re, err := regexp.Compile("^" + name + "$")
	if err != nil {
		return err
	}
	entries, err := fs.ReadDir(root, path.Dir(p.Tiles))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	g.width, g.height = 1, 1
	if p.Colours != nil {
		g.width, g.height = p.Colours.Width, p.Colours.Height
	}
	var places []Tile
	var found []groundTile
	for _, e := range entries {
		m := re.FindStringSubmatch(e.Name())
		if m == nil {
			continue
		}
		if len(places) == mostTiles {
			return fmt.Errorf("more than %d tiles are not drawn", mostTiles)
		}
		x, err := strconv.Atoi(m[re.SubexpIndex("x")])
		z, zerr := strconv.Atoi(m[re.SubexpIndex("z")])
		if err != nil || zerr != nil {
			continue // a number too long for a coordinate
		}
		places = append(places, Tile{x, z})
		found = append(found, groundTile{file: path.Join(path.Dir(p.Tiles), e.Name())})
	}
	var group errgroup.Group
	group.SetLimit(readersAtOnce)
	for i := range found {
		group.Go(func() error {
			// a damaged tile leaves a hole, and the rest is still to be seen
			_ = fault.Safely(func() (err error) {
				found[i].pixels, err = tilePixels(root, r, p, found[i].file)
				return err
			})
			return nil
		})
	}
	_ = group.Wait() // none of them fails
	for i, t := range found {
		if t.pixels != nil {
			g.tiles[places[i]] = t
		}
	}
	if p.Colours == nil {
		g.brighten()
	}
	return nil
}

func tilePixels(root fs.FS, r *fact.Reader, p *game.Picture, file string) ([][]color.RGBA, error) {
	c := p.Colours
	if c == nil {
		info, err := fs.Stat(root, file)
		if err != nil {
			return nil, err
		}
		size := uint32(min(info.Size(), 1<<31)) //nolint:gosec // kept in the pixel until all are known
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
func (g *Ground) brighten() {
	size := func(c color.RGBA) float64 {
		return float64(uint32(c.R)<<24 | uint32(c.G)<<16 | uint32(c.B)<<8 | uint32(c.A))
	}
	most := 1.0
	for _, t := range g.tiles {
		most = max(most, size(t.pixels[0][0]))
	}
	for _, t := range g.tiles {
		t.pixels[0][0] = grey(255 * size(t.pixels[0][0]) / most)
	}
}
