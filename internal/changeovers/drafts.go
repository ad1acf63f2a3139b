package changeovers

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/fleet"
	"reshard/internal/observe"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// prepared is all that a draft is made from.
type prepared struct {
	plan.Input
	wish   plan.Wish
	kind   kind
	live   *fleet.Server
	seen   *fleet.Sighting
	rec    records.Server
	copy   *records.Copy
	source *fleet.Server
	// of a restore from a backup: how whole its copy is, and some of the files that are not; of any, in what it
	// differs from what stands on the server.
	whole   plan.Wholeness
	moved   []string
	differs string
}

// prepare gathers what a wish is about. It reads and changes nothing.
func (co *Changeovers) prepare(ctx context.Context, wish plan.Wish) (p prepared, err error) {
	if lack := wish.Lacks(); lack != "" {
		return p, fault.New(fault.Invalid, "draft", wish.Kind, "%s", lack)
	}
	p.wish, p.kind = wish, kindOf(wish.Kind)
	if p.rec, err = co.records.Server(ctx, wish.Server); err != nil {
		return p, err
	}
	if p.live, err = co.fleet.Reach(ctx, wish.Server); err != nil {
		return p, err
	}
	if p.seen, err = p.live.Sight(ctx, p.rec); err != nil {
		return p, err
	}
	p.Fit, p.Documents = p.seen.Fit, p.seen.Documents
	p.Kind, p.Server = wish.Kind, wish.Server
	p.Fit.Choices = fit.Choices(maps.Clone(wish.Choices))
	if p.Fit.Choices == nil {
		p.Fit.Choices = fit.Choices{}
	}
	if err := p.kind.prepare(ctx, co, &p); err != nil {
		return p, err
	}
	if p.kind.sheetless {
		return p, p.Sheet.Check(wish.Choices)
	}
	closed, err := p.live.Unwritable(ctx, p.Documents)
	if err != nil {
		return p, err
	}
	p.Fit.Unwritable = p.Documents.Unwritable(p.Fit, closed)
	p.Sheet = fit.Compare(p.Fit)
	return p, p.Sheet.Check(wish.Choices)
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

// present looks into a world that stands on a server.
func present(ctx context.Context, l *fleet.Server, h *observe.Heads, name string) (observe.Look, error) {
	look, err := l.Look(ctx, h, name)
	if fault.CodeOf(err) != fault.NotFound {
		return look, err
	}
	have := make([]string, 0, len(h.State.Worlds))
	for _, w := range h.State.Worlds {
		have = append(have, w.Folder)
	}
	e := fault.New(fault.NotFound, "find world", name, "there is no world of that name on %s", l.Name)
	if len(have) > 0 {
		return look, e.With("It has: " + strings.Join(have, ", ") + ". Names count exactly.")
	}
	return look, e.With("It has no worlds at all: reshard put WORLD " + l.Name + ".")
}

// Sheet makes the fit sheet of what a person wants to do.
func (co *Changeovers) Sheet(ctx context.Context, wish wire.Wish) (wire.Sheet, error) {
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
func (co *Changeovers) Draft(ctx context.Context, wish wire.Wish, by string) (wire.Changeover, error) {
	if wish.Kind == plan.Undo && wish.Lacks() == "" {
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
	if p.Work, err = workFolder(ctx, p.live, p.Fit.Server.WorldsFolder, id); err != nil {
		return wire.Changeover{}, err
	}
	p.Window = estimate(p.rec, p.Fit.Live.State == life.Running)
	drafted, err := p.kind.draft(&p)
	if err != nil {
		return wire.Changeover{}, err
	}
	if p.Fit.Choices[plan.SafetyCopy] == "library" && plan.Lasting(drafted.Kind) && !wish.Beside {
		drafted = p.WithSafety(drafted)
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
	seen, err := l.Sight(ctx, rec)
	if err != nil {
		return wire.Changeover{}, err
	}
	newID, err := co.records.NextChangeoverID(ctx)
	if err != nil {
		return wire.Changeover{}, err
	}
	work, err := workFolder(ctx, l, of.Plan.V.Worlds, newID)
	if err != nil {
		return wire.Changeover{}, err
	}
	p, err := plan.DraftUndo(plan.UndoInput{
		Of: of.Plan.V, ID: id, Profile: l.Profile, State: seen.State, Live: seen.Fit.Live, Server: of.Server,
		Made: madeBy(of),
		Work: work, Tree: l.Files.At(ctx), Documents: seen.Documents,
		Window: estimate(rec, seen.Fit.Live.State == life.Running), After: hashesAfter(of),
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
