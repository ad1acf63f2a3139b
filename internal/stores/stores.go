// Package stores keeps everything that the vault has in other places too: packs are encrypted and sent, read
// back in their turn, and what is damaged in one place is mended from another.
package stores

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/secrets"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Config is what stores need.
type Config struct {
	Records *records.Records
	Vault   *vault.Vault
	Secrets *secrets.Keeper
	Counted *records.Counted
	Log     *slog.Logger
	// Data is the service's data folder, Identity what that is known by.
	Data, Identity string
	// Life ends when the service goes away.
	Life context.Context
	// Trace is told where the work stands; tests cut it there.
	Trace func(point string)
}

// Stores is all stores. It is safe for concurrent use.
type Stores struct {
	with Config
	now  func() time.Time
	keys *keys
	wake chan struct{}
	// working is held by whoever sends, checks or removes.
	working sync.Mutex

	mu   sync.Mutex
	open map[int64]*bucket
}

// Open reads the keys; Run begins to send.
func Open(c Config) (*Stores, error) {
	k, err := openKeys(c.Data)
	if err != nil {
		return nil, err
	}
	return &Stores{with: c, now: time.Now, keys: k, wake: make(chan struct{}, 1), open: map[int64]*bucket{}}, nil
}

// Soon has it looked at once whether a store lacks something.
func (st *Stores) Soon() {
	select {
	case st.wake <- struct{}{}:
	default: // it is awake
	}
}

func (st *Stores) trace(point string) {
	if st.with.Trace != nil {
		st.with.Trace(point)
	}
}

// bucket opens a store, once.
func (st *Stores) bucket(ctx context.Context, s records.Store) (*bucket, error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	if b := st.open[s.ID]; b != nil {
		return b, nil
	}
	secret := []byte{}
	if s.Sealed != nil {
		var err error
		if secret, err = st.with.Secrets.Open(s.Sealed, "store "+s.Name); err != nil {
			return nil, err
		}
	}
	b, err := openBucket(s.Name, s.Settings.V, string(secret))
	if err == nil {
		st.open[s.ID] = b
	}
	return b, err
}

var storeName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// Add adds a store, and tries it: what cannot be written to, or belongs to another vault, is not added.
// With recover it is one that has a vault's packs already, which is then read from.
func (st *Stores) Add(ctx context.Context, in wire.NewStore, by string) (wire.Store, error) {
	settings := records.StoreSettings{
		Kind: in.Kind, Folder: in.Folder, Endpoint: in.Endpoint, Bucket: in.Bucket, Prefix: in.Prefix,
		Region: in.Region,
		User:   in.User, Private: in.Private, Plain: in.Plain,
	}
	if !storeName.MatchString(in.Name) {
		return wire.Store{}, fault.New(fault.Invalid, "add store", in.Name,
			"a store's name has small letters, digits and hyphens")
	}
	if err := check(in.Name, settings, in.Secret); err != nil {
		return wire.Store{}, err
	}
	b, err := openBucket(in.Name, settings, in.Secret)
	if err != nil {
		return wire.Store{}, err
	}
	m, err := b.marked(ctx)
	switch {
	case err != nil:
		return wire.Store{}, err
	case m != nil && m.Vault != st.with.Identity && !in.Recover:
		return wire.Store{}, fault.New(fault.Exists, "add store", in.Name,
			"it holds what another vault has sent there on %s",
			m.Made.Format(time.DateOnly)).
			With("To bring that back here: --recover. To use the place for this vault, give another folder or prefix.")
	case m == nil && in.Recover:
		return wire.Store{}, fault.New(fault.NotFound, "add store", in.Name, "it holds nothing of Reshard's").
			With("Look at the folder, or the bucket and prefix. To begin with it, leave --recover out.")
	case m != nil && m.Plain != in.Plain:
		settings.Plain = m.Plain
	}
	if !settings.Plain && !in.Recover {
		if _, made, err := st.keys.current(); err != nil {
			return wire.Store{}, err
		} else if made {
			st.with.Log.Info("made the key that stores are encrypted with; keep a copy of it elsewhere", "file",
				st.keys.file)
		}
	}
	if err := b.setMark(ctx, mark{
		Reshard: markFormat,
		Vault:   st.with.Identity,
		Plain:   settings.Plain,
		Made:    st.now().UTC(),
	}); err != nil {
		return wire.Store{}, err
	}
	rec := records.Store{Name: in.Name, Settings: records.JSON[records.StoreSettings]{V: settings}, CreatedBy: by}
	if in.Secret != "" {
		if rec.Sealed, err = st.with.Secrets.Seal([]byte(in.Secret), "store "+in.Name); err != nil {
			return wire.Store{}, err
		}
	}
	if rec, err = st.with.Records.AddStore(ctx, rec); err != nil {
		return wire.Store{}, err
	}
	if err := st.with.Records.StoreStands(ctx, rec.ID, "", st.now()); err != nil {
		return wire.Store{}, err
	}
	if in.Recover {
		if err := st.survey(ctx, rec); err != nil {
			return wire.Store{}, err
		}
	}
	st.Soon()
	return st.Store(ctx, in.Name)
}

