package fleet

import (
	"context"
	"errors"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Upholding: how often it is looked whether servers that should run do, how many are started at a time, and after how
// long one that does not is an alert.
const (
	upholdPace   = 500 * time.Millisecond
	startsAtOnce = 16
	downFor      = time.Minute
)

// upholding knows the servers that should run and do not.
type upholding struct {
	mu sync.Mutex // held for moments only
	// down is since when each was seen down while nothing held it, of those that have been asked to start or are not
	// to be.
	down map[string]time.Time
	// due are those that are to be asked to start, each once: when nothing holds it, and its host answers.
	due map[string]bool
}

// Uphold watches the servers that should run until ctx ends. With start each of them that is down is asked to start
// once: at once, or when what holds it ends, or its host answers. One that goes down later is told of only: who, or
// what, has ended it may have had a reason.
func (fl *Fleet) Uphold(ctx context.Context, start bool) {
	u := &fl.upholding
	u.mu.Lock()
	u.down, u.due = map[string]time.Time{}, map[string]bool{}
	if start {
		for _, s := range fl.book.all() {
			u.due[s.rec.Name] = s.rec.Wanted == string(life.Running)
		}
	}
	u.mu.Unlock()
	room := make(chan struct{}, startsAtOnce)
	tick := time.NewTicker(upholdPace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if fl.records.Acting() != nil {
			continue
		}
		for _, s := range fl.book.all() {
			if !fl.falls(s) {
				continue
			}
			select {
			case room <- struct{}{}:
			default: // at the next look
				u.again(s.rec.Name)
				continue
			}
			fl.running.Go(func() {
				defer func() { <-room }()
				fl.raise(ctx, s.rec)
			})
		}
	}
}

// falls notes how a server is seen, and reports whether it is to be started now.
func (fl *Fleet) falls(s known) bool {
	u := &fl.upholding
	u.mu.Lock()
	defer u.mu.Unlock()
	name := s.rec.Name
	if s.rec.Wanted != string(life.Running) || s.rec.Means.V.By == server.ByHand { // people know what they do
		delete(u.due, name)
		delete(u.down, name)
		return false
	}
	if s.holder != 0 || s.sight == nil || s.sight.status == nil {
		delete(u.down, name) // it is in hand, or cannot be seen
		return false
	}
	switch s.sight.status.Status.State {
	case life.Running, life.Starting:
		delete(u.due, name)
		delete(u.down, name)
	case life.Stopped:
		if _, was := u.down[name]; !was {
			u.down[name] = fl.now()
		}
		now := u.due[name]
		delete(u.due, name)
		return now
	case life.Stopping, life.Unknown:
	}
	return false
}

// raise asks a server to start that should run and does not. One that cannot be asked now is asked again.
func (fl *Fleet) raise(ctx context.Context, rec records.Server) {
	err := fault.Safely(func() error {
		now, err := fl.records.Server(ctx, rec.Name)
		if err != nil || now.Wanted != string(life.Running) {
			return err
		}
		l, err := fl.Reach(ctx, rec.Name)
		if err != nil {
			return err
		}
		switch st := l.Control.Status(ctx); st.State {
		case life.Unknown:
			return st.Err("start", rec.Name)
		case life.Running, life.Starting, life.Stopping:
			return nil
		case life.Stopped:
		}
		if l.Control.ByPeople() {
			return nil // only people start it
		}
		fl.log.Info("it should run, and does not: it is asked to start", "server", rec.Name)
		_, err = fl.Start(ctx, rec.Name, wire.StartServer{})
		return err
	})
	switch {
	case err == nil:
	case fault.Passing(err), fault.CodeOf(err) == fault.Busy, fault.CodeOf(err) == fault.Unreachable:
		fl.upholding.again(rec.Name)
	case !errors.Is(err, context.Canceled):
		fl.log.Error("server does not start", "server", rec.Name, "error", err)
	}
	fl.Poke(rec.Name)
}

func (u *upholding) again(name string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.due[name] = true
}

// downAlerts gives the servers that should run and have been down for a while.
func (fl *Fleet) downAlerts() (out []wire.Alert) {
	u := &fl.upholding
	for _, s := range fl.book.all() {
		name := s.rec.Name
		u.mu.Lock()
		since, down := u.down[name]
		u.mu.Unlock()
		if !down || fl.now().Sub(since) < downFor {
			continue
		}
		out = append(out, wire.Alert{
			Kind: "down", Of: name, Server: name, Since: since.UTC(), Says: name + " should run, and is stopped.",
			Next: "Start it: reshard servers start " + name + ". If it is to stay stopped, say so: reshard servers " +
				"stop " + name,
		})
	}
	return out
}
