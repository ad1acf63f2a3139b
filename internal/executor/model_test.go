package executor_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/plan"
)

// This is the contract of journal and lease in small, walked through all that can happen: two services, one server
// with one world that is to give way to another, an undo afterwards, and around them crashes, a lease that is lost
// while an act is under way, a host that does not answer, and a person who starts the game by hand. The states and
// which may follow which are those of package plan. What the walk finds holds for the rules that architecture.md and
// the runner's comments state; that the code follows them the other tests of this package show, on the code.
//
// One thing is assumed: what a service has begun when it loses its lease has come about by the time its successor has
// done something, or never will. An act asks for the lease once more before each rename, line and start (hostfs.FS.May,
// control.Control.May), so one of these is all that can be late, and the successor waits out the term first.

// where a world or the settings stand.
type where byte

const (
	nowhere where = iota
	staged        // beside the live world
	live          // in its place
	aside         // set aside
)

// worldID is which world a process has open, or the settings name.
type worldID byte

const (
	none worldID = iota
	old
	fresh
)

// act is a step of the model's plan.
type act byte

const (
	modelStage act = iota
	modelStop
	moveOut // the old world aside
	moveIn  // the new one into its place, and the settings
	modelStart
	modelProve
	acts
)

// service is one of two that could act.
type service struct {
	up bool
	// asked says that it has the lease as far as it knows: it has asked, and its term is not over.
	leads bool
	// doing says that an act is under way whose effect is still to come, and which.
	doing bool
	step  act
	back  bool
}

// situation is everything that the model knows.
type situation struct {
	state  plan.State
	steps  [acts]plan.StepState
	lease  int8 // who holds it on record; -1: nobody
	svc    [2]service
	old    where
	fresh  where
	names  worldID // what the settings name
	game   worldID // what the game has open; none: it does not run
	byHand worldID // what a person's own process has open
	away   bool    // the host does not answer
	bad    bool    // the game does not start the new world
	second bool    // a second changeover: the undo of the first
	// what may still happen to it
	crashes, losses, absences, hands, undos int8
}

func beginning(bad bool) situation {
	s := situation{
		state: plan.Staging, lease: -1, old: live, names: old, game: old, bad: bad,
		crashes: 1, losses: 1, absences: 1, hands: 1, undos: 1,
	}
	for i := range s.steps {
		s.steps[i] = plan.StepPlanned
	}
	s.svc[0].up, s.svc[1].up = true, true
	return s
}

// down reports whether a look at the host shows that nothing runs in the server's folder.
func (s situation) down() bool { return s.game == none && s.byHand == none }

// wanted is the world that the changeover is to end with, before is the one that it began with.
func (s situation) wanted() worldID {
	if s.second {
		return old
	}
	return fresh
}

func (s situation) before() worldID { return old + fresh - s.wanted() }

// effect carries an act out, or takes it back, as far as the world around lets it. ok is false when it has to be tried
// again; failed, when it cannot be done.
func (s *situation) effect(a act, back bool) (ok, failed bool) {
	if s.away {
		return false, false
	}
	out, in, home := &s.old, &s.fresh, staged
	if s.second {
		out, in, home = in, out, aside
	}
	switch {
	case a == modelProve && back:
	case a == modelProve:
		return s.game == s.wanted(), s.game != s.wanted()
	case a == modelStage && s.second: // the undo moves what is on the server
	case a == modelStage && back:
		*in = nowhere
	case a == modelStage && *in == nowhere:
		*in = staged
	case a == modelStage:
	case a == modelStop && !back, a == modelStart && back:
		s.game = none
	case a == modelStart || a == modelStop: // a stop is taken back by a start
		if s.byHand != none && s.game == none {
			return false, false // nobody else may work there
		}
		if s.game == none {
			s.game = s.names
		}
		if s.game == fresh && s.bad {
			s.game = none
			return false, true
		}
	case !s.down(): // nothing is moved under a process; one that somebody has started is stopped, or waited for
		s.game = none
		return s.byHand == none && s.moved(a, back, out, in, home), false
	default:
		s.moved(a, back, out, in, home)
	}
	return true, false
}

