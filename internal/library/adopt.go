package library

import (
	"context"
	"errors"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// Adopt brings copies into the library that are in the vault and that it does not know.
func (lib *Library) Adopt(ctx context.Context, ids []string) error {
	var failed error
	for _, id := range ids {
		_, err := lib.records.CopyByID(ctx, id)
		if fault.CodeOf(err) != fault.NotFound {
			failed = errors.Join(failed, err)
			continue
		}
		c, err := lib.vault.Load(ctx, id)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		if err := lib.adoptOne(ctx, c); err != nil {
			lib.log.Warn("a copy in the vault is not recognised", "copy", id, "error", err)
		}
	}
	return failed
}

// Backed is what is known of a copy that a backup has made.
type Backed struct {
	// World is the world of the library that it is a copy of; 0: one of its own.
	World  int64
	Game   string
	Folder string // its name on disk
	Source string
	By     string
	Made   time.Time
	Server *int64
}

// AdoptBackup brings a copy into the library that a backup has made and that it does not know, and gives the
// world that it is a copy of.
func (lib *Library) AdoptBackup(ctx context.Context, id string, of Backed) (worldID int64, err error) {
	rec, err := lib.records.CopyByID(ctx, id)
	if fault.CodeOf(err) != fault.NotFound {
		return rec.WorldID, err
	}
	c, err := lib.vault.Load(ctx, id)
	if err != nil {
		return 0, err
	}
	w, err := lib.readCopy(ctx, c, of.Folder, of.Game)
	if err != nil {
		return 0, err
	}
	rec, _, err = lib.records.AddCopy(ctx, records.Copy{
		ID: id, WorldID: of.World, Kind: "backup", Facts: records.JSON[world.Facts]{V: w}, Bytes: c.Bytes,
		Files: int64(len(c.Files)), Source: of.Source, CreatedBy: of.By, ServerID: of.Server,
	})
	if err == nil {
		err = lib.records.SetCopyMade(ctx, id, of.Made)
	}
	return rec.WorldID, err
}

func (lib *Library) adoptOne(ctx context.Context, c vault.Copy) error {
	w, err := lib.readCopy(ctx, c, "found-"+c.ID[:12], "")
	if err != nil {
		return err
	}
	_, _, err = lib.records.AddCopy(ctx, records.Copy{
		ID: c.ID, Kind: "arrival", Facts: records.JSON[world.Facts]{V: w}, Bytes: c.Bytes, Files: int64(len(c.Files)),
		Source: "found in the vault", CreatedBy: "reshard",
	})
	return err
}
