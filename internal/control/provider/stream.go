package provider

import (
	"context"
	"slices"
	"time"

	"reshard/internal/core/fault"
)

const (
	// replayed is for how long lines are taken for those that a stream begins with: many tell again what
	// was last.
	replayed = 400 * time.Millisecond
	// mostLast is how many lines are kept to know those again, and mostRemembered how many bytes.
	mostLast       = 1000
	mostRemembered = 1 << 20
	// listenedFor is how long a stream is kept open after somebody has read the log last.
	listenedFor = time.Minute
	// opensWithin is how long whoever reads the log waits for a stream.
	opensWithin = 10 * time.Second
	// againAfter is how long to wait before a stream that broke is begun anew, at first and at most.
	againAfter, againAtMost = time.Second, 30 * time.Second
)

// stream is a log that comes by itself.
type stream struct {
	end   context.CancelFunc
	alive *time.Timer   // ends it once nobody listens
	stood chan struct{} // closed when it stands, and has told again what was last, or cannot be opened
	// standing and err are how it is; the server's lock guards them.
	standing bool
	err      error
	lost     time.Time // when it stood last; zero: never
}

// listen has the log's stream be open, and gives what is wrong with it.
func (s *Server) listen(ctx context.Context) error {
	s.mu.Lock()
	now := s.stream
	if now == nil {
		sctx, end := context.WithCancel(context.Background())
		now = &stream{end: end, stood: make(chan struct{})}
		now.alive = time.AfterFunc(listenedFor, end)
		s.stream = now
		go s.keepOpen(sctx, now)
	}
	now.alive.Reset(listenedFor)
	s.mu.Unlock()
	patience := time.NewTimer(opensWithin)
	defer patience.Stop()
	select {
	case <-now.stood:
	case <-patience.C:
		return fault.New(fault.TooSlow, "read the log of", s.name, "its provider's stream does not open")
	case <-ctx.Done():
		return ctx.Err()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read = time.Now()
	if now.standing || time.Since(now.lost) < opensWithin { // it is being begun anew
		return nil
	}
	return now.err
}

// keepOpen keeps a stream open until nobody listens any more.
func (s *Server) keepOpen(ctx context.Context, now *stream) {
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.stream = nil
	}()
	first := true
	stood := func() {
		if first {
			first = false
			close(now.stood)
		}
	}
	defer stood()
	for wait := againAfter; ; wait = min(2*wait, againAtMost) {
		begun := time.Now()
		err := fault.Safely(func() error { return s.hearStream(ctx, now, stood) })
		s.mu.Lock()
		if now.standing {
			now.lost = time.Now()
		}
		now.standing, now.err = false, err
		s.mu.Unlock()
		stood()
		if time.Since(begun) > againAtMost {
			wait = againAfter
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// hearStream listens to a stream until it ends. What it tells again is not noted twice.
func (s *Server) hearStream(ctx context.Context, now *stream, stood func()) error {
	ctx, done := context.WithCancel(ctx)
	defer done()
	type told struct {
		lines  []string
		opened bool
	}
	came := make(chan told)
	over := make(chan error, 1)
	pass := func(t told) error {
		select {
		case came <- t:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	go func() {
		over <- fault.Safely(func() error {
			return s.link.Listen(ctx, s.machine,
				func() { _ = pass(told{opened: true}) }, // the next says the same
				func(message []byte) error {
					lines, err := linesOf(s.link.Description().Log, message)
					if err != nil {
						return fault.New(fault.Unreachable, "read the log of", s.name, "%v", err)
					}
					return pass(told{lines: lines})
				})
		})
	}()
	var again []string
	bytes := 0
	var replay <-chan time.Time
	live := false
	settle := func() {
		s.mu.Lock()
		fresh := fresh(s.last, again)
		s.remember(fresh)
		s.note(fresh)
		now.standing, now.err = true, nil
		s.mu.Unlock()
		again, live = nil, true
		stood()
	}
	for {
		select {
		case err := <-over:
			return err
		case <-replay:
			replay = nil
			settle()
		case t := <-came:
			switch {
			case t.opened:
				replay = time.After(replayed)
			case live:
				s.mu.Lock()
				s.remember(t.lines)
				s.note(t.lines)
				s.mu.Unlock()
			default:
				again = append(again, t.lines...)
				if bytes += sizeOf(t.lines); len(again) > mostLast || bytes > mostRemembered {
					settle() // more than can be told again
				}
			}
		}
	}
}

// remember keeps the last lines; the lock is held.
func (s *Server) remember(lines []string) {
	s.last = append(s.last, lines...)
	from, size := max(0, len(s.last)-mostLast), sizeOf(s.last)
	for i, line := range s.last {
		if i >= from && size <= mostRemembered {
			break
		}
		size -= len(line)
		from = max(from, i+1)
	}
	if from > 0 {
		s.last = slices.Clone(s.last[from:])
	}
}

func sizeOf(lines []string) (n int) {
	for _, line := range lines {
		n += len(line)
	}
	return n
}
