package executor

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"slices"
	"time"

	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/hostfs"
)

// folder is the name of the world that should run.
func (r *Runner) folder(ctx context.Context) string {
	e := r.job.Plan.Expect
	if !e.Own {
		return e.Folder
	}
	for n := range r.job.Plan.Steps {
		var d Detail
		if json.Unmarshal(r.job.Steps[n].Left, &d) == nil && d.Opened != "" {
			return d.Opened
		}
	}
	return r.Control.Status(ctx).Opened
}

// made lists what the server has made as the new world that was asked for.
func (r *Runner) made(ctx context.Context) ([]string, error) {
	e := r.job.Plan.Expect
	name := r.folder(ctx)
	if !e.Fresh || name == "" {
		return nil, nil
	}
	names, err := r.inWorlds(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, made := range (server.State{Folders: names}).Taken(r.Profile, name) {
		if !slices.ContainsFunc(e.Folders, func(was string) bool { return r.worldName(was) == r.worldName(made) }) {
			out = append(out, made)
		}
	}
	return out, nil
}

// switchedBefore reports whether the server may have been started with the
// staged world.
func (r *Runner) switchedBefore() bool {
	for n, s := range r.job.Plan.Steps {
		if s.Kind == plan.Start && r.job.Steps[n].State != plan.StepPlanned {
			return true
		}
	}
	return r.started
}

// inWorlds lists what is, or could be taken for, a world in the worlds folder.
func (r *Runner) inWorlds(ctx context.Context) ([]string, error) {
	there, err := r.Files.Exists(ctx, r.job.Plan.Worlds)
	if err != nil || !there {
		return nil, err
	}
	entries, err := r.Files.List(ctx, r.job.Plan.Worlds)
	var out []string
	for _, e := range entries {
		if server.TakesName(r.Profile, e, r.job.Plan.Expect.Folder) {
			out = append(out, e.Name())
		}
	}
	return out, err
}

// strays lists what could be a world in the worlds folder that the plan does not know:
// neither left there nor placed.
func (r *Runner) strays(ctx context.Context) ([]string, error) {
	worlds := r.job.Plan.Worlds
	known := map[string]bool{}
	if b := r.job.Before; b != nil {
		for _, name := range b.Names { // somebody may have put it there since the plan was made
			known[r.worldName(name)] = true
		}
	}
	for _, name := range r.movedOut() { // it must not come back
		delete(known, name)
	}
	for _, name := range append(slices.Clone(r.job.Plan.Expect.Folders), r.folder(ctx)) {
		known[r.worldName(name)] = true
	}
	for _, s := range r.job.Plan.Steps {
		switch {
		case s.Kind != plan.Move:
		case s.World != "" && s.To == worlds:
			known[s.NameAfter()] = true
		case path.Dir(s.To) == worlds:
			known[r.worldName(path.Base(s.To))] = true
		}
	}
	names, err := r.inWorlds(ctx)
	var out []string
	for _, name := range names {
		if !known[r.worldName(name)] {
			out = append(out, name)
		}
	}
	return out, err
}

// movedAway reports whether this changeover has moved what stood under a name in the worlds folder, and it is where it
// was moved to: then what has the name is another.
func (r *Runner) movedAway(ctx context.Context, name string) (bool, error) {
	worlds := r.job.Plan.Worlds
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Move || s.Server != "" || r.job.Steps[n].State == plan.StepPlanned {
			continue
		}
		to := s.To
		switch {
		case s.World != "" && s.From == worlds && s.World == r.worldName(name):
			to = path.Join(s.To, r.Profile.World.Renamed(name, s.World, s.NameAfter()))
		case s.World != "" || path.Dir(s.From) != worlds || path.Base(s.From) != name:
			continue
		}
		// Whatever stands there came by this move: in its own folder, or under a name that nothing had.
		if !r.work.below(to) && (path.Dir(to) != worlds || slices.Contains(r.job.Before.Names, path.Base(to))) {
			continue
		}
		if there, err := r.Files.Exists(ctx, to); err != nil || there {
			return there, err
		}
	}
	return false, nil
}

// movedOut are the names that the plan moves away in the worlds folder.
func (r *Runner) movedOut() (names []string) {
	for _, s := range r.job.Plan.Steps {
		switch {
		case s.Kind != plan.Move || s.Server != "":
		case s.World != "" && s.From == r.job.Plan.Worlds:
			names = append(names, s.World)
		case s.World == "" && path.Dir(s.From) == r.job.Plan.Worlds:
			names = append(names, r.worldName(path.Base(s.From)))
		}
	}
	return names
}

