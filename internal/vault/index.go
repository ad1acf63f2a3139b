package vault

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"
)

// Index knows in which pack each entry stands. It holds nothing that the packs do not
// say themselves, so it can be made anew from them.
type Index interface {
	// Find gives the places of those entries that are known.
	Find(ctx context.Context, kind Kind, names []Name) (map[Name]Position, error)
	// Add makes packs known, all or none; one that is known is known anew. An entry that is known keeps its
	// place.
	Add(ctx context.Context, packs []Pack, made time.Time) error
	// Names hands out the names of all entries of a kind.
	Names(ctx context.Context, kind Kind, see func(Name)) error
	// Packs lists the packs with what of them is known.
	Packs(ctx context.Context) ([]PackUse, error)
	// Entries lists the known entries of a pack, in the order in which they stand there.
	Entries(ctx context.Context, pack string) ([]Entry, error)
	// Forget drops every entry of a pack made before then that keep does not hand out.
	// It drops nothing when keep fails.
	Forget(ctx context.Context, keep func(need func(Kind, Name) error) error, before time.Time) (
		entries int, bytes int64, err error)
	// Drop drops single entries.
	Drop(ctx context.Context, entries []Entry) error
	// Move puts the entries that to has in the place of the same ones of the packs in
	// from, which have none then. The new packs are as old as the youngest of them.
	Move(ctx context.Context, from []string, to []Pack) error
	// Remove forgets a pack that has no entries.
	Remove(ctx context.Context, pack string) error
	// Clear forgets everything.
	Clear(ctx context.Context) error
}

// PackUse is how much of a pack is known.
type PackUse struct {
	ID      string    `db:"id"`
	Bytes   int64     `db:"bytes"`   // of the blob
	Known   int64     `db:"known"`   // bytes of entries that the index names, with their headers
	Entries int       `db:"entries"` // that the index names
	Made    time.Time `db:"made_at"`
}

// waste is how many bytes of a pack nothing needs.
func (p PackUse) waste() int64 {
	return p.Bytes - p.Known - int64(p.Entries)*headerSize - int64(len(packMagic)+endSize)
}

// Memory is an index in memory, for a vault that only one process uses.
type Memory struct {
	mu      sync.Mutex
	places  map[entryKey]Position
	entries map[string]map[entryKey]bool // by pack
	packs   map[string]PackUse
}

// NewMemory gives an index that knows nothing.
func NewMemory() *Memory {
	m := &Memory{}
	m.clear()
	return m
}

func (m *Memory) clear() {
	m.places, m.entries, m.packs = map[entryKey]Position{}, map[string]map[entryKey]bool{}, map[string]PackUse{}
}

// Find gives the places of those entries that are known.
func (m *Memory) Find(_ context.Context, kind Kind, names []Name) (map[Name]Position, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[Name]Position{}
	for _, n := range names {
		if p, ok := m.places[entryKey{kind, n}]; ok {
			out[n] = p
		}
	}
	return out, nil
}

// Add makes packs known.
func (m *Memory) Add(_ context.Context, packs []Pack, made time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, p := range packs {
		if was, known := m.packs[p.ID]; known {
			made = was.Made
		} else {
			m.entries[p.ID] = map[entryKey]bool{}
		}
		m.packs[p.ID] = PackUse{ID: p.ID, Bytes: p.Bytes, Made: made}
		for _, e := range p.Entries {
			key := entryKey{e.Kind, e.Name}
			if _, known := m.places[key]; !known {
				m.places[key] = e.Position
				m.entries[p.ID][key] = true
			}
		}
	}
	return nil
}

// Names hands out the names of all entries of a kind.
func (m *Memory) Names(_ context.Context, kind Kind, see func(Name)) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for key := range m.places {
		if key.kind == kind {
			see(key.name)
		}
	}
	return nil
}

// Packs lists the packs with what of them is known.
func (m *Memory) Packs(context.Context) (out []PackUse, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, use := range m.packs {
		use.Known, use.Entries = 0, len(m.entries[id])
		for key := range m.entries[id] {
			use.Known += headerSize + m.places[key].Stored
		}
		out = append(out, use)
	}
	slices.SortFunc(out, func(a, b PackUse) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// Entries lists the known entries of a pack.
func (m *Memory) Entries(_ context.Context, pack string) (out []Entry, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for key := range m.entries[pack] {
		out = append(out, Entry{Kind: key.kind, Name: key.name, Position: m.places[key]})
	}
	slices.SortFunc(out, func(a, b Entry) int { return cmp.Compare(a.Start, b.Start) })
	return out, nil
}

// Forget drops every entry of a pack made before then that keep does not hand out.
func (m *Memory) Forget(_ context.Context, keep func(need func(Kind, Name) error) error,
	before time.Time) (entries int, bytes int64, err error) {
	needed := map[entryKey]bool{}
	if err := keep(func(k Kind, n Name) error { needed[entryKey{k, n}] = true; return nil }); err != nil {
		return 0, 0, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for key, place := range m.places {
		if !needed[key] && m.packs[place.Pack].Made.Before(before) {
			entries++
			bytes += place.Stored
			m.drop(key)
		}
	}
	return entries, bytes, nil
}

func (m *Memory) drop(key entryKey) {
	delete(m.entries[m.places[key].Pack], key)
	delete(m.places, key)
}

// Drop drops single entries.
func (m *Memory) Drop(_ context.Context, entries []Entry) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, e := range entries {
		m.drop(entryKey{e.Kind, e.Name})
	}
	return nil
}

// Move puts the entries that to has in the place of the same ones of the packs in from.
func (m *Memory) Move(_ context.Context, from []string, to []Pack) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	var made time.Time
	for _, id := range from {
		if m.packs[id].Made.After(made) {
			made = m.packs[id].Made
		}
		for key := range m.entries[id] {
			m.drop(key)
		}
	}
	for _, p := range to {
		m.packs[p.ID] = PackUse{ID: p.ID, Bytes: p.Bytes, Made: made}
		m.entries[p.ID] = map[entryKey]bool{}
		for _, e := range p.Entries {
			key := entryKey{e.Kind, e.Name}
			m.places[key] = e.Position
			m.entries[p.ID][key] = true
		}
	}
	return nil
}

// Remove forgets a pack that has no entries.
func (m *Memory) Remove(_ context.Context, pack string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.packs, pack)
	delete(m.entries, pack)
	return nil
}

// Clear forgets everything.
func (m *Memory) Clear(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.clear()
	return nil
}