// survey notes what a store has already. What it holds is told apart by its names; whether it is whole the
// standing check finds out.
func (st *Stores) survey(ctx context.Context, rec records.Store) error {
	return st.list(ctx, rec, func(id string, size int64, sealed bool) error {
		key := ""
		if sealed {
			key = "?" // which it is shows when it is read
		}
		return st.with.Records.SetStorePack(ctx, records.StorePack{
			StoreID: rec.ID, Pack: id, Bytes: size, Key: key, Sum: []byte{}, StoredAt: st.now(),
			CheckedAt: time.Unix(0, 0),
		})
	})
}

// list hands out the packs that a store has.
func (st *Stores) list(ctx context.Context, rec records.Store,
	see func(id string, size int64, sealed bool) error) error {
	b, err := st.bucket(ctx, rec)
	if err != nil {
		return err
	}
	for o, err := range b.List(ctx, "packs/") {
		if err != nil {
			return b.wrap("list", err)
		}
		id := strings.TrimSuffix(path.Base(o.Key), sealedEnding)
		if !vault.IsPack(id) {
			continue
		}
		if err := see(id, o.Size, strings.HasSuffix(o.Key, sealedEnding)); err != nil {
			return err
		}
	}
	return nil
}

// sealedEnding ends the name of a pack that is encrypted.
const sealedEnding = ".age"

// keyOf is where a store has a pack.
func keyOf(id string, plain bool) string {
	if plain {
		return vault.PackKey(id)
	}
	return vault.PackKey(id) + sealedEnding
}

// Remove forgets a store; what is in it stays there.
func (st *Stores) Remove(ctx context.Context, name string) error {
	rec, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return err
	}
	if err := st.with.Records.RemoveStore(ctx, rec.ID); err != nil {
		return err
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	delete(st.open, rec.ID)
	return nil
}

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

// Send sends what stores lack. What stops it for one does not for the others.
func (st *Stores) Send(ctx context.Context) error {
	st.working.Lock()
	defer st.working.Unlock()
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return err
	}
	var failed error
	for _, s := range all {
		err := st.sendTo(ctx, s)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		failed = errors.Join(failed, err, st.stands(ctx, s, err))
	}
	return failed
}

// stands records that a store does what is asked, or why not.
func (st *Stores) stands(ctx context.Context, s records.Store, err error) error {
	trouble := ""
	if err != nil {
		trouble, _ = fault.Words(err)
	}
	return st.with.Records.StoreStands(ctx, s.ID, trouble, st.now())
}

// key is the key that counts for a store, "" for none.
func (st *Stores) key(s records.Store) (string, error) {
	if s.Settings.V.Plain {
		return "", nil
	}
	id, _, err := st.keys.current()
	if err != nil {
		return "", err
	}
	return id.Recipient().String(), nil
}