// before looks at the worlds folder right before the switch.
func (r *Runner) before(ctx context.Context) (*plan.Before, error) {
	names, err := r.inWorlds(ctx)
	if err != nil {
		return nil, err
	}
	seen, err := r.sights(ctx, names)
	if err != nil {
		return nil, err
	}
	files, settled := r.Files.Observe(ctx)
	return &plan.Before{Names: names, Seen: seen, Locks: r.locks(files, names)}, settled(nil)
}

// sights looks at names in the worlds folder: with one listing, since each look costs round trips on a far host.
func (r *Runner) sights(ctx context.Context, names []string) (map[string]plan.Seen, error) {
	out := map[string]plan.Seen{}
	if len(names) == 0 {
		return out, nil
	}
	entries, err := r.Files.List(ctx, r.job.Plan.Worlds)
	for _, e := range entries {
		if !slices.Contains(names, e.Name()) {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // it has gone at this moment
		}
		s := plan.Seen{Modified: info.ModTime().UTC()}
		if told, ok := info.Sys().(hostfs.Info); ok {
			s.ID = told.ID
		}
		out[e.Name()] = s
	}
	return out, err
}

// sightOf looks at a name in the worlds folder.
func (r *Runner) sightOf(ctx context.Context, name string) (s plan.Seen, there bool, err error) {
	info, err := r.Files.Stat(ctx, path.Join(r.job.Plan.Worlds, name))
	if errors.Is(err, fs.ErrNotExist) {
		return s, false, nil
	}
	return plan.Seen{ID: info.ID, Modified: info.Modified.UTC()}, err == nil, err
}

// isStray reports whether what has a name in the worlds folder appeared there since the switch began: it is none of
// those that stood there then, under this name or another, and no older than the switch's own preparations. Only then a
// server can have made it in a start of this changeover.
func (r *Runner) isStray(ctx context.Context, name string) (bool, error) {
	b := r.job.Before
	if b == nil {
		return false, nil // the switch has not begun
	}
	now, there, err := r.sightOf(ctx, name)
	if err != nil || !there {
		return false, err
	}
	for _, was := range b.Seen {
		if now.ID != "" && now.ID == was.ID {
			return false, nil // under this name or another
		}
	}
	if was := b.Seen[name]; slices.Contains(b.Names, name) && (now.ID == "" || was.ID == "") {
		moved, err := r.movedAway(ctx, name)
		if err != nil || !moved {
			return false, err
		}
	}
	if now.Modified.IsZero() {
		return true, nil
	}
	mark, err := r.Files.Stat(ctx, path.Join(r.job.Plan.Work, plan.MarkFile))
	if errors.Is(err, fs.ErrNotExist) || err == nil && mark.Modified.IsZero() {
		return true, nil // nothing tells the host's time
	}
	return err == nil && !now.Modified.Before(mark.Modified.UTC()), err
}

// mostLocked bounds the worlds that are looked into for a lock: each costs round trips on a far host.
const mostLocked = 40

// locks gives the locks of worlds, with their times. Only worlds that are folders have locks of their own.
func (r *Runner) locks(files fs.FS, worlds []string) map[string]time.Time {
	out := map[string]time.Time{}
	if r.Profile.World.Shape != game.ShapeFolder {
		return out
	}
	for _, world := range worlds[:min(len(worlds), mostLocked)] {
		for _, pattern := range r.Profile.World.Locks {
			found, _ := fs.Glob(files, path.Join(r.job.Plan.Worlds, world, pattern)) // Lint has checked the pattern
			for _, name := range found {
				if info, err := fs.Stat(files, name); err == nil {
					out[name] = info.ModTime().UTC()
				}
			}
		}
	}
	return out
}

// forgetLocks takes the locks that the stop has removed out of what was there before the switch: one that is there
// again after the start is new, also where listings tell no times. Another life does not know it, and goes by the
// times.
func (r *Runner) forgetLocks(ctx context.Context) {
	if r.job.Before == nil {
		return
	}
	for file := range r.job.Before.Locks {
		if there, err := r.Files.Exists(ctx, file); err == nil && !there {
			delete(r.job.Before.Locks, file)
		}
	}
}

// worldName gives what tells worlds apart in the worlds folder: of a session, to
// which a game adds files while it is played, its name; else the name itself.
func (r *Runner) worldName(file string) string {
	if r.Profile.World.Shape == game.ShapeFolder {
		return file
	}
	name, _, ok := r.Profile.World.NameOf(file)
	if !ok {
		return file
	}
	return name
}
