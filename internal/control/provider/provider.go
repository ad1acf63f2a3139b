// Package provider is a game server that its hosting provider starts and stops, through the
// provider's own interface.
package provider

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/provider"
	"reshard/internal/providerlink"
)

// Server is one server at a provider. It implements control.Driver and control.Stopper.
type Server struct {
	link    *providerlink.Link
	name    string // for messages
	machine string // as the provider names it

	asking sync.Mutex // held by the one who reads the log
	mu     sync.Mutex // held for moments only
	run    int        // counts the runs that were seen; 0: none yet
	// began: the run was begun here, so that its whole log is heard; awaited: it has not come up yet.
	began, awaited bool
	since          time.Time
	up             bool
	log            []byte // of the run
	after          string // where the provider's log is read on from
	last           []string
	read           time.Time
	stream         *stream // where the log comes by itself; nil: nobody listens
}

// How much of a run's log is kept, in bytes, and how long an answer counts as what the log is now.
const (
	mostLog = 4 << 20
	logFor  = time.Second
)

// New makes a driver; name is of the server, for messages.
func New(link *providerlink.Link, name, machine string) *Server {
	return &Server{link: link, name: name, machine: machine}
}

// Pace implements control.Driver.
func (s *Server) Pace() time.Duration {
	if r := s.link.Description().Rate; r.Requests > 0 {
		return max(time.Second, 4*r.In/time.Duration(r.Requests))
	}
	return time.Second
}

func (s *Server) ask(ctx context.Context, r *provider.Request, more provider.Values) ([]byte, error) {
	return s.link.Ask(ctx, r, s.machine, more)
}

