package library

import (
	"context"
	"io"
	"path"
	"slices"
	"strings"

	"reshard/internal/archive"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Export is a world on its way out of the library.
type Export struct {
	Name  string // of the file
	Type  string // its media type
	Write func(w io.Writer) error
}

// Export gives a copy as the game's own program takes it: a world of one file as that
// file, a folder as an archive with its realms inside, under the game's own ending
// for packed worlds when it has one.
// as "zip" and "tar.zst" ask for an archive of the folder, whatever the game takes.
func (lib *Library) Export(ctx context.Context, ref, as string) (Export, error) {
	rec, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return Export{}, err
	}
	stored, err := lib.vault.Load(ctx, rec.ID)
	if err != nil {
		return Export{}, err
	}
	profile, err := lib.games.Profile(rec.Facts.V.Game)
	if err != nil {
		return Export{}, err
	}
	folder := rec.Facts.V.Folder
	own := as == "" || as == "game"
	if own && len(stored.Files) == 1 && profile.World.Shape != game.ShapeFolder {
		f := stored.Files[0]
		return Export{Name: f.Path, Type: "application/octet-stream", Write: func(w io.Writer) error {
			_, err := io.Copy(w, lib.vault.Read(ctx, f))
			return err
		}}, nil
	}
	name, top := folder+".zip", folder
	if endings := profile.World.Packed.Endings; own && len(endings) > 0 {
		name, top = folder+endings[0], "" // the game's own exports hold the world itself
	}
	if profile.World.Shape != game.ShapeFolder {
		top = ""
	}
	items := make([]archive.Item, 0, len(stored.Files))
	for _, f := range stored.Files {
		to := path.Join(top, nestedPath(profile, f))
		if f.Dir() {
			to += "/"
		}
		items = append(items, archive.Item{
			Name:     to,
			Size:     f.Size,
			Modified: f.Modified,
			Open: func() (io.ReadCloser, error) {
				return io.NopCloser(lib.vault.Read(ctx, f)), context.Cause(ctx)
			},
		})
	}
	slices.SortFunc(items, func(a, b archive.Item) int { return strings.Compare(a.Name, b.Name) })
	if as == "tar.zst" {
		return Export{
			Name:  folder + ".tar.zst",
			Type:  "application/zstd",
			Write: func(w io.Writer) error { return archive.WriteTarZst(w, items) },
		}, nil
	}
	return Export{
		Name:  name,
		Type:  "application/zip",
		Write: func(w io.Writer) error { return archive.WriteZip(w, items, nil) },
	}, nil
}

// CopyFiles lists a copy's files in the order of their paths.
func (lib *Library) CopyFiles(ctx context.Context, ref string) ([]wire.CopyFile, error) {
	stored, profile, err := lib.stored(ctx, ref)
	if err != nil {
		return nil, err
	}
	out := make([]wire.CopyFile, 0, len(stored.Files))
	for _, f := range stored.Files {
		if !f.Dir() {
			out = append(out, wire.CopyFile{Path: nestedPath(profile, f), Size: f.Size, Modified: f.Modified})
		}
	}
	slices.SortFunc(out, func(a, b wire.CopyFile) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// CopyFile gives one file of a copy.
func (lib *Library) CopyFile(ctx context.Context, ref, name string) (Export, error) {
	stored, profile, err := lib.stored(ctx, ref)
	if err != nil {
		return Export{}, err
	}
	for _, f := range stored.Files {
		if !f.Dir() && nestedPath(profile, f) == name {
			return Export{Name: path.Base(name), Type: "application/octet-stream", Write: func(w io.Writer) error {
				_, err := io.Copy(w, lib.vault.Read(ctx, f))
				return err
			}}, nil
		}
	}
	return Export{}, fault.New(fault.NotFound, "read", name, "the copy has no such file").
		With("reshard worlds files " + ref + " lists them.")
}

func (lib *Library) stored(ctx context.Context, ref string) (vault.Copy, *game.Profile, error) {
	rec, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return vault.Copy{}, nil, err
	}
	profile, err := lib.games.Profile(rec.Facts.V.Game)
	if err != nil {
		return vault.Copy{}, nil, err
	}
	stored, err := lib.vault.Load(ctx, rec.ID)
	return stored, profile, err
}

// nestedPath is where a file of a copy stands in a world that was played alone: its
// realms are inside.
func nestedPath(profile *game.Profile, f vault.File) string {
	if f.Part == "" {
		return f.Path
	}
	return path.Join(profile.World.Realms[f.Part].Nested, f.Path)
}
