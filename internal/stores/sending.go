package stores

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/records"
)

// Run sends what stores lack, at once after a backup and else now and then, until ctx ends.
func (st *Stores) Run(ctx context.Context) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		if st.with.Records.Acting() == nil {
			if err := fault.Safely(func() error { return st.Send(ctx) }); err != nil && ctx.Err() == nil {
				st.with.Log.Warn("a store is not up to date", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-st.wake:
		case <-tick.C:
		}
	}
}

// sentAtOnce is how many packs are sent to a store at the same time.
const sentAtOnce = 2

// sentInTurn is how many are sent before it is looked what else has come.
const sentInTurn = 64

// failuresInRow is the number of refused packs, with none accepted, after which a store's turn ends: the cause is not
// in the packs.
const failuresInRow = 3

// Send sends what stores lack, to all of them at the same time. What stops it for one does not for the others.
func (st *Stores) Send(ctx context.Context) error {
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return err
	}
	failed := make([]error, len(all))
	var group errgroup.Group
	for i, s := range all {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			turn, done, err := st.work(ctx, s)
			if err != nil {
				return err
			}
			defer done()
			err = st.sendTo(turn, s)
			if turn.Err() != nil {
				return context.Cause(turn)
			}
			failed[i] = errors.Join(err, st.stands(turn, s, err))
			return nil
		})
	}
	err = group.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, errRemoved) {
		err = nil
	}
	return errors.Join(append(failed, err)...)
}

// sendTo sends the packs that a store lacks, and then re-encrypts those of older keys.
func (st *Stores) sendTo(ctx context.Context, s records.Store) error {
	if !s.Writes { // it is still looked whether it is there
		b, err := st.enter(ctx, s)
		if err != nil {
			return err
		}
		return b.Close()
	}
	s, err := st.begin(ctx, s)
	if err != nil {
		return err
	}
	if s.SurveyedAt == nil {
		if err := st.surveyAgain(ctx, s); err != nil {
			return err
		}
	}
	for lacking := true; ; {
		id, err := st.identity(s)
		if err != nil {
			return err
		}
		var packs []records.PackOfVault
		if lacking {
			packs, err = st.with.Records.StoreLacks(ctx, s.ID, st.now(), sentInTurn)
		} else {
			packs, err = st.with.Records.StoreOldKeys(ctx, s.ID, public(id), st.now(), sentInTurn)
		}
		switch {
		case err != nil:
			return err
		case len(packs) == 0 && !lacking:
			return st.waiting(ctx, s)
		case len(packs) == 0:
			lacking = false
			continue
		}
		if err := st.sendPacks(ctx, s, id, packs); err != nil {
			return err
		}
		lacking = true // new packs come before re-encryption
	}
}

func public(id *age.X25519Identity) string {
	if id == nil {
		return ""
	}
	return id.Recipient().String()
}

// waiting tells of packs that a store did not take.
func (st *Stores) waiting(ctx context.Context, s records.Store) error {
	list, err := st.with.Records.StoreWaits(ctx, s.ID, 1000)
	if err != nil || len(list) == 0 {
		return err
	}
	packs := "one pack; Reshard retries it"
	if len(list) > 1 {
		packs = fmt.Sprintf("%d packs; Reshard retries them", len(list))
	}
	return fault.New(fault.Refused, "send to", "store "+s.Name, "the store does not accept %s later. Latest reason: %s",
		packs, list[len(list)-1].Trouble).With("See the list: reshard stores show " + s.Name)
}

// surveyAgain lists a store whose list is not on record.
func (st *Stores) surveyAgain(ctx context.Context, s records.Store) error {
	b, err := st.enter(ctx, s)
	if err != nil {
		return err
	}
	defer b.Close() //nolint:errcheck // only read
	return st.survey(ctx, s, b)
}

// wholeStore is an error that is not of one pack: no other could be sent either.
type wholeStore struct{ error }

func (w wholeStore) Unwrap() error { return w.error }

