package fleet

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// List lists all servers with their states.
func (fl *Fleet) List(ctx context.Context) ([]wire.Server, error) {
	recs, err := fl.records.Servers(ctx)
	if err != nil {
		return nil, err
	}
	holding, err := fl.records.Holders(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Server, len(recs))
	var group errgroup.Group
	group.SetLimit(8)
	for i, rec := range recs {
		group.Go(func() error {
			out[i], _ = fl.view(ctx, rec, holding)
			return nil
		})
	}
	return out, group.Wait()
}

// viewPatience is how long a server may take to say how it is, before it is shown as one
// that does not: nobody waits for it longer.
const viewPatience = 10 * time.Second

// Server gives one server with all that its files say.
func (fl *Fleet) Server(ctx context.Context, name string) (wire.ServerFacts, error) {
	rec, err := fl.records.Server(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	holding, err := fl.records.Holders(ctx)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	view, state := fl.view(ctx, rec, holding)
	return wire.ServerFacts{Server: view, Facts: state}, nil
}

func (fl *Fleet) view(ctx context.Context, rec records.Server, holding map[string]int64) (wire.Server, server.State) {
	ctx, done := context.WithTimeoutCause(ctx, viewPatience,
		fault.New(fault.TooSlow, "look at", rec.Name, "its host did not answer in time"))
	defer done()
	v := wire.Server{
		Name: rec.Name, Host: rec.Host, Game: rec.Game, Kind: rec.Kind, Root: rec.Root, Command: rec.Command.V,
		Env:   rec.Env.V,
		State: string(life.Unknown), Changeover: holding[rec.Name], LastStartMS: rec.LastStartMS,
		LastStopMS: rec.LastStopMS,
	}
	state := server.State{
		Game:     rec.Game,
		Kind:     rec.Kind,
		Keys:     map[string]server.Setting{},
		Settings: []server.Document{},
		Worlds:   []server.Present{},
		Folders:  []string{},
	}
	l, err := fl.Reach(ctx, rec.Name)
	if a := fl.slot(rec.Name).away.Load(); err != nil && a != nil {
		v.Since, v.Note = &a.since, "Its host does not answer: "+err.Error()+"."
		return v, state
	}
	if err != nil {
		what, next := fault.Words(err)
		v.State, v.Trouble = "unreachable", what+" "+next
		return v, state
	}
	v.Drawn = l.Profile.World.Picture != nil
	st := l.Control.Status(ctx)
	v.State, v.Process, v.Opened, v.ExitCode = string(st.State), st.Process, st.Opened, st.ExitCode
	switch since := st.Since; {
	case st.State == life.Unknown:
		v.Since, v.Note = &st.UnknownSince, "It cannot be told whether it runs: "+st.Cause+"."
	case !since.IsZero():
		v.Since = &since
	}
	if st.Evidence == life.Word {
		v.Note = "That it is stopped is the word of " + st.By + "; it cannot be seen."
	}
	if !st.ExitedAt.IsZero() {
		v.ExitedAt = &st.ExitedAt
	}
	if st.State == life.Stopped && rec.Wanted == string(life.Running) && v.Changeover == 0 {
		v.State = "exited"
	}
	if can, err := l.Files.Capabilities(ctx); err == nil {
		v.Can, v.Lacks = &can, can.Lacks()
	}
	files, settled := l.Files.Observe(ctx)
	read, err := server.Read(files, l.Profile, l.Machine)
	if err = settled(err); err != nil {
		v.Trouble = "The server's folder cannot be read: " + err.Error()
		return v, state
	}
	switch {
	case read.Version.Known():
		v.Version, v.VersionFrom = read.Version.Text, read.Version.File
	case st.Version != "":
		v.Version, v.VersionFrom = st.Version, "its log"
	case rec.DeclaredVersion != "":
		v.Version, v.VersionFrom = rec.DeclaredVersion, "declared by a person"
	}
	v.Active = read.Active
	if w, ok := read.World(read.Active); ok {
		v.ActiveTitle = w.Title
	}
	v.Join, v.JoinNote = fl.Join(ctx, l)
	return v, read
}
