package changeovers

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"maps"
	"strconv"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// prepared is all that a draft is made from.
type prepared struct {
	plan.Input
	wish   wire.NewChangeover
	live   *fleet.Server
	rec    records.Server
	copy   *records.Copy
	source *fleet.Server
}

// prepare gathers what a wish is about. It reads and changes nothing.
func (co *Changeovers) prepare(ctx context.Context, wish wire.NewChangeover) (p prepared, err error) {
	p.wish = wish
	if p.rec, err = co.records.Server(ctx, wish.Server); err != nil {
		return p, err
	}
	if p.live, err = co.fleet.Reach(ctx, wish.Server); err != nil {
		return p, err
	}
	if p.Fit, err = p.live.Input(ctx, p.rec); err != nil {
		return p, err
	}
	p.Kind, p.Server, p.Tree = wish.Kind, wish.Server, p.live.Files.At(ctx)
	p.Fit.Choices = fit.Choices(maps.Clone(wish.Choices))
	if p.Fit.Choices == nil {
		p.Fit.Choices = fit.Choices{}
	}
	switch wish.Kind {
	case plan.Put, plan.Restore:
		err = co.preparePut(ctx, &p)
	case plan.Clone:
		err = co.prepareClone(ctx, &p)
	case plan.Reset:
		p.Fit.Purpose = fit.ForReset
		p.Fit.World, _, err = p.present(ctx, p.Fit.Server.Active, true)
	case plan.Switch:
		p.Fit.Purpose = fit.ForSwitch
		p.Fit.World, _, err = p.present(ctx, wish.World, false)
	case plan.Rename:
		p.Fit.Purpose = fit.ForRename
		if wish.World == "" {
			return p, fault.New(fault.Invalid, "draft", "rename", "the new name is missing")
		}
		p.Fit.Choices["folder-name"] = wish.World
		p.Fit.World, _, err = p.present(ctx, p.Fit.Server.Active, false)
	case plan.TakeAway:
		name := wish.World
		if name == "" {
			name = p.Fit.Server.Active
		}
		p.Fit.World, _, err = p.present(ctx, name, false)
		return p, err
	default:
		err = fault.New(fault.Invalid, "draft", wish.Kind, "there is no such changeover")
	}
	if err != nil {
		return p, err
	}
	p.Fit.Unwritable = plan.Unwritable(p.Tree, p.Fit)
	p.Sheet = fit.Compare(p.Fit)
	return p, nil
}

func (co *Changeovers) preparePut(ctx context.Context, p *prepared) error {
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
	active := p.Fit.Server.Active
	if p.Kind == plan.Restore && p.Fit.Choices["folder-name"] == "" && !p.wish.Beside && active != "" {
		// A copy of the world that runs there goes back under the name it has there.
		at, err := co.worldsOn(ctx, p.rec.ID)
		if err != nil {
			return err
		}
		if at[active] == c.WorldID {
			p.Fit.Choices["folder-name"] = active
		}
	}
	return nil
}

func (co *Changeovers) prepareClone(ctx context.Context, p *prepared) (err error) {
	if p.wish.From == "" || p.wish.From == p.wish.Server {
		return fault.New(fault.Invalid, "draft", "clone",
			"name the server to take the world from, and another to bring it to")
	}
	if p.source, err = co.fleet.Reach(ctx, p.wish.From); err != nil {
		return err
	}
	state, err := p.source.Read(ctx)
	if err != nil {
		return err
	}
	running := p.source.Control.Status(ctx)
	if err := running.Err("clone from", p.wish.From); err != nil {
		return err
	}
	of := prepared{live: p.source, wish: p.wish}
	of.Fit.Server = state
	name := p.wish.World
	if name == "" {
		name = state.Active
	}
	w, found, err := of.present(ctx, name, false)
	if err != nil {
		return err
	}
	w.Locks, w.Settings = nil, travelling(p.source.Profile, state, name)
	for realm, dir := range found.Realms {
		if !world.Inside(found.Root, dir) {
			p.Parts = append(p.Parts, realm)
		}
	}
	p.Parts = append(p.Parts, "")
	p.Fit.World = w
	if p.wish.Beside {
		p.Fit.Purpose = fit.ForBeside
	}
	p.Source = &plan.Source{
		Server: p.wish.From, Worlds: state.WorldsFolder,
		Running: running.State.Up() && name == state.Active,
	}
	return nil
}

// travelling gives the settings that belong to a server's active world, by name.
func travelling(profile *game.Profile, state server.State, name string) map[string]string {
	if name != state.Active {
		return nil // the settings are the active world's
	}
	out := map[string]string{}
	for _, key := range profile.Server.Travels {
		if s := state.Keys[key]; s.Found {
			out[key] = s.Value
		}
	}
	return out
}

// present reads a world that stands on the server. Without one, and when that may be,
// the world is empty.
func (p prepared) present(ctx context.Context, name string, mayLack bool) (world.Facts, world.Found, error) {
	files := p.live.Files.At(ctx)
	found, err := world.ByName(files, p.Fit.Server.WorldsFolder, name, p.live.Profile)
	if err == nil {
		w, err := world.Read(files, found)
		return w, found, err
	}
	if fault.Passing(err) {
		return world.Facts{}, world.Found{}, err
	}
	if mayLack {
		return world.Facts{Game: p.live.Profile.ID, Folder: name}, world.Found{}, nil
	}
	have := make([]string, 0, len(p.Fit.Server.Worlds))
	for _, w := range p.Fit.Server.Worlds {
		have = append(have, w.Folder)
	}
	e := fault.New(fault.NotFound, "find world", name, "there is no world of that name on %s", p.live.Name)
	if len(have) > 0 {
		e = e.With("It has: " + strings.Join(have, ", ") + ". Names count exactly.")
	} else {
		e = e.With("It has no worlds at all: reshard put WORLD " + p.live.Name + ".")
	}
	return world.Facts{}, world.Found{}, e
}

