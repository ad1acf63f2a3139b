package changeovers

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
	"reshard/internal/core/settings"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// fromBackup makes a restore of a backup one of the copy that it has of a world, and gathers what of its
// settings comes back.
func (co *Changeovers) fromBackup(ctx context.Context, p *prepared) error {
	b, err := co.records.BackupByID(ctx, p.wish.Backup)
	if err != nil {
		return err
	}
	name := fmt.Sprint("backup ", b.ID)
	switch p.wish.What {
	case "", plan.WorldOnly, plan.SettingsOnly, plan.Everything, plan.SomeFiles:
	default:
		return fault.New(fault.Invalid, "restore", name, "%q is not what can come back of it", p.wish.What).
			With("Give world, settings, all or files.")
	}
	if b.GoneAt != nil || b.State != records.BackupDone {
		return fault.New(fault.WrongState, "restore", name, "it is %s", goneOr(b)).
			With("reshard backups " + p.wish.Server + " lists those that can be gone back to.")
	}
	of, err := worldOf(b, p.wish.World)
	if err != nil {
		return err
	}
	p.wish.World = of.CopyID
	if p.wish.What == plan.SettingsOnly || p.wish.What == plan.Everything {
		if err := co.recorded(ctx, p, b); err != nil {
			return err
		}
	}
	home := b.ServerID != nil && *b.ServerID == p.rec.ID || b.ServerID == nil && b.Server == p.rec.Name
	if _, given := p.Fit.Choices["folder-name"]; !given && home && !p.wish.Beside && p.wish.What != plan.SettingsOnly {
		p.Fit.Choices["folder-name"] = of.World
	}
	p.whole, p.moved = of.Wholeness, of.Moved.V
	return nil
}

func goneOr(b records.Backup) string {
	if b.GoneAt != nil {
		return "gone"
	}
	return b.State
}

// worldOf gives the world of a backup that is meant: by its name on disk, or the one that ran, or the only
// one.
func worldOf(b records.Backup, name string) (records.BackupWorld, error) {
	if name == "" {
		name = b.About.V.Active
	}
	var have []string
	for _, w := range b.Worlds {
		if w.World == name || len(b.Worlds) == 1 && (name == "" || name == b.About.V.Active) {
			return w, nil
		}
		have = append(have, w.World)
	}
	return records.BackupWorld{}, fault.New(fault.NotFound, "restore", fmt.Sprint("backup ", b.ID),
		"it has no world %q", name).
		With("Say which with --world: " + strings.Join(have, ", "))
}

// recorded reads the settings documents of a backup that differ from those that stand on the server, and makes
// the server that the sheet is about the one that it would be with them.
func (co *Changeovers) recorded(ctx context.Context, p *prepared, b records.Backup) error {
	if b.Record == nil {
		return fault.New(fault.NotFound, "restore settings of", fmt.Sprint("backup ", b.ID), "it holds none")
	}
	if b.About.V.Game != p.live.Profile.ID || b.About.V.Kind != p.live.Machine.Kind {
		return fault.New(fault.Blocked, "restore settings on", p.wish.Server,
			"they are of %s (%s), and the server is %s (%s)",
			b.About.V.Game, b.About.V.Kind, p.live.Profile.ID, p.live.Machine.Kind).
			With("Bring the world alone: --what world.")
	}
	stored, err := co.vault.Load(ctx, *b.Record)
	if err != nil {
		return err
	}
	raw, docs := map[string][]byte{}, plan.Documents{}
	for _, f := range stored.Files {
		file, of := strings.CutPrefix(f.Path, keep.RecordSettings)
		now, there := p.Documents[file]
		if !of || !there { // what is not there now is not made
			continue
		}
		data, err := io.ReadAll(co.vault.Read(ctx, f))
		if err != nil {
			return err
		}
		if bytes.Equal(data, now.Bytes()) {
			continue
		}
		doc, err := settings.Parse(file, syntaxOf(p, file), data)
		if err != nil {
			return err
		}
		raw[file], docs[file] = data, doc
	}
	live := p.Fit.Server
	p.Live, p.Record, p.Recorded = &live, *b.Record, docs
	heads, err := p.live.With(ctx, raw)
	if err != nil {
		return err
	}
	p.Fit.Server = heads.State
	return nil
}

func syntaxOf(p *prepared, file string) settings.Syntax {
	for _, d := range p.Fit.Server.Settings {
		if d.File == file {
			return p.live.Profile.Server.Settings[d.Name].Syntax()
		}
	}
	return settings.Syntax{}
}

