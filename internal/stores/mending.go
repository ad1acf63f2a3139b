package stores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// CheckVault reads everything back that the vault has, mends what is damaged from the stores, and says which copies
// still need something that is damaged or missing. see is told how many bytes were read, of how many.
func (st *Stores) CheckVault(ctx context.Context, see func(done, all int64)) (wire.VaultChecked, error) {
	out := wire.VaultChecked{
		Damaged: []wire.VaultDamage{}, Mended: []wire.VaultMended{}, Touched: []wire.VaultTouched{},
	}
	packs, err := st.with.Vault.Packs(ctx)
	if err != nil {
		return out, err
	}
	m, err := st.mender(ctx)
	if err != nil {
		return out, err
	}
	all := int64(0)
	for _, p := range packs {
		all += p.Known
	}
	known := map[string]bool{}
	for _, p := range packs {
		known[p.ID] = true
		if err := m.look(ctx, p.ID); err != nil {
			return out, err
		}
		out.Entries += p.Entries
		see(m.found.Bytes, all)
	}
	for _, id := range m.broken { // nothing of those is left in the index
		if !known[id] {
			if err := m.look(ctx, id); err != nil {
				return out, err
			}
		}
	}
	out.Packs, out.Bytes, out.Mended = m.found.Packs, m.found.Bytes, append(out.Mended, m.mended...)
	for _, d := range m.damaged {
		out.Damaged = append(out.Damaged, wire.VaultDamage(d))
	}
	touched, err := st.tellDamage(ctx)
	for _, t := range touched {
		out.Touched = append(out.Touched, wire.VaultTouched(t))
	}
	if err != nil || len(touched) > 0 {
		return out, err
	}
	for _, id := range m.broken { // what was damaged in them is needed by nothing any more
		f := records.Finding{Pack: id, What: "nothing needs what was damaged in it any more", Mended: true}
		if err := st.with.Records.AddFinding(ctx, f); err != nil {
			return out, err
		}
	}
	out.Damaged = slices.DeleteFunc(out.Damaged, func(d wire.VaultDamage) bool {
		return slices.Contains(m.broken, d.Pack)
	})
	return out, nil
}

// mender reads packs of the vault back, and mends those that are damaged.
type mender struct {
	of     *Stores
	stores []records.Store
	// broken are packs whose damage nothing could mend before.
	broken  []string
	found   *wire.StandingCheck
	damaged []vault.Damage
	mended  []wire.VaultMended
}

func (st *Stores) mender(ctx context.Context) (*mender, error) {
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return nil, err
	}
	broken, err := st.with.Records.BrokenPacks(ctx, "")
	return &mender{of: st, stores: all, broken: broken, found: &wire.StandingCheck{Findings: []wire.Finding{}}}, err
}

// mendRest is how long a pack that nothing could mend is not asked for again by those who read.
const mendRest = time.Minute

// Mend mends a pack that somebody could not read, or with "" those whose damage nothing could mend before. An error: it
// is not whole now.
func (st *Stores) Mend(ctx context.Context, pack string) error {
	_, err, _ := st.mending.Do(pack, func() (any, error) {
		if at, tried := st.unmended.Get(pack); tried && st.now().Sub(at) < mendRest {
			return nil, errUnmended
		}
		m, err := st.mender(ctx)
		if err != nil {
			return nil, err
		}
		packs := m.broken
		if pack != "" {
			packs = []string{pack}
		}
		for _, id := range packs {
			if err := m.look(ctx, id); err != nil {
				return nil, err
			}
		}
		if len(m.damaged)+len(m.mended) > 0 {
			if _, err := st.tellDamage(ctx); err != nil {
				return nil, err
			}
		}
		if len(m.mended) == 0 {
			st.unmended.Add(pack, st.now())
			return nil, errUnmended
		}
		return nil, nil
	})
	return err
}

var errUnmended = errors.New("no store has it whole")

// look reads a pack back. One that is damaged, or was and could not be mended, is put anew as a store has it.
func (m *mender) look(ctx context.Context, id string) error {
	st := m.of
	n, err := st.with.Vault.CheckPack(ctx, id)
	m.found.Packs++
	m.found.Bytes += n
	before := slices.Contains(m.broken, id)
	if err == nil && before {
		err = fault.New(fault.Damaged, "read pack", id, "what was damaged in it has not been mended yet")
	}
	if fault.CodeOf(err) == fault.Damaged {
		err = m.mend(ctx, id, err, before)
	}
	if err != nil {
		return err
	}
	return st.with.Records.PackChecked(ctx, id, st.now())
}

