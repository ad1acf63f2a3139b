// Package drawing makes pictures of worlds, one at a time: they are work for the
// processor that nobody waits for.
package drawing

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"io/fs"

	ximage "golang.org/x/image/draw"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
)

// Board is where pictures are drawn. It is safe for concurrent use: whoever comes second
// waits.
type Board struct{ taken chan struct{} }

// New gives a free board.
func New() *Board { return &Board{taken: make(chan struct{}, 1)} }

// Take waits for the board and takes it; release gives it back. The error has code
// Interrupted when ctx ends first.
func (b *Board) Take(ctx context.Context, what string) (release func(), err error) {
	select {
	case b.taken <- struct{}{}:
		return func() { <-b.taken }, nil
	case <-ctx.Done():
		return nil, fault.Wrap(fault.Interrupted, "draw", what, context.Cause(ctx))
	}
}

// World draws a world from above, as PNG. The error has code NotFound when there is
// nothing to draw.
func (b *Board) World(ctx context.Context, tree fs.FS, found world.Found) ([]byte, world.Map, error) {
	release, err := b.Take(ctx, found.Folder)
	if err != nil {
		return nil, world.Map{}, err
	}
	defer release()
	picture, m, err := world.Picture(tree, found)
	if err != nil {
		return nil, m, None(found.Folder, err)
	}
	data, err := PNG(picture)
	return data, m, err
}

// None is the error of something that has no picture.
func None(of string, err error) error {
	return &fault.Error{Code: fault.NotFound, Op: "draw", Path: of, What: "there is no picture", Err: err}
}

// Scaled makes a picture smaller, so that its longest side has so many pixels.
func Scaled(picture image.Image, side int) image.Image {
	b := picture.Bounds()
	by := float64(side) / float64(max(b.Dx(), b.Dy()))
	out := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(b.Dx())*by)), max(1, int(float64(b.Dy())*by))))
	ximage.ApproxBiLinear.Scale(out, out.Bounds(), picture, b, ximage.Src, nil)
	return out
}

// PNG encodes a picture, quickly.
func PNG(picture image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, picture)
	return b.Bytes(), fault.Wrap(fault.Internal, "draw", "picture", err)
}