// draftRestore drafts what a restore brings back.
func draftRestore(p *prepared) (out plan.Plan, err error) {
	switch p.wish.What {
	case plan.SettingsOnly:
		out, err = plan.DraftSettingsBack(p.Input)
	case plan.SomeFiles:
		out, err = plan.DraftFilesBack(p.Input)
	default:
		out, err = draftPut(p)
	}
	if err != nil {
		return out, err
	}
	if p.wish.Backup != 0 && !p.whole.Whole() && p.wish.What != plan.SettingsOnly {
		say := p.whole.Say()
		if len(p.moved) > 0 {
			say += " Among them: " + strings.Join(p.moved, ", ") + "."
		}
		out.Notes = append(out.Notes, say)
	}
	if p.differs != "" {
		out.Notes = append([]string{p.differs}, out.Notes...)
	}
	return out, nil
}

// compareLive says in what a copy differs from the world that stands in its place, by sizes and times: what
// would be set aside. "" where nothing stands there, or it cannot be told.
func compareLive(ctx context.Context, p *prepared, stored vault.Copy, name string) string {
	look, err := present(ctx, p.live, &p.seen.Heads, name)
	if err != nil {
		return ""
	}
	tree, settled := p.live.Files.Observe(ctx)
	entries, err := world.Parts(tree, look.Found)
	if err = settled(err); err != nil {
		return ""
	}
	had := map[string]vault.File{}
	for _, f := range stored.Files {
		if !f.Dir() {
			had[path.Join(f.Part, f.Path)] = f
		}
	}
	all, changed, fresh := len(had), []string{}, []string{}
	for _, e := range entries {
		at := path.Join(e.Part, e.Path)
		f, there := had[at]
		delete(had, at)
		switch {
		case e.Dir:
		case !there:
			fresh = append(fresh, at)
		case f.Size != e.Size || !f.Modified.Equal(e.ModTime.UTC().Truncate(time.Second)):
			changed = append(changed, at)
		}
	}
	missing := slices.Sorted(maps.Keys(had))
	if len(changed)+len(fresh)+len(missing) == 0 {
		return fmt.Sprintf("What stands on the server is what the copy has: all %d files have the same sizes and "+
			"times.", all)
	}
	parts := []string{}
	add := func(names []string, say string) {
		if len(names) > 0 {
			parts = append(parts, fmt.Sprintf("%d %s (%s)", len(names), say, few(names)))
		}
	}
	add(changed, "were written since")
	add(fresh, "are new there")
	add(missing, "are not there any more")
	say := fmt.Sprintf("Against what stands on the server, of the copy's %d files: %s.", all, strings.Join(parts, ", "))
	if at := look.Facts.LastPlayed; !at.IsZero() {
		say += " It was last played on " + at.UTC().Format("2 January 2006 at 15:04 UTC") + "."
	}
	return say
}

func few(names []string) string {
	if len(names) > 3 {
		return strings.Join(names[:3], ", ") + ", …"
	}
	return strings.Join(names, ", ")
}

// mostFiles bounds the files that come back one by one.
const mostFiles = 500

// onlyFiles takes the files that alone are to come back.
func (p *prepared) onlyFiles(ctx context.Context, stored vault.Copy, name string) error {
	if len(p.wish.Files) == 0 {
		return fault.New(fault.Invalid, "restore files on", p.wish.Server, "it is not said which").
			With("Name them as they stand in the world's folder: --file folk/ada.json")
	}
	look, err := present(ctx, p.live, &p.seen.Heads, name)
	if err != nil {
		return err
	}
	tree, settled := p.live.Files.Observe(ctx)
	entries, err := world.Parts(tree, look.Found)
	if err = settled(err); err != nil {
		return err
	}
	p.Fit.World = look.Facts
	p.Fit.World.Members, p.Fit.World.Bytes = nil, 0
	for _, e := range entries {
		if e.Part == "" && !e.Dir {
			p.Fit.World.Members = append(p.Fit.World.Members, e.Path)
		}
	}
	for _, f := range stored.Files {
		if f.Part == "" && !f.Dir() && slices.ContainsFunc(p.wish.Files, func(pattern string) bool {
			return world.Match(path.Clean(pattern), f.Path) ||
				strings.HasPrefix(f.Path, strings.TrimSuffix(pattern, "/")+"/")
		}) {
			p.Only = append(p.Only, f.Path)
			p.Fit.World.Bytes += f.Size
		}
	}
	if len(p.Only) == 0 {
		return fault.New(fault.NotFound, "restore files on", p.wish.Server, "the copy has none of them: %s",
			strings.Join(p.wish.Files, ", ")).With("reshard worlds files COPY lists what it has.")
	}
	if len(p.Only) > mostFiles {
		return fault.New(fault.TooLarge, "restore files on", p.wish.Server,
			"%d files would be moved one by one while players "+
				"wait; at most %d are", len(p.Only), mostFiles).With("Bring the whole world back: leave --file out.")
	}
	p.Fit.Purpose = fit.ForBack
	if name != p.Fit.Server.Active { // it does not run: nobody is locked out
		p.Fit.Purpose = fit.ForBeside
	}
	return nil
}
