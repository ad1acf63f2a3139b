// Package backups makes backups of servers, by hand and by rule, and lets them go by rule. A backup is a
// changeover of its own kind, which stores worlds and changes nothing; this room decides when one is made, and
// keeps what it was.
package backups

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"reshard/internal/changeovers"
	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/plan"
	"reshard/internal/executor"
	"reshard/internal/feed"
	"reshard/internal/fleet"
	"reshard/internal/jobs"
	"reshard/internal/library"
	"reshard/internal/records"
	"reshard/internal/stores"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Config is what backups need. All but Pace must be given.
type Config struct {
	Records     *records.Records
	Vault       *vault.Vault
	Fleet       *fleet.Fleet
	Changeovers *changeovers.Changeovers
	Library     *library.Library
	Stores      *stores.Stores
	Counted     *records.Counted
	Queue       *jobs.Queue
	Feed        *feed.Feed
	Log         *slog.Logger
	// Disk tells how much is free where the vault is, and how much there is in all, in bytes.
	Disk func() (free, total int64, err error)
	// KeepAside is how long a backup that is set aside is kept; 0: until a person removes it.
	KeepAside time.Duration
	// Life ends when the service goes away.
	Life context.Context
	// Trace is told where thinning out stands; tests cut it there.
	Trace func(point string)
	// Pace is how often it is looked whether a rule is due; 0: every few seconds.
	Pace time.Duration
}

// Backups is all backups and their rules. It is safe for concurrent use.
type Backups struct {
	with    Config
	now     func() time.Time
	places  places
	running sync.WaitGroup
	// short is whether there was too little room when it was looked last.
	short atomic.Bool
	// thinning is held while it is decided what goes.
	thinning sync.Mutex
}

// New makes backups; Begin begins to make them by rule.
func New(c Config) *Backups {
	b := &Backups{with: c, now: c.Counted.Wall}
	c.Changeovers.Kept = b.kept
	c.Changeovers.Ended = b.ended
	jobs.Handle(c.Queue, b.work)
	return b
}

// Make begins a backup by hand, and gives it as it stands: its changeover goes on by itself.
func (b *Backups) Make(ctx context.Context, in wire.MakeBackup, by string) (wire.Backup, error) {
	id, err := b.begin(ctx, beginning{
		server: in.Server, world: in.World, note: in.Note, mayStop: in.MayStop, readAll: in.ReadAll, pinned: in.Pinned,
		by: by,
	})
	if err != nil {
		return wire.Backup{}, err
	}
	return b.Get(ctx, id)
}

// beginning is a backup that is wanted.
type beginning struct {
	server, world, note, by  string
	mayStop, readAll, pinned bool
	rule                     *records.Rule
	due                      *time.Time
}

// begin drafts and starts a backup, and records it.
func (b *Backups) begin(ctx context.Context, in beginning) (id int64, err error) {
	wish := plan.Wish{Kind: plan.Backup, Server: in.server, World: in.world, Choices: map[string]string{}}
	if in.mayStop {
		wish.Choices[plan.MayStop] = "yes"
	}
	if in.readAll {
		wish.Choices[plan.ReadWhole] = "yes"
	}
	rec, err := b.with.Records.Server(ctx, in.server)
	if err != nil {
		return 0, err
	}
	c, err := b.with.Changeovers.Draft(ctx, wish, in.by)
	if err != nil {
		return 0, err
	}
	backup := records.Backup{
		ServerID: &rec.ID, Server: rec.Name, ChangeoverID: &c.ID, State: records.BackupRunning, DueAt: in.due,
		CountedAt: b.with.Counted.Now(), CreatedBy: in.by, Note: in.note, Pinned: in.pinned,
	}
	if in.rule != nil {
		backup.RuleID = &in.rule.ID
	}
	// It is on record before it begins: what its changeover stores belongs to it.
	if id, err = b.with.Records.BeginBackup(ctx, backup); err != nil {
		return 0, err
	}
	if _, err = b.with.Changeovers.Start(ctx, c.ID); err != nil && !fault.Passing(err) {
		b.fail(context.WithoutCancel(ctx), id, records.BackupFailed, err)
	}
	return id, err
}

// kept is told of each world that a backup has stored.
func (b *Backups) kept(ctx context.Context, c records.Changeover, l *fleet.Server, made executor.Copied) error {
	backup, err := b.with.Records.BackupOf(ctx, c.ID)
	if err != nil {
		return err
	}
	before, err := b.with.Records.LastCopyBefore(ctx, backup.ID, made.World)
	if err != nil {
		return err
	}
	err = b.with.Records.AddBackupWorld(ctx, records.BackupWorld{
		BackupID: backup.ID, World: made.World, CopyID: made.Copy.ID, AsBefore: before == made.Copy.ID,
		Wholeness: made.Detail.Wholeness, Moved: records.JSON[[]string]{V: append([]string{}, made.Detail.Moved...)},
		Read: made.Detail.Read,
	})
	if err != nil || c.Plan.V.Choices["only"] != "" {
		return err
	}
	return b.record(ctx, backup.ID, l)
}

