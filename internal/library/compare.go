package library

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"reshard/internal/core/compare"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/drawing"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// pair finds two copies to compare.
func (lib *Library) pair(ctx context.Context, before, after string) (a, b records.Copy, err error) {
	a, errA := lib.records.FindCopy(ctx, before)
	b, errB := lib.records.FindCopy(ctx, after)
	if err := errors.Join(errA, errB); err != nil {
		return a, b, err
	}
	if a.Facts.V.Game != b.Facts.V.Game {
		return a, b, fault.New(fault.Invalid, "compare", before, "it is a world of %s, and %s is one of %s",
			a.Facts.V.Game, after, b.Facts.V.Game)
	}
	return a, b, nil
}

// Compare tells in what two copies of one game differ, the earlier one first.
func (lib *Library) Compare(ctx context.Context, before, after string) (wire.Compared, error) {
	a, b, err := lib.pair(ctx, before, after)
	if err != nil {
		return wire.Compared{}, err
	}
	profile, err := lib.games.Profile(a.Facts.V.Game)
	if err != nil {
		return wire.Compared{}, err
	}
	first, err := lib.stateOf(ctx, a, profile)
	if err != nil {
		return wire.Compared{}, err
	}
	second, err := lib.stateOf(ctx, b, profile)
	if err != nil {
		return wire.Compared{}, err
	}
	c := compare.Of(first, second, profile)
	if profile.World.Picture != nil {
		if d, err := lib.drawnDifference(ctx, a, b, profile, first, second); err == nil {
			c.Map = &d
		}
	}
	c.Say()
	return wire.Compared{Before: lib.wireCopy(a), After: lib.wireCopy(b), Comparison: c}, nil
}

// stateOf lists a copy's files with what tells their content apart.
func (lib *Library) stateOf(ctx context.Context, rec records.Copy, profile *game.Profile) (compare.State, error) {
	stored, err := lib.vault.Load(ctx, rec.ID)
	if err != nil {
		return compare.State{}, err
	}
	out := compare.State{World: rec.Facts.V, Files: make(map[string]compare.File, len(stored.Files))}
	for _, f := range stored.Files {
		if !f.Dir() {
			out.Files[nestedPath(profile, f)] = compare.File{Size: f.Size, Content: contentOf(f)}
		}
	}
	return out, nil
}

func contentOf(f vault.File) string {
	var b strings.Builder
	for _, c := range f.Chunks {
		b.WriteString(c.Hash)
	}
	return b.String()
}

// drawnDifference draws in what two copies differ, if that has not been done, and keeps the picture.
func (lib *Library) drawnDifference(ctx context.Context, a, b records.Copy, profile *game.Profile,
	first, second compare.State) (world.Differences, error) {
	file := lib.differenceFile(a, b, profile)
	if d, ok := keptBeside[world.Differences](file); ok {
		return d, nil
	}
	release, err := lib.board.Take(ctx, b.World)
	if err != nil {
		return world.Differences{}, err
	}
	defer release()
	grounds := [2]world.Ground{}
	for i, rec := range []records.Copy{a, b} {
		tree, found, err := lib.groundTree(ctx, rec, profile)
		if err != nil {
			return world.Differences{}, err
		}
		if grounds[i], err = world.ReadGround(tree, found); err != nil {
			return world.Differences{}, drawing.None(rec.World, err)
		}
	}
	picture, _, d, err := world.DrawDifference(grounds[0], grounds[1],
		func(file string) bool { return first.Files[file].Content == second.Files[file].Content })
	if err != nil {
		return d, fault.New(fault.NotFound, "compare", b.World, "%v", err)
	}
	data, err := drawing.PNG(picture)
	if err != nil {
		return d, err
	}
	return d, keepBeside(file, data, d)
}

func (lib *Library) differenceFile(a, b records.Copy, profile *game.Profile) string {
	return filepath.Join(lib.pictures,
		fmt.Sprintf("%s-from-%s", filepath.Base(lib.pictureFile(b.ID, profile))[:32],
			filepath.Base(lib.pictureFile(a.ID, profile))))
}

// ComparePicture draws in what two copies differ, as PNG.
func (lib *Library) ComparePicture(ctx context.Context, before, after string) ([]byte, error) {
	a, b, err := lib.pair(ctx, before, after)
	if err != nil {
		return nil, err
	}
	profile, err := lib.games.Profile(a.Facts.V.Game)
	if err != nil {
		return nil, err
	}
	file := lib.differenceFile(a, b, profile)
	if data, err := os.ReadFile(file); err == nil {
		return data, nil
	}
	if profile.World.Picture == nil {
		return nil, fault.New(fault.NotFound, "draw", b.World, "the game profile does not say how to draw a world")
	}
	first, err := lib.stateOf(ctx, a, profile)
	if err != nil {
		return nil, err
	}
	second, err := lib.stateOf(ctx, b, profile)
	if err != nil {
		return nil, err
	}
	if _, err := lib.drawnDifference(ctx, a, b, profile, first, second); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(file)
	return data, fault.Wrap(fault.Internal, "read", "picture", err)
}
