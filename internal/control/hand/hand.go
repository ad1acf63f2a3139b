// Package hand is a game server that only people can start and stop: Reshard asks them to, sees by
// what has changed that it was done where something tells, and takes their word for it elsewhere.
package hand

import (
	"context"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
)

// Hand is a server in people's hands. It implements control.Driver, control.Believer and
// control.Asker. Words do not outlive the service: whoever was told yesterday that a server is down
// does not know it today. What people were asked to do does.
type Hand struct {
	name string

	looking sync.Mutex // held while signs are looked for
	mu      sync.Mutex // held for moments only
	eyes    control.Eyes
	known   *known // nil: nobody has said or seen
	asked   *asked // nil: nothing
	seen    control.Signs
	seenAt  time.Time
}

// known is how the server is, and how that is known.
type known struct {
	up    bool
	by    string // whose word, or which sign
	sign  bool
	since time.Time
	// from is where the log of this run begins, in bytes; -1: it is not heard. opened is the world
	// that a sign is of.
	from   int64
	opened string
	ready  bool
	// signs are what was seen then, and at its beginning: what was there before tells nothing.
	signs, begun control.Signs
}

// asked is what a person is to do, and what was seen when they were asked.
type asked struct {
	Up    bool          `json:"up"`
	Since time.Time     `json:"since"`
	Signs control.Signs `json:"signs"`
}

// signsFor is how long signs are taken to be as they were seen: each look costs the host something.
const signsFor = time.Second

// New makes a driver; name is of the server, for messages.
func New(name string) *Hand { return &Hand{name: name} }

// See implements control.Believer.
func (h *Hand) See(eyes control.Eyes) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.eyes, h.seenAt = eyes, time.Time{}
	if h.known != nil || h.asked != nil {
		return
	}
	var was asked
	if raw := eyes.Kept(); len(raw) > 0 && json.Unmarshal(raw, &was) == nil {
		h.asked = &was
	}
}

// Asked implements control.Asker.
func (h *Hand) Asked() (what control.Asked, since time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.asked == nil {
		return "", time.Time{}
	}
	return h.asked.what(), h.asked.Since
}

func (a *asked) what() control.Asked {
	if a.Up {
		return control.AskedToStart
	}
	return control.AskedToStop
}

// Believe implements control.Believer.
func (h *Hand) Believe(up bool, by string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	k := &known{up: up, by: by, since: time.Now().UTC(), from: -1, ready: true, signs: h.seen, begun: h.seen}
	if h.asked != nil && h.asked.Up == up { // what its log has said since then is of this run
		k.from, k.begun = h.asked.Signs.Log, h.asked.Signs
	}
	h.settle(k)
}

// Against implements control.Believer.
func (h *Hand) Against(ctx context.Context) (signs []string) {
	_, like := h.since()
	now := h.look(ctx, time.Now(), like)
	if now.Looked && now.Locked {
		signs = append(signs, "the game's lock is in "+now.World)
	}
	if now.Port != 0 && now.Listens {
		signs = append(signs, "its port "+strconv.Itoa(now.Port)+" takes connections")
	}
	return signs
}

// SaidEnd implements control.Believer.
func (h *Hand) SaidEnd(ctx context.Context) bool {
	h.mu.Lock()
	k, eyes, now := h.known, h.eyes, h.seen
	h.mu.Unlock()
	if k == nil || k.up || eyes == nil || k.begun.Log < 0 {
		return false
	}
	from := k.begun.Log
	if now.Log < from { // the log was started again
		from = 0
	}
	return eyes.Says(ctx, control.AskedToStop, from)
}

// settle takes a state for known; the lock is held.
func (h *Hand) settle(k *known) {
	h.known, h.asked = k, nil
	if h.eyes != nil {
		write := h.eyes.Keep(nil) // what is kept last counts, whenever it is written
		go write()
	}
}

// look gives the signs that there are, seen after a time; the zero value where nothing can be seen.
func (h *Hand) look(ctx context.Context, after time.Time, like control.Signs) control.Signs {
	h.looking.Lock()
	defer h.looking.Unlock()
	h.mu.Lock()
	eyes, seen, at := h.eyes, h.seen, h.seenAt
	h.mu.Unlock()
	if eyes == nil || (at.After(after) && time.Since(at) < signsFor) {
		return seen
	}
	begun := time.Now()
	now, err := eyes.Signs(ctx, like)
	if err != nil {
		return control.Signs{Log: -1} // a word counts all the same
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.eyes == eyes {
		h.seen, h.seenAt = now, begun
	}
	return now
}

// since is from when on signs count, and of what they are: later than what is known, or was asked, now.
func (h *Hand) since() (time.Time, control.Signs) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.asked != nil:
		return h.asked.Since, h.asked.Signs
	case h.known != nil:
		like := h.known.signs
		like.Around = false // that is looked for only while a start is waited for
		return h.known.since, like
	}
	return time.Time{}, control.Signs{}
}

