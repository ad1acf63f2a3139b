package backups

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/library"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// found is a record of a backup that is in the vault.
type found struct {
	id string
	keep.Record
}

// Adopt takes backups in that are in the vault and not on record, oldest first, with their worlds, and gives
// those of the copies that are not theirs.
func (b *Backups) Adopt(ctx context.Context, ids []string) (rest []string, err error) {
	var all []found
	theirs := map[string]bool{}
	for _, id := range ids {
		rec, err := b.recordOf(ctx, id)
		if err != nil {
			return nil, err
		}
		if rec == nil {
			continue
		}
		all = append(all, found{id, *rec})
		theirs[id] = true
	}
	slices.SortFunc(all, func(x, y found) int { return cmp.Or(x.Made.Compare(y.Made), cmp.Compare(x.id, y.id)) })
	worlds := map[string]int64{} // of the library, by server and name on disk
	var failed error
	for _, f := range all {
		if err := b.adoptOne(ctx, f, worlds, theirs); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	for _, id := range ids {
		if !theirs[id] {
			rest = append(rest, id)
		}
	}
	return rest, failed
}

// recordOf reads a copy as the record of a backup; nil when it is none.
func (b *Backups) recordOf(ctx context.Context, id string) (*keep.Record, error) {
	c, err := b.with.Vault.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(c.Files, func(f vault.File) bool { return f.Part == "" && f.Path == keep.RecordFile })
	if i < 0 {
		return nil, nil
	}
	data, err := io.ReadAll(io.LimitReader(b.with.Vault.Read(ctx, c.Files[i]), largestSettings))
	if err != nil {
		return nil, err
	}
	rec, err := keep.ParseRecord(data)
	if err != nil {
		return nil, nil //nolint:nilerr // it is a world's file of that name
	}
	return &rec, nil
}

func (b *Backups) adoptOne(ctx context.Context, f found, worlds map[string]int64, theirs map[string]bool) error {
	var serverID *int64
	if rec, err := b.with.Records.Server(ctx, f.Server); err == nil {
		serverID = &rec.ID
	} else if fault.CodeOf(err) != fault.NotFound {
		return err
	}
	now := b.now()
	out := records.Backup{
		Server: f.Server, BegunAt: f.Made, CreatedBy: f.By, Note: f.Note, Record: &f.id,
		About: records.JSON[keep.Record]{V: f.Record}, ReadAt: &now,
	}
	for _, w := range f.Worlds {
		key := f.Server + "\x00" + w.World
		id, err := b.with.Library.AdoptBackup(ctx, w.Copy, library.Backed{
			World: worlds[key], Game: f.Game, Folder: w.World, By: f.By, Made: f.Made, Server: serverID,
			Source: fmt.Sprintf("%s on %s (a backup that was found in the vault)", w.World, f.Server),
		})
		if err != nil {
			b.with.Log.Warn("a world of a backup in the vault does not read", "backup", f.id, "world", w.World, "error",
				err)
			continue
		}
		worlds[key], theirs[w.Copy] = id, true
		out.Worlds = append(out.Worlds, records.BackupWorld{
			World: w.World, CopyID: w.Copy, Wholeness: w.Wholeness,
			Moved: records.JSON[[]string]{V: append([]string{}, w.Moved...)},
		})
	}
	if len(out.Worlds) == 0 {
		return nil
	}
	_, err := b.with.Records.AdoptBackup(ctx, out)
	return err
}
