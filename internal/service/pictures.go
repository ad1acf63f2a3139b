package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/zeebo/blake3"
	ximage "golang.org/x/image/draw"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Look says how a picture is wanted.
type Look struct {
	Side  int  // longest side in pixels; 0: as it is drawn
	Marks bool // spawn and landmarks on it
}

// CopyPicture draws a copy from above, as PNG. The same copy and the same profile give
// the same bytes, so it is drawn once and kept.
func (s *Service) CopyPicture(ctx context.Context, ref string, look Look) ([]byte, error) {
	rec, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	kept, m, err := s.drawn(ctx, rec)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(kept)
	if err != nil || (!look.Marks && (look.Side == 0 || max(m.Width, m.Height) <= look.Side)) {
		return data, fault.Wrap(fault.Internal, "read picture of", ref, err)
	}
	small := strings.TrimSuffix(kept, ".png") + fmt.Sprintf("-%d.png", look.Side)
	if data, err := os.ReadFile(small); err == nil && !look.Marks {
		return data, nil
	}
	picture, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "read picture of", ref, err)
	}
	if look.Marks {
		marks, err := s.marksOf(ctx, rec, m)
		if err != nil {
			return nil, err
		}
		return encodePicture(world.Marked(picture, m, marks))
	}
	data, err = encodePicture(scaled(picture, look.Side))
	if err == nil {
		s.keepFile(small, data)
	}
	return data, err
}

func scaled(picture image.Image, side int) image.Image {
	b := picture.Bounds()
	by := float64(side) / float64(max(b.Dx(), b.Dy()))
	out := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(b.Dx())*by)), max(1, int(float64(b.Dy())*by))))
	ximage.ApproxBiLinear.Scale(out, out.Bounds(), picture, b, ximage.Src, nil)
	return out
}

func (s *Service) marksOf(ctx context.Context, rec records.Copy, m world.Map) ([]world.Mark, error) {
	landmarks, err := s.records.Landmarks(ctx, rec.WorldID)
	if err != nil {
		return nil, err
	}
	var marks []world.Mark
	if m.Spawn != nil {
		marks = append(marks, world.Mark{Point: *m.Spawn, Spawn: true})
	}
	for _, l := range landmarks {
		if at, ok := world.PlaceOf(l.Place); ok {
			marks = append(marks, world.Mark{Point: at})
		}
	}
	return marks, nil
}

// CopyMap says where a copy's picture stands in the world, with spawn and landmarks.
func (s *Service) CopyMap(ctx context.Context, ref string) (wire.Map, error) {
	rec, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.Map{}, err
	}
	_, m, err := s.drawn(ctx, rec)
	if err != nil {
		return wire.Map{}, err
	}
	out := wire.Map{Map: m, Landmarks: []wire.PlacedLandmark{}}
	landmarks, err := s.records.Landmarks(ctx, rec.WorldID)
	for _, l := range landmarks {
		if at, ok := world.PlaceOf(l.Place); ok {
			_, _, shown := m.At(at)
			out.Landmarks = append(out.Landmarks, wire.PlacedLandmark{ID: l.ID, Say: l.Say, Point: at, Shown: shown})
		}
	}
	return out, err
}

// drawn draws a copy, if that has not been done, and gives the picture's file and map.
func (s *Service) drawn(ctx context.Context, rec records.Copy) (file string, m world.Map, err error) {
	profile, err := s.profile(rec.Facts.V.Game)
	if err != nil {
		return "", m, err
	}
	file = s.pictureFile(rec.ID, profile)
	if m, ok := keptBeside[world.Map](file); ok {
		return file, m, nil
	}
	tree, found, err := s.groundTree(ctx, rec, profile)
	if err != nil {
		return "", m, err
	}
	data, m, err := s.draw(ctx, tree, found)
	if err != nil {
		return "", m, err
	}
	if err := keepBeside(file, data, m); err != nil {
		return "", m, err
	}
	return file, m, nil
}