// Look implements control.Driver.
func (h *Hand) Look(ctx context.Context) (control.Sight, error) {
	after, like := h.since()
	now := h.look(ctx, after, like)
	if err := ctx.Err(); err != nil {
		return control.Sight{}, err
	}
	h.mu.Lock()
	a, eyes := h.asked, h.eyes
	h.mu.Unlock()
	said := int64(-1) // where the log goes on that says that it was done
	if a != nil && eyes != nil && now.Log >= 0 && a.Signs.Log >= 0 && now.Log != a.Signs.Log {
		from := a.Signs.Log
		if now.Log < from { // it was begun anew
			from = 0
		}
		if eyes.Says(ctx, a.what(), from) {
			said = from
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.asked != nil && h.asked == a:
		k := a.done(now, said)
		if k == nil {
			return control.Sight{}, h.waits()
		}
		h.settle(k)
	case h.asked != nil:
		return control.Sight{}, h.waits()
	case h.known != nil:
		if k := h.known.changed(now); k != nil {
			h.settle(k)
		}
	}
	if h.known == nil {
		return control.Sight{}, fault.New(fault.StateUnknown, "look at", h.name, "only people can see whether it runs").
			With("Look at it, and say what you see: reshard servers started " + h.name +
				", or reshard servers stopped " + h.name + ".")
	}
	return h.known.sight(), nil
}

// done tells whether what was asked for has been done, by what has changed since; nil: nothing tells. said
// is where the log goes on that says so, -1: it does not.
func (a *asked) done(now control.Signs, said int64) *known {
	k := &known{
		up: a.Up, sign: true, since: time.Now().UTC(), from: -1, signs: now, begun: a.Signs, ready: true,
		by: turned(a.Signs, now, a.Up),
	}
	if said >= 0 {
		k.by = "its log"
	}
	if k.by == "" && a.Up {
		k.by = written(a.Signs, now)
	}
	if other := newLock(a.Signs, now); k.by == "" && a.Up && other != "" {
		k.by, k.opened = "its lock, which is in another world ("+other+")", other
	}
	if k.by == "" {
		return nil
	}
	if a.Up && a.Signs.Log >= 0 && now.Log >= 0 {
		if k.from = a.Signs.Log; now.Log < k.from {
			k.from = 0
		}
	}
	k.sees(now)
	return k
}

// sees takes the world that the game's lock is in for the one that it has open, unless the lock was there
// before.
func (k *known) sees(now control.Signs) {
	left := k.begun.Locked && k.begun.World == now.World
	if k.up && k.begun.Looked && now.Looked && now.Locked && !left {
		k.opened = now.World
	}
}

// changed tells of a server that was started or stopped by others since its state was known.
func (k *known) changed(now control.Signs) *known {
	sign := turned(k.signs, now, !k.up)
	if sign == "" {
		k.sees(now)
		k.signs = k.signs.And(now)
		return nil
	}
	next := &known{
		up: !k.up, by: sign, sign: true, since: time.Now().UTC(), from: -1, signs: now, begun: k.signs, ready: true,
	}
	next.sees(now)
	return next
}

// turned names the sign by which a server has come up, or gone down, between two looks; "": none tells.
// That something is as it was proves nothing: a lock may be left over, and a port somebody else's.
func turned(was, now control.Signs, up bool) string {
	switch {
	case was.Looked && now.Looked && was.World != now.World: // another world's lock tells nothing of this one
	case was.Looked && now.Looked && was.Locked != now.Locked && now.Locked == up && up:
		return "its lock, which is there now (" + now.World + ")"
	case was.Looked && now.Looked && was.Locked != now.Locked && now.Locked == up:
		return "its lock, which has gone (" + was.World + ")"
	case was.Port != 0 && was.Port == now.Port && was.Listens != now.Listens && now.Listens == up && up:
		return "its port " + strconv.Itoa(now.Port) + ", which takes connections now"
	case was.Port != 0 && was.Port == now.Port && was.Listens != now.Listens && now.Listens == up:
		return "its port " + strconv.Itoa(now.Port) + ", which takes connections no more"
	}
	return ""
}

// newLock is a world other than the active one in which the game's lock is new, or written again; "" is none.
func newLock(was, now control.Signs) string {
	if !was.Around || !now.Around {
		return ""
	}
	for _, file := range slices.Sorted(maps.Keys(now.Near)) {
		if at, there := was.Near[file]; !there || now.Near[file].After(at) {
			worlds := path.Dir(now.World)
			name, _, _ := strings.Cut(strings.TrimPrefix(file, worlds+"/"), "/") // a lock may be deep in its world
			return path.Join(worlds, name)
		}
	}
	return ""
}

// written names the sign that a world's files are being written: only a game that has it open does so while a
// person is asked to start it. It tells nothing at other times, when people may upload something.
func written(was, now control.Signs) string {
	if was.World == "" || was.World != now.World || was.Written.IsZero() || !now.Written.After(was.Written) {
		return ""
	}
	return "its world's files, which are written again (" + now.World + ")"
}

func (k *known) sight() control.Sight {
	switch {
	case !k.up && k.sign:
		return control.Sight{Evidence: life.Sign, By: k.by}
	case !k.up:
		return control.Sight{Evidence: life.Word, By: k.by}
	}
	says := "the word of " + k.by
	if k.sign {
		says = k.by
	}
	s := control.Sight{Process: &control.Process{Says: says, Since: k.since, Ready: k.ready, Opens: k.opened}}
	if !k.sign {
		s.Process.Word = k.by
	}
	if k.from >= 0 {
		s.Run = strconv.FormatInt(k.from, 10)
	}
	return s
}

// waits is the state while a person has been asked to do something; the lock is held.
func (h *Hand) waits() error {
	what := h.asked.what()
	return fault.New(fault.StateUnknown, "look at", h.name, "a person has been asked to %s it", what).
		With("Do so by its provider's own means, then say so: reshard servers " +
			map[control.Asked]string{control.AskedToStop: "stopped", control.AskedToStart: "started"}[what] + " " +
			h.name + ".")
}

// ask asks a person to do something.
func (h *Hand) ask(ctx context.Context, what string, up bool) error {
	now := h.look(ctx, time.Now(), control.Signs{Around: up})
	if err := ctx.Err(); err != nil {
		return err
	}
	write, err := h.askAs(what, up, now)
	if err == nil {
		write() // before anybody does it
	}
	return err
}

// askAs notes what a person is asked to do; write writes it where another life finds it.
func (h *Hand) askAs(what string, up bool, now control.Signs) (write func(), err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.asked != nil && h.asked.Up == up:
		return func() {}, nil // what was seen when they were asked first is what counts
	case h.asked == nil && h.known != nil && h.known.up == up:
		return nil, fault.New(fault.WrongState, what, h.name, "it is so already, by %s", h.known.sight().Says())
	}
	if h.eyes == nil {
		now.Log = -1
	}
	h.asked = &asked{Up: up, Since: time.Now().UTC(), Signs: now}
	raw, err := json.Marshal(h.asked)
	if err != nil || h.eyes == nil {
		return func() {}, fault.Wrap(fault.Internal, "note", h.name, err)
	}
	return h.eyes.Keep(raw), nil
}

