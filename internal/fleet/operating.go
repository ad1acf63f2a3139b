package fleet

import (
	"context"
	"strings"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/life"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Start starts a server and waits until it is ready. One whose settings name a world that is not there would make
// an empty one in silence: that has to be wanted, else code NeedsChoice with the sheet's words.
func (fl *Fleet) Start(ctx context.Context, name string, how wire.StartServer) (wire.ServerFacts, error) {
	err := fl.operate(ctx, name, "start", func(ctx context.Context, l *Server) error {
		if !how.NewWorld {
			if err := fl.worldThere(ctx, l); err != nil {
				return err
			}
		}
		if err := fl.records.SetWanted(ctx, l.ID, string(life.Running)); err != nil {
			return err
		}
		already := l.Control.Status(ctx).State == life.Running
		took, err := l.Control.Start(ctx)
		if err != nil || already {
			return err
		}
		return fl.records.SetDurations(ctx, l.ID, took, records.Unmeasured)
	})
	if err != nil {
		fl.Refresh(context.WithoutCancel(ctx), name)
		return wire.ServerFacts{}, err
	}
	return fl.Server(ctx, name)
}

// worldThere is nil when the world is there that the server's next start is to open.
func (fl *Fleet) worldThere(ctx context.Context, l *Server) error {
	h, err := l.Heads(ctx)
	if err != nil || h.Status.State.Up() {
		return nil //nolint:nilerr // what does not read is the server's own business, and its log's
	}
	row, missing := fit.BeforeStart(fit.Input{
		Server: h.State, Profile: l.Profile, Live: fit.Live{Name: l.Name, Roots: l.Machine.Roots},
	})
	if !missing {
		return nil
	}
	return fault.New(fault.NeedsChoice, "start", l.Name, "%s", strings.TrimSuffix(row.Say, ".")).
		With(row.Mend + " Or start it with a new world all the same: reshard servers start " + l.Name + " --new-world.")
}

// Stop stops a server cleanly and waits for its end. A server that does not save what a stop would lose, or does
// not stop, goes on running; it is never killed.
func (fl *Fleet) Stop(ctx context.Context, name string, how wire.StopServer) (wire.ServerFacts, error) {
	mode := control.Clean
	if how.Unsaved {
		mode = control.Unsaved
	}
	err := fl.operate(ctx, name, "stop", func(ctx context.Context, l *Server) error {
		end, err := l.Control.Stop(ctx, mode)
		if err != nil {
			return err
		}
		if err := fl.records.SetWanted(ctx, l.ID, string(life.Stopped)); err != nil || end.Already {
			return err
		}
		return fl.records.SetDurations(ctx, l.ID, records.Unmeasured, end.Took)
	})
	if err != nil {
		return wire.ServerFacts{}, err
	}
	fl.Refresh(context.WithoutCancel(ctx), name) // it is no longer one that should run
	return fl.Server(ctx, name)
}

// TakeWord takes a person's word that a server is stopped, of which that cannot be told, or that
// it runs, where only people can see it. A changeover that waits for it goes on with it, and its
// proof names whose word it was. Signs that speak against it have to be known: despite says so.
func (fl *Fleet) TakeWord(ctx context.Context, name, by string, state life.State, despite bool) (
	wire.ServerFacts, error) {
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if err := l.Control.TakeWord(ctx, by, state, despite); err != nil {
		return wire.ServerFacts{}, err
	}
	return fl.Server(ctx, name)
}

// Remove forgets a stopped server. Its files, what was set aside among
// them, stay where they are.
func (fl *Fleet) Remove(ctx context.Context, name string) error {
	if _, err := fl.Reach(ctx, name); fault.CodeOf(err) == fault.Unreachable {
		return fl.removeUnreachable(ctx, name)
	}
	return fl.operate(ctx, name, "remove", func(ctx context.Context, l *Server) error {
		if err := mustBeStopped(ctx, l.Control, name); err != nil {
			return err
		}
		if err := fl.records.RemoveServer(ctx, l.ID); err != nil {
			return err
		}
		fl.forget(name)
		return fl.LetGo(l)
	})
}

func mustBeStopped(ctx context.Context, c *control.Control, name string) error {
	st := c.Status(ctx)
	if err := st.Err("remove", name); err != nil {
		return err
	}
	if st.State.Up() {
		return fault.New(fault.WrongState, "remove", name, "the server is %s", st.State).
			With("Stop it first: reshard servers stop " + name + ".")
	}
	return nil
}

// removeUnreachable forgets a server whose folder is gone: its process can still be
// looked for.
func (fl *Fleet) removeUnreachable(ctx context.Context, name string) error {
	rec, err := fl.records.Server(ctx, name)
	if err != nil {
		return err
	}
	holding, err := fl.records.Holders(ctx)
	if err != nil {
		return err
	}
	if id := holding[name]; id != 0 {
		return fault.New(fault.Busy, "remove", name, "changeover %d holds the server", id)
	}
	profile, err := fl.games.Profile(rec.Game)
	if err != nil {
		return err
	}
	c, err := fl.process(ctx, rec, profile)
	if err != nil {
		return err
	}
	if err := mustBeStopped(ctx, c, name); err != nil {
		return err
	}
	err = fl.records.RemoveServer(ctx, rec.ID)
	if err == nil {
		fl.forget(name)
	}
	return err
}

// operate runs a start or stop to its end even if whoever asked goes away.
func (fl *Fleet) operate(ctx context.Context, name, op string, act func(context.Context, *Server) error) error {
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return err
	}
	release, err := l.Claim(op)
	if err != nil {
		return err
	}
	defer release()
	holding, err := fl.records.Holders(ctx)
	if err != nil {
		return err
	}
	if id := holding[name]; id != 0 {
		return fault.New(fault.Busy, op, name, "changeover %d holds the server", id)
	}
	if err := fl.records.Acting(); err != nil {
		return err
	}
	return act(context.WithoutCancel(ctx), l)
}

// Find looks for a server's process. What goes wrong is logged.
func (fl *Fleet) Find(ctx context.Context, rec records.Server) {
	l, err := fl.Reach(ctx, rec.Name)
	if err != nil {
		fl.log.Error("server cannot be reached", "server", rec.Name, "error", err)
		return
	}
	st := l.Control.Status(ctx)
	fl.log.Info("server found", "server", rec.Name, "state", st.State, "process", st.Process, "cause", st.Cause)
}