// ended is told of the end of each changeover.
func (b *Backups) ended(ctx context.Context, changeover int64, cause error) {
	backup, err := b.with.Records.BackupOf(ctx, changeover)
	if fault.CodeOf(err) == fault.NotFound {
		return
	}
	switch {
	case err != nil:
	case cause == nil:
		_, err = b.with.Records.EndBackup(ctx, backup.ID, records.BackupDone, nil, b.now())
		b.thinSoon()
		b.with.Stores.Soon()
	case errors.Is(cause, changeovers.ErrGaveWay):
		b.fail(ctx, backup.ID, records.BackupGaveWay, cause)
	default:
		b.fail(ctx, backup.ID, records.BackupFailed, cause)
	}
	if err != nil { // it is ended with the next look
		b.with.Log.Warn("the end of a backup is not on record yet", "changeover", changeover, "error", err)
	}
	b.tell(ctx, backup.ID)
}

func (b *Backups) fail(ctx context.Context, id int64, state string, cause error) {
	what, next := fault.Words(cause)
	if _, err := b.with.Records.EndBackup(ctx, id, state, &records.Failure{
		Code: string(fault.CodeOf(cause)), What: what, Next: next,
	}, b.now()); err != nil {
		b.with.Log.Warn("the end of a backup is not on record yet", "backup", id, "error", err)
	}
}

// settle ends the backups whose changeovers have ended without its being told: in another life of the
// service, or while the database was away.
func (b *Backups) settle(ctx context.Context) error {
	list, err := b.with.Records.RunningBackups(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		state := ""
		if r.Changeover != nil {
			state = *r.Changeover
		}
		switch s := plan.State(state); {
		case s.Open() && s != plan.Held, r.ChangeoverID != nil && b.with.Changeovers.UnderWay(*r.ChangeoverID):
			continue
		case s == plan.Done:
			_, err = b.with.Records.EndBackup(ctx, r.ID, records.BackupDone, nil, b.now())
		case s == plan.Drafted && b.now().Sub(r.BegunAt) < time.Minute: // the database's clock may be ahead
			continue // it is about to begin
		default:
			b.fail(ctx, r.ID, records.BackupFailed, fault.New(fault.Interrupted, "back up", r.Server,
				"the service went down while it was being made").
				With("What was stored by then is known: the next one has less to do."))
		}
		if err != nil {
			return err
		}
		b.tell(ctx, r.ID)
	}
	return nil
}

// tell tells those who watch of a backup.
func (b *Backups) tell(ctx context.Context, id int64) {
	if backup, err := b.Get(ctx, id); err == nil {
		b.with.Feed.Tell(feed.Event{Kind: feed.Backup, Key: fmt.Sprint(id), Value: backup})
	}
}

// Get gives one backup, with what the server was.
func (b *Backups) Get(ctx context.Context, id int64) (wire.Backup, error) {
	rec, err := b.with.Records.BackupByID(ctx, id)
	if err != nil {
		return wire.Backup{}, err
	}
	out := b.wireBackup(rec)
	if rec.Record != nil {
		about := rec.About.V
		out.About = &about
		for name := range out.About.Env { // they may be passwords
			out.About.Env[name] = fleet.Masked
		}
	}
	if why, err := b.fates(ctx); err == nil {
		out.Why = why[rec.ID].Why
	}
	return out, nil
}

// List gives a page of backups, newest first, and where the next page begins; "" after the last.
func (b *Backups) List(ctx context.Context, q wire.BackupQuery) ([]wire.Backup, string, error) {
	if q.Server != "" {
		if _, err := b.with.Records.Server(ctx, q.Server); err != nil {
			return nil, "", err
		}
	}
	list, next, err := b.with.Records.BackupPage(ctx, records.BackupQuery{
		Page: records.Page{After: q.After, Limit: q.Limit}, Server: q.Server, Rule: q.Rule, State: q.State,
		Aside: q.Aside,
	})
	if err != nil {
		return nil, "", err
	}
	why, err := b.fates(ctx)
	if err != nil {
		return nil, "", err
	}
	out := make([]wire.Backup, len(list))
	for i, rec := range list {
		out[i] = b.wireBackup(rec)
		out[i].Why = why[rec.ID].Why
	}
	return out, next, nil
}

