package stores

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/google/uuid"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// mark is what every store has, beside its packs: which store it is, and whose. A build before store/2 wrote none of
// id, generation, service and taken.
type mark struct {
	Reshard string `json:"reshard"`
	records.StoreMark
}

const (
	markFormat    = "store/2"
	oldMarkFormat = "store/1"
	markKey       = "reshard-store.json"
)

// marked reads the mark; nil: the place has none.
func (b *bucket) marked(ctx context.Context) (*records.StoreMark, error) {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	data, err := b.ReadAll(ctx, markKey, 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, b.wrap(reading, err)
	}
	var m mark
	if json.Unmarshal(data, &m) != nil || (m.Reshard != markFormat && m.Reshard != oldMarkFormat) {
		return nil, fault.New(fault.Exists, "read", "store "+b.name, "this version cannot read its %s", markKey)
	}
	return &m.StoreMark, nil
}

// setMark writes the mark, and reads it back.
func (b *bucket) setMark(ctx context.Context, m records.StoreMark) error {
	data, err := json.MarshalIndent(mark{Reshard: markFormat, StoreMark: m}, "", "  ")
	if err != nil {
		return fault.Wrap(fault.Internal, "mark", "store "+b.name, err)
	}
	writing, done := context.WithTimeout(ctx, patience)
	defer done()
	if err := b.WriteAll(writing, markKey, data); err != nil {
		return b.wrap(writingTo, err)
	}
	is, err := b.marked(ctx)
	if err == nil && (is == nil || token(is) != token(&m) || is.Vault != m.Vault) {
		err = fault.New(fault.Damaged, "mark", "store "+b.name, "the mark read back is not the one just written").
			With("Another service may be writing there, or the storage does not keep what it accepts. Check both, " +
				"then retry.")
	}
	return err
}

// token tells marks apart, so that what somebody confirms is what they have seen.
func token(m *records.StoreMark) string {
	if m == nil {
		return "none"
	}
	return fmt.Sprintf("%s/%d/%s", m.ID, m.Generation, m.Made.UTC().Format(time.RFC3339Nano))
}

// whose names the service of a mark, for people.
func whose(m *records.StoreMark) string {
	when := m.Made
	if m.Taken != nil {
		when = *m.Taken
	}
	service := "another service"
	if m.Service != "" {
		service = "the service on " + m.Service
	}
	return service + ", since " + when.UTC().Format("2 January 2006 15:04 MST")
}

// samePlace reports whether two marks belong to the same store, with any owner. Old marks have no id, only a time.
func samePlace(a, b *records.StoreMark) bool {
	return a.Made.Equal(b.Made) && (a.ID == b.ID || a.ID == "" || b.ID == "")
}

// newMark is the mark of a store that this service begins or takes over; m is what is there, nil for nothing.
func (st *Stores) newMark(m *records.StoreMark, plain bool) records.StoreMark {
	now := st.now().UTC()
	out := records.StoreMark{
		ID: uuid.NewString(), Generation: 1, Vault: st.with.Identity, Service: st.with.Name, Plain: plain, Made: now,
	}
	if m != nil {
		out.Generation, out.Made, out.Taken = m.Generation+1, m.Made, &now
		if m.ID != "" {
			out.ID = m.ID
		}
	}
	return out
}

// verify is nil when what is marked there is the store on record; where it is to be written to, also when that is
// this service's to do.
func (st *Stores) verify(s records.Store, m *records.StoreMark) error {
	wrong := func(next, format string, args ...any) error {
		return fault.New(fault.Changed, "look at", "store "+s.Name, format, args...).With(next)
	}
	if s.Mark == nil { // from before marks had ids: begin gives it one
		switch {
		case m != nil && m.Vault == st.with.Identity:
			return nil
		case m != nil:
			return wrong("To make it this service's: reshard stores take-over "+s.Name, "it belongs to %s", whose(m))
		}
	}
	if m == nil && s.Mark != nil && !s.Writes && s.Mark.V.Made.IsZero() { // its mark was lost before it was added
		return nil
	}
	if m == nil {
		return wrong("If the disk is not mounted, mount it: sending resumes automatically. To start over with an "+
			"empty folder: reshard stores remove "+s.Name+", then add it again.",
			"%s is missing at its place. Reshard does not write or delete anything there", markKey)
	}
	want := &s.Mark.V
	switch {
	case !samePlace(want, m):
		return wrong("If disks or buckets were swapped, swap them back: sending resumes automatically. Otherwise: "+
			"reshard stores remove "+s.Name, "a different store is at its place. It belongs to %s. Reshard does not "+
			"write or delete anything there", whose(m))
	case s.Writes && (m.Generation != want.Generation || m.Vault != want.Vault):
		return wrong("To take it back: reshard stores take-over "+s.Name,
			"it was taken over by %s. This service no longer writes or deletes anything there", whose(m))
	}
	return nil
}

