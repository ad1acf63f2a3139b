package changeovers

import (
	"context"
	"strconv"
	"sync"
	"time"

	"reshard/internal/core/plan"
	"reshard/internal/feed"
	"reshard/internal/wire"
)

// board shows the changeovers that are under way in this life of the service.
type board struct {
	mu  sync.Mutex // held for moments only
	now map[int64]*underway
}

// underway is one of them.
type underway struct {
	server   string
	progress plan.Progress
	moved    chan struct{} // told of each progress
	word     chan struct{} // told when a person may have given the word
	ended    chan struct{}
	left     chan struct{}   // closed when a person does not want to wait any longer
	cancel   func(why error) // nil: it waits to be taken up
	// told is how it was told last to those who watch; nil: nobody has. read is how somebody has read it who
	// began to watch before anything was told: what is told next may have to go on from that, should the
	// database be away. It may have been read while it moved, and say of its state less than its progress.
	told, read *wire.Changeover
}

// begin puts a changeover on the board, if it is not there yet.
func (co *Changeovers) begin(id int64, server string, cancel func(why error)) *underway {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[id]
	if u == nil {
		u = &underway{
			server: server, progress: plan.Progress{ID: id}, moved: make(chan struct{}, 1),
			word:  make(chan struct{}, 1),
			left:  make(chan struct{}),
			ended: make(chan struct{}),
		}
		co.board.now[id] = u
		co.running.Go(func() { co.tellOf(id, u) })
	}
	if cancel != nil {
		u.cancel = cancel
	}
	return u
}

// end takes a changeover off the board; the journal has it all.
func (co *Changeovers) end(id int64) {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	if u := co.board.now[id]; u != nil {
		close(u.ended)
		delete(co.board.now, id)
		co.fleet.Placing(u.server, false)
	}
}

// report notes progress; it never waits.
func (co *Changeovers) report(p plan.Progress) {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[p.ID]
	if u == nil {
		return
	}
	if p.Step != u.progress.Step || p.State != u.progress.State {
		placing := p.State == plan.Switching && (p.StepKind == plan.Move || p.StepKind == plan.Write)
		co.fleet.Placing(u.server, placing)
	}
	u.progress = p
	wake(u.moved)
}

func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default: // it is awake already, and finds the newest
	}
}

// latest gives the newest progress; false when the changeover is not under way here.
func (co *Changeovers) latest(id int64) (plan.Progress, bool) {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[id]
	if u == nil || u.progress.State == "" {
		return plan.Progress{}, false
	}
	return u.progress.By(time.Now()), true
}

// UnderWay reports whether this process carries a changeover out. Its end may already be in the journal:
// [Changeovers.Ended] has not returned yet.
func (co *Changeovers) UnderWay(id int64) bool {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	return co.board.now[id] != nil
}

// cancelled cancels a changeover that is under way; false when it is not here.
func (co *Changeovers) cancelled(id int64) bool {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[id]
	if u == nil || u.cancel == nil {
		return false
	}
	u.cancel(nil)
	return true
}

// giveWay ends a backup for another changeover, and gives what is closed when it has ended; nil: it is
// not under way here. What is beyond being cancelled ends by itself, soon.
func (co *Changeovers) giveWay(id int64) <-chan struct{} {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[id]
	if u == nil {
		return nil
	}
	if u.cancel != nil {
		u.cancel(ErrGaveWay)
	}
	return u.ended
}

// leftOf is closed when a person does not want to wait any longer for what does not answer.
func (co *Changeovers) leftOf(id int64) <-chan struct{} {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	if u := co.board.now[id]; u != nil {
		return u.left
	}
	return nil
}

// leave says so; false when the changeover waits for nothing here.
func (co *Changeovers) leave(id int64) bool {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	u := co.board.now[id]
	if u == nil || u.progress.Waiting == "" {
		return false
	}
	select {
	case <-u.left:
	default:
		close(u.left)
	}
	return true
}

// wordOf is told when a person may have given a changeover the word that it waits for.
func (co *Changeovers) wordOf(id int64) <-chan struct{} {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	if u := co.board.now[id]; u != nil {
		return u.word
	}
	return nil
}

// given wakes a changeover that waits for a person's word.
func (co *Changeovers) given(id int64) {
	co.board.mu.Lock()
	defer co.board.mu.Unlock()
	if u := co.board.now[id]; u != nil {
		wake(u.word)
	}
}

// Every byte staged is progress; a person reads ten a second at most. A step's record
// follows a moment after its progress.
const (
	tellPace   = 100 * time.Millisecond
	recordLags = 300 * time.Millisecond
	// readPatience is how long the journal may take to be read for those who watch.
	readPatience = time.Second
)

