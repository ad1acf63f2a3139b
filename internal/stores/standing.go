package stores

import (
	"context"
	"errors"
	"fmt"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// round is how long the standing check takes at most to read everything back once, of the vault and of each
// store.
const round = 28 * 24 * time.Hour

// keptThere is how long a store keeps a pack that the vault does not need any more.
const keptThere = 7 * 24 * time.Hour

// Standing reads a share of everything back, as much as since has passed of a round, and mends what is
// damaged. It says what it has read and found.
func (st *Stores) Standing(ctx context.Context, since time.Duration) (wire.StandingCheck, error) {
	st.working.Lock()
	defer st.working.Unlock()
	out := wire.StandingCheck{Findings: []wire.Finding{}}
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return out, err
	}
	if err := st.checkVault(ctx, all, since, &out); err != nil {
		return out, err
	}
	var failed error
	for _, s := range all {
		failed = errors.Join(failed, st.checkStore(ctx, s, since, &out), st.tidyStore(ctx, s))
	}
	return out, failed
}

// share is how many of all packs are read back.
func share(all int, since time.Duration) int {
	n := int((int64(all)*int64(min(since, round)) + int64(round) - 1) / int64(round))
	return min(all, max(n, 1))
}

// checkVault reads packs of the vault back, those first that were read longest ago.
func (st *Stores) checkVault(ctx context.Context, all []records.Store, since time.Duration,
	out *wire.StandingCheck) error {
	_, total, err := st.with.Records.UncheckedPacks(ctx, 0)
	if err != nil || total == 0 {
		return err
	}
	ids, _, err := st.with.Records.UncheckedPacks(ctx, share(total, since))
	if err != nil {
		return err
	}
	for _, id := range ids {
		n, err := st.with.Vault.CheckPack(ctx, id)
		out.Packs++
		out.Bytes += n
		if fault.CodeOf(err) == fault.Damaged {
			err = st.mend(ctx, all, id, err, out)
		}
		if err != nil {
			return err
		}
		if err := st.with.Records.PackChecked(ctx, id, st.now()); err != nil {
			return err
		}
	}
	return nil
}

