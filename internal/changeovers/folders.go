package changeovers

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// folders knows whose the working folders on servers are: the records may be older than the files.
type folders struct {
	records *records.Records
	now     func() time.Time
}

// named gives the working folders of a server, by their names, with the folder that they are in.
func (f folders) named(ctx context.Context, l *fleet.Server) (base string, names []string, err error) {
	if base, err = workBase(ctx, l); err != nil {
		return "", nil, err
	}
	there, err := l.Files.Exists(ctx, base)
	if err != nil || !there {
		return base, nil, err
	}
	entries, err := l.Files.List(ctx, base)
	for _, e := range entries {
		if _, _, ok := plan.ReadWorkName(e.Name()); ok && e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return base, names, err
}

// owner gives the changeover that made a working folder; nil: none on record did. One whose name is a number alone
// belongs to the changeover of that number only if it held what that had put there.
func (f folders) owner(ctx context.Context, l *fleet.Server, name string) (*records.Changeover, error) {
	id, bare, _ := plan.ReadWorkName(name)
	c, err := f.records.Changeover(ctx, id)
	switch {
	case fault.CodeOf(err) == fault.NotFound:
		return nil, nil
	case err != nil:
		return nil, err
	case path.Base(c.Plan.V.Work) != name:
		return nil, nil
	case c.ServerID != l.ID:
		return f.neighbours(ctx, l, c)
	case !bare:
		return &c, nil
	}
	if err := f.claim(ctx, l); err != nil {
		return nil, err
	}
	claimed, err := f.records.ClaimedFolders(ctx, l.ID)
	if err != nil || claimed[name] != c.ID {
		return nil, err
	}
	return &c, nil
}

// neighbours gives a changeover of another server, if that has its working folders in the same place; nil: the folder
// was copied from it, or is of a server that was removed.
func (f folders) neighbours(ctx context.Context, l *fleet.Server, c records.Changeover) (*records.Changeover, error) {
	other, err := f.records.Server(ctx, c.Server)
	if fault.CodeOf(err) == fault.NotFound || err == nil && other.ID != c.ServerID {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	own, err := f.records.Server(ctx, l.Name)
	if err != nil {
		return nil, err
	}
	base, err := workBase(ctx, l)
	if err != nil || other.HostID != own.HostID ||
		path.Join(other.Root, path.Dir(c.Plan.V.Work)) != path.Join(own.Root, base) {
		return nil, err
	}
	return &c, nil
}

// unused is an error when the working folder of a changeover that is about to begin is there already: this plan, or
// another one of its number, has been carried out in a later time than that of these records.
func unused(ctx context.Context, l *fleet.Server, c records.Changeover) error {
	there, err := l.Files.Exists(ctx, c.Plan.V.Work)
	if err != nil || !there {
		return err
	}
	return fault.New(fault.Changed, "start", fmt.Sprint(c.ID), "its working folder %s is there already: these records "+
		"are older than the files", c.Plan.V.Work).
		With("Make the plan again. The folder is left as it is; see what it holds: reshard tidy " + l.Name)
}

// claim looks once into the folders of a server whose names are numbers alone.
func (f folders) claim(ctx context.Context, l *fleet.Server) error {
	done, err := f.records.FoldersClaimed(ctx, l.ID)
	if err != nil || done {
		return err
	}
	base, names, err := f.named(ctx, l)
	if err != nil {
		return err
	}
	ours := map[string]int64{}
	for _, name := range names {
		id, bare, _ := plan.ReadWorkName(name)
		c, err := f.records.Changeover(ctx, id)
		if fault.CodeOf(err) == fault.NotFound || err == nil && (c.ServerID != l.ID || !bare ||
			path.Base(c.Plan.V.Work) != name) {
			continue
		}
		if err != nil {
			return err
		}
		holds, err := twoLevels(ctx, l, path.Join(base, name))
		if err != nil {
			return err
		}
		states := make([]plan.StepState, len(c.Steps))
		for i, s := range c.Steps {
			states[i] = s.State
		}
		if c.Plan.V.Holds(holds, states) {
			ours[name] = id
		}
	}
	return f.records.ClaimFolders(ctx, l.ID, ours, f.now())
}

// twoLevels gives the names in a folder and in its folders, from it.
func twoLevels(ctx context.Context, l *fleet.Server, dir string) (out []string, err error) {
	parts, err := l.Files.List(ctx, dir)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		out = append(out, part.Name())
		if !part.IsDir() {
			continue
		}
		entries, err := l.Files.List(ctx, path.Join(dir, part.Name()))
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			out = append(out, part.Name()+"/"+e.Name())
		}
	}
	return out, nil
}