func (b *Backups) wireBackup(rec records.Backup) wire.Backup {
	out := wire.Backup{
		ID: rec.ID, Server: rec.Server, State: rec.State, Due: rec.DueAt, Begun: rec.BegunAt, Ended: rec.EndedAt,
		By: rec.CreatedBy, Note: rec.Note, Pinned: rec.Pinned, Bytes: rec.Bytes, Good: rec.Good(), Read: rec.ReadAt,
		Damage: rec.Damage, AsideAt: rec.AsideAt, AsideBy: rec.AsideBy, Worlds: []wire.BackupWorld{},
	}
	if rec.Rule != nil {
		out.Rule = *rec.Rule
	}
	if rec.ChangeoverID != nil {
		out.Changeover = *rec.ChangeoverID
	}
	if f := rec.Failure.V; f != nil {
		out.Failure = &wire.Failure{Code: f.Code, What: f.What, Next: f.Next}
	}
	if rec.AsideAt != nil && b.with.KeepAside > 0 {
		goes := keep.ByWall(rec.AsideAt.Add(b.with.KeepAside), b.with.Counted.Now(), b.now())
		out.Goes = &goes
	}
	for _, w := range rec.Worlds {
		out.Worlds = append(out.Worlds, wire.BackupWorld{
			World: w.World, Library: w.Library, Title: w.Title, Copy: w.CopyID, Bytes: w.Bytes, AsBefore: w.AsBefore,
			Wholeness: w.Wholeness, Says: w.Wholeness.Say(), Moved: w.Moved.V,
		})
	}
	out.Says = says(rec)
	return out
}

// says is what a backup is worth, in a sentence.
func says(rec records.Backup) string {
	switch rec.State {
	case records.BackupRunning:
		return "It is being made."
	case records.BackupFailed:
		if f := rec.Failure.V; f != nil {
			return "It failed: " + f.What
		}
		return "It failed."
	case records.BackupGaveWay:
		return "It gave way to a changeover of its server."
	}
	if rec.Damage != "" {
		return "Damaged: " + rec.Damage
	}
	asBefore, last, active := 0, plan.Wholeness(""), plan.Wholeness("")
	for _, w := range rec.Worlds {
		if last = w.Wholeness; w.World == rec.About.V.Active && rec.About.V.Active != "" {
			active = w.Wholeness
		}
		if !w.Wholeness.Whole() {
			say := w.World + ": " + w.Wholeness.Say()
			if moved := w.Moved.V; len(moved) > 0 {
				say += " Among them " + moved[0] + "."
			}
			return say
		}
		if w.AsBefore {
			asBefore++
		}
	}
	if active != "" {
		last = active
	}
	switch {
	case len(rec.Worlds) == 0:
		return "It holds no world."
	case asBefore == len(rec.Worlds):
		return "All stood as before: nothing new was stored. " + last.Say()
	case len(rec.Worlds) == 1:
		return last.Say()
	}
	return fmt.Sprintf("%d worlds. The one that runs: %s", len(rec.Worlds), last.Say())
}

// Change records what a person says of a backup.
func (b *Backups) Change(ctx context.Context, id int64, change wire.ChangeBackup, by string) (wire.Backup, error) {
	rec, err := b.with.Records.BackupByID(ctx, id)
	if err != nil {
		return wire.Backup{}, err
	}
	if change.Note != nil {
		rec.Note = *change.Note
	}
	if change.Pinned != nil {
		rec.Pinned = *change.Pinned
	}
	name := fmt.Sprint("backup ", id)
	aside := change.Aside != nil && *change.Aside != (rec.AsideAt != nil)
	switch {
	case rec.State == records.BackupRunning && change.Aside != nil:
		return wire.Backup{}, fault.New(fault.WrongState, "set aside", name, "it is being made").
			With(fmt.Sprintf("Cancel it first: reshard changeovers cancel %d.", *rec.ChangeoverID))
	case rec.Pinned && change.Aside != nil && *change.Aside:
		return wire.Backup{}, fault.New(fault.WrongState, "set aside", name, "it is pinned").
			With(fmt.Sprintf("Take the pin off first: reshard backups change %d --unpin.", id))
	case rec.Pinned && rec.AsideAt != nil && !aside:
		return wire.Backup{}, fault.New(fault.WrongState, "pin", name, "it is set aside").
			With(fmt.Sprintf("Bring it back first: reshard backups change %d --bring-back.", id))
	}
	if err := b.with.Records.SetBackup(ctx, rec); err != nil {
		return wire.Backup{}, err
	}
	if aside && *change.Aside {
		_, err = b.with.Records.SetBackupsAside(ctx, []int64{id}, by, b.with.Counted.Now())
	} else if aside {
		err = b.with.Records.BringBackupBack(ctx, id)
	}
	if err != nil {
		return wire.Backup{}, err
	}
	b.tell(ctx, id)
	return b.Get(ctx, id)
}

