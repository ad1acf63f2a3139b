package provider

import (
	"context"
	"maps"
	"slices"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
	"reshard/internal/core/settings"
	"reshard/internal/hostfs"
)

// page is what is set of a server on the provider's page, as a settings file.
type page struct {
	hired   *hired
	machine string
}

// Page implements host.Provider.
func (h *hired) Page(machine string) (p hostfs.Page, name string, fields map[string]string) {
	d := h.link.Description()
	if len(d.Fields) == 0 {
		return nil, "", nil
	}
	fields = map[string]string{}
	for key, f := range d.Fields {
		fields[key] = called(f)
	}
	return &page{h, machine}, "page of " + strings.ReplaceAll(d.Title, "/", "-"), fields
}

// called is a field's title as a key of a settings file.
func called(f provider.Field) string { return strings.Join(strings.Fields(f.Title), "-") }

var syntax = settings.Syntax{Format: "properties"}

// Read implements hostfs.Page.
func (p *page) Read(ctx context.Context) ([]byte, error) {
	d := p.hired.link.Description()
	doc, err := settings.Parse("page", syntax, []byte("# What is set on the page of "+d.Title+".\n"))
	for _, key := range slices.Sorted(maps.Keys(d.Fields)) {
		value := ""
		if err == nil {
			value, err = p.value(ctx, d.Fields[key])
		}
		if err == nil {
			doc, err = doc.Set(called(d.Fields[key]), value)
		}
	}
	if err != nil {
		return nil, err
	}
	return doc.Bytes(), nil
}

func (p *page) value(ctx context.Context, f provider.Field) (string, error) {
	body, err := p.hired.link.Ask(ctx, &f.Read, p.machine, nil)
	if err != nil {
		return "", err
	}
	value, err := f.Value.In(body)
	if err != nil {
		err = fault.New(fault.Unreachable, "read", f.Title, "the provider's page cannot be followed: %v", err)
	}
	return value, err
}

// Write implements hostfs.Page: what differs from what stands there is set, a field after the other.
func (p *page) Write(ctx context.Context, data []byte) error {
	doc, err := settings.Parse("page", syntax, data)
	if err != nil {
		return fault.Wrap(fault.BadSettings, "write", "the provider's page", err)
	}
	d := p.hired.link.Description()
	for _, key := range slices.Sorted(maps.Keys(d.Fields)) {
		f := d.Fields[key]
		want, ok := doc.Get(called(f))
		if !ok {
			continue // an empty page has nothing for it
		}
		now, err := p.value(ctx, f)
		if err == nil && now != want.Value {
			_, err = p.hired.link.Ask(ctx, &f.Write, p.machine, provider.Values{"value": want.Value})
		}
		if err != nil {
			return err
		}
	}
	return nil
}
