// Package hand is a game server that only people can start and stop: Reshard asks them to, and
// takes their word for what they have done.
package hand

import (
	"context"
	"sync"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
)

// Hand is a server in people's hands. It implements control.Driver and control.Believer.
// Words do not outlive the service: whoever was told yesterday that a server is down does not
// know it today.
type Hand struct {
	name string

	mu   sync.Mutex
	word word
	asks string // what a person is to do; "" nothing
}

type word struct {
	up   *bool // nil: nobody has said
	by   string
	when time.Time
}

// New makes a driver; name is of the server, for messages.
func New(name string) *Hand { return &Hand{name: name} }

// Believe implements control.Believer.
func (h *Hand) Believe(up bool, by string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.word, h.asks = word{up: &up, by: by, when: time.Now().UTC()}, ""
}

// Look implements control.Driver.
func (h *Hand) Look(ctx context.Context) (control.Sight, error) {
	if err := ctx.Err(); err != nil {
		return control.Sight{}, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.asks != "":
		return control.Sight{}, h.asked()
	case h.word.up == nil:
		return control.Sight{}, fault.New(fault.StateUnknown, "look at", h.name, "only people can see whether it runs").
			With("Look at it, and say what you see: reshard servers started " + h.name +
				", or reshard servers stopped " +
				h.name + ".")
	case *h.word.up:
		return control.Sight{Process: &control.Process{
			Says: "the word of " + h.word.by, Since: h.word.when, Ready: true,
		}}, nil
	}
	return control.Sight{Evidence: life.Word, By: h.word.by}, nil
}

// asked is the state while a person has been asked to do something.
func (h *Hand) asked() error {
	return fault.New(fault.StateUnknown, "look at", h.name, "a person has been asked to %s it", h.asks).
		With("Do so by its provider's own means, then say so: reshard servers " +
			map[string]string{"stop": "stopped", "start": "started"}[h.asks] + " " + h.name + ".")
}

// ask asks a person to do something.
func (h *Hand) ask(ctx context.Context, what string, up bool) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.asks == "" && h.word.up != nil && *h.word.up == up {
		return fault.New(fault.WrongState, what, h.name, "it is so already, by the word of %s", h.word.by)
	}
	h.asks = what
	return nil
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
	up := h.word.up
	h.mu.Unlock()
	if up != nil && !*up {
		return ctx.Err()
	}
	return h.ask(ctx, "stop", false)
}

// ReadLog implements control.Speaker: nobody hears it.
func (h *Hand) ReadLog(ctx context.Context, _ string, _ []byte, _ int64) (int, error) {
	return 0, ctx.Err()
}

// Pace implements control.Driver.
func (h *Hand) Pace() time.Duration { return 100 * time.Millisecond }

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