// Sheet makes the fit sheet of what a person wants to do.
func (co *Changeovers) Sheet(ctx context.Context, wish wire.NewChangeover) (wire.Sheet, error) {
	p, err := co.prepare(ctx, wish)
	if err != nil {
		return wire.Sheet{}, err
	}
	out := wire.Sheet{Server: wish.Server, Sheet: p.Sheet, World: p.Fit.World.Title, Kind: wish.Kind}
	if p.copy != nil {
		out.World, out.Copy = p.copy.World, p.copy.ID
	}
	return out, nil
}

// Draft works a changeover out and records it as a draft. Nothing is touched.
func (co *Changeovers) Draft(ctx context.Context, wish wire.NewChangeover, by string) (wire.Changeover, error) {
	if wish.Kind == plan.Undo {
		return co.draftUndo(ctx, wish.Undoes, by)
	}
	p, err := co.prepare(ctx, wish)
	if err != nil {
		return wire.Changeover{}, err
	}
	id, err := co.records.NextChangeoverID(ctx)
	if err != nil {
		return wire.Changeover{}, err
	}
	p.Work = workFolder(p.Fit.Server.WorldsFolder, id)
	p.Window = estimate(p.rec, p.Fit.Live.State == life.Running)
	drafted, err := p.draft()
	if err != nil {
		return wire.Changeover{}, err
	}
	rec := records.Changeover{
		ID: id, ServerID: p.live.ID, Kind: drafted.Kind, Plan: records.JSON[plan.Plan]{V: drafted},
		Sheet: records.JSON[fit.Sheet]{V: p.Sheet}, CreatedBy: by,
	}
	if p.copy != nil && drafted.Then == nil {
		rec.CopyID = &p.copy.ID
	}
	if p.source != nil {
		rec.SourceID = &p.source.ID
	}
	if err := co.records.AddDraft(ctx, rec); err != nil {
		return wire.Changeover{}, err
	}
	return co.Get(ctx, id)
}

func (p *prepared) draft() (plan.Plan, error) {
	switch p.Kind {
	case plan.Reset:
		if p.Fit.Choices["seed"] == fit.SeedRandom {
			p.Fit.Drawn = draw(p.live.Profile.Server.Seeds)
			p.Sheet = fit.Compare(p.Fit)
		}
		return plan.DraftReset(p.Input)
	case plan.Switch:
		return plan.DraftSwitch(p.Input)
	case plan.Rename:
		return plan.DraftRename(p.Input)
	case plan.TakeAway:
		return plan.DraftTakeAway(p.Input)
	}
	if p.Fit.Choices["first-start"] == "make" && len(p.Fit.Server.NotYet) > 0 {
		choices := maps.Clone(map[string]string(p.Fit.Choices))
		delete(choices, "first-start")
		return plan.DraftFirstStart(
			p.Input, plan.Then{
				Kind:    p.Kind,
				World:   p.wish.World,
				From:    p.wish.From,
				Beside:  p.wish.Beside,
				Choices: choices,
			})
	}
	return plan.DraftPut(p.Input)
}

// draw draws a random seed that a game takes.
func draw(seeds game.Seeds) string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it never fails (crypto/rand)
	n := binary.LittleEndian.Uint64(b[:])
	switch {
	case seeds.Bits == 32 && seeds.Unsigned:
		return strconv.FormatUint(n>>32, 10)
	case seeds.Bits == 32:
		return strconv.FormatInt(int64(n)>>32, 10)
	case seeds.Unsigned:
		return strconv.FormatUint(n, 10)
	}
	return strconv.FormatInt(int64(n), 10)
}

// draftUndo works out how to take a changeover back and records it as a draft.
func (co *Changeovers) draftUndo(ctx context.Context, id int64, by string) (wire.Changeover, error) {
	of, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	if ok, why, err := co.undoable(ctx, of); err != nil || !ok {
		if err == nil {
			err = fault.New(fault.WrongState, "undo", fmt.Sprint(id), "%s", why)
		}
		return wire.Changeover{}, err
	}
	rec, err := co.records.Server(ctx, of.Server)
	if err != nil {
		return wire.Changeover{}, err
	}
	l, err := co.fleet.Reach(ctx, of.Server)
	if err != nil {
		return wire.Changeover{}, err
	}
	in, err := l.Input(ctx, rec)
	if err != nil {
		return wire.Changeover{}, err
	}
	newID, err := co.records.NextChangeoverID(ctx)
	if err != nil {
		return wire.Changeover{}, err
	}
	p, err := plan.DraftUndo(plan.UndoInput{
		Of: of.Plan.V, ID: id, Profile: l.Profile, State: in.Server, Live: in.Live, Server: of.Server, Made: madeBy(of),
		Work: workFolder(of.Plan.V.Worlds, newID), Tree: l.Files.At(ctx),
		Window: estimate(rec, in.Live.State == life.Running), After: hashesAfter(of),
	})
	if err != nil {
		return wire.Changeover{}, err
	}
	err = co.records.AddDraft(ctx, records.Changeover{
		ID: newID, ServerID: l.ID, Kind: plan.Undo, Plan: records.JSON[plan.Plan]{V: p}, Undoes: &id, CreatedBy: by,
	})
	if err != nil {
		return wire.Changeover{}, err
	}
	return co.Get(ctx, newID)
}
