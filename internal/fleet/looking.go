package fleet

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/hostfs"
	"reshard/internal/observe"
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

// Sighting is what a sheet, a draft and a check look at of a server: one observation, which
// they share.
type Sighting struct {
	observe.Heads
	Fit fit.Input
}

// Sight observes a server as the fit rules want it: its heads, its active world, what else
// is at work in its folder, and what its host can do.
func (l *Server) Sight(ctx context.Context, rec records.Server) (*Sighting, error) {
	h, err := l.Heads(ctx)
	if err != nil {
		return nil, err
	}
	if _, there := h.State.World(h.State.Active); there {
		if _, err := l.Look(ctx, &h, h.State.Active); fault.Passing(err) {
			return nil, err
		}
	}
	state, st, worlds := h.State, h.Status, h.State.WorldsFolder
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
		return nil, err
	}
	work, err := l.WorkRoot(ctx, worlds)
	if err != nil {
		return nil, err
	}
	short := ""
	if err := l.Room(); err != nil {
		var e *fault.Error
		if errors.As(err, &e) {
			short = strings.ToUpper(e.What[:1]) + e.What[1:] + "."
		}
	}
	in := fit.Input{
		Profile: l.Profile, Server: state, Choices: fit.Choices{},
		Live: fit.Live{
			Name: l.Name, Roots: l.Machine.Roots, State: st.State, Cause: st.Cause,
			DeclaredVersion: rec.DeclaredVersion,
			ConsoleVersion:  st.Version, FreeBytes: l.Files.Free(ctx, worlds), Can: h.Can,
			SameFilesystem: l.Files.SameFilesystem(ctx, worlds, path.Dir(work)), Players: -1, Since: st.Since,
			Host: rec.Host, RoundTrip: l.roundTrip(), Working: others.Working, Passing: others.Passing,
			Hidden: others.Hidden, Unseen: unseen, Provider: l.provider(rec), DataShort: short,
		},
	}
	return &Sighting{Heads: h, Fit: in}, l.owner(ctx, &in.Live, state)
}

// provider is the provider that starts and stops the server.
func (l *Server) provider(rec records.Server) fit.Provider {
	if rec.Means.V.By != server.ByProvider || l.host.provider == nil {
		return fit.Provider{}
	}
	return l.host.provider.Known()
}

// roundTrip is the time of a question to the server's host and its answer, as a check has found it; 0
// is not known.
func (l *Server) roundTrip() time.Duration {
	if f := l.host.rec.Found.V; f != nil {
		return f.RoundTrip
	}
	return 0
}

// owner tells whom the worlds belong to that a new one is to stand among.
func (l *Server) owner(ctx context.Context, to *fit.Live, state server.State) (err error) {
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
	seen, err := l.Sight(ctx, rec)
	if err != nil {
		return wire.Sheet{}, err
	}
	in := seen.Fit
	if _, there := seen.State.World(seen.State.Active); there {
		look, err := l.Look(ctx, &seen.Heads, seen.State.Active)
		if err != nil {
			return wire.Sheet{}, err
		}
		in.World = look.Facts
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
	h, err := l.Heads(ctx)
	if err != nil {
		return nil, err
	}
	if folder == "" {
		folder = h.State.Active
	}
	found, err := h.World(folder)
	if err != nil {
		return nil, err
	}
	data, _, err := fl.Board.World(ctx, l.Files.At(ctx), found)
	return data, err
}
