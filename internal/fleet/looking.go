package fleet

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/hostfs"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// FollowLog sends a server's last log lines and every new one until ctx ends.
func (fl *Fleet) FollowLog(ctx context.Context, name string, last int, yield func([]wire.LogLine) error) error {
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return err
	}
	return l.Control.Follow(ctx, last, func(lines []control.Line) error {
		out := make([]wire.LogLine, len(lines))
		for i, line := range lines {
			out[i] = wire.LogLine(line)
		}
		return yield(out)
	})
}

// input gathers what the fit rules look at of a server.
func (l *Server) Input(ctx context.Context, rec records.Server) (fit.Input, error) {
	state, err := l.Read(ctx)
	if err != nil {
		return fit.Input{}, err
	}
	worlds, st := state.WorldsFolder, l.Control.Status(ctx)
	if ask := l.Profile.Server.Console.Version; st.Version == "" && ask.Say != "" && st.State == life.Running &&
		!state.Version.Known() {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		st.Version, _ = l.Control.Ask(ctx, ask) // no answer: the version is not known
		cancel()
	}
	others, err := l.Control.Others(ctx)
	unseen := ""
	if fault.Passing(err) {
		unseen, _ = fault.Words(err)
	} else if err != nil {
		return fit.Input{}, err
	}
	in := fit.Input{
		Profile: l.Profile, Server: state, Choices: fit.Choices{},
		Live: fit.Live{
			Roots: l.Machine.Roots, State: st.State, Cause: st.Cause, DeclaredVersion: rec.DeclaredVersion,
			ConsoleVersion: st.Version,
			FreeBytes:      l.Files.Free(ctx, worlds),
			SameFilesystem: l.Files.SameFilesystem(ctx, worlds, path.Dir(worlds)),
			Players:        -1, Since: st.Since, Host: rec.Host, Working: others.Working, Passing: others.Passing,
			Hidden: others.Hidden, Unseen: unseen,
		},
	}
	return in, l.owner(ctx, &in.Live, state)
}

// read reads what the server's files say now. A host that did not answer is an error:
// what was read before that is no observation.
func (l *Server) Read(ctx context.Context) (server.State, error) {
	files, settled := l.Files.Observe(ctx)
	state, err := server.Read(files, l.Profile, l.Machine)
	return state, fault.Wrap(fault.Unreachable, "read", l.Name, settled(err))
}

// owner tells whom the worlds belong to that a new one is to stand among.
func (l *Server) owner(ctx context.Context, to *fit.Live, state server.State) (err error) {
	if to.Can, err = l.Files.Capabilities(ctx); err != nil {
		return err
	}
	like := state.WorldsFolder
	if names := state.Named(l.Profile, state.Active); state.Active != "" && len(names) > 0 {
		like = path.Join(like, names[0])
	}
	info, err := l.Files.Stat(ctx, like)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // a first start makes it
	}
	if err != nil {
		return err
	}
	to.Owner = info.Account
	to.OwnerKept = to.Can.Owners || hostfs.SameOwner(info.Account, to.Can.Account)
	return nil
}

// Check makes the sheet of a server alone: does what its files say agree,
// and would its next start open the world that people expect?
func (fl *Fleet) Check(ctx context.Context, name string) (wire.Sheet, error) {
	rec, err := fl.records.Server(ctx, name)
	if err != nil {
		return wire.Sheet{}, err
	}
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return wire.Sheet{}, err
	}
	in, err := l.Input(ctx, rec)
	if err != nil {
		return wire.Sheet{}, err
	}
	files := l.Files.At(ctx)
	found, err := world.Direct(files, in.Server.WorldsFolder, l.Profile)
	for _, f := range found {
		if err == nil && f.Folder == in.Server.Active {
			in.World, err = world.Read(files, f)
		}
	}
	if err != nil && in.Server.WorldsWhy == "" && !errors.Is(err, fs.ErrNotExist) {
		return wire.Sheet{}, err
	}
	in.Live.Exited = in.Live.State == life.Stopped && rec.Wanted == string(life.Running)
	return wire.Sheet{Server: name, Sheet: fit.Check(in)}, nil
}

// Picture draws a world of a server as it stands now, as PNG; name "" is the
// active one.
func (fl *Fleet) Picture(ctx context.Context, name, folder string) ([]byte, error) {
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return nil, err
	}
	state, err := l.Read(ctx)
	if err != nil {
		return nil, err
	}
	if folder == "" {
		folder = state.Active
	}
	files := l.Files.At(ctx)
	found, err := world.ByName(files, state.WorldsFolder, folder, l.Profile)
	if err != nil {
		return nil, err
	}
	data, _, err := fl.Board.World(ctx, files, found)
	return data, err
}
