package library

import (
	"context"
	"encoding/base64"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/drawing"
	"reshard/internal/wire"
)

// longestGiven bounds a name that a sender gives, in bytes.
const longestGiven = 255

// Recognise looks for worlds in a listing of files, before any of them is sent. It says
// what of which files it needs to go on; a sender asks again with that.
func (lib *Library) Recognise(ctx context.Context, in wire.Listing) (wire.Recognised, error) {
	if limit := lib.limits.Defaults().Entries; len(in.Files) > limit {
		return wire.Recognised{}, fault.New(fault.TooLarge, "look at", in.Name, "it lists %d files; %d are the limit",
			len(in.Files), limit)
	}
	if len(in.Name) > longestGiven {
		return wire.Recognised{}, fault.New(fault.Invalid, "look at", "the listing", "its name has more than %d bytes",
			longestGiven)
	}
	listing := world.NewListing(in.Files)
	survey, grounds, needs, err := world.LookAtListing(listing, in.Name, lib.games.Profiles(), lib.now())
	if err != nil {
		return wire.Recognised{}, err
	}
	out := wire.Recognised{Survey: survey, Needs: needs, Pictures: map[string]string{}}
	if len(needs) > 0 {
		return out, nil
	}
	for at, g := range grounds {
		release, err := lib.board.Take(ctx, at)
		if err != nil {
			return out, err
		}
		picture, _, err := g.Draw()
		release()
		if err != nil {
			continue // there is nothing to draw yet
		}
		if max(picture.Bounds().Dx(), picture.Bounds().Dy()) > thumbnail {
			picture = drawing.Scaled(picture, thumbnail)
		}
		if data, err := drawing.PNG(picture); err == nil {
			out.Pictures[at] = base64.StdEncoding.EncodeToString(data)
		}
	}
	return out, nil
}

// thumbnail is the longest side of a small picture, in pixels.
const thumbnail = 256