// CompareFolders compares the working folders on a server with the records, and notes those of which no changeover is
// on record. Nothing is done to them. The numbers of changeovers go on after theirs.
func (co *Changeovers) CompareFolders(ctx context.Context, name string) error {
	l, err := co.fleet.Reach(ctx, name)
	if err != nil {
		return err
	}
	base, names, err := co.folders.named(ctx, l)
	if err != nil {
		return err
	}
	unknown := []string{}
	for _, folder := range names {
		c, err := co.folders.owner(ctx, l, folder)
		if err != nil {
			return err
		}
		if c != nil {
			continue
		}
		id, _, _ := plan.ReadWorkName(folder)
		if err := co.records.NumberAfter(ctx, id); err != nil {
			return err
		}
		holds, err := holdsOf(ctx, l, path.Join(base, folder))
		if err != nil {
			return err
		}
		if len(holds) > 0 {
			unknown = append(unknown, folder)
		}
	}
	changed, err := co.records.SetFoundFolders(ctx, l.ID, unknown, co.now().UTC())
	if err == nil && changed {
		co.log.Warn("working folders of changeovers that are not on record", "server", name, "folders", unknown)
		co.fleet.Refresh(ctx, name)
	}
	return err
}

// holdsOf gives the names in a working folder that are something of a person's, from it.
func holdsOf(ctx context.Context, l *fleet.Server, dir string) (out []string, err error) {
	names, err := twoLevels(ctx, l, dir)
	for _, name := range names {
		if part, _, below := strings.Cut(name, "/"); below && asideParts[part] != "" {
			out = append(out, name)
		}
	}
	return out, err
}

// worldParts are the parts of a working folder that worlds are in.
var worldParts = []string{"aside", "failed", "strays", "staged"}

// asideWorlds gives the worlds in a working folder.
func asideWorlds(ctx context.Context, l *fleet.Server, dir string) ([]wire.AsideWorld, error) {
	out := []wire.AsideWorld{}
	files, settled := l.Files.Observe(ctx)
	for _, part := range worldParts {
		found, err := world.Direct(files, path.Join(dir, part), l.Profile)
		if err != nil {
			continue // there is no such part, or settled tells
		}
		for _, f := range found {
			facts, err := world.Read(files, f)
			if err != nil {
				continue
			}
			w := wire.AsideWorld{
				Part: part, World: facts.Folder, What: asideParts[part], Title: facts.Title, Bytes: facts.Bytes,
			}
			if !facts.LastPlayed.IsZero() {
				w.LastPlayed = &facts.LastPlayed
			}
			out = append(out, w)
		}
	}
	return out, settled(nil)
}

// lookAside makes a world that was set aside the one that the sheet is about.
func (p *prepared) lookAside(ctx context.Context) error {
	folder, part, _ := strings.Cut(p.wish.Aside, "/")
	_, _, ok := plan.ReadWorkName(folder)
	if !ok || !slices.Contains(worldParts, part) {
		return fault.New(fault.Invalid, "take away", p.wish.Aside, "it is not a folder and a part of it, such as "+
			"6-3f9a21c0/aside").With("See what there is: reshard tidy " + p.live.Name)
	}
	base, err := workBase(ctx, p.live)
	if err != nil {
		return err
	}
	p.Aside = path.Join(base, folder, part)
	files, settled := p.live.Files.Observe(ctx)
	found, err := world.ByName(files, p.Aside, p.wish.World, p.live.Profile)
	if err == nil {
		p.Fit.World, err = world.Read(files, found)
	}
	if broken := settled(nil); broken != nil {
		return broken
	}
	if err != nil {
		return fault.New(fault.NotFound, "take away", p.wish.World, "there is no world of that name in %s", p.Aside).
			With("See what there is: reshard tidy " + p.live.Name)
	}
	return nil
}

