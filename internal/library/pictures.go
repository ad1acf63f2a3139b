package library

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/drawing"
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
func (lib *Library) CopyPicture(ctx context.Context, ref string, look Look) ([]byte, error) {
	rec, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	kept, m, err := lib.drawn(ctx, rec)
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
		marks, err := lib.marksOf(ctx, rec, m)
		if err != nil {
			return nil, err
		}
		return drawing.PNG(world.Marked(picture, m, marks))
	}
	data, err = drawing.PNG(drawing.Scaled(picture, look.Side))
	if err == nil {
		lib.keepFile(small, data)
	}
	return data, err
}

func (lib *Library) marksOf(ctx context.Context, rec records.Copy, m world.Map) ([]world.Mark, error) {
	landmarks, err := lib.records.Landmarks(ctx, rec.WorldID)
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
func (lib *Library) CopyMap(ctx context.Context, ref string) (wire.Map, error) {
	rec, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.Map{}, err
	}
	_, m, err := lib.drawn(ctx, rec)
	if err != nil {
		return wire.Map{}, err
	}
	out := wire.Map{Map: m, Landmarks: []wire.PlacedLandmark{}, Players: []wire.PlacedPlayer{}}
	for _, p := range rec.Facts.V.Players {
		if p.At != nil {
			_, _, shown := m.At(*p.At)
			out.Players = append(out.Players, wire.PlacedPlayer{ID: p.ID, Name: p.Name, Point: *p.At, Shown: shown})
		}
	}
	landmarks, err := lib.records.Landmarks(ctx, rec.WorldID)
	for _, l := range landmarks {
		if at, ok := world.PlaceOf(l.Place); ok {
			_, _, shown := m.At(at)
			out.Landmarks = append(out.Landmarks, wire.PlacedLandmark{ID: l.ID, Say: l.Say, Point: at, Shown: shown})
		}
	}
	return out, err
}

// drawn draws a copy, if that has not been done, and gives the picture's file and map.
func (lib *Library) drawn(ctx context.Context, rec records.Copy) (file string, m world.Map, err error) {
	profile, err := lib.games.Profile(rec.Facts.V.Game)
	if err != nil {
		return "", m, err
	}
	file = lib.pictureFile(rec.ID, profile)
	if m, ok := keptBeside[world.Map](file); ok {
		return file, m, nil
	}
	tree, found, err := lib.groundTree(ctx, rec, profile)
	if err != nil {
		return "", m, err
	}
	data, m, err := lib.board.World(ctx, tree, found)
	if err != nil {
		return "", m, err
	}
	if err := keepBeside(file, data, m); err != nil {
		return "", m, err
	}
	return file, m, nil
}

// groundTree gives a copy as a tree with the world's own part, which is what is drawn.
func (lib *Library) groundTree(ctx context.Context, rec records.Copy,
	profile *game.Profile) (fs.FS, world.Found, error) {
	stored, err := lib.vault.Load(ctx, rec.ID)
	if err != nil {
		return nil, world.Found{}, err
	}
	lib.vault.Expect(ctx, stored)
	tree := lib.vault.Tree(ctx, stored, func(part, name string) string {
		if part != "" {
			return ""
		}
		return name
	})
	found, err := asFound(tree, rec.Facts.V.Folder, profile)
	return tree, found, err
}

func (lib *Library) keepFile(file string, data []byte) {
	if err := keepPicture(file, data); err != nil {
		lib.log.Warn("cannot keep a picture", "error", err)
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
func (lib *Library) pictureFile(id string, profile *game.Profile) string {
	sum := blake3.Sum256(fmt.Appendf(nil, "%s %+v", id, profile.World.Picture))
	return filepath.Join(lib.pictures, hex.EncodeToString(sum[:16])+".png")
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