// groundTree gives a copy as a tree with the world's own part, which is what is drawn.
func (s *Service) groundTree(ctx context.Context, rec records.Copy, profile *game.Profile) (fs.FS, world.Found, error) {
	stored, err := s.vault.Load(ctx, rec.ID)
	if err != nil {
		return nil, world.Found{}, err
	}
	s.vault.Expect(ctx, stored)
	tree := s.vault.Tree(ctx, stored, func(part, name string) string {
		if part != "" {
			return ""
		}
		return name
	})
	found, err := asFound(tree, rec.Facts.V.Folder, profile)
	return tree, found, err
}

func (s *Service) keepFile(file string, data []byte) {
	if err := keepPicture(file, data); err != nil {
		s.log.Warn("cannot keep a picture", "error", err)
	}
}

func asFound(tree fs.FS, folder string, profile *game.Profile) (world.Found, error) {
	search, err := world.Find(tree, ".", folder, []*game.Profile{profile})
	if err != nil {
		return world.Found{}, err
	}
	return search.Only(folder, "", []*game.Profile{profile})
}

// pictureFile is where a copy's picture is kept; another profile draws another one.
func (s *Service) pictureFile(id string, profile *game.Profile) string {
	sum := blake3.Sum256(fmt.Appendf(nil, "%s %+v", id, profile.World.Picture))
	return filepath.Join(s.config.Data, "pictures", hex.EncodeToString(sum[:16])+".png")
}

// keptBeside reads what was kept beside a picture that is still there.
func keptBeside[T any](file string) (what T, ok bool) {
	data, err := os.ReadFile(besideName(file))
	if err != nil || json.Unmarshal(data, &what) != nil {
		return what, false
	}
	_, err = os.Stat(file)
	return what, err == nil
}

// keepBeside keeps a picture, and beside it what is to be known of it.
func keepBeside(file string, picture []byte, what any) error {
	told, err := json.Marshal(what)
	if err == nil {
		err = errors.Join(keepPicture(file, picture), keepPicture(besideName(file), told))
	}
	return fault.Wrap(fault.Internal, "keep picture", file, err)
}

func besideName(file string) string { return strings.TrimSuffix(file, ".png") + ".json" }

func keepPicture(file string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	// A name of its own: two requests may scale the same picture at once.
	temp, err := os.CreateTemp(filepath.Dir(file), "*.part")
	if err != nil {
		return err
	}
	_, err = temp.Write(data)
	if err = errors.Join(err, temp.Close()); err == nil {
		err = os.Rename(temp.Name(), file)
	}
	if err != nil {
		_ = os.Remove(temp.Name()) // nothing of a user's: it was to be a picture
	}
	return err
}

// ServerPicture draws a world of a server as it stands now, as PNG; name "" is the
// active one.
func (s *Service) ServerPicture(ctx context.Context, name, folder string) ([]byte, error) {
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return nil, err
	}
	state, err := l.read(ctx)
	if err != nil {
		return nil, err
	}
	if folder == "" {
		folder = state.Active
	}
	files := l.place.At(ctx)
	found, err := world.ByName(files, state.WorldsFolder, folder, l.profile)
	if err != nil {
		return nil, err
	}
	data, _, err := s.draw(ctx, files, found)
	return data, err
}

// draw draws one world at a time: it is work for the processor that nobody waits for.
func (s *Service) draw(ctx context.Context, tree fs.FS, found world.Found) ([]byte, world.Map, error) {
	release, err := s.mayDraw(ctx, found.Folder)
	if err != nil {
		return nil, world.Map{}, err
	}
	defer release()
	picture, m, err := world.Picture(tree, found)
	if err != nil {
		return nil, m, noPicture(found.Folder, err)
	}
	data, err := encodePicture(picture)
	return data, m, err
}

func noPicture(of string, err error) error {
	return &fault.Error{Code: fault.NotFound, Op: "draw", Path: of, What: "there is no picture", Err: err}
}

// mayDraw waits until nothing else is being drawn.
func (s *Service) mayDraw(ctx context.Context, what string) (release func(), err error) {
	select {
	case s.drawing <- struct{}{}:
		return func() { <-s.drawing }, nil
	case <-ctx.Done():
		return nil, fault.Wrap(fault.Interrupted, "draw", what, context.Cause(ctx))
	}
}

func encodePicture(picture image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, picture)
	return b.Bytes(), fault.Wrap(fault.Internal, "draw", "picture", err)
}
