package changeovers

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// The parts of a changeover's working folder that hold something of a person's.
var asideParts = map[string]string{
	"aside": "set aside", "failed": "a world whose changeover went back",
	"strays":   "made by the server in a start that was taken back",
	"settings": "settings as they were", "settings-adopted": "settings as they were", "staged": "staged",
}

// Aside lists what changeovers have set aside on a server, newest first.
func (co *Changeovers) Aside(ctx context.Context, name string) ([]wire.Aside, error) {
	l, err := co.fleet.Reach(ctx, name)
	if err != nil {
		return nil, err
	}
	base, names, err := co.folders.named(ctx, l)
	if err != nil {
		return nil, err
	}
	kept, err := co.keptFolders(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	out := []wire.Aside{}
	for _, folder := range names {
		c, err := co.folders.owner(ctx, l, folder)
		if err != nil {
			return nil, err
		}
		if c != nil && c.ServerID != l.ID {
			continue
		}
		one, err := co.asideOf(ctx, l, c, path.Join(base, folder))
		if err != nil {
			return nil, err
		}
		one.KeptBy = kept[folder]
		if one.Bytes > 0 || len(one.Holds) > 0 {
			out = append(out, one)
		}
	}
	slices.SortFunc(out, func(a, b wire.Aside) int {
		return cmp.Or(cmp.Compare(b.Changeover, a.Changeover), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}

// keptFolders gives who wants working folders of a server of which no changeover is on record to stay.
func (co *Changeovers) keptFolders(ctx context.Context, serverID int64) (map[string]string, error) {
	list, err := co.records.FoundFolders(ctx)
	out := map[string]string{}
	for _, f := range list {
		if f.ServerID == serverID && f.KeptBy != nil {
			out[f.Folder] = *f.KeptBy
		}
	}
	return out, err
}

// workBase is the folder in which changeovers of a server have their working folders.
func workBase(ctx context.Context, l *fleet.Server) (string, error) {
	state, err := l.State(ctx)
	if err != nil {
		return "", err
	}
	return l.WorkRoot(ctx, state.WorldsFolder)
}

// asideOf measures a working folder and says which rule holds for it; c is the changeover that made it, nil: none that
// is on record.
func (co *Changeovers) asideOf(ctx context.Context, l *fleet.Server, c *records.Changeover, dir string,
) (wire.Aside, error) {
	one := wire.Aside{Server: l.Name, Folder: dir, Holds: []string{}, Worlds: []wire.AsideWorld{}}
	one.Changeover, _, _ = plan.ReadWorkName(path.Base(dir))
	one.Name = fmt.Sprintf("%s/%d", l.Name, one.Changeover)
	err := fs.WalkDir(l.Files.At(ctx), dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it is being removed at this moment
		}
		rel := strings.TrimPrefix(strings.TrimPrefix(p, dir), "/")
		part, rest, below := strings.Cut(rel, "/")
		if what, known := asideParts[part]; known && below && !strings.Contains(rest, "/") {
			one.Holds = append(one.Holds, rest+" ("+what+")")
		}
		if info, err := d.Info(); err == nil && !d.IsDir() && rel != plan.MarkFile {
			one.Bytes += info.Size()
			one.Files++
		}
		return nil
	})
	if err != nil {
		return one, fault.Wrap(fault.Internal, "measure", dir, err)
	}
	switch {
	case c == nil:
		one.Unknown, one.Removable, one.Name = true, true, l.Name+"/"+path.Base(dir)
		one.Rule = "No changeover on record has made it: it stays until somebody decides."
		one.Worlds, err = asideWorlds(ctx, l, dir)
		return one, err
	case c.State.Open():
		one.Rule = fmt.Sprintf("Changeover %d is %s: it is needed.", c.ID, c.State)
		return one, nil
	}
	since := c.CreatedAt
	if c.EndedAt != nil {
		since = *c.EndedAt
	}
	one.Since, one.Removable = &since, true
	if co.keepAside <= 0 {
		one.Rule = "It stays until a person removes it."
		return one, nil
	}
	goes := since.Add(co.keepAside)
	if age, err := co.age(ctx, l.Name, one); err == nil {
		goes = co.now().Add(co.keepAside - age)
	}
	one.Goes = &goes
	one.Rule = fmt.Sprintf("It is removed %s after changeover %d ended.", days(co.keepAside), c.ID)
	return one, nil
}

// age gives how old something is that was set aside on a server.
func (co *Changeovers) age(ctx context.Context, server string, a wire.Aside) (time.Duration, error) {
	return co.counted.Age(ctx, server+"/"+a.Name, *a.Since)
}

func days(d time.Duration) string {
	if d >= 48*time.Hour && d%(24*time.Hour) == 0 {
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	}
	return d.String()
}

// Tidy removes what a changeover has set aside, for good: that of a number, or the folder of a name. confirm must be
// its name as it is listed.
func (co *Changeovers) Tidy(ctx context.Context, name, which, confirm, by string) (wire.Aside, error) {
	list, err := co.Aside(ctx, name)
	if err != nil {
		return wire.Aside{}, err
	}
	i := slices.IndexFunc(list, func(a wire.Aside) bool { return a.Name == name+"/"+which })
	if i < 0 {
		i = slices.IndexFunc(list, func(a wire.Aside) bool { return path.Base(a.Folder) == which })
	}
	switch {
	case i < 0:
		return wire.Aside{}, fault.New(fault.NotFound, "tidy", name+"/"+which,
			"nothing of changeover %s is set aside on %s", which, name).
			With("reshard tidy " + name + " lists what is.")
	case !list[i].Removable:
		return list[i], fault.New(fault.WrongState, "tidy", list[i].Name, "%s", list[i].Rule)
	case confirm != list[i].Name:
		return list[i], fault.New(fault.Invalid, "tidy", list[i].Name,
			"it is removed for good, so it must be named: %s, not %q", list[i].Name, confirm)
	}
	l, err := co.fleet.Reach(ctx, name)
	if err != nil {
		return list[i], err
	}
	if err := co.tidy(ctx, l, list[i], by); err != nil || !list[i].Unknown {
		return list[i], err
	}
	return list[i], co.CompareFolders(ctx, name)
}

// tidy removes a working folder: it is recorded first, then renamed, so that a crash
// leaves either all of it or something that the next sweep goes on with.
func (co *Changeovers) tidy(ctx context.Context, l *fleet.Server, a wire.Aside, by string) error {
	release, err := l.Claim("tidy")
	if err != nil {
		return err
	}
	defer release()
	if err := co.records.Acting(); err != nil {
		return err
	}
	if !a.Unknown {
		gone := records.Tidied{ChangeoverID: a.Changeover, Bytes: a.Bytes, By: by}
		if err := co.records.AddTidied(ctx, gone); err != nil {
			return err
		}
	}
	going := path.Join(path.Dir(a.Folder), "going-"+path.Base(a.Folder))
	if there, err := l.Files.Exists(ctx, going); err != nil {
		return err
	} else if !there {
		can, err := l.Files.Capabilities(ctx)
		if err != nil {
			return err
		}
		move := l.Files.Move
		if !can.RenameFolders {
			move = func(ctx context.Context, from, to string) error {
				return l.Files.MovePieces(ctx, from, to, func() {})
			}
		}
		if err := move(ctx, a.Folder, going); err != nil {
			return err
		}
	}
	co.log.Info("removed what was set aside", "server", l.Name, "folder", a.Folder, "bytes", a.Bytes, "by", by)
	return l.Files.Discard(ctx, going)
}

// Sweep removes what has been set aside for longer than it is kept, and goes on with
// what a crash left half removed.
func (co *Changeovers) Sweep(ctx context.Context) {
	servers, err := co.records.Servers(ctx)
	if err != nil {
		return
	}
	for _, rec := range servers {
		list, err := co.Aside(ctx, rec.Name)
		if err != nil {
			continue // it cannot be reached now
		}
		l, err := co.fleet.Reach(ctx, rec.Name)
		if err != nil {
			continue
		}
		for _, a := range list {
			if !a.Removable || a.Goes == nil {
				continue
			}
			age, err := co.age(ctx, rec.Name, a)
			if err != nil {
				return // nothing is removed of which it cannot be told how old it is
			}
			if age > co.keepAside {
				if err := co.tidy(ctx, l, a, "the rule"); err != nil {
					co.log.Warn("cannot tidy", "what", a.Name, "error", err)
				}
			}
		}
		co.sweepGoing(ctx, l)
	}
}

func (co *Changeovers) sweepGoing(ctx context.Context, l *fleet.Server) {
	release, err := l.Claim("sweep")
	if err != nil {
		return // a changeover is at work, which may need what is on its way out
	}
	defer release()
	base, err := workBase(ctx, l)
	if err != nil {
		return
	}
	entries, err := l.Files.List(ctx, base)
	if err != nil {
		return
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), "going-") {
			if err := l.Files.Discard(ctx, path.Join(base, e.Name())); err != nil {
				co.log.Warn("cannot tidy", "what", e.Name(), "server", l.Name, "error", err)
			}
		}
	}
}