// sendPacks sends some packs. One that the store does not accept waits; the others are sent.
func (st *Stores) sendPacks(ctx context.Context, s records.Store, id *age.X25519Identity,
	packs []records.PackOfVault) error {
	type failure struct {
		pack string
		err  error
	}
	var mu sync.Mutex
	var failed []failure
	sent, inRow := 0, 0
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(sentAtOnce)
	for _, p := range packs {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			if err := errors.Join(context.Cause(gctx), st.with.Records.Acting()); err != nil {
				return err
			}
			st.giveWay(gctx)
			err = st.sendPack(gctx, s, id, p.ID)
			if gctx.Err() != nil {
				return context.Cause(gctx)
			}
			mu.Lock()
			defer mu.Unlock()
			var whole wholeStore
			switch code := fault.CodeOf(err); {
			case err == nil:
				sent, inRow = sent+1, 0
				return nil
			case errors.As(err, &whole), code == fault.NoSpace, code == fault.StandsBy:
				return err
			}
			failed, inRow = append(failed, failure{p.ID, err}), inRow+1
			if inRow >= failuresInRow && sent == 0 {
				return wholeStore{err}
			}
			return nil
		})
	}
	err := group.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	for _, f := range failed {
		if sent == 0 && fault.CodeOf(f.err) == fault.Unreachable { // so is the whole store, as far as we know
			err = errors.Join(err, f.err)
			continue
		}
		what, _ := fault.Words(f.err)
		if err := st.with.Records.StorePackWaits(ctx, s.ID, f.pack, what, st.now()); err != nil {
			return err
		}
	}
	return err
}

// longestYield bounds how long a pack waits while the vault stores something.
const longestYield = 5 * time.Second

// giveWay waits while something is being stored: a backup goes before its second copy.
func (st *Stores) giveWay(ctx context.Context) {
	for end := time.Now().Add(longestYield); st.with.Vault.Storing() && time.Now().Before(end); {
		select {
		case <-ctx.Done():
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// sendPack sends one pack, encrypted for a key, nil for none. Code Damaged or NotFound: the vault itself does not
// have it whole.
func (st *Stores) sendPack(ctx context.Context, s records.Store, id *age.X25519Identity, pack string) error {
	data, err := st.with.Vault.OpenPack(ctx, pack)
	if err != nil {
		return err
	}
	defer data.Close() //nolint:errcheck // only read
	if _, err = st.with.Vault.VerifyPack(ctx, pack, data.SectionReader); err != nil {
		if fault.CodeOf(err) == fault.Damaged { // the standing check mends it, or tells of it
			err = fault.New(fault.Damaged, "send", "pack "+pack, "the pack is damaged in the vault itself").
				With("See what that affects: reshard vault check")
		}
		return err
	}
	st.trace("send " + pack)
	b, err := st.enter(ctx, s)
	if err != nil {
		return wholeStore{err}
	}
	defer b.Close() //nolint:errcheck // what was written is synced by then
	bytes, sum, err := b.send(ctx, keyOf(pack, id == nil), data, id)
	if err != nil {
		return err
	}
	st.trace("sent " + pack)
	now := st.now()
	return st.with.Records.SetStorePack(ctx, records.StorePack{
		StoreID: s.ID, Pack: pack, Bytes: bytes, Key: public(id), Sum: sum, StoredAt: now, CheckedAt: now,
	})
}

// send writes a blob, encrypted for a key, nil for none, and says how many bytes that are and their sum. The place
// has it on its disk then, or has said so.
func (b *bucket) send(ctx context.Context, key string, data io.Reader, id *age.X25519Identity) (
	int64, []byte, error) {
	w, err := b.Create(ctx, key)
	if err != nil {
		return 0, nil, b.wrap(writingTo, err)
	}
	defer w.Abort()
	sum := blake3.New()
	out := &counting{to: io.MultiWriter(w, sum)}
	var sealed io.WriteCloser = out
	if id != nil {
		if sealed, err = seal(out, id); err != nil {
			return 0, nil, err
		}
	}
	_, err = io.Copy(sealed, data)
	if err == nil {
		err = sealed.Close()
	}
	if err == nil {
		err = w.Close()
	}
	return out.n, sum.Sum(nil), b.wrap(writingTo, err)
}

// counting counts what goes through it.
type counting struct {
	to io.Writer
	n  int64
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.n += int64(n)
	return n, err
}

func (c *counting) Close() error { return nil }