// moved does a move that has not happened, or takes back one that has.
func (s *situation) moved(a act, back bool, out, in *where, home where) bool {
	switch {
	case a == moveOut && !back && *out == live:
		*out = aside
	case a == moveOut && back && *out == aside:
		*out = live
	case a == moveIn && !back && *in == home:
		*in, s.names = live, s.wanted()
	case a == moveIn && back && *in == live:
		*in, s.names = home, s.before()
	}
	return true
}

// due is what the journal says is next: an act, forward or back; none when only the journal's state is to change.
func (s situation) due() (a act, back, any bool) {
	switch s.state {
	case plan.Staging, plan.Switching, plan.Proving:
		for a = range acts {
			if s.steps[a] != plan.StepDone {
				return a, false, true
			}
		}
	case plan.Undoing:
		for a = acts; a > 0; a-- {
			if st := s.steps[a-1]; st == plan.StepIntended || st == plan.StepDone {
				return a - 1, true, true
			}
		}
	default:
	}
	return 0, false, false
}

// go to a state, along what package plan allows.
func (s *situation) to(state plan.State) {
	if !s.state.May(state) {
		panic(fmt.Sprintf("the journal may not go from %s to %s", s.state, state))
	}
	s.state = state
}

// next gives everything that may happen next; calm leaves out what comes from outside.
func (s situation) next(calm bool) (out []situation) {
	add := func(change func(*situation)) {
		n := s
		change(&n)
		if n != s {
			out = append(out, n)
		}
	}
	for i := range s.svc {
		me := s.svc[i]
		if !me.up {
			add(func(n *situation) { n.svc[i] = service{up: true} })
			continue
		}
		if me.doing { // its effect comes, whoever leads by now; the journal takes it only from who does
			add(func(n *situation) {
				ok, failed := n.effect(me.step, me.back)
				if me.leads {
					n.svc[1-i].doing = false // it has come by now, or never will
				}
				n.svc[i].doing = !ok && !failed && me.leads // then it is tried again, as long as it may
				if !ok && !failed {
					return
				}
				if n.lease != int8(i) || n.steps[me.step] == plan.StepPlanned {
					return
				}
				switch {
				case failed && !me.back:
					n.to(plan.Undoing)
				case failed:
					n.to(plan.Held)
				case me.back:
					n.steps[me.step] = plan.StepUndone
				default:
					n.steps[me.step] = plan.StepDone
				}
			})
			continue
		}
		if !me.leads {
			if s.lease < 0 { // it has seen no renewal for longer than the term
				add(func(n *situation) {
					n.lease, n.svc[i].leads = int8(i), true
					if n.state == plan.Staging && n.steps[modelStage] != plan.StepPlanned {
						n.to(plan.Undoing) // nothing live has been touched, and who began it is gone
					}
				})
			}
			continue
		}
		if !s.state.Open() || s.state == plan.Held {
			if s.state == plan.Held {
				add(func(n *situation) { n.to(plan.Undoing) }) // a person has it tried again
			}
			continue
		}
		a, back, any := s.due()
		switch {
		case !any && s.state == plan.Undoing:
			add(func(n *situation) { n.to(plan.Undone) })
		case !any:
			add(func(n *situation) { n.to(plan.Done) })
		case !back && a == modelStop && s.state == plan.Staging:
			add(func(n *situation) { n.to(plan.Switching) })
		case !back && a == modelProve && s.state == plan.Switching:
			add(func(n *situation) { n.to(plan.Proving) })
		case !back && s.steps[a] == plan.StepPlanned:
			add(func(n *situation) { n.steps[a] = plan.StepIntended })
		default:
			add(func(n *situation) { n.svc[i].doing, n.svc[i].step, n.svc[i].back = true, a, back })
		}
	}
	if s.away {
		add(func(n *situation) { n.away = false })
	}
	if s.byHand != none {
		add(func(n *situation) { n.byHand = none })
	}
	for i := range s.svc { // a lease whose holder is gone, or has not renewed it, runs out
		if s.lease == int8(i) && !s.svc[i].leads {
			add(func(n *situation) { n.lease = -1 })
		}
	}
	if calm {
		return out
	}
	for i := range s.svc {
		if s.svc[i].up && s.crashes > 0 {
			add(func(n *situation) { n.svc[i] = service{}; n.crashes-- })
		}
		if s.svc[i].leads && s.losses > 0 {
			add(func(n *situation) { n.svc[i].leads = false; n.losses-- })
		}
	}
	if !s.away && s.absences > 0 {
		add(func(n *situation) { n.away = true; n.absences-- })
	}
	if s.down() && s.hands > 0 && s.stands(s.names) { // the game's own lock and port keep a second one out
		add(func(n *situation) { n.byHand = n.names; n.hands-- })
	}
	if s.state == plan.Done && !s.second && s.undos > 0 {
		add(func(n *situation) {
			n.second, n.state = true, plan.Staging
			n.undos--
			for i := range n.steps {
				n.steps[i] = plan.StepPlanned
			}
		})
	}
	return out
}