// enter opens a store for one piece of work, and verifies its mark. Code Changed: it is not the store on record, or
// not this service's any more. The bucket is the caller's to close.
func (st *Stores) enter(ctx context.Context, s records.Store) (*bucket, error) {
	b, err := st.bucket(s)
	if err != nil {
		return nil, err
	}
	m, err := b.marked(ctx)
	if err == nil {
		err = st.verify(s, m)
	}
	if err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

// begin makes sure that a store may be written to: its place is allowed, and its mark is right and has an id. It
// returns the store as recorded.
func (st *Stores) begin(ctx context.Context, s records.Store) (records.Store, error) {
	if err := st.with.Records.Acting(); err != nil {
		return s, err
	}
	if !s.Writes {
		return s, fault.New(fault.WrongState, "write to", "store "+s.Name,
			"it is read-only: it was added for a recovery").
			With("If its former service is gone for good: reshard stores take-over " + s.Name)
	}
	if why, err := st.misplaced(ctx, s); err != nil {
		return s, err
	} else if why != "" && s.ConfirmedAt == nil {
		return s, fault.New(fault.Refused, "write to", "store "+s.Name, "%s. Reshard does not write there", why).
			With("Move it: reshard stores remove " + s.Name +
				", then add it at another place. To keep it there: reshard stores confirm " + s.Name)
	}
	b, err := st.enter(ctx, s)
	if err != nil {
		return s, err
	}
	defer b.Close() //nolint:errcheck // it only closes a folder
	if s.Mark != nil {
		return s, nil
	}
	m, err := b.marked(ctx)
	if err != nil {
		return s, err
	}
	fresh := *m
	if m.ID == "" {
		fresh = st.newMark(m, m.Plain)
		fresh.Taken = nil
		if err := b.setMark(ctx, fresh); err != nil {
			return s, err
		}
	}
	s.Mark = &records.JSON[records.StoreMark]{V: fresh}
	return s, st.with.Records.SetStoreMark(ctx, s.ID, fresh, true)
}

// Holder tells whose a store is by what is marked there now, and how much is in it.
func (st *Stores) Holder(ctx context.Context, name string) (wire.StoreHolder, error) {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return wire.StoreHolder{}, err
	}
	b, err := st.bucket(s)
	if err != nil {
		return wire.StoreHolder{}, err
	}
	defer b.Close() //nolint:errcheck // it only closes a folder
	m, err := b.marked(ctx)
	if err != nil {
		return wire.StoreHolder{}, err
	}
	out := wire.StoreHolder{Mark: token(m), Ours: m != nil && st.verify(s, m) == nil && s.Writes}
	if m != nil {
		out.Service, out.Since = m.Service, &m.Made
		if m.Taken != nil {
			out.Since = m.Taken
		}
	}
	known, err := st.with.Vault.Packs(ctx)
	if err != nil {
		return out, err
	}
	ours := map[string]bool{}
	for _, p := range known {
		ours[p.ID] = true
	}
	err = b.packs(ctx, func(id string, size int64, _ bool) error {
		out.Packs++
		out.Bytes += size
		if ours[id] {
			out.Known++
		}
		return nil
	})
	return out, err
}

// TakeOver makes a store and its packs this service's own. Its former service stops writing there. seen is the mark
// that a person confirmed; code Changed when another mark is there by now.
func (st *Stores) TakeOver(ctx context.Context, name, seen string) (wire.Store, error) {
	s, ctx, done, err := st.workOn(ctx, name)
	if err != nil {
		return wire.Store{}, err
	}
	defer done()
	b, err := st.bucket(s)
	if err != nil {
		return wire.Store{}, err
	}
	defer b.Close() //nolint:errcheck // it only closes a folder
	m, err := b.marked(ctx)
	if err != nil {
		return wire.Store{}, err
	}
	if token(m) != seen {
		return wire.Store{}, fault.New(fault.Changed, "take over", "store "+name,
			"its mark has changed since you looked").With("Look again: reshard stores take-over " + name)
	}
	if err := st.notAnothers(ctx, s, m); err != nil {
		return wire.Store{}, err
	}
	if m == nil {
		some, err := b.hasPacks(ctx)
		if err != nil {
			return wire.Store{}, err
		}
		if !some {
			return wire.Store{}, fault.New(fault.NotFound, "take over", "store "+name, "its place has no store").
				With("If the disk is not mounted, mount it.")
		}
	} else if m.Plain != s.Settings.V.Plain {
		return wire.Store{}, fault.New(fault.WrongState, "take over", "store "+name,
			"only one of the two stores, the recorded one and the one at its place, is encrypted").
			With("Remove the recorded one, then add the other: reshard stores remove " + name)
	}
	why, err := st.misplaced(ctx, s)
	if err != nil {
		return wire.Store{}, err
	}
	if why != "" && s.ConfirmedAt == nil {
		return wire.Store{}, fault.New(fault.Refused, "take over", "store "+name, "%s", why).
			With("To keep it there: reshard stores confirm " + name)
	}
	if s.Mark != nil && m != nil && !samePlace(&s.Mark.V, m) { // what was on record is of another place
		if err := st.with.Records.ForgetStorePacks(ctx, s.ID); err != nil {
			return wire.Store{}, err
		}
	}
	fresh := st.newMark(m, s.Settings.V.Plain)
	if err := b.setMark(ctx, fresh); err != nil {
		return wire.Store{}, err
	}
	st.trace("taken over " + name)
	if err := st.survey(ctx, s, b); err != nil {
		return wire.Store{}, err
	}
	if _, err := st.with.Records.OwnStorePacks(ctx, s.ID, true); err != nil {
		return wire.Store{}, err
	}
	if err := st.with.Records.SetStoreMark(ctx, s.ID, fresh, true); err != nil {
		return wire.Store{}, err
	}
	if err := st.with.Records.StoreStands(ctx, s.ID, "", "", st.now()); err != nil {
		return wire.Store{}, err
	}
	st.Soon()
	return st.Store(ctx, name)
}

// notAnothers refuses a place that is another store of this service by its mark.
func (st *Stores) notAnothers(ctx context.Context, s records.Store, m *records.StoreMark) error {
	all, err := st.with.Records.Stores(ctx)
	if err != nil || m == nil {
		return err
	}
	for _, o := range all {
		if o.ID != s.ID && o.Mark != nil && !o.Mark.V.Made.IsZero() && samePlace(&o.Mark.V, m) {
			return fault.New(fault.Exists, "look at", "store "+s.Name, "store %s is at its place", o.Name).
				With("If disks or buckets were swapped, swap them back.")
		}
	}
	return nil
}
