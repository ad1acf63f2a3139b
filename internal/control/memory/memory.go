// Package memory plays game servers within this process: the control.Driver against
// which everything that works with running servers is tried first. It can be told to
// fail, to lose answers and to go away.
package memory

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
)

// Game is what runs. Its calls come one at a time.
type Game interface {
	// Begin starts it; a code below 0 lets it run on.
	Begin(say func(line string)) (exit int)
	// Hear takes a line that was said to it; a code below 0 lets it run on.
	Hear(line string, say func(line string)) (exit int)
	// Feel takes a signal, likewise. Kill is not asked.
	Feel(s control.Signal, say func(line string)) (exit int)
}

// On lets a game run on.
const On = -1

// Server is one server in memory.
type Server struct {
	// Before is asked before each call has an effect, and After once it has had it: an
	// error is what the caller gets instead. nil: no trouble.
	Before, After func(op string) error
	// Around are the other processes in its folder, As what it runs as.
	Around control.Others
	As     []string

	*machine
}

// machine is what several views of one server share.
type machine struct {
	game Game
	mu   sync.Mutex
	runs []*run
}

type run struct {
	name  string
	begun time.Time
	log   []byte
	exit  *control.Exit
}

// New makes a server that is not running.
func New(g Game) *Server { return &Server{machine: &machine{game: g}} }

// Behind gives another view of the same server, with nothing in its way.
func (s *Server) Behind() *Server {
	return &Server{Around: s.Around, As: s.As, machine: s.machine}
}

// Pace implements control.Driver.
func (s *Server) Pace() time.Duration { return time.Millisecond }

func (s *Server) do(ctx context.Context, op string, act func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if s.Before != nil {
		if err := s.Before(op); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil { // it may have waited
		return err
	}
	s.mu.Lock()
	err := act()
	s.mu.Unlock()
	if err == nil && s.After != nil {
		err = s.After(op)
	}
	return err
}

// current is the run that goes on, nil for none.
func (s *Server) current() *run {
	if len(s.runs) == 0 || s.runs[len(s.runs)-1].exit != nil {
		return nil
	}
	return s.runs[len(s.runs)-1]
}

// Look implements control.Driver.
func (s *Server) Look(ctx context.Context) (seen control.Sight, err error) {
	err = s.do(ctx, "look", func() error {
		if len(s.runs) == 0 {
			seen.Evidence = life.Absent
			return nil
		}
		last := s.runs[len(s.runs)-1]
		if seen.Run = last.name; last.exit != nil {
			seen.Evidence, seen.Exit = life.SawEnd, last.exit
			return nil
		}
		seen.Process = &control.Process{Says: "run " + last.name, Since: last.begun}
		return nil
	})
	return seen, err
}

// Start implements control.Driver.
func (s *Server) Start(ctx context.Context) error {
	return s.do(ctx, "start", func() error {
		if s.current() != nil {
			return fault.New(fault.WrongState, "", "", "it runs already")
		}
		r := &run{name: fmt.Sprint(len(s.runs) + 1), begun: time.Now()}
		s.runs = append(s.runs, r)
		r.ended(s.game.Begin(r.say))
		return nil
	})
}

func (r *run) say(line string) { r.log = append(append(r.log, line...), '\n') }

func (r *run) ended(code int) {
	if code != On {
		r.exit = &control.Exit{Code: code, At: time.Now()}
	}
}

// Say implements control.Speaker.
func (s *Server) Say(ctx context.Context, line string) error {
	return s.do(ctx, "say", func() error {
		r := s.current()
		if r == nil {
			return fault.New(fault.WrongState, "", "", "the server does not run")
		}
		if strings.ContainsAny(line, "\r\n") {
			return fault.New(fault.Invalid, "", "", "a console line cannot hold a line break")
		}
		r.ended(s.game.Hear(line, r.say))
		return nil
	})
}

// Signal implements control.Speaker.
func (s *Server) Signal(ctx context.Context, sig control.Signal) error {
	return s.do(ctx, "signal", func() error {
		switch r := s.current(); {
		case r == nil:
		case sig == control.Kill:
			r.exit = &control.Exit{Code: -1, At: time.Now()}
		default:
			r.ended(s.game.Feel(sig, r.say))
		}
		return nil
	})
}

// Die ends the game as a machine that loses power does.
func (s *Server) Die() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.current(); r != nil {
		r.exit = &control.Exit{Code: -1, At: time.Now()}
	}
}

// Running reports whether the game runs, whatever is in the way of seeing it.
func (s *Server) Running() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.current() != nil
}

// ReadLog implements control.Speaker.
func (s *Server) ReadLog(ctx context.Context, name string, p []byte, offset int64) (n int, err error) {
	err = s.do(ctx, "read log", func() error {
		for _, r := range s.runs {
			if r.name == name {
				n = copy(p, r.log[min(offset, int64(len(r.log))):])
			}
		}
		return nil
	})
	return n, err
}

// Others implements control.Neighbour.
func (s *Server) Others(ctx context.Context) (control.Others, error) { return s.Around, ctx.Err() }

// Accounts implements control.Neighbour.
func (s *Server) Accounts(ctx context.Context) ([]string, error) { return s.As, ctx.Err() }
