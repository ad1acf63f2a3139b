package changeovers

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"maps"
	"path"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/records"
)

// kind is what is particular to one kind of changeover on the way from a wish to a plan.
// What can be told without a server in hand is in plan.Kinds, under the same name.
type kind struct {
	// prepare gathers what the wish is about beyond the server itself: the world, and where
	// it comes from. It changes nothing.
	prepare func(ctx context.Context, co *Changeovers, p *prepared) error
	// sheetless: nothing is compared, since nothing comes onto the server.
	sheetless bool
	// draft makes the plan.
	draft func(p *prepared) (plan.Plan, error)
	// left notes which world of the library each name on the server stands for after a
	// changeover of this kind; before is how it was before the one that it undoes.
	left func(now map[string]int64, c records.HistoryEntry, before map[string]int64) map[string]int64
}

// kindOf gives the entry of a kind; the zero value for none. The undo has no prepare and no
// draft here: it is drafted from the plan that it takes back.
func kindOf(name string) kind { return allKinds()[name] }

func allKinds() map[string]kind {
	return map[string]kind{
		plan.Put:     {prepare: preparePut, draft: draftPut, left: leftByPut},
		plan.Restore: {prepare: prepareRestore, draft: draftRestore, left: leftByRestore},
		plan.Clone:   {prepare: prepareClone, draft: draftPut, left: leftByPut},
		plan.Reset: {
			prepare: prepareReset, draft: draftReset,
			left: func(now map[string]int64, c records.HistoryEntry, _ map[string]int64) map[string]int64 {
				delete(now, c.Plan.V.Folder)
				return now
			},
		},
		plan.Switch: {
			prepare: prepareSwitch,
			draft:   func(p *prepared) (plan.Plan, error) { return plan.DraftSwitch(p.Input) },
		},
		plan.Rename: {
			prepare: prepareRename,
			draft:   func(p *prepared) (plan.Plan, error) { return plan.DraftRename(p.Input) },
			left:    leftByRename,
		},
		plan.TakeAway: {
			prepare:   prepareTakeAway,
			sheetless: true,
			draft:     func(p *prepared) (plan.Plan, error) { return plan.DraftTakeAway(p.Input) },
		},
		plan.Backup: {
			prepare: func(ctx context.Context, _ *Changeovers, p *prepared) error {
				name := p.wish.World
				if name == "" {
					name = p.Fit.Server.Active
				}
				if name == "" {
					return nil
				}
				_, err := present(ctx, p.live, &p.seen.Heads, name)
				if p.wish.World == "" && fault.CodeOf(err) == fault.NotFound {
					return nil // others may stand there
				}
				return err
			},
			sheetless: true,
			draft:     func(p *prepared) (plan.Plan, error) { return plan.DraftBackup(p.Input, p.wish.World) },
		},
		plan.FirstStart: {},
		plan.Undo: {
			left: func(now map[string]int64, _ records.HistoryEntry, before map[string]int64) map[string]int64 {
				if before == nil {
					return now
				}
				return maps.Clone(before)
			},
		},
	}
}

func preparePut(ctx context.Context, co *Changeovers, p *prepared) error {
	c, err := co.records.FindCopy(ctx, p.wish.World)
	if err != nil {
		return err
	}
	stored, err := co.vault.Load(ctx, c.ID)
	if err != nil {
		return err
	}
	p.copy, p.Copy, p.Parts, p.Fit.World = &c, c.ID, stored.Parts(), c.Facts.V
	if p.wish.Beside {
		p.Fit.Purpose = fit.ForBeside
	}
	return nil
}

// prepareRestore prepares a put; a copy of the world that runs there goes back under the
// name that it has there. Of a backup it may be its settings, or some files, that come back.
func prepareRestore(ctx context.Context, co *Changeovers, p *prepared) error {
	if p.wish.Backup != 0 {
		if err := co.fromBackup(ctx, p); err != nil {
			return err
		}
	}
	if p.wish.What == plan.SettingsOnly {
		p.Fit.Purpose = fit.ForBack
		return p.lookInto(ctx, p.Fit.Server.Active)
	}
	if err := preparePut(ctx, co, p); err != nil {
		return err
	}
	active := p.Fit.Server.Active
	if p.Fit.Choices["folder-name"] == "" && !p.wish.Beside && active != "" {
		at, err := co.worldsOn(ctx, p.rec.ID)
		if err != nil {
			return err
		}
		if at[active] == p.copy.WorldID {
			p.Fit.Choices["folder-name"] = active
		}
	}
	stored, err := co.vault.Load(ctx, p.copy.ID)
	if err != nil {
		return err
	}
	name := p.Fit.Choices["folder-name"]
	if name == "" {
		name = p.Fit.World.Folder
	}
	if p.wish.What == plan.SomeFiles {
		return p.onlyFiles(ctx, stored, name)
	}
	if !p.wish.Beside {
		p.differs = compareLive(ctx, p, stored, name)
	}
	return nil
}

