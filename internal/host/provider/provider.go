// Package provider is a hosting provider's own interface in hand: it starts, stops and watches servers
// whose files are reached in another way.
package provider

import (
	"context"
	"slices"
	"strings"
	"time"

	"reshard/internal/control"
	controlled "reshard/internal/control/provider"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/provider"
	"reshard/internal/host"
	"reshard/internal/providerlink"
	"reshard/internal/wire"
)

type hired struct{ link *providerlink.Link }

// Open takes an interface in hand. Nothing is asked yet.
func Open(s host.ProviderSpec) (host.Provider, error) {
	d, err := provider.Parse(s.Name, []byte(s.Description))
	if err != nil {
		return nil, err
	}
	link, err := providerlink.New(providerlink.Account{
		Name: s.Name, Origin: s.Origin, User: s.User, Secret: s.Secret, Private: s.Private,
	}, d)
	if err != nil {
		return nil, err
	}
	return &hired{link: link}, nil
}

// Close implements host.Provider.
func (h *hired) Close() error { return h.link.Close() }

// Title implements host.Provider.
func (h *hired) Title() string { return h.link.Description().Title }

// Known implements host.Provider.
func (h *hired) Known() fit.Provider {
	d := h.link.Description()
	return fit.Provider{Title: d.Title, StartedBy: d.StartedBy, Updates: d.Updates, KillsAfter: d.Stop.KillsAfter}
}

// Process implements host.Provider.
func (h *hired) Process(name, machine string) control.Driver {
	return controlled.New(h.link, name, machine)
}

// Misbehaves implements host.Misbehaver.
func (h *hired) Misbehaves() (since time.Time, err error) { return h.link.Rest().Told() }

// Try implements host.Provider: it only looks.
func (h *hired) Try(ctx context.Context, machine string) []wire.Tried {
	d := h.link.Description()
	c := controlled.New(h.link, h.Title(), machine)
	out := []wire.Tried{}
	note := func(what, seen string, err error) {
		t := wire.Tried{What: what, Seen: seen, OK: err == nil}
		if err != nil {
			t.Seen, t.Next = fault.Words(err)
		}
		out = append(out, t)
	}
	h.link.Rest().Again()
	seen, err := c.Look(ctx)
	note("state", seen.Says(), err)
	if err != nil {
		return out
	}
	defer func() {
		if !slices.ContainsFunc(out, func(t wire.Tried) bool { return !t.OK }) {
			h.link.Rest().Well()
		}
	}()
	if d.Log.Request == nil {
		note("log", "the description has no way to read it", nil)
		return out
	}
	text, err := c.Heard(ctx)
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if last := lines[len(lines)-1]; err == nil && last != "" {
		text = "its last line: " + last
	} else if err == nil {
		text = "it is empty"
	}
	note("log", text, err)
	return out
}