// Look implements control.Driver: what the provider says.
func (s *Server) Look(ctx context.Context) (control.Sight, error) {
	d := s.link.Description()
	body, err := s.ask(ctx, &d.State.Request, nil)
	if err != nil {
		return control.Sight{}, err
	}
	word, err := d.State.Word.In(body)
	if err != nil {
		return control.Sight{}, s.unclear(err.Error())
	}
	is := func(words []string) bool { return slices.Contains(words, word) }
	var since time.Time
	if !d.State.Since.IsZero() {
		if text, err := d.State.Since.In(body); err == nil {
			since = provider.TimeOf(text)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case is(d.State.Stopped):
		s.up = false
		return control.Sight{Evidence: life.SaidSo, Run: s.runName()}, nil
	case is(d.State.Running), is(d.State.Starting), is(d.State.Stopping):
		s.seenUp(since)
		p := &control.Process{Says: "its provider says that it is " + word, Since: s.since}
		// Without a log the provider's word is all there is; with one that was not heard from its
		// beginning, its line for that may be long gone.
		p.Ready = is(d.State.Running) && (d.Log.Request == nil || !s.began)
		return control.Sight{Process: p, Run: s.runName()}, nil
	}
	return control.Sight{}, s.unclear(fmt.Sprintf("its provider says %q", word))
}

func (s *Server) unclear(why string) error {
	return fault.New(fault.StateUnknown, "look at", s.name, "%s", why).
		With("Add that word to the provider description, under what it means.")
}

// seenUp notes a run; the lock is held. One that has begun since the last look is another.
func (s *Server) seenUp(since time.Time) {
	if s.up && (since.IsZero() || since.Equal(s.since)) {
		return
	}
	if !s.awaited {
		s.newRun(false)
	}
	s.up, s.awaited, s.since = true, false, since
}

// newRun begins another run's log; the lock is held.
func (s *Server) newRun(here bool) {
	s.run++
	s.log, s.read, s.began, s.awaited = nil, time.Time{}, here, here
}

func (s *Server) runName() string {
	if s.link.Description().Log.Request == nil || s.run == 0 {
		return ""
	}
	return strconv.Itoa(s.run)
}

// Start implements control.Driver. What the log holds by then is of earlier runs.
func (s *Server) Start(ctx context.Context) error {
	d := s.link.Description()
	if d.Start.Request == nil {
		return s.unsupported("start")
	}
	seen, err := s.Look(ctx)
	if err != nil {
		return err
	}
	if seen.Process != nil {
		return fault.New(fault.WrongState, "start", s.name, "it runs already: %s", seen.Process.Says)
	}
	if d.Log.Request != nil {
		if err := s.hear(ctx); err != nil {
			return err
		}
	}
	s.mu.Lock()
	s.newRun(true)
	s.up = false
	s.mu.Unlock()
	if _, err := s.ask(ctx, d.Start.Request, nil); err != nil {
		return err
	}
	for begun := time.Now(); time.Since(begun) < comesUpWithin; {
		seen, err := s.Look(ctx)
		if err == nil && seen.Process != nil {
			return nil
		}
		select {
		case <-time.After(s.Pace()):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return fault.New(fault.NotReady, "start", s.name,
		"its provider was asked to start it, and says %s later that it is down",
		comesUpWithin)
}

// comesUpWithin is how long a provider may take to say that a server is no longer down that it was
// asked to start.
const comesUpWithin = 20 * time.Second

func (s *Server) unsupported(what string) error {
	return fault.New(fault.Unsupported, what, s.name, "the provider description has no way to")
}

// HasStop implements control.Stopper.
func (s *Server) HasStop() bool { return s.link.Description().Stop.Request != nil }

// Stop implements control.Stopper.
func (s *Server) Stop(ctx context.Context) error {
	_, err := s.ask(ctx, s.link.Description().Stop.Request, nil)
	return err
}

// Say implements control.Speaker.
func (s *Server) Say(ctx context.Context, text string) error {
	r := s.link.Description().Console.Request
	if r == nil {
		return s.unsupported("speak to")
	}
	if strings.ContainsAny(text, "\r\n") {
		return fault.New(fault.Invalid, "speak to", s.name, "a line has no break in it")
	}
	_, err := s.ask(ctx, r, provider.Values{"line": text})
	return err
}

// Signal implements control.Speaker: all that a provider is asked for is to stop it.
func (s *Server) Signal(ctx context.Context, _ control.Signal) error {
	if !s.HasStop() {
		return s.unsupported("stop")
	}
	return s.Stop(ctx)
}

// ReadLog implements control.Speaker.
func (s *Server) ReadLog(ctx context.Context, run string, p []byte, offset int64) (int, error) {
	s.mu.Lock()
	stale := run == s.runName() && time.Since(s.read) > logFor && int64(len(s.log)) <= offset
	s.mu.Unlock()
	if stale {
		if err := s.hear(ctx); err != nil {
			return 0, err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if run != s.runName() || int64(len(s.log)) <= offset {
		return 0, ctx.Err()
	}
	return copy(p, s.log[offset:]), nil
}

// Heard gives what the provider's log holds of the present run, or as much of it as it keeps.
func (s *Server) Heard(ctx context.Context) (string, error) {
	err := s.hear(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	return string(s.log), err
}

// hear reads on in the provider's log.
func (s *Server) hear(ctx context.Context) error {
	l := s.link.Description().Log
	s.asking.Lock()
	defer s.asking.Unlock()
	if l.By == provider.LogEvents || l.By == provider.LogWebSocket {
		return s.listen(ctx)
	}
	s.mu.Lock()
	after := s.after
	s.mu.Unlock()
	body, err := s.ask(ctx, l.Request, provider.Values{"after": after})
	if err != nil {
		return err
	}
	lines, err := linesOf(l, body)
	if err != nil {
		return fault.New(fault.Unreachable, "read the log of", s.name, "%v", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if l.Next.IsZero() {
		lines, s.last = fresh(s.last, lines), lines
	} else if s.after, err = l.Next.In(body); err != nil {
		return fault.New(fault.Unreachable, "read the log of", s.name, "%v", err)
	}
	s.note(lines)
	s.read = time.Now()
	return nil
}

// note adds lines to the run's log; the lock is held.
func (s *Server) note(lines []string) {
	for _, one := range lines {
		if len(s.log)+len(one) < mostLog {
			s.log = append(append(s.log, one...), '\n')
		}
	}
}

// linesOf gives the lines of an answer.
func linesOf(l provider.Log, body []byte) ([]string, error) {
	if l.Lines == "" && l.Text != "" {
		one, err := provider.Answer{Pick: l.Text}.In(body)
		return []string{one}, err
	}
	if l.Lines == "" {
		text := bytes.TrimSuffix(bytes.ReplaceAll(body, []byte("\r\n"), []byte("\n")), []byte("\n"))
		if len(text) == 0 {
			return nil, nil
		}
		var out []string
		for one := range bytes.SplitSeq(text, []byte("\n")) {
			out = append(out, string(one))
		}
		return out, nil
	}
	value, err := provider.Pick(body, l.Lines)
	if err != nil {
		return nil, err
	}
	list, err := provider.List(value)
	if err != nil {
		return nil, fmt.Errorf("at %s of its answer: %w", l.Lines, err)
	}
	out := make([]string, 0, len(list))
	for _, one := range list {
		at, err := provider.At(one, l.Text)
		if err != nil {
			return nil, err
		}
		text, ok := provider.Scalar(at)
		if !ok {
			return nil, fmt.Errorf("a line at %s is no text", l.Lines+l.Text)
		}
		out = append(out, text)
	}
	return out, nil
}

// fresh gives the lines of a log's last part that were not in the one before: what follows the longest
// end of that with which this one begins.
func fresh(before, now []string) []string {
	// borders has for each beginning of now the longest proper one with which it also ends (Knuth, Morris, Pratt, "Fast
	// pattern matching in strings", 1977): a log of lines that are all alike takes no longer than another.
	borders := make([]int, len(now))
	longer := func(have int, line string) int {
		for have > 0 && (have == len(now) || now[have] != line) {
			have = borders[have-1]
		}
		if have < len(now) && now[have] == line {
			have++
		}
		return have
	}
	for i := 1; i < len(now); i++ {
		borders[i] = longer(borders[i-1], now[i])
	}
	have := 0
	for _, line := range before {
		have = longer(have, line)
	}
	return now[have:]
}
