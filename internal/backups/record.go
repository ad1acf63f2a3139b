package backups

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// largestSettings bounds one settings document that is kept, in bytes.
const largestSettings = 4 << 20

// record keeps what a server is at this moment beside the worlds of a backup: its settings as they stand,
// and all else that is needed to make it the same again.
func (b *Backups) record(ctx context.Context, id int64, l *fleet.Server) error {
	backup, err := b.with.Records.BackupByID(ctx, id)
	if err != nil {
		return err
	}
	rec, err := b.with.Records.Server(ctx, l.Name)
	if err != nil {
		return err
	}
	h, err := l.Heads(ctx)
	if err != nil {
		return err
	}
	out := keep.Record{
		Reshard: keep.RecordFormat, Made: backup.BegunAt.UTC().Truncate(time.Millisecond), By: backup.CreatedBy,
		Note:   backup.Note,
		Server: rec.Name, Host: rec.Host, Game: rec.Game, Kind: rec.Kind, System: rec.System, Root: rec.Root,
		Command: rec.Command.V, Env: rec.Env.V, Active: h.State.Active, Keys: map[string]string{}, Settings: []string{},
	}
	if backup.Rule != nil {
		out.Rule = *backup.Rule
	}
	if out.Version = rec.DeclaredVersion; h.State.Version.Known() {
		out.Version = h.State.Version.Text
	}
	for _, m := range h.State.Mods.Items {
		out.Mods = append(out.Mods, m.Name)
	}
	for name, s := range h.State.Keys {
		if s.Found {
			out.Keys[name] = s.Value
		}
	}
	for _, w := range backup.Worlds {
		out.Worlds = append(out.Worlds, keep.RecordWorld{
			World:     w.World,
			Copy:      w.CopyID,
			Wholeness: w.Wholeness,
			Moved:     w.Moved.V,
		})
	}
	files := []vault.Source{}
	for _, doc := range h.State.Settings {
		data, err := l.Files.ReadFile(ctx, doc.File, largestSettings)
		switch {
		case fault.Passing(err):
			return err
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			if out.Lacking == nil {
				out.Lacking = map[string]string{}
			}
			out.Lacking[doc.File], _ = fault.Words(err)
		default:
			out.Settings = append(out.Settings, doc.File)
			files = append(files, inMemory(keep.RecordSettings+doc.File, data, backup.BegunAt))
		}
	}
	raw, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return fault.Wrap(fault.Internal, "keep", "record of backup", err)
	}
	stored, err := b.with.Vault.Store(ctx, append(files, inMemory(keep.RecordFile, raw, backup.BegunAt)), nil)
	if err != nil {
		return err
	}
	return b.with.Records.SetBackupRecord(ctx, id, stored.ID, out)
}

func inMemory(name string, data []byte, at time.Time) vault.Source {
	return vault.Source{
		Path: name, Modified: at, Open: func() (io.ReadCloser, error) {
			return io.NopCloser(bytes.NewReader(data)), nil
		},
	}
}

// Settings reads a settings document as a backup has it.
func (b *Backups) Settings(ctx context.Context, rec records.Backup) (map[string][]byte, error) {
	if rec.Record == nil {
		return nil, fault.New(fault.NotFound, "read settings of", "backup", "backup %d holds none", rec.ID)
	}
	stored, err := b.with.Vault.Load(ctx, *rec.Record)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, f := range stored.Files {
		if len(f.Path) <= len(keep.RecordSettings) || f.Path[:len(keep.RecordSettings)] != keep.RecordSettings {
			continue
		}
		if out[f.Path[len(keep.RecordSettings):]], err = io.ReadAll(b.with.Vault.Read(ctx, f)); err != nil {
			return nil, err
		}
	}
	return out, nil
}
