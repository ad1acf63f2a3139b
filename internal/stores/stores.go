// Package stores keeps everything that the vault has in other places too: packs are encrypted and sent, read
// back in their turn, and what is damaged in one place is mended from another.
package stores

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"filippo.io/age"

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
	// Data is the service's data folder, Identity what that is known by, Name what people know the service by.
	Data, Identity, Name string
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
	// mending has one at a time mend a pack; unmended are those that nothing could mend, with when that was tried.
	mending  singleflight.Group
	unmended *lru.Cache[string, time.Time]

	mu sync.Mutex
	s3 map[int64]*bucket
	at map[int64]*atWork
}

// atWork is the work on one store: one at a time sends, checks, removes or takes over. It ends when the store is
// removed.
type atWork struct {
	turn chan struct{}
	life context.Context
	end  context.CancelCauseFunc
}

// Open reads the keys; Run begins to send.
func Open(c Config) (*Stores, error) {
	k, err := openKeys(c.Data)
	if err != nil {
		return nil, err
	}
	unmended, err := lru.New[string, time.Time](1000)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open", "stores", err)
	}
	return &Stores{
		with: c, now: time.Now, keys: k, wake: make(chan struct{}, 1), s3: map[int64]*bucket{}, at: map[int64]*atWork{},
		unmended: unmended,
	}, nil
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

var errRemoved = errors.New("the store was removed")

// atWorkOn gives the work on a store.
func (st *Stores) atWorkOn(id int64) *atWork {
	st.mu.Lock()
	defer st.mu.Unlock()
	w := st.at[id]
	if w == nil {
		w = &atWork{turn: make(chan struct{}, 1)}
		w.life, w.end = context.WithCancelCause(context.WithoutCancel(st.with.Life))
		st.at[id] = w
	}
	return w
}

// work waits until nobody else works on a store. What it gives as a context ends when the store is removed; done
// gives the turn back.
func (st *Stores) work(ctx context.Context, s records.Store) (_ context.Context, done func(), err error) {
	w := st.atWorkOn(s.ID)
	ctx, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(w.life, func() { cancel(context.Cause(w.life)) })
	select {
	case w.turn <- struct{}{}:
		return ctx, func() { stop(); cancel(nil); <-w.turn }, nil
	case <-ctx.Done():
		stop()
		return nil, nil, fault.Wrap(fault.Interrupted, "work on", "store "+s.Name, context.Cause(ctx))
	}
}

// workOn finds a store by its name, and waits for its turn; see work.
func (st *Stores) workOn(ctx context.Context, name string) (records.Store, context.Context, func(), error) {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return s, ctx, nil, err
	}
	ctx, done, err := st.work(ctx, s)
	return s, ctx, done, err
}

// bucket opens a store; it is the caller's to close.
func (st *Stores) bucket(s records.Store) (*bucket, error) {
	if s.Settings.V.Kind == KindFiles {
		return openFolder(s.Name, s.Settings.V.Folder)
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	if b := st.s3[s.ID]; b != nil {
		return b, nil
	}
	secret, err := st.with.Secrets.Open(s.Sealed, "store "+s.Name)
	if err != nil {
		return nil, err
	}
	b := openS3(s.Name, s.Settings.V, string(secret))
	st.s3[s.ID] = b
	return b, nil
}

var storeName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// Add adds a store, and tries it: a place that cannot be written to, or belongs to another service, is refused.
// With recover the store already has packs; it stays read-only until somebody takes it over.
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
	if _, err := st.with.Records.StoreNamed(ctx, in.Name); err == nil {
		return wire.Store{}, fault.New(fault.Exists, "add store", in.Name, "there is a store of that name").
			With("reshard stores lists them.")
	}
	rec := records.Store{
		Name: in.Name, Settings: records.JSON[records.StoreSettings]{V: settings}, CreatedBy: by, Writes: !in.Recover,
	}
	b, made, err := st.openNew(ctx, rec, in.Secret)
	if err != nil {
		return wire.Store{}, err
	}
	defer b.Close() //nolint:errcheck // it only closes a folder
	rec, err = st.addTo(ctx, b, rec, in.Secret)
	if err != nil {
		if made {
			_ = os.Remove(settings.Folder) // it is empty, or stays
		}
		return wire.Store{}, err
	}
	if err := st.survey(ctx, rec, b); err != nil {
		return wire.Store{}, err
	}
	if err := st.with.Records.StoreStands(ctx, rec.ID, "", "", st.now()); err != nil {
		return wire.Store{}, err
	}
	st.Soon()
	return st.Store(ctx, in.Name)
}

