package provider

import (
	"context"
	"fmt"
	"strconv"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
	"reshard/internal/wire"
)

// mostPages bounds the pages of a list, and mostSlots what is on them.
const (
	mostPages = 100
	mostSlots = 10_000
)

// Slots implements host.Provider.
func (h *hired) Slots(ctx context.Context, machine string) (wire.Slots, error) {
	b := h.link.Description().Backups
	out := wire.Slots{
		Provider: h.Title(), Allowance: b.Allowance, Backups: []wire.SlotBackup{}, CanMake: b.Make.Request != nil,
		CanRemove: b.Remove.Request != nil,
	}
	if b.List.Request == nil {
		return out, h.noSlots("list")
	}
	page := ""
	for range mostPages {
		body, err := h.link.Ask(ctx, b.List.Request, machine, provider.Values{"page": page})
		if err != nil {
			return out, err
		}
		some, next, err := slotsOn(b.List, body)
		if err != nil {
			return out, fault.New(fault.Unreachable, "list the backups at", h.Title(), "%v", err)
		}
		out.Backups = append(out.Backups, some...)
		if next == "" || len(out.Backups) > mostSlots {
			return out, nil
		}
		if next == page {
			return out, fault.New(fault.Unreachable, "list the backups at", h.Title(),
				"it names page %q as the next one of itself", next)
		}
		page = next
	}
	return out, fault.New(fault.Unreachable, "list the backups at", h.Title(), "its list has more than %d pages",
		mostPages)
}

// slotsOn reads a page of a list.
func slotsOn(l provider.BackupList, body []byte) (out []wire.SlotBackup, next string, err error) {
	value, err := provider.Pick(body, l.Items)
	if err != nil {
		return nil, "", err
	}
	list, err := provider.List(value)
	if err != nil {
		return nil, "", fmt.Errorf("at %q of its answer: %w", l.Items, err)
	}
	for _, one := range list {
		at := func(pointer string) (string, error) {
			value, err := provider.At(one, pointer)
			text, _ := provider.Scalar(value) // "" for what is none
			return text, err
		}
		b := wire.SlotBackup{Bytes: -1}
		if b.Name, err = at(l.Name); err != nil || b.Name == "" {
			return nil, "", fmt.Errorf("one of its backups has no name at %q", l.Name)
		}
		if text, err := at(l.Made); err == nil && l.Made != "" {
			if t := provider.TimeOf(text); !t.IsZero() {
				b.MadeAt = &t
			}
		}
		if text, err := at(l.Size); err == nil && l.Size != "" {
			if n, err := strconv.ParseInt(text, 10, 64); err == nil && n >= 0 {
				b.Bytes = n
			}
		}
		out = append(out, b)
	}
	if !l.Next.IsZero() {
		next, _ = l.Next.In(body) // nothing there: it is the last
	}
	return out, next, nil
}

// MakeSlot implements host.Provider.
func (h *hired) MakeSlot(ctx context.Context, machine string) error {
	slots, err := h.Slots(ctx, machine)
	switch {
	case err != nil:
		return err
	case !slots.CanMake:
		return h.noSlots("make")
	case slots.Full():
		return fault.New(fault.Refused, "make a backup at", h.Title(), "all %d slots are taken", slots.Allowance).
			With("Remove one that you can do without first; Reshard removes none by itself.")
	}
	_, err = h.link.Ask(ctx, h.link.Description().Backups.Make.Request, machine, nil)
	return err
}

// RemoveSlot implements host.Provider.
func (h *hired) RemoveSlot(ctx context.Context, machine, name string) error {
	slots, err := h.Slots(ctx, machine)
	if err != nil {
		return err
	}
	if !slots.CanRemove {
		return h.noSlots("remove")
	}
	for _, b := range slots.Backups {
		if b.Name == name {
			_, err := h.link.Ask(ctx, h.link.Description().Backups.Remove.Request, machine,
				provider.Values{"backup": name})
			return err
		}
	}
	return fault.New(fault.NotFound, "remove a backup at", h.Title(), "it has none that is called %q", name)
}

func (h *hired) noSlots(what string) error {
	return fault.New(fault.Unsupported, what+" backups at", h.Title(), "the provider description has no way to").
		With("Look on the provider's own page, or add backups to the description: docs/providers.md.")
}