// Start implements control.Driver: it asks a person.
func (h *Hand) Start(ctx context.Context) error { return h.ask(ctx, "start", true) }

// HasStop implements control.Stopper.
func (h *Hand) HasStop() bool { return true }

// Stop implements control.Stopper: it asks a person.
func (h *Hand) Stop(ctx context.Context) error { return h.ask(ctx, "stop", false) }

// Say implements control.Speaker.
func (h *Hand) Say(context.Context, string) error {
	return fault.New(fault.Unsupported, "speak to", h.name, "only people can speak to it")
}

// Signal implements control.Speaker: whatever ends it, a person does it.
func (h *Hand) Signal(ctx context.Context, _ control.Signal) error {
	h.mu.Lock()
	down := h.known != nil && !h.known.up && h.asked == nil
	h.mu.Unlock()
	if down {
		return ctx.Err()
	}
	return h.ask(ctx, "stop", false)
}

// ReadLog implements control.Speaker: a run's name is the place in the log where it begins.
func (h *Hand) ReadLog(ctx context.Context, run string, p []byte, offset int64) (int, error) {
	h.mu.Lock()
	eyes := h.eyes
	h.mu.Unlock()
	from, err := strconv.ParseInt(run, 10, 64)
	if err != nil || eyes == nil {
		return 0, ctx.Err()
	}
	return eyes.ReadLog(ctx, p, from+offset)
}

// Pace implements control.Driver.
func (h *Hand) Pace() time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.eyes != nil {
		return signsFor
	}
	return 100 * time.Millisecond
}

// Hands are the servers in people's hands of one host, by their ids: words outlive an opening of
// the server. It is safe for concurrent use.
type Hands struct {
	mu sync.Mutex // held for moments only
	of map[int64]*Hand
}

// Of gives a server's.
func (h *Hands) Of(id int64, name string) *Hand {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.of == nil {
		h.of = map[int64]*Hand{}
	}
	if h.of[id] == nil {
		h.of[id] = New(name)
	}
	return h.of[id]
}
