package service

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"image"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// CopyPicture draws a copy from above, as PNG. The same copy and the same profile give
// the same bytes, so it is drawn once and kept.
func (s *Service) CopyPicture(ctx context.Context, ref string) ([]byte, error) {
	rec, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return nil, err
	}
	profile, err := s.profile(rec.Facts.V.Game)
	if err != nil {
		return nil, err
	}
	kept := s.pictureFile(rec.ID, profile)
	if data, err := os.ReadFile(kept); err == nil {
		return data, nil
	}
	stored, err := s.vault.Load(rec.ID)
	if err != nil {
		return nil, err
	}
	tree := s.vault.Tree(stored, func(part, name string) string {
		if part != "" {
			return "" // a picture is of the world's own ground
		}
		return name
	})
	found, err := asFound(tree, rec.Facts.V.Folder, profile)
	if err != nil {
		return nil, err
	}
	data, err := s.draw(ctx, tree, found)
	if err != nil {
		return nil, err
	}
	if err := keepPicture(kept, data); err != nil {
		s.log.Warn("cannot keep a picture", "error", err)
	}
	return data, nil
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

func keepPicture(file string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	temp := file + ".part"
	if err := os.WriteFile(temp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(temp, file)
}

// ServerPicture draws a world of a server as it stands now, as PNG; name "" is the
// active one.
func (s *Service) ServerPicture(ctx context.Context, name, folder string) ([]byte, error) {
	l, err := s.serverByName(ctx, name)
	if err != nil {
		return nil, err
	}
	state, err := server.Read(l.place.FS(), l.profile, l.machine)
	if err != nil {
		return nil, fault.Wrap(fault.Unreachable, "read", name, err)
	}
	if folder == "" {
		folder = state.Active
	}
	found, err := world.ByName(l.place.FS(), state.WorldsFolder, folder, l.profile)
	if err != nil {
		return nil, err
	}
	return s.draw(ctx, l.place.FS(), found)
}

// draw draws one world at a time: it is work for the processor that nobody waits for.
func (s *Service) draw(ctx context.Context, tree fs.FS, found world.Found) ([]byte, error) {
	select {
	case s.drawing <- struct{}{}:
		defer func() { <-s.drawing }()
	case <-ctx.Done():
		return nil, fault.Wrap(fault.Interrupted, "draw", found.Folder, context.Cause(ctx))
	}
	picture, err := world.Picture(tree, found)
	if err != nil {
		return nil, fault.New(fault.NotFound, "draw", found.Folder, "there is no picture: %v", err)
	}
	return encodePicture(picture)
}

func encodePicture(picture image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, picture)
	return b.Bytes(), fault.Wrap(fault.Internal, "draw", "picture", err)
}
