package stores

import (
	"context"
	"errors"
	"slices"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// round is how long the standing check takes at most to read everything back once, of the vault and of each
// store.
const round = 28 * 24 * time.Hour

// Standing reads a share of everything back, as much as since has passed of a round, and mends what is
// damaged. It says what it has read and found.
func (st *Stores) Standing(ctx context.Context, since time.Duration) (wire.StandingCheck, error) {
	out := wire.StandingCheck{Findings: []wire.Finding{}}
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return out, err
	}
	if err := st.checkVault(ctx, since, &out); err != nil {
		return out, err
	}
	var failed error
	for _, s := range all {
		if s.Writes {
			failed = errors.Join(failed, st.checkAndTidy(ctx, s, since, &out))
		}
	}
	return out, failed
}

// checkAndTidy reads a share of a store back, and deletes what nothing needs.
func (st *Stores) checkAndTidy(ctx context.Context, s records.Store, since time.Duration,
	out *wire.StandingCheck) error {
	ctx, done, err := st.work(ctx, s)
	if err != nil {
		if errors.Is(err, errRemoved) {
			return nil
		}
		return err
	}
	defer done()
	err = st.checkStore(ctx, s, since, out)
	if errors.Is(context.Cause(ctx), errRemoved) {
		return nil
	}
	if err != nil {
		return errors.Join(err, st.stands(ctx, s, err))
	}
	return st.tidyStore(ctx, s)
}

// share is how many of all packs are read back.
func share(all int, since time.Duration) int {
	n := int((int64(all)*int64(min(since, round)) + int64(round) - 1) / int64(round))
	return min(all, max(n, 1))
}

