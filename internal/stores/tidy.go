package stores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// keptThere is how long a store keeps a pack that the vault does not need any more.
const keptThere = 7 * 24 * time.Hour

// Deletions wait for a person if they are more than fewPacks and more than one in largestPart of the store.
const (
	fewPacks    = 10
	largestPart = 10
)

// deletedAt is when a pack that is not needed is deleted, if nothing speaks against it.
func (st *Stores) deletedAt(p records.StorePack) time.Time { return p.UnneededAt.Add(keptThere) }

// isDue reports whether that time has come, by the clock that does not leap.
func (st *Stores) isDue(p records.StorePack) bool {
	return st.deletedAt(p).Before(st.with.Counted.Now())
}

// tidyStore deletes what the vault has not needed for long enough, or notes why a person is asked first.
func (st *Stores) tidyStore(ctx context.Context, s records.Store) error {
	if !s.Writes {
		return nil
	}
	s, err := st.begin(ctx, s)
	if err != nil {
		return err
	}
	due, err := st.due(ctx, s)
	if err != nil {
		return err
	}
	why := ""
	if len(due) > 0 {
		if why, err = st.asks(ctx, s, len(due)); err != nil {
			return err
		}
	}
	if err := st.with.Records.StoreAsks(ctx, s.ID, why, st.now()); err != nil || why != "" {
		return err
	}
	if err := st.delete(ctx, s, due); err != nil {
		what, _ := fault.Words(err)
		why = fmt.Sprintf("some of %d unneeded packs could not be deleted: %s", len(due), what)
		return errors.Join(err, st.with.Records.StoreAsks(ctx, s.ID, why, st.now()))
	}
	return nil
}

// due gives the packs whose time to be deleted has come. There are none while any copy that is to be kept lacks
// something in the vault, or the store lacks something of it: what a store has may be all that is left of it.
func (st *Stores) due(ctx context.Context, s records.Store) (due []records.StorePack, err error) {
	if err := st.with.Records.MarkUnneeded(ctx, st.with.Counted.Now()); err != nil {
		return nil, err
	}
	unneeded, err := st.with.Records.Unneeded(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	due = slices.DeleteFunc(unneeded, func(p records.StorePack) bool { return !st.isDue(p) })
	if len(due) == 0 {
		return nil, nil
	}
	lag, err := st.with.Records.LagOf(ctx, s.ID, "")
	if err != nil || lag.Packs > 0 {
		return nil, err
	}
	kept, err := st.with.Records.Kept(ctx)
	if err != nil || len(kept) == 0 {
		return nil, err
	}
	touched, err := st.with.Vault.Touched(ctx, kept)
	if err != nil || len(touched) > 0 {
		return nil, err
	}
	return due, nil
}

// asks returns why deletions wait for a person, or "" if they may happen now.
func (st *Stores) asks(ctx context.Context, s records.Store, due int) (string, error) {
	key, err := st.key(s)
	if err != nil {
		return "", err
	}
	lag, err := st.with.Records.LagOf(ctx, s.ID, key)
	if err != nil {
		return "", err
	}
	packs := "one pack is no longer needed. Reshard deletes it only after you confirm, because "
	if due > 1 {
		packs = fmt.Sprintf("%d of %d packs are no longer needed. Reshard deletes them only after you confirm, "+
			"because ", due, lag.Has)
	}
	if due > fewPacks && due*largestPart > lag.Has {
		return packs + "they are more than a tenth of the store", nil
	}
	if s.SurveyedAt == nil {
		return packs + "the list of the store's packs is incomplete", nil
	}
	if lag.Troubled > 0 {
		return packs + fmt.Sprintf("%d packs of the store could not be read", lag.Troubled), nil
	}
	held, err := st.with.Records.StoreKeys(ctx, s.ID)
	if err != nil {
		return "", err
	}
	for k, n := range held {
		if k != "" && k != records.UnreadKey && !st.keys.has(k) {
			return packs + fmt.Sprintf("the key of %d packs is missing from %s", n, st.keys.file), nil
		}
	}
	found, err := st.with.Records.Findings(ctx, 50)
	if err != nil {
		return "", err
	}
	for _, f := range found {
		if !f.Mended && (f.Store == "" || f.Store == s.Name) && st.now().Sub(f.At) < tellDamageFor {
			return packs + "Reshard found damage that it could not repair", nil
		}
	}
	return "", nil
}

// delete deletes packs of a store, each after its mark was verified once more.
func (st *Stores) delete(ctx context.Context, s records.Store, packs []records.StorePack) error {
	for _, p := range packs {
		if err := st.with.Records.Acting(); err != nil {
			return err
		}
		if err := st.deletePack(ctx, s, p.Pack); err != nil {
			return err
		}
	}
	return nil
}

func (st *Stores) deletePack(ctx context.Context, s records.Store, pack string) error {
	b, err := st.enter(ctx, s)
	if err != nil {
		return err
	}
	defer b.Close() //nolint:errcheck // it only closes a folder
	st.trace("remove " + pack)
	err = b.wrap(removing, b.Delete(ctx, keyOf(pack, s.Settings.V.Plain)))
	if err != nil && fault.CodeOf(err) != fault.NotFound {
		return err
	}
	return st.with.Records.ForgetStorePack(ctx, s.ID, pack)
}

// Tidy deletes packs of a store that a person has seen listed and confirmed; exactly those. Code Changed: one of them
// is not to be deleted any more, and none was.
func (st *Stores) Tidy(ctx context.Context, name string, packs []string) (wire.Store, error) {
	s, ctx, done, err := st.workOn(ctx, name)
	if err != nil {
		return wire.Store{}, err
	}
	defer done()
	if s, err = st.begin(ctx, s); err != nil {
		return wire.Store{}, err
	}
	due, err := st.due(ctx, s)
	if err != nil {
		return wire.Store{}, err
	}
	confirmed := map[string]bool{}
	for _, id := range packs {
		confirmed[id] = true
	}
	due = slices.DeleteFunc(due, func(p records.StorePack) bool { return !confirmed[p.Pack] })
	if len(due) != len(confirmed) {
		return wire.Store{}, fault.New(fault.Changed, "tidy", "store "+name,
			"%d of the %d packs must stay: the vault needs them again, or the store or a copy in the library is "+
				"incomplete", len(confirmed)-len(due), len(confirmed)).
			With("Look again: reshard stores show " + name)
	}
	st.with.Log.Info("deleting packs that somebody has confirmed", "store", name, "packs", len(due))
	if err := st.delete(ctx, s, due); err != nil {
		return wire.Store{}, err
	}
	if err := st.with.Records.StoreAsks(ctx, s.ID, "", st.now()); err != nil {
		return wire.Store{}, err
	}
	return st.Store(ctx, name)
}