// FolderAlerts gives an alert for each server with working folders of changeovers that are not on record, and one when
// they show that the records are older than the files.
func (co *Changeovers) FolderAlerts(ctx context.Context) (out []wire.Alert, err error) {
	list, err := co.records.FoundFolders(ctx)
	if err != nil {
		return nil, err
	}
	of, since := map[string][]string{}, map[string]time.Time{}
	var servers []string
	last, first := int64(-1), time.Time{}
	for _, f := range list {
		if f.KeptBy != nil {
			continue
		}
		if of[f.Server] == nil {
			servers, since[f.Server] = append(servers, f.Server), f.FoundAt
		}
		of[f.Server] = append(of[f.Server], f.Folder)
		if id, _, _ := plan.ReadWorkName(f.Folder); id > f.Last && (last < 0 || f.Last < last) {
			last = f.Last
		}
		if first.IsZero() || f.FoundAt.Before(first) {
			first = f.FoundAt
		}
	}
	if last >= 0 {
		known := fmt.Sprintf("changeovers after %d are", last)
		if last == 0 {
			known = "the changeovers that they tell of are"
		}
		out = append(out, wire.Alert{
			Kind: "records", Of: "records", Since: first,
			Says: "These records are older than the files: " + known + " not known here.",
			Next: "Nothing was changed because of it. For each server see what was set aside there, and decide: " +
				"reshard tidy " + servers[0],
		})
	}
	for _, server := range servers {
		what := "A folder on " + server + " is of a changeover that is not known here: " + of[server][0] + "."
		next := "It stays until somebody decides. See what it holds: reshard tidy " + server
		if n := len(of[server]); n > 1 {
			what = fmt.Sprintf("%d folders on %s are of changeovers that are not known here: %s.", n, server,
				strings.Join(of[server][:min(n, 5)], ", "))
			next = "They stay until somebody decides. See what they hold: reshard tidy " + server
		}
		out = append(out, wire.Alert{
			Kind: "folders", Of: server, Server: server, Says: what, Since: since[server], Next: next,
		})
	}
	return out, nil
}

// KeepFolder takes a person's word that a working folder of which no changeover is on record stays as it is.
func (co *Changeovers) KeepFolder(ctx context.Context, name, folder, by string) (wire.Aside, error) {
	one, err := co.unknownFolder(ctx, name, folder)
	if err != nil {
		return wire.Aside{}, err
	}
	rec, err := co.records.Server(ctx, name)
	if err != nil {
		return wire.Aside{}, err
	}
	if err := co.records.KeepFoundFolder(ctx, rec.ID, folder, by, co.now().UTC()); err != nil {
		return wire.Aside{}, err
	}
	co.fleet.Refresh(ctx, name)
	one.KeptBy = by
	return one, nil
}

// unknownFolder gives one of those.
func (co *Changeovers) unknownFolder(ctx context.Context, name, folder string) (wire.Aside, error) {
	if err := co.CompareFolders(ctx, name); err != nil {
		return wire.Aside{}, err
	}
	list, err := co.Aside(ctx, name)
	if err != nil {
		return wire.Aside{}, err
	}
	i := slices.IndexFunc(list, func(a wire.Aside) bool { return a.Unknown && path.Base(a.Folder) == folder })
	if i < 0 {
		return wire.Aside{}, fault.New(fault.NotFound, "find", folder,
			"%s has no such folder of a changeover that is not known", name).
			With("See what there is: reshard tidy " + name)
	}
	return list[i], nil
}