// checkVault reads packs of the vault back, those first that were read longest ago, and mends what is damaged.
func (st *Stores) checkVault(ctx context.Context, since time.Duration, out *wire.StandingCheck) error {
	_, total, err := st.with.Records.UncheckedPacks(ctx, 0)
	if err != nil || total == 0 {
		return err
	}
	ids, _, err := st.with.Records.UncheckedPacks(ctx, share(total, since))
	if err != nil {
		return err
	}
	m, err := st.mender(ctx)
	if err != nil {
		return err
	}
	m.found = out
	for _, id := range m.broken { // a store may have come back that has them
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	for _, id := range ids {
		if err := m.look(ctx, id); err != nil {
			return err
		}
	}
	if len(m.damaged)+len(m.mended) == 0 {
		return nil
	}
	_, err = st.tellDamage(ctx)
	return err
}

func (st *Stores) found(ctx context.Context, f records.Finding, out *wire.StandingCheck) error {
	out.Findings = append(out.Findings, wire.Finding{
		At:     st.now(),
		Store:  f.Store,
		Pack:   f.Pack,
		What:   f.What,
		Mended: f.Mended,
	})
	return st.with.Records.AddFinding(ctx, f)
}

// checkStore reads packs of a store back. Damaged and missing packs are sent again; unreadable ones are recorded, and
// the check continues.
func (st *Stores) checkStore(ctx context.Context, s records.Store, since time.Duration, out *wire.StandingCheck) error {
	if s.Writes {
		begun, err := st.begin(ctx, s)
		if err != nil {
			return err
		}
		s = begun
	}
	lag, err := st.with.Records.LagOf(ctx, s.ID, "")
	if err != nil || lag.Has == 0 {
		return err
	}
	// What was not read the last time is still the first to be, and keeps nothing else from its turn.
	list, err := st.with.Records.StorePacks(ctx, s.ID, share(lag.Has, since)+lag.Troubled)
	if err != nil {
		return err
	}
	inRow := 0
	for _, p := range list {
		as, err := st.readBack(ctx, s, p)
		out.Packs++
		out.Bytes += as.Bytes
		switch code := fault.CodeOf(err); {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err == nil:
			inRow = 0
			err = st.with.Records.StorePackChecked(ctx, as)
		case code == fault.Damaged || code == fault.NotFound:
			err = st.sendAgain(ctx, s, p, err, out)
		case code == fault.Changed || code == fault.NoSpace: // another place, or none of our own to read into
			return err
		default:
			what, _ := fault.Words(err)
			if inRow++; inRow >= failuresInRow {
				return err
			}
			out.Findings = append(out.Findings, wire.Finding{At: st.now(), Store: s.Name, Pack: p.Pack, What: what})
			err = st.with.Records.StorePackUnread(ctx, s.ID, p.Pack, what)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// readBack reads a pack of a store, and verifies it.
func (st *Stores) readBack(ctx context.Context, s records.Store, p records.StorePack) (records.StorePack, error) {
	data, as, err := st.fetch(ctx, s, p)
	if err != nil {
		return as, err
	}
	defer data.Close() //nolint:errcheck // it has no name any more
	_, err = st.with.Vault.VerifyPack(ctx, p.Pack, data.SectionReader)
	return as, err
}

// sendAgain sends a pack anew that a store has lost or damaged, where the vault has it whole.
func (st *Stores) sendAgain(ctx context.Context, s records.Store, p records.StorePack, damage error,
	out *wire.StandingCheck) error {
	what, _ := fault.Words(damage)
	if !s.Writes {
		out.Findings = append(out.Findings, wire.Finding{At: st.now(), Store: s.Name, Pack: p.Pack, What: what})
		return nil
	}
	if err := st.with.Records.ForgetStorePack(ctx, s.ID, p.Pack); err != nil {
		return err
	}
	id, err := st.identity(s)
	if err != nil {
		return err
	}
	err = st.sendPack(ctx, s, id, p.Pack)
	sent := err == nil
	if code := fault.CodeOf(err); err != nil && code != fault.NotFound && code != fault.Damaged {
		return err
	}
	f := records.Finding{Store: s.Name, Pack: p.Pack, What: what, Mended: sent || p.UnneededAt != nil}
	if sent {
		f.What += "; sent again"
	}
	st.with.Log.Warn("damage in a store", "store", s.Name, "pack", p.Pack, "damage", what, "mended", f.Mended)
	return st.found(ctx, f, out)
}

// Recover brings everything that a store has into the vault. Packs that are there and whole already stay. The
// caller then rebuilds the vault's index, fills the library and calls Recovered. Packs without a key are counted and
// left; when no pack has one, the error has code Refused.
func (st *Stores) Recover(ctx context.Context, name string, see func(done, all int64)) (wire.Recovered, error) {
	out := wire.Recovered{Damaged: []wire.Finding{}}
	s, ctx, done, err := st.workOn(ctx, name)
	if err != nil {
		return out, err
	}
	defer done()
	if err := st.surveyAgain(ctx, s); err != nil {
		return out, err
	}
	list, err := st.with.Records.StorePacks(ctx, s.ID, 0)
	if err != nil {
		return out, err
	}
	var noKey error
	for i, p := range list {
		see(int64(i), int64(len(list)))
		n, err := st.recoverPack(ctx, s, p)
		switch code := fault.CodeOf(err); {
		case ctx.Err() != nil:
			return out, context.Cause(ctx)
		case err == nil && n == 0:
			out.There++
		case err == nil:
			out.Packs++
			out.Bytes += n
		case code == fault.Damaged || code == fault.NotFound:
			what, _ := fault.Words(err)
			out.Damaged = append(out.Damaged, wire.Finding{At: st.now(), Store: name, Pack: p.Pack, What: what})
		case errors.Is(err, errNoKey):
			noKey = err
			out.NoKey++
		default:
			return out, err
		}
	}
	see(int64(len(list)), int64(len(list)))
	if out.Packs+out.There == 0 {
		return out, noKey
	}
	return out, nil
}

// recoverPack brings one pack into the vault, and says how large it is; 0: it was there.
func (st *Stores) recoverPack(ctx context.Context, s records.Store, p records.StorePack) (int64, error) {
	if have, err := st.with.Vault.OpenPack(ctx, p.Pack); err == nil {
		_, err := st.with.Vault.VerifyPack(ctx, p.Pack, have.SectionReader)
		if errors.Join(err, have.Close()) == nil {
			return 0, nil
		}
	}
	data, as, err := st.fetch(ctx, s, p)
	if err != nil {
		return 0, err
	}
	defer data.Close() //nolint:errcheck // it has no name any more
	st.trace("recover " + p.Pack)
	if err := st.with.Vault.Mend(ctx, p.Pack, data.SectionReader); err != nil {
		return 0, err
	}
	return data.Size(), st.with.Records.StorePackChecked(ctx, as)
}

// Recovered notes that a recovery from a store has come to its end, with all that it brought in the library: those
// of its packs that the vault lists are this service's own from now on.
func (st *Stores) Recovered(ctx context.Context, name string) error {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return err
	}
	_, err = st.with.Records.OwnStorePacks(ctx, s.ID, false)
	return err
}

// Check reads a whole store back now, and deletes what nothing needs.
func (st *Stores) Check(ctx context.Context, name string) (wire.StandingCheck, error) {
	out := wire.StandingCheck{Findings: []wire.Finding{}}
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return out, err
	}
	return out, st.checkAndTidy(ctx, s, round, &out)
}