// openNew opens a store that is to be added. A folder is made where it is not there; one that has something else in
// it is refused.
func (st *Stores) openNew(ctx context.Context, s records.Store, secret string) (b *bucket, made bool, err error) {
	v := s.Settings.V
	if v.Kind == KindS3 {
		b := openS3(s.Name, v, secret)
		b.adding = true
		return b, false, nil
	}
	bad := func(code fault.Code, next, format string, args ...any) error {
		return fault.New(code, "add store", s.Name, format, args...).With(next)
	}
	if why, err := st.misplaced(ctx, s); err != nil {
		return nil, false, err
	} else if why != "" {
		return nil, false, bad(fault.Refused, "Give the store its own folder, on another disk or machine.", "%s", why)
	}
	if s.Writes {
		if _, err := os.Stat(v.Folder); errors.Is(err, fs.ErrNotExist) {
			if err := os.MkdirAll(v.Folder, 0o700); err != nil {
				return nil, false, fault.Wrap(fault.Refused, "add store", s.Name, err)
			}
			made = true
		}
	}
	b, err = openFolder(s.Name, v.Folder)
	if err == nil {
		b.adding = true
	}
	return b, made, err
}

// addTo looks at what is marked in a store, marks it as this service's, and puts it on record. One to recover from
// is not marked.
func (st *Stores) addTo(ctx context.Context, b *bucket, rec records.Store, secret string) (records.Store, error) {
	bad := func(code fault.Code, next, format string, args ...any) error {
		return fault.New(code, "add store", rec.Name, format, args...).With(next)
	}
	m, err := b.marked(ctx)
	if err != nil {
		return rec, err
	}
	if err := st.notAnothers(ctx, rec, m); err != nil {
		return rec, err
	}
	foreign := m != nil && m.Vault != st.with.Identity
	switch {
	case foreign && rec.Writes:
		return rec, bad(fault.Exists, "To recover its content: --recover. To start a new store, give another folder "+
			"or prefix.", "it is another service's store. It belongs to %s", whose(m))
	case m == nil && rec.Writes:
		if err := st.isEmpty(ctx, b, rec); err != nil {
			return rec, err
		}
	case m == nil:
		if some, err := b.hasPacks(ctx); err != nil {
			return rec, err
		} else if !some {
			return rec, bad(fault.NotFound, "Check the folder, or the bucket and prefix. To start a new store there, "+
				"omit --recover.", "there is no Reshard store here")
		}
		m = &records.StoreMark{Plain: rec.Settings.V.Plain}
	}
	if m != nil {
		rec.Settings.V.Plain = m.Plain
	}
	if rec.Writes {
		if !rec.Settings.V.Plain {
			if _, made, err := st.keys.current(); err != nil {
				return rec, err
			} else if made {
				st.with.Log.Info("made the key that stores are encrypted with; keep a copy of it elsewhere", "file",
					st.keys.file)
			}
		}
		fresh := st.newMark(m, rec.Settings.V.Plain)
		if err := b.setMark(ctx, fresh); err != nil {
			return rec, err
		}
		m = &fresh
	}
	rec.Mark = &records.JSON[records.StoreMark]{V: *m}
	if secret != "" {
		if rec.Sealed, err = st.with.Secrets.Seal([]byte(secret), "store "+rec.Name); err != nil {
			return rec, err
		}
	}
	return st.with.Records.AddStore(ctx, rec)
}

// isEmpty is an error when there is something at the place of a new store.
func (st *Stores) isEmpty(ctx context.Context, b *bucket, s records.Store) error {
	what := ""
	if s.Settings.V.Kind == KindFiles {
		name, err := emptyFolder(s.Settings.V.Folder)
		if err != nil {
			return fault.Wrap(fault.Refused, "add store", s.Name, err)
		}
		what = name
	} else if some, err := b.hasPacks(ctx); err != nil {
		return err
	} else if some {
		what = "packs"
	}
	if what == "" {
		return nil
	}
	return fault.New(fault.NotEmpty, "add store", s.Name, "the place is not empty (it has %s), and it is not a store",
		what).With("Give an empty folder or an unused prefix. To recover packs from it: --recover.")
}

// survey records the packs that a store has. Packs that are new here count as another service's, and as unread.
func (st *Stores) survey(ctx context.Context, rec records.Store, b *bucket) error {
	var found []records.StorePack
	note := func() error {
		err := st.with.Records.FoundStorePacks(ctx, found)
		found = found[:0]
		return err
	}
	err := b.packs(ctx, func(id string, size int64, sealed bool) error {
		if sealed == rec.Settings.V.Plain {
			return nil
		}
		found = append(found, records.StorePack{
			StoreID: rec.ID, Pack: id, Bytes: size, Key: records.UnreadKey, Sum: []byte{}, StoredAt: st.now(),
			CheckedAt: time.Unix(0, 0),
		})
		if len(found) < 500 {
			return nil
		}
		return note()
	})
	if err == nil {
		err = note()
	}
	if err != nil {
		return err
	}
	return st.with.Records.StoreSurveyed(ctx, rec.ID, st.now())
}

// Remove forgets a store and ends all work on it. Its content stays.
func (st *Stores) Remove(ctx context.Context, name string) error {
	rec, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return err
	}
	w := st.atWorkOn(rec.ID)
	w.end(fault.Wrap(fault.Interrupted, "work on", "store "+name, errRemoved))
	select {
	case w.turn <- struct{}{}: // and nobody has it again
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	err = st.with.Records.RemoveStore(ctx, rec.ID)
	st.mu.Lock()
	defer st.mu.Unlock()
	delete(st.s3, rec.ID)
	if err != nil { // the store stays
		delete(st.at, rec.ID)
	}
	return err
}