func (st *Stores) sendTo(ctx context.Context, s records.Store) error {
	b, err := st.bucket(ctx, s)
	if err != nil {
		return err
	}
	key, err := st.key(s)
	if err != nil {
		return err
	}
	for {
		lacks, err := st.with.Records.StoreLacks(ctx, s.ID, key, sentInTurn)
		if err != nil || len(lacks) == 0 {
			return err
		}
		sent := 0
		var mu sync.Mutex
		group, gctx := errgroup.WithContext(ctx)
		group.SetLimit(sentAtOnce)
		for _, p := range lacks {
			group.Go(func() (err error) {
				defer fault.Catch(&err)
				if err := st.with.Records.Acting(); err != nil {
					return err
				}
				ok, err := st.sendPack(gctx, s, b, p.ID)
				if ok {
					mu.Lock()
					sent++
					mu.Unlock()
				}
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		if sent == 0 {
			return fault.New(fault.Damaged, "send to", "store "+s.Name,
				"%d packs of the vault do not read, and are not sent", len(lacks)).
				With("reshard vault check says what that touches.")
		}
	}
}

// sendPack sends one pack; false when the vault itself does not have it whole.
func (st *Stores) sendPack(ctx context.Context, s records.Store, b *bucket, id string) (bool, error) {
	data, err := st.with.Vault.ReadPack(ctx, id)
	if err == nil {
		_, err = st.with.Vault.VerifyPack(id, data)
	}
	switch code := fault.CodeOf(err); {
	case code == fault.NotFound || code == fault.Damaged: // the standing check mends it, or tells of it
		return false, nil
	case err != nil:
		return false, err
	}
	key := ""
	if !s.Settings.V.Plain {
		if data, key, err = st.keys.seal(data); err != nil {
			return false, err
		}
	}
	st.trace("send " + id)
	if err := b.put(ctx, keyOf(id, s.Settings.V.Plain), data); err != nil {
		return false, err
	}
	st.trace("sent " + id)
	sum, now := blake3.Sum256(data), st.now()
	return true, st.with.Records.SetStorePack(ctx, records.StorePack{
		StoreID: s.ID, Pack: id, Bytes: int64(len(data)), Key: key, Sum: sum[:], StoredAt: now, CheckedAt: now,
	})
}

// fetch reads a pack from a store and opens it, and says how the store has it. It is not verified yet.
func (st *Stores) fetch(ctx context.Context, s records.Store, p records.StorePack) ([]byte, records.StorePack, error) {
	b, err := st.bucket(ctx, s)
	if err != nil {
		return nil, p, err
	}
	data, err := b.get(ctx, keyOf(p.Pack, s.Settings.V.Plain))
	if err != nil {
		return nil, p, err
	}
	sum := blake3.Sum256(data)
	if len(p.Sum) > 0 && !bytes.Equal(sum[:], p.Sum) {
		return nil, p, fault.New(fault.Damaged, "read from", "store "+s.Name, "%s is not what was sent there", p.Pack)
	}
	p.StoreID, p.Bytes, p.Sum, p.Key = s.ID, int64(len(data)), sum[:], ""
	if p.CheckedAt = st.now(); p.StoredAt.IsZero() {
		p.StoredAt = p.CheckedAt
	}
	if !s.Settings.V.Plain {
		data, p.Key, err = st.keys.open(data)
	}
	return data, p, err
}

// Rotate makes a new key. What stores have is encrypted for it anew, by and by.
func (st *Stores) Rotate(ctx context.Context) (wire.StoreKeys, error) {
	if err := st.keys.rotate(); err != nil {
		return wire.StoreKeys{}, err
	}
	st.Soon()
	return st.Keys(ctx)
}

// Keys tells of the keys that stores are encrypted with, without telling them.
func (st *Stores) Keys(ctx context.Context) (wire.StoreKeys, error) {
	out := wire.StoreKeys{File: st.keys.file, Keys: []wire.StoreKey{}}
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return out, err
	}
	packs := map[string]int{}
	for _, s := range all {
		list, err := st.with.Records.StorePacks(ctx, s.ID, 0)
		if err != nil {
			return out, err
		}
		for _, p := range list {
			packs[p.Key]++
		}
	}
	st.keys.mu.Lock()
	defer st.keys.mu.Unlock()
	for i, id := range st.keys.all {
		public := id.Recipient().String()
		out.Keys = append(out.Keys, wire.StoreKey{Public: public, Counts: i == 0, Packs: packs[public]})
	}
	return out, nil
}

// Store tells of one store.
func (st *Stores) Store(ctx context.Context, name string) (wire.Store, error) {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return wire.Store{}, err
	}
	return st.wireStore(ctx, s)
}

// Stores tells of all stores.
func (st *Stores) Stores(ctx context.Context) ([]wire.Store, error) {
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Store, len(all))
	for i, s := range all {
		if out[i], err = st.wireStore(ctx, s); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (st *Stores) wireStore(ctx context.Context, s records.Store) (wire.Store, error) {
	key, err := st.key(s)
	if err != nil {
		return wire.Store{}, err
	}
	lag, err := st.with.Records.LagOf(ctx, s.ID, key)
	if err != nil {
		return wire.Store{}, err
	}
	v := s.Settings.V
	out := wire.Store{
		Name: s.Name, Kind: v.Kind, Folder: v.Folder, Endpoint: v.Endpoint, Bucket: v.Bucket, Prefix: v.Prefix,
		Region: v.Region,
		User:   v.User, Private: v.Private, Plain: v.Plain, CreatedBy: s.CreatedBy, CreatedAt: s.CreatedAt,
		Reached: s.ReachedAt,
		Trouble: s.Trouble, Packs: lag.Has, Bytes: lag.HasBytes, Lacks: lag.Packs, LacksBytes: lag.Bytes,
		Behind:  lag.Since,
		OldKeys: lag.OldKeys,
	}
	if lag.Checked != nil && lag.Checked.Unix() > 0 {
		out.Checked = lag.Checked
	}
	return out, nil
}

// behindFor is how long a store may lack something before that needs a person.
const behindFor = 6 * time.Hour

// Alerts tells which stores need a person.
func (st *Stores) Alerts(ctx context.Context) (out []wire.Alert, err error) {
	all, err := st.with.Records.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		now, err := st.wireStore(ctx, s)
		if err != nil {
			return nil, err
		}
		next := "reshard stores show " + s.Name
		switch {
		case s.Trouble != "" && s.TroubleSince != nil:
			out = append(out, wire.Alert{
				Kind: "store", Of: s.Name, Says: "Store " + s.Name + ": " + s.Trouble, Next: next,
				Since: *s.TroubleSince,
			})
		case now.Behind != nil && st.now().Sub(*now.Behind) > behindFor:
			out = append(out, wire.Alert{
				Kind: "store", Of: s.Name, Says: fmt.Sprintf(
					"Store %s is behind: it lacks %d packs, the oldest since %s.", s.Name, now.Lacks,
					now.Behind.UTC().Format("2 January 15:04 MST")), Next: next, Since: now.Behind.Add(behindFor),
			})
		}
	}
	found, err := st.with.Records.Findings(ctx, 50)
	if err != nil {
		return nil, err
	}
	for _, f := range found {
		if !f.Mended && st.now().Sub(f.At) < 30*24*time.Hour {
			where := "the vault"
			if f.Store != "" {
				where = "store " + f.Store
			}
			out = append(out, wire.Alert{
				Kind: "store", Of: f.Store + " " + f.Pack,
				Says: "Damage in " + where + " that nothing could mend: " + f.What,
				Next: "reshard vault check says what that touches.", Since: f.At,
			})
			break
		}
	}
	return out, nil
}
