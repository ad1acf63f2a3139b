package changeovers

import (
	"context"
	"fmt"
	"maps"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/executor"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// keepCopy records a copy that a changeover has made of a server's world.
func (co *Changeovers) keepCopy(ctx context.Context, l *fleet.Server, c records.Changeover, stored vault.Copy,
	w world.Facts,
	from string) error {
	if from == "" {
		from = c.Server
	} else {
		other, err := co.fleet.Reach(ctx, from)
		if err != nil {
			return err
		}
		l = other
	}
	state, err := l.State(ctx)
	if fault.Passing(err) {
		return err
	}
	if err == nil {
		w.Settings = travelling(l.Profile, state, w.Folder)
	}
	at, err := co.worldsOn(ctx, l.ID)
	if err != nil {
		return err
	}
	made, err := co.records.BroughtThere(ctx, l.ID, at[w.Folder], c.ID)
	if err != nil {
		return err
	}
	var madeOf *string
	if made != "" && made != stored.ID {
		madeOf = &made
	}
	rec, _, err := co.records.AddCopy(ctx, records.Copy{
		ServerID: &l.ID, ChangeoverID: &c.ID, MadeOf: madeOf,
		ID: stored.ID, WorldID: at[w.Folder], Kind: "backup", Facts: records.JSON[world.Facts]{V: w},
		Bytes: stored.Bytes, Files: int64(len(stored.Files)),
		Source: fmt.Sprintf("%s on %s (changeover %d)", w.Folder, from, c.ID), CreatedBy: c.CreatedBy,
	})
	if err != nil {
		return err
	}
	return co.records.SetChangeoverCopy(ctx, c.ID, rec.ID)
}

// worldsOn tells, by name on disk, which worlds of the library have been brought onto
// a server, by playing its changeovers through.
func (co *Changeovers) worldsOn(ctx context.Context, serverID int64) (map[string]int64, error) {
	list, err := co.records.History(ctx, serverID)
	if err != nil {
		return nil, err
	}
	now := map[string]int64{}
	before := map[int64]map[string]int64{}
	for _, c := range list {
		before[c.ID] = maps.Clone(now)
		if left := kindOf(c.Kind).left; left != nil {
			now = left(now, c, before[c.Plan.V.Undoes])
		}
	}
	return now, nil
}

// ready tells whether what a wait step waits for has come: a person's word, or a
// concern of the sheet that is settled by what somebody has done on the server.
func (co *Changeovers) ready(ctx context.Context, c records.Changeover, n int, step plan.Step) (bool, error) {
	now, err := co.records.Steps(ctx, c.ID)
	if err != nil {
		return false, err
	}
	if n < len(now) && executor.DetailOf(now[n]).By != "" {
		return true, nil
	}
	if step.Until == plan.Word {
		return false, nil
	}
	choices := maps.Clone(c.Plan.V.Choices)
	delete(choices, step.Until)
	p, err := co.prepare(ctx, wire.Wish{
		Kind:    c.Kind,
		World:   c.Plan.V.Copy,
		Server:  c.Server,
		From:    c.Plan.V.From,
		Choices: choices,
	})
	if err != nil {
		return false, err
	}
	row, _ := p.Sheet.Row(step.Until)
	return row.Verdict == fit.Fits || row.Verdict == fit.Adjust, nil
}

// GoOn gives a changeover the word that it waits for.
func (co *Changeovers) GoOn(ctx context.Context, id int64, by string) (wire.Changeover, error) {
	c, err := co.records.Changeover(ctx, id)
	if err != nil {
		return wire.Changeover{}, err
	}
	for n, st := range c.Steps {
		if c.State == plan.Waiting && st.Kind == plan.Wait && st.State == plan.StepIntended {
			if err := co.records.SetStepDetail(ctx, id, n, map[string]string{"by": by}); err != nil {
				return wire.Changeover{}, err
			}
			co.given(id)
			return co.changed(ctx, id)
		}
	}
	return wire.Changeover{}, fault.New(fault.WrongState, "go on with", fmt.Sprint(id), "it is %s and waits for nobody",
		c.State)
}