func prepareClone(ctx context.Context, co *Changeovers, p *prepared) (err error) {
	if p.wish.From == p.wish.Server {
		return fault.New(fault.Invalid, "draft", "clone",
			"name the server to take the world from, and another to bring it to")
	}
	if p.source, err = co.fleet.Reach(ctx, p.wish.From); err != nil {
		return err
	}
	h, err := p.source.Heads(ctx)
	if err != nil {
		return err
	}
	if err := h.Status.Err("clone from", p.wish.From); err != nil {
		return err
	}
	name := p.wish.World
	if name == "" {
		name = h.State.Active
	}
	look, err := present(ctx, p.source, &h, name)
	if err != nil {
		return err
	}
	w := look.Facts
	w.Locks, w.Settings = nil, travelling(p.source.Profile, h.State, name)
	for realm, dir := range look.Found.Realms {
		if !world.Inside(look.Found.Root, dir) {
			p.Parts = append(p.Parts, realm)
		}
	}
	p.Parts = append(p.Parts, "")
	p.Fit.World = w
	if p.wish.Beside {
		p.Fit.Purpose = fit.ForBeside
	}
	p.Source = &plan.Source{
		Server: p.wish.From, Worlds: h.State.WorldsFolder, Running: h.Status.State.Up() && name == h.State.Active,
	}
	return nil
}

// draftPut drafts what brings a world from elsewhere; on a server that was never started,
// the first start that has to come before.
func draftPut(p *prepared) (plan.Plan, error) {
	if p.Fit.Choices["first-start"] != "make" || len(p.Fit.Server.NotYet) == 0 {
		return plan.DraftPut(p.Input)
	}
	then := p.wish
	then.Server, then.Choices = "", maps.Clone(map[string]string(p.Fit.Choices))
	delete(then.Choices, "first-start")
	return plan.DraftFirstStart(p.Input, then)
}

func leftByPut(now map[string]int64, c records.HistoryEntry, _ map[string]int64) map[string]int64 {
	name := c.Plan.V.Folder
	if placed := c.Plan.V.Expect.Placed; placed != "" {
		name = placed
	}
	delete(now, name)
	if c.WorldID != nil {
		now[name] = *c.WorldID
	}
	return now
}

// leftByRestore is as a put's, unless only settings came back.
func leftByRestore(now map[string]int64, c records.HistoryEntry, before map[string]int64) map[string]int64 {
	if c.Plan.V.Copy == "" {
		return now
	}
	return leftByPut(now, c, before)
}

// prepareReset prepares a new world in place of the active one, which may be missing.
func prepareReset(ctx context.Context, _ *Changeovers, p *prepared) error {
	p.Fit.Purpose = fit.ForReset
	look, err := p.live.Look(ctx, &p.seen.Heads, p.Fit.Server.Active)
	if fault.CodeOf(err) == fault.NotFound {
		p.Fit.World = world.Facts{Game: p.live.Profile.ID, Folder: p.Fit.Server.Active}
		return nil
	}
	p.Fit.World = look.Facts
	return err
}

func draftReset(p *prepared) (plan.Plan, error) {
	if p.Fit.Choices["seed"] == fit.SeedRandom {
		p.Fit.Drawn = draw(p.live.Profile.Server.Seeds)
		p.Sheet = fit.Compare(p.Fit)
	}
	return plan.DraftReset(p.Input)
}

func prepareSwitch(ctx context.Context, _ *Changeovers, p *prepared) error {
	p.Fit.Purpose = fit.ForSwitch
	return p.lookInto(ctx, p.wish.World)
}

func prepareRename(ctx context.Context, _ *Changeovers, p *prepared) error {
	p.Fit.Purpose = fit.ForRename
	p.Fit.Choices["folder-name"] = p.wish.World
	return p.lookInto(ctx, p.Fit.Server.Active)
}

func leftByRename(now map[string]int64, c records.HistoryEntry, _ map[string]int64) map[string]int64 {
	p := c.Plan.V
	for _, step := range p.Steps {
		if step.Kind == plan.Move && path.Dir(step.To) == p.Worlds && path.Base(step.To) == p.Folder {
			now[p.Folder] = now[path.Base(step.From)]
		}
		if step.Kind == plan.Move && step.As == p.Folder {
			now[p.Folder] = now[step.World]
		}
	}
	return now
}

func prepareTakeAway(ctx context.Context, _ *Changeovers, p *prepared) error {
	if p.wish.Aside != "" {
		return p.lookAside(ctx)
	}
	name := p.wish.World
	if name == "" {
		name = p.Fit.Server.Active
	}
	return p.lookInto(ctx, name)
}

// lookInto makes a world that stands on the server the one that the sheet is about.
func (p *prepared) lookInto(ctx context.Context, name string) error {
	look, err := present(ctx, p.live, &p.seen.Heads, name)
	p.Fit.World = look.Facts
	return err
}

// draw draws a random seed that a game takes.
func draw(seeds game.Seeds) string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it never fails (crypto/rand)
	return seeds.Form(binary.LittleEndian.Uint64(b[:]))
}