// Confirm accepts a store's place that would be refused for a new store.
func (st *Stores) Confirm(ctx context.Context, name, by string) (wire.Store, error) {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return wire.Store{}, err
	}
	why, err := st.misplaced(ctx, s)
	if err != nil {
		return wire.Store{}, err
	}
	if why == "" {
		return wire.Store{}, fault.New(fault.WrongState, "confirm", "store "+name, "its place needs no confirmation")
	}
	if err := st.with.Records.ConfirmPlace(ctx, s.ID, by, st.now()); err != nil {
		return wire.Store{}, err
	}
	st.Soon()
	return st.Store(ctx, name)
}

// stands records that a store does what is asked, or why not and what helps.
func (st *Stores) stands(ctx context.Context, s records.Store, err error) error {
	trouble, next := "", ""
	if err != nil {
		trouble, next = fault.Words(err)
		if _, what, ok := strings.Cut(trouble, "store "+s.Name+": "); ok { // the name is shown next to it
			trouble = what
		}
	}
	return st.with.Records.StoreStands(ctx, s.ID, trouble, next, st.now())
}

// key is the public part of the key that counts for a store, "" for none.
func (st *Stores) key(s records.Store) (string, error) {
	id, err := st.identity(s)
	if id == nil {
		return "", err
	}
	return id.Recipient().String(), err
}

// identity is the key that counts for a store, nil for none.
func (st *Stores) identity(s records.Store) (*age.X25519Identity, error) {
	if s.Settings.V.Plain {
		return nil, nil
	}
	id, _, err := st.keys.current()
	return id, err
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
	packs, err := st.with.Records.StoreKeys(ctx, 0)
	if err != nil {
		return out, err
	}
	out.Unread = packs[records.UnreadKey]
	st.keys.mu.Lock()
	defer st.keys.mu.Unlock()
	for i, id := range st.keys.all {
		public := id.Recipient().String()
		out.Keys = append(out.Keys, wire.StoreKey{Public: public, Counts: i == 0, Packs: packs[public]})
	}
	return out, nil
}

// Store tells of one store, with what waits to be sent there and what will be deleted there.
func (st *Stores) Store(ctx context.Context, name string) (wire.Store, error) {
	s, err := st.with.Records.StoreNamed(ctx, name)
	if err != nil {
		return wire.Store{}, err
	}
	out, err := st.wireStore(ctx, s)
	if err != nil {
		return out, err
	}
	waits, err := st.with.Records.StoreWaits(ctx, s.ID, 20)
	if err != nil {
		return out, err
	}
	for _, w := range waits {
		out.Waiting = append(out.Waiting, wire.StoreWait{
			Pack: w.Pack, Tries: w.Tries, Again: w.AgainAt, Why: w.Trouble,
		})
	}
	unneeded, err := st.with.Records.Unneeded(ctx, s.ID)
	if err != nil {
		return out, err
	}
	for _, p := range unneeded {
		out.Deletes = append(out.Deletes, wire.StoreDeletion{
			Pack: p.Pack, Bytes: p.Bytes, At: st.deletedAt(p), Due: st.isDue(p),
		})
	}
	return out, nil
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
		Reached: s.ReachedAt, ReadOnly: !s.Writes,
		Trouble: s.Trouble, TroubleNext: s.TroubleNext, Packs: lag.Has, Bytes: lag.HasBytes, Lacks: lag.Packs,
		LacksBytes: lag.Bytes, Behind: lag.Since, OldKeys: lag.OldKeys, Unread: lag.Unread, Foreign: lag.Foreign,
		Waits: lag.Waits, Warnings: st.warnings(s), Asks: s.Asks,
	}
	if !s.Writes { // nothing is sent there
		out.Lacks, out.LacksBytes, out.Behind, out.OldKeys = 0, 0, nil, 0
	}
	if lag.Checked != nil && lag.Checked.Unix() > 0 {
		out.Checked = lag.Checked
	}
	return out, nil
}

// tellDamageFor is how long an alert reports damage that could not be repaired.
const tellDamageFor = 30 * 24 * time.Hour

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
		if s.Asks != "" && s.AsksSince != nil {
			out = append(out, wire.Alert{
				Kind: "store", Of: s.Name + " deletes", Says: "Store " + s.Name + ": " + s.Asks,
				Next: "reshard stores tidy " + s.Name, Since: *s.AsksSince,
			})
		}
		switch {
		case s.Trouble != "" && s.TroubleSince != nil:
			if s.TroubleNext != "" {
				next = s.TroubleNext
			}
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
	told := map[[2]string]bool{}
	for _, f := range found { // the newest first: what was mended since is well
		of := [2]string{f.Store, f.Pack}
		if told[of] {
			continue
		}
		told[of] = true
		if !f.Mended && st.now().Sub(f.At) < tellDamageFor {
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
