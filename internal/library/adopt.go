package library

import (
	"context"
	"errors"

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
