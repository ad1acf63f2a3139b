package changeovers

import (
	"context"
	"fmt"
	"maps"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/executor"
	"reshard/internal/fleet"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// keepCopy records a copy that a changeover has made of a server's world.
func (co *Changeovers) keepCopy(ctx context.Context, l *fleet.Server, c records.Changeover,
	made executor.Copied) error {
	from, w := made.Server, made.Facts
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
	worldID := at[w.Folder]
	if c.Plan.V.FromAside() {
		worldID = 0 // the name is of another one by now
	}
	if worldID == 0 { // nobody has brought it there: an earlier backup may know it
		if worldID, err = co.records.BackedUpAs(ctx, l.ID, w); err != nil {
			return err
		}
	}
	brought, err := co.records.BroughtThere(ctx, l.ID, worldID, c.ID)
	if err != nil {
		return err
	}
	var madeOf *string
	if brought != "" && brought != made.Copy.ID {
		madeOf = &brought
	}
	kind := "backup"
	if made.Safety {
		kind = "safety"
	}
	rec, _, err := co.records.AddCopy(ctx, records.Copy{
		ServerID: &l.ID, ChangeoverID: &c.ID, MadeOf: madeOf,
		ID: made.Copy.ID, WorldID: worldID, Kind: kind, Facts: records.JSON[world.Facts]{V: w},
		Bytes: made.Copy.Bytes, Files: int64(len(made.Copy.Files)),
		Source: fmt.Sprintf("%s on %s (changeover %d)", w.Folder, from, c.ID), CreatedBy: c.CreatedBy,
	})
	if err != nil {
		return err
	}
	if !c.Plan.V.FromAside() {
		if err := co.remember(ctx, l.ID, made); err != nil {
			return err
		}
	}
	if c.Kind == plan.Backup && co.Kept != nil {
		return co.Kept(ctx, c, l, made)
	}
	if made.Safety {
		return nil
	}
	return co.records.SetChangeoverCopy(ctx, c.ID, rec.ID)
}

// wholeAgain is after how long every file of a world is read again, whatever its size and time say: some
// writes do not show in them.
const wholeAgain = 7 * 24 * time.Hour

// knownFiles gives the files of a server's world that its last backup has stored and that size and time
// tell again.
func (co *Changeovers) knownFiles(ctx context.Context, serverID int64, name string) (map[string]executor.Known, error) {
	k, err := co.records.KnownFilesOf(ctx, serverID, name)
	if fault.CodeOf(err) == fault.NotFound || err == nil && keep.Again(k.WholeAt, co.now(), wholeAgain) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	stored, err := co.vault.Load(ctx, k.CopyID) // whether its chunks are there, storing sees
	if fault.Passing(err) {
		return nil, err
	}
	if err != nil {
		return nil, nil //nolint:nilerr // it is gone, or damaged: all is read
	}
	byKey := map[string]vault.File{}
	for _, f := range stored.Files {
		byKey[executor.FileKey(f.Part, f.Path)] = f
	}
	out := make(map[string]executor.Known, len(k.Files))
	for _, f := range k.Files {
		if of, ok := byKey[f.Key]; ok && of.Size == f.Size {
			out[f.Key] = executor.Known{Size: f.Size, Modified: f.Modified, Chunks: of.Chunks, Sum: of.Sum}
		}
	}
	return out, nil
}

// remember keeps what is known of a server's world for its next backup.
func (co *Changeovers) remember(ctx context.Context, serverID int64, made executor.Copied) error {
	k := records.KnownFiles{CopyID: made.Copy.ID, WholeAt: co.now()}
	if !made.ReadWhole {
		before, err := co.records.KnownFilesOf(ctx, serverID, made.World)
		if err != nil && fault.CodeOf(err) != fault.NotFound {
			return err
		}
		k.WholeAt = before.WholeAt
	}
	for key, f := range made.Known {
		k.Files = append(k.Files, records.KnownFile{Key: key, Size: f.Size, Modified: f.Modified})
	}
	return co.records.SetKnownFiles(ctx, serverID, made.World, k)
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