// mend puts a pack as a store has it in the place of one that is damaged in the vault. Where no store has it whole, the
// copies and backups that it touches are damaged. before: that has been recorded.
func (m *mender) mend(ctx context.Context, id string, damage error, before bool) error {
	st := m.of
	what, _ := fault.Words(damage)
	for _, s := range m.stores {
		err := st.mendFrom(ctx, s, id)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err == nil {
			st.with.Log.Warn("a damaged pack of the vault was mended", "pack", id, "from", s.Name, "damage", what)
			m.mended = append(m.mended, wire.VaultMended{Pack: id, Store: s.Name, Why: what})
			m.broken = slices.DeleteFunc(slices.Clone(m.broken), func(b string) bool { return b == id })
			if err := st.wellIn(ctx, s, id); err != nil {
				return err
			}
			return st.found(ctx, records.Finding{Pack: id, What: what + "; mended from store " + s.Name, Mended: true},
				m.found)
		}
		st.with.Log.Warn("a store cannot mend the vault", "pack", id, "store", s.Name, "error", err)
	}
	st.with.Log.Error("damage in the vault that nothing can mend", "pack", id, "damage", what)
	damaged, err := st.with.Vault.DropDamaged(ctx, id)
	if err != nil {
		return err
	}
	if before {
		m.damaged = append(m.damaged, vault.Damage{Pack: id, Why: what})
		return nil
	}
	if len(damaged) == 0 {
		return nil // it reads after all, or nothing of it is needed any more
	}
	m.damaged = append(m.damaged, damaged...)
	return st.found(ctx, records.Finding{Pack: id, What: what}, m.found)
}

// wellIn notes that a pack of a store reads whole, if damage of it was found there before.
func (st *Stores) wellIn(ctx context.Context, s records.Store, id string) error {
	broken, err := st.with.Records.BrokenPacks(ctx, s.Name)
	if err != nil || !slices.Contains(broken, id) {
		return err
	}
	f := records.Finding{Store: s.Name, Pack: id, What: "it reads whole", Mended: true}
	return st.with.Records.AddFinding(ctx, f)
}

// mendFrom puts a pack as a store has it into the vault.
func (st *Stores) mendFrom(ctx context.Context, s records.Store, id string) error {
	data, _, err := st.fetch(ctx, s, records.StorePack{Pack: id})
	if err != nil {
		return err
	}
	defer data.Close() //nolint:errcheck // it has no name any more
	st.trace("mend " + id)
	return st.with.Vault.Mend(ctx, id, data.SectionReader)
}

// tellDamage finds out which copies and backups lack something, and notes it; those that lack nothing are whole.
func (st *Stores) tellDamage(ctx context.Context) ([]vault.Touched, error) {
	kept, err := st.with.Records.Kept(ctx)
	if err != nil {
		return nil, err
	}
	touched, err := st.with.Vault.Touched(ctx, kept)
	if err != nil {
		return nil, err
	}
	copies, backups := map[string]string{}, map[int64]bool{}
	for _, t := range touched {
		say := "what it lists does not read"
		if len(t.Files) > 0 {
			say = fmt.Sprintf("%d of its files do not read, such as %s", t.Count, t.Files[0])
		}
		copies[t.Copy] = say
		ids, err := st.with.Records.BackupsWith(ctx, []string{t.Copy})
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			backups[id] = true
		}
		if err := st.with.Records.SetDamage(ctx, ids, say, st.now()); err != nil {
			return nil, err
		}
	}
	damaged, err := st.with.Records.DamagedBackups(ctx)
	if err != nil {
		return nil, err
	}
	var whole []int64
	for _, d := range damaged {
		if !backups[d.ID] {
			whole = append(whole, d.ID)
		}
	}
	if len(whole) > 0 {
		if err := st.with.Records.SetDamage(ctx, whole, "", st.now()); err != nil {
			return nil, err
		}
	}
	return touched, st.with.Records.SetCopyDamage(ctx, copies, st.now())
}
