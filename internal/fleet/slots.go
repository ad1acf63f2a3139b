package fleet

import (
	"context"

	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/wire"
)

// Slots lists a provider's own backups of a server.
func (fl *Fleet) Slots(ctx context.Context, name string) (wire.Slots, error) {
	p, machine, err := fl.renting(ctx, name)
	if err != nil {
		return wire.Slots{}, err
	}
	return p.Slots(ctx, machine)
}

// MakeSlot has a provider make a backup of its own, and waits until that is done. One that has no room left
// is Refused.
func (fl *Fleet) MakeSlot(ctx context.Context, name string) (wire.Slots, error) {
	p, machine, err := fl.renting(ctx, name)
	if err == nil {
		err = p.MakeSlot(ctx, machine)
	}
	if err != nil {
		return wire.Slots{}, err
	}
	return p.Slots(ctx, machine)
}

// RemoveSlot has a provider remove one of its own backups, which nobody can bring back.
func (fl *Fleet) RemoveSlot(ctx context.Context, name, backup string) (wire.Slots, error) {
	p, machine, err := fl.renting(ctx, name)
	if err == nil {
		err = p.RemoveSlot(ctx, machine, backup)
	}
	if err != nil {
		return wire.Slots{}, err
	}
	return p.Slots(ctx, machine)
}

// renting gives the provider that runs a server, and what it calls it.
func (fl *Fleet) renting(ctx context.Context, name string) (p host.Provider, machine string, err error) {
	rec, err := fl.records.Server(ctx, name)
	if err != nil {
		return nil, "", err
	}
	h, err := fl.host(rec.Host)
	switch {
	case err != nil:
		return nil, "", err
	case rec.Means.V.By != server.ByProvider:
		return nil, "", fault.New(fault.Unsupported, "look for backups of", name, "no provider starts and stops it").
			With("Tell of the provider's interface first: reshard hosts provider " + rec.Host + " --help.")
	case h.provider == nil:
		return nil, "", h.providerErr
	}
	return h.provider, rec.Means.V.Machine, nil
}