// Wait waits for what it has begun.
func (b *Backups) Wait() {
	b.running.Wait()
}

// heldBy says why a backup stands above rules, "" when it does not.
func heldBy(rec records.Backup) string {
	if rec.Pinned {
		return "pinned"
	}
	for _, w := range rec.Worlds {
		if w.Pinned {
			return "a copy of it is pinned in the library"
		}
	}
	if rec.RuleID == nil {
		return "made by hand: no rule lets it go"
	}
	return ""
}

// series gives the backups that are kept, as rules count them: by rule, those made by hand under 0, by server.
func (b *Backups) series(ctx context.Context, rules []records.Rule) (ids []int64, all []keep.Series, err error) {
	kept, err := b.with.Records.KeptBackups(ctx)
	if err != nil {
		return nil, nil, err
	}
	at, byHand := map[int64]int{}, map[string]int{}
	add := func(id int64, s keep.Series) {
		at[id] = len(all)
		ids, all = append(ids, id), append(all, s)
	}
	ever := keep.Long{{Span: keep.Span{Ever: true}}}
	for _, r := range rules {
		zone, err := r.Rule.V.Location()
		if err != nil {
			return nil, nil, fault.Wrap(fault.Internal, "read zone of rule", r.Name, err)
		}
		add(r.ID, keep.Series{Server: r.Server, Long: r.Rule.V.Long, Allowance: r.Rule.V.Allowance, Zone: zone})
	}
	for _, k := range kept {
		one := keep.Backup{
			ID: k.ID, Counted: k.CountedAt, Good: k.Good(), Held: heldBy(k), Bytes: k.Bytes, Written: k.Written,
		}
		i, known := 0, false
		if k.RuleID != nil {
			if i, known = at[*k.RuleID]; !known { // its rule is gone, and what it said with it
				one.Held = "its rule is gone: nothing lets it go"
			}
		}
		if !known {
			if i, known = byHand[k.Server]; !known {
				i = len(all)
				byHand[k.Server] = i
				add(0, keep.Series{Server: k.Server, Long: ever})
			}
		}
		all[i].Backups = append(all[i].Backups, one)
	}
	return ids, all, nil
}

// fates tells what becomes of each backup that is kept.
func (b *Backups) fates(ctx context.Context) (map[int64]keep.Fate, error) {
	rules, err := b.with.Records.Rules(ctx, "")
	if err != nil {
		return nil, err
	}
	limits, err := b.Limits(ctx)
	if err != nil {
		return nil, err
	}
	_, all, err := b.series(ctx, rules)
	if err != nil {
		return nil, err
	}
	out := map[int64]keep.Fate{}
	for _, list := range keep.Thin(b.with.Counted.Now(), all, limits.Totals) {
		for _, f := range list {
			out[f.ID] = f
		}
	}
	return out, nil
}

// thinSoon lets go what rules do not keep, in the background.
func (b *Backups) thinSoon() {
	b.running.Go(func() {
		if err := fault.Safely(func() error { return b.Thin(b.with.Life) }); err != nil {
			b.with.Log.Warn("cannot thin out backups", "error", err)
		}
	})
}

func (b *Backups) trace(point string) {
	if b.with.Trace != nil {
		b.with.Trace(point)
	}
}

// Thin sets aside what rules do not keep, and lets go what has been set aside for long enough.
func (b *Backups) Thin(ctx context.Context) error {
	b.thinning.Lock()
	defer b.thinning.Unlock()
	if err := b.with.Records.Acting(); err != nil {
		return err
	}
	rules, err := b.with.Records.Rules(ctx, "")
	if err != nil {
		return err
	}
	limits, err := b.Limits(ctx)
	if err != nil {
		return err
	}
	ids, all, err := b.series(ctx, rules)
	if err != nil {
		return err
	}
	names := map[int64]string{}
	for _, r := range rules {
		names[r.ID] = r.Name
	}
	for i, fates := range keep.Thin(b.with.Counted.Now(), all, limits.Totals) {
		byWhy := map[string][]int64{}
		for _, f := range fates {
			if !f.Keeps {
				byWhy[f.Why] = append(byWhy[f.Why], f.ID)
			}
		}
		for why, lets := range byWhy {
			b.trace("set aside")
			n, err := b.with.Records.SetBackupsAside(ctx, lets, "the rule "+names[ids[i]]+": "+why,
				b.with.Counted.Now())
			if err != nil {
				return err
			}
			b.with.Log.Info("backups are set aside", "rule", names[ids[i]], "backups", n, "why", why)
		}
	}
	if b.with.KeepAside > 0 {
		b.trace("let go")
		_, err = b.with.Records.BackupsGone(ctx, b.with.Counted.Now().Add(-b.with.KeepAside))
	}
	return err
}