// tellOf tells those who watch a changeover how it stands, for all of them at once, until
// it ends.
func (co *Changeovers) tellOf(id int64, u *underway) {
	ctx := context.WithoutCancel(co.life)
	again := time.NewTimer(recordLags)
	defer again.Stop()
	for over := false; !over; {
		anew := false
		select {
		case <-u.moved:
		case <-again.C:
			anew = true
		case <-u.ended:
			over, anew = true, true
		case <-co.life.Done():
			return // nobody is served any more
		}
		moved, told := co.tell(ctx, id, u, anew)
		if moved || !told {
			again.Reset(recordLags)
		}
		if over && !told { // whoever watches waits for the end, however often it has to be tried
			over = false
			select {
			case <-co.life.Done():
				return
			case <-time.After(recordLags):
				continue
			}
		}
		select {
		case <-u.ended:
		case <-time.After(tellPace):
		}
	}
}

// tell tells how a changeover stands, if anybody watches it. The journal is read only
// when it says more than the last time: anew asks for it. It reports whether
// something had moved, so that it is to be read again, and whether all that there is was told.
func (co *Changeovers) tell(ctx context.Context, id int64, u *underway, anew bool) (moved, told bool) {
	key := strconv.FormatInt(id, 10)
	if !co.feed.Watched(feed.Changeover, key) {
		co.board.mu.Lock()
		u.told, u.read = nil, nil
		co.board.mu.Unlock()
		return false, true
	}
	co.board.mu.Lock()
	last, read, p := u.told, u.read, u.progress.By(time.Now())
	co.board.mu.Unlock()
	var now wire.Changeover
	same := last != nil && last.Progress != nil && asFar(*last.Progress, p)
	moved, told = !same, true
	var err error
	if same && !anew {
		now = *last
		now.Progress = &p
	} else if now, err = co.getSoon(ctx, id); err != nil {
		if last == nil {
			last = read
		}
		if last == nil {
			return false, false
		}
		told = false
		now = *last // the database is away; the progress in memory still tells
		now.State, now.Progress = p.State, &p
	} else if now.Progress != nil && !asFar(*now.Progress, p) {
		moved = true // while it was read: its state may be older than its progress
	}
	co.board.mu.Lock()
	u.told = &now
	co.board.mu.Unlock()
	co.feed.Tell(feed.Event{Kind: feed.Changeover, Key: key, Value: now})
	return moved, told
}

// asFar reports whether two reports are of the same state and step.
func asFar(a, b plan.Progress) bool {
	return a.Step == b.Step && a.State == b.State && a.Going == b.Going
}

// getSoon gives a changeover as it is on record, or an error after readPatience: those who
// watch are not to wait for a database that does not answer.
func (co *Changeovers) getSoon(ctx context.Context, id int64) (wire.Changeover, error) {
	ctx, done := context.WithTimeout(ctx, readPatience)
	defer done()
	return co.read(ctx, id)
}

// changed tells those who watch of a change that is not part of carrying one out.
func (co *Changeovers) changed(ctx context.Context, id int64) (wire.Changeover, error) {
	c, err := co.Get(ctx, id)
	if err == nil {
		co.feed.Tell(feed.Event{Kind: feed.Changeover, Key: strconv.FormatInt(id, 10), Value: c})
	}
	return c, err
}

// Watch sends a changeover as it stands now and after every change, until it rests or ctx
// ends. However many watch, the journal is read once.
func (co *Changeovers) Watch(ctx context.Context, id int64, yield func(wire.Changeover) error) error {
	key := strconv.FormatInt(id, 10)
	s := co.feed.Watch(func(k feed.Kind, of string) bool { return k == feed.Changeover && of == key })
	defer s.Close()
	now, err := co.known(ctx, id)
	if err != nil {
		return err
	}
	for {
		if err := yield(now); err != nil || rests(now) {
			return err
		}
		events := s.Next(ctx)
		if len(events) == 0 {
			return nil
		}
		now = events[len(events)-1].Value.(wire.Changeover)
	}
}

// known is how a changeover was told last, if others watch it, else how it is on record.
func (co *Changeovers) known(ctx context.Context, id int64) (wire.Changeover, error) {
	co.board.mu.Lock()
	u := co.board.now[id]
	if u != nil && u.told != nil {
		defer co.board.mu.Unlock()
		return *u.told, nil
	}
	co.board.mu.Unlock()
	c, err := co.read(ctx, id)
	if err == nil && u != nil {
		co.board.mu.Lock()
		u.read = &c
		co.board.mu.Unlock()
	}
	return c, err
}

func rests(c wire.Changeover) bool {
	return c.Progress == nil && (c.State == plan.Done || c.State == plan.Undone || c.State == plan.Held)
}