// mend puts a pack as a store has it in the place of one that is damaged in the vault. Where no store has it
// whole, the backups that it touches are damaged.
func (st *Stores) mend(ctx context.Context, all []records.Store, id string, damage error,
	out *wire.StandingCheck) error {
	what, _ := fault.Words(damage)
	for _, s := range all {
		data, _, err := st.fetch(ctx, s, records.StorePack{Pack: id})
		if err == nil {
			st.trace("mend " + id)
			err = st.with.Vault.Mend(ctx, id, data)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err == nil {
			st.with.Log.Warn("a damaged pack of the vault was mended", "pack", id, "from", s.Name, "damage", what)
			return st.found(ctx, records.Finding{Pack: id, What: what + "; mended from store " + s.Name, Mended: true},
				out)
		}
		st.with.Log.Warn("a store cannot mend the vault", "pack", id, "store", s.Name, "error", err)
	}
	st.with.Log.Error("damage in the vault that nothing can mend", "pack", id, "damage", what)
	if _, err := st.with.Vault.DropDamaged(ctx, id); err != nil {
		return err
	}
	if err := st.found(ctx, records.Finding{Pack: id, What: what}, out); err != nil {
		return err
	}
	return st.tellBackups(ctx)
}

// tellBackups finds out which backups lack something.
func (st *Stores) tellBackups(ctx context.Context) error {
	kept, err := st.with.Records.Kept(ctx)
	if err != nil {
		return err
	}
	touched, err := st.with.Vault.Touched(ctx, kept)
	if err != nil {
		return err
	}
	for _, t := range touched {
		ids, err := st.with.Records.BackupsWith(ctx, []string{t.Copy})
		if err != nil {
			return err
		}
		say := "what it lists does not read"
		if len(t.Files) > 0 {
			say = fmt.Sprintf("%d of its files do not read, such as %s", t.Count, t.Files[0])
		}
		if err := st.with.Records.SetDamage(ctx, ids, say, st.now()); err != nil {
			return err
		}
	}
	return nil
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

// checkStore reads packs of a store back. What is damaged or gone is forgotten, so that it is sent again.
func (st *Stores) checkStore(ctx context.Context, s records.Store, since time.Duration, out *wire.StandingCheck) error {
	key, err := st.key(s)
	if err != nil {
		return err
	}
	lag, err := st.with.Records.LagOf(ctx, s.ID, key)
	if err != nil || lag.Has == 0 {
		return err
	}
	list, err := st.with.Records.StorePacks(ctx, s.ID, share(lag.Has, since))
	if err != nil {
		return err
	}
	for _, p := range list {
		data, as, err := st.fetch(ctx, s, p)
		if err == nil {
			_, err = st.with.Vault.VerifyPack(p.Pack, data)
		}
		out.Packs++
		out.Bytes += p.Bytes
		switch code := fault.CodeOf(err); {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case err == nil:
			if err := st.with.Records.StorePackChecked(ctx, as); err != nil {
				return err
			}
		case code == fault.Damaged || code == fault.NotFound:
			if err := st.sendAgain(ctx, s, p, err, out); err != nil {
				return err
			}
		default:
			return errors.Join(err, st.stands(ctx, s, err))
		}
	}
	return nil
}

// sendAgain sends a pack anew that a store has lost or damaged, where the vault has it whole.
func (st *Stores) sendAgain(ctx context.Context, s records.Store, p records.StorePack, damage error,
	out *wire.StandingCheck) error {
	what, _ := fault.Words(damage)
	if err := st.with.Records.ForgetStorePack(ctx, s.ID, p.Pack); err != nil {
		return err
	}
	b, err := st.bucket(ctx, s)
	if err != nil {
		return err
	}
	sent, err := st.sendPack(ctx, s, b, p.Pack)
	if err != nil {
		return errors.Join(err, st.stands(ctx, s, err))
	}
	f := records.Finding{Store: s.Name, Pack: p.Pack, What: what, Mended: sent || p.UnneededAt != nil}
	if sent {
		f.What += "; sent again"
	}
	st.with.Log.Warn("damage in a store", "store", s.Name, "pack", p.Pack, "damage", what, "mended", f.Mended)
	return st.found(ctx, f, out)
}

// tidyStore removes what the vault has not needed for long enough. While any copy that is to be kept lacks
// something in the vault, nothing is removed: what a store has may be all that is left of it.
func (st *Stores) tidyStore(ctx context.Context, s records.Store) error {
	if err := st.with.Records.Acting(); err != nil {
		return err
	}
	if err := st.with.Records.MarkUnneeded(ctx, st.with.Counted.Now()); err != nil {
		return err
	}
	old, err := st.with.Records.Unneeded(ctx, s.ID, st.with.Counted.Now().Add(-keptThere))
	if err != nil || len(old) == 0 {
		return err
	}
	kept, err := st.with.Records.Kept(ctx)
	if err != nil {
		return err
	}
	touched, err := st.with.Vault.Touched(ctx, kept)
	if err != nil || len(touched) > 0 || len(kept) == 0 {
		return err
	}
	b, err := st.bucket(ctx, s)
	if err != nil {
		return err
	}
	for _, p := range old {
		if err := st.with.Records.Acting(); err != nil {
			return err
		}
		st.trace("remove " + p.Pack)
		err := b.wrap("remove from", b.Delete(ctx, keyOf(p.Pack, s.Settings.V.Plain)))
		if err != nil && fault.CodeOf(err) != fault.NotFound {
			return err
		}
		if err := st.with.Records.ForgetStorePack(ctx, s.ID, p.Pack); err != nil {
			return err
		}
	}
	return nil
}

// Recover brings everything that a store has into the vault: packs that are there and whole already stay. The
// vault's index is then to be made anew from them.
func (st *Stores) Recover(ctx context.Context, name string, see func(done, all int64)) (wire.Recovered, error) {
	st.working.Lock()
	defer st.working.Unlock()
	out := wire.Recovered{Damaged: []wire.Finding{}}
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return out, err
	}
	list, err := st.with.Records.StorePacks(ctx, s.ID, 0)
	if err != nil {
		return out, err
	}
	for i, p := range list {
		see(int64(i), int64(len(list)))
		if have, err := st.with.Vault.ReadPack(ctx, p.Pack); err == nil {
			if _, err := st.with.Vault.VerifyPack(p.Pack, have); err == nil {
				out.There++
				continue
			}
		}
		data, as, err := st.fetch(ctx, s, p)
		if err == nil {
			st.trace("recover " + p.Pack)
			err = st.with.Vault.Mend(ctx, p.Pack, data)
		}
		if err == nil {
			err = st.with.Records.StorePackChecked(ctx, as)
		}
		switch code := fault.CodeOf(err); {
		case ctx.Err() != nil:
			return out, context.Cause(ctx)
		case err == nil:
			out.Packs++
			out.Bytes += int64(len(data))
		case code == fault.Damaged || code == fault.NotFound:
			what, _ := fault.Words(err)
			out.Damaged = append(out.Damaged, wire.Finding{At: st.now(), Store: name, Pack: p.Pack, What: what})
		default:
			return out, err
		}
	}
	see(int64(len(list)), int64(len(list)))
	return out, nil
}

// Check reads a whole store back, or the vault when it is "", now.
func (st *Stores) Check(ctx context.Context, name string) (wire.StandingCheck, error) {
	st.working.Lock()
	defer st.working.Unlock()
	out := wire.StandingCheck{Findings: []wire.Finding{}}
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return out, err
	}
	return out, errors.Join(st.checkStore(ctx, s, round, &out), st.tidyStore(ctx, s))
}