func (s situation) stands(w worldID) bool {
	return w == old && s.old == live || w == fresh && s.fresh == live
}

// wrong says what must never be.
func (s situation) wrong() string {
	switch {
	case s.game != none && s.byHand != none:
		return "two processes in one server's folder"
	case s.old == nowhere:
		return "the old world is lost"
	case s.second && s.fresh == nowhere:
		return "the new world is lost"
	case s.old == live && s.fresh == live:
		return "two worlds in one place"
	case s.game != none && !s.stands(s.game):
		return "the game has a world open that does not stand in its place"
	case s.state == plan.Done && !s.disturbed() && (s.game != s.wanted() || !s.stands(s.wanted())):
		return "done, and the world that was meant does not run"
	case s.state == plan.Undone && !s.disturbed() && (s.game != s.before() || !s.stands(s.before())):
		return "undone, and the world that was there does not run"
	}
	return ""
}

// disturbed reports whether an act is still under way of a service that leads no more.
func (s situation) disturbed() bool {
	for i := range s.svc {
		if s.svc[i].doing {
			return true
		}
	}
	return false
}

// In every situation that can come about, one complete world is there, at most one process works on it, and there is a
// way on that ends done or undone with nothing more happening from outside.
func TestAModelOfJournalAndLease(t *testing.T) {
	t.Parallel()
	type came struct {
		from situation
		any  bool
	}
	for name, bad := range map[string]bool{"a world that starts": false, "a world that the game refuses": true} {
		t.Run(name, func(t *testing.T) {
			seen := map[situation]came{beginning(bad): {}}
			queue := []situation{beginning(bad)}
			trace := func(s situation) string {
				var lines []string
				for {
					lines = append(lines, fmt.Sprintf("%+v", s))
					from := seen[s]
					if !from.any {
						break
					}
					s = from.from
				}
				for i, j := 0, len(lines)-1; i < j; i, j = i+1, j-1 {
					lines[i], lines[j] = lines[j], lines[i]
				}
				return strings.Join(lines, "\n")
			}
			before := map[situation][]situation{} // by calm ways alone
			var good []situation
			ends := map[plan.State]int{}
			for len(queue) > 0 {
				s := queue[0]
				queue = queue[1:]
				require.Empty(t, s.wrong(), "%s", trace(s))
				if s.state == plan.Done || s.state == plan.Undone {
					good = append(good, s)
					ends[s.state]++
				}
				for _, n := range s.next(true) {
					before[n] = append(before[n], s)
				}
				for _, n := range s.next(false) {
					if _, old := seen[n]; !old {
						seen[n] = came{s, true}
						queue = append(queue, n)
					}
				}
			}
			reaches := map[situation]bool{}
			for len(good) > 0 {
				s := good[len(good)-1]
				good = good[:len(good)-1]
				if reaches[s] {
					continue
				}
				reaches[s] = true
				good = append(good, before[s]...)
			}
			stuck := 0
			for s := range seen {
				if !reaches[s] {
					stuck++
					if stuck == 1 {
						assert.Fail(t, "there is no way out", "%s", trace(s))
					}
				}
			}
			t.Logf("%d situations, of which %d done and %d undone", len(seen), ends[plan.Done], ends[plan.Undone])
			assert.Greater(t, len(seen), 10_000)
			assert.Positive(t, ends[plan.Undone])
			assert.Equal(t, bad, ends[plan.Done] == 0)
		})
	}
}
