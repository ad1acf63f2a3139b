package backups

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/life"
	"reshard/internal/jobs"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// How many backups are made by rule at the same time, in all and of one host.
const (
	atOnce     = 4
	atOnceHost = 2
)

// How long a backup is put off that cannot be made now, and how often it is tried that fails.
const (
	whileBusy = 15 * time.Second // its host has enough to do, or a changeover holds its server
	afterWay  = time.Minute      // it has given way
	tries     = 4
)

// usualPace is how often it is looked whether a rule is due.
const usualPace = 5 * time.Second

// Job has a rule followed once. There is one at a time of a rule, whichever of its times it is for: times
// that were missed are made up for once.
type Job struct {
	Rule int64     `json:"rule" river:"unique"`
	Due  time.Time `json:"due"`
	By   string    `json:"by,omitempty"` // who asked for it; "": it was due
}

// Kind names the kind of job.
func (Job) Kind() string { return "backup" }

// places are the backups that are made, by host.
type places struct {
	mu    sync.Mutex
	hosts map[string]int
}

// Begin begins to make backups by rule, once the queue is open.
func (b *Backups) Begin(ctx context.Context) error {
	if err := b.settle(ctx); err != nil {
		return err
	}
	b.running.Go(func() { b.watch(b.with.Life) })
	return nil
}

// watch looks now and then what is due, and what has ended without its being told.
func (b *Backups) watch(ctx context.Context) {
	pace := b.with.Pace
	if pace == 0 {
		pace = usualPace
	}
	tick := time.NewTicker(pace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if b.with.Records.Acting() != nil {
			continue
		}
		err := fault.Safely(func() error { return errors.Join(b.with.Queue.Sooner(ctx), b.look(ctx), b.settle(ctx)) })
		if err != nil && ctx.Err() == nil {
			b.with.Log.Warn("cannot look which backups are due", "error", err)
		}
	}
}

// look adds a job for each rule that is due.
func (b *Backups) look(ctx context.Context) error {
	rules, err := b.with.Records.Rules(ctx, "")
	if err != nil {
		return err
	}
	var failed error
	now := b.now()
	for _, r := range rules {
		if r.PausedAt != nil {
			continue
		}
		if r.Rule.V.Cron == "" {
			failed = errors.Join(failed, b.lookWhilePlayed(ctx, r, now))
			continue
		}
		next := due(r.Rule.V, r.ID, now)
		if r.DueAt != nil && next != nil && r.DueAt.After(*next) { // the clock was set back: it is due sooner
			failed = errors.Join(failed, b.with.Records.MoveDue(ctx, r, next))
			continue
		}
		if r.DueAt == nil || r.DueAt.After(now) {
			continue
		}
		was := *r.DueAt
		_, err := b.with.Records.TakeDue(ctx, r, now, next, func(tx pgx.Tx) error {
			_, err := b.with.Queue.Add(ctx, tx, Job{Rule: r.ID, Due: was}, tries)
			return err
		})
		failed = errors.Join(failed, err)
	}
	return failed
}

// lookWhilePlayed adds a job for a rule that is due while somebody plays.
func (b *Backups) lookWhilePlayed(ctx context.Context, r records.Rule, now time.Time) error {
	every := time.Duration(r.Rule.V.Every) * time.Second
	if r.BegunAt != nil && !keep.Again(*r.BegunAt, now, every) {
		return nil
	}
	since := r.CreatedAt
	if r.BegunAt != nil {
		since = *r.BegunAt
	}
	if since.After(now) { // the clock was set back
		since = now.Add(-every)
	}
	played, err := b.played(ctx, r.Server, since)
	if err != nil { // it is looked again
		b.with.Log.Warn("it cannot be told whether somebody plays", "server", r.Server, "error", err)
	}
	if err != nil || !played {
		return nil
	}
	_, err = b.with.Records.TakeDue(ctx, r, now, nil, func(tx pgx.Tx) error {
		_, err := b.with.Queue.Add(ctx, tx, Job{Rule: r.ID, Due: now}, tries)
		return err
	})
	return err
}

// played reports whether somebody plays on a server: its console says so, or, where it cannot be asked, it
// runs and its world has been written to since then.
func (b *Backups) played(ctx context.Context, server string, since time.Time) (bool, error) {
	ctx, done := context.WithTimeout(ctx, 20*time.Second)
	defer done()
	l, err := b.with.Fleet.Reach(ctx, server)
	if err != nil {
		return false, err
	}
	h, err := l.Heads(ctx)
	if err != nil {
		return false, err
	}
	switch h.Status.State {
	case life.Running:
	case life.Starting, life.Stopping, life.Stopped, life.Unknown: // nobody is seen to play
		return false, nil
	}
	if joined, known, err := l.Joined(ctx); err != nil || known {
		return joined > 0, err
	}
	look, err := l.Look(ctx, &h, h.State.Active)
	return err == nil && look.Facts.LastPlayed.After(since), err
}

// take takes a place of a host's; false when there is none.
func (q *places) take(host string) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	all := 0
	for _, n := range q.hosts {
		all += n
	}
	if all >= atOnce || q.hosts[host] >= atOnceHost {
		return false
	}
	if q.hosts == nil {
		q.hosts = map[string]int{}
	}
	q.hosts[host]++
	return true
}

func (q *places) give(host string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.hosts[host]--
}

// work follows a rule once.
func (b *Backups) work(ctx context.Context, try jobs.Try[Job]) error {
	rule, err := b.with.Records.RuleByID(ctx, try.Args.Rule)
	if err != nil {
		return err
	}
	if rule.RemovedAt != nil || rule.PausedAt != nil && try.Args.By == "" {
		return nil
	}
	if !b.places.take(rule.Host) {
		return jobs.Later(3 * time.Second)
	}
	defer b.places.give(rule.Host)
	return b.follow(ctx, rule, try.Args, try.Last)
}

// follow makes a backup by a rule, and waits for its end.
func (b *Backups) follow(ctx context.Context, rule records.Rule, job Job, last bool) error {
	by := job.By
	if by == "" {
		by = "the rule " + rule.Name
	}
	id, err := b.begin(ctx, beginning{
		server: rule.Server, world: rule.Rule.V.World, mayStop: rule.Rule.V.MayStop, by: by, rule: &rule, due: &job.Due,
	})
	switch {
	case err != nil && id == 0 && fault.CodeOf(err) == fault.Busy:
		return jobs.Later(whileBusy)
	case err != nil && id == 0 && ctx.Err() == nil && (last || !fault.Passing(err)):
		// nothing was begun; it is told all the same
		if id, rerr := b.with.Records.BeginBackup(ctx, records.Backup{
			ServerID: &rule.ServerID, Server: rule.Server, RuleID: &rule.ID, State: records.BackupRunning,
			DueAt:     &job.Due,
			CountedAt: b.with.Counted.Now(), CreatedBy: by,
		}); rerr == nil {
			b.fail(ctx, id, records.BackupFailed, err)
			b.tell(ctx, id)
		}
		return jobs.Never(err)
	case err != nil && fault.CodeOf(err) == fault.Busy: // its changeover did not begin
		return errors.Join(b.with.Records.ForgetBackup(context.WithoutCancel(ctx), id), jobs.Later(whileBusy))
	case err != nil:
		return err
	}
	backup, err := b.with.Records.BackupByID(ctx, id)
	if err != nil {
		return err
	}
	err = b.with.Changeovers.Watch(ctx, *backup.ChangeoverID, func(wire.Changeover) error { return nil })
	if err != nil || ctx.Err() != nil {
		return errors.Join(err, context.Cause(ctx)) // it is taken up again, and settled
	}
	if backup, err = b.with.Records.BackupByID(ctx, id); err != nil {
		return err
	}
	switch backup.State {
	case records.BackupGaveWay:
		return jobs.Later(afterWay)
	case records.BackupFailed:
		why := fmt.Errorf("backup %d failed", id)
		if fl := backup.Failure.V; fl != nil &&
			(fault.Code(fl.Code) == fault.Internal || fault.Code(fl.Code) == fault.Held) {
			return jobs.Never(why)
		}
		return why
	}
	if rule.Rule.V.Slots == "" {
		return nil
	}
	trouble := ""
	if err := b.slots(ctx, rule); err != nil { // ours is made: the next time tries again, and the alerts tell of it
		b.with.Log.Warn("no backup of the provider's own", "server", rule.Server, "rule", rule.Name, "error", err)
		trouble, _ = fault.Words(err)
	}
	if err := b.with.Records.SetRuleSlots(context.WithoutCancel(ctx), rule.ID, b.now(), trouble); err != nil {
		return jobs.Never(err)
	}
	b.tell(ctx, id)
	return nil
}

// oldestSlot finds the oldest of a provider's backups. Code Unsupported: nobody can tell which that is.
func oldestSlot(server string, list []wire.SlotBackup) (wire.SlotBackup, error) {
	unclear := func(format string, args ...any) error {
		return fault.New(fault.Unsupported, "make room at provider of", server, format, args...).
			With("Remove one yourself: reshard servers slots " + server + " --remove NAME")
	}
	for _, s := range list {
		if s.MadeAt == nil {
			return s, unclear("it does not say when %s was made, so Reshard cannot tell which is the oldest", s.Name)
		}
	}
	oldest := slices.MinFunc(list, func(a, b wire.SlotBackup) int { return a.MadeAt.Compare(*b.MadeAt) })
	for _, s := range list {
		if s.Name != oldest.Name && s.MadeAt.Equal(*oldest.MadeAt) {
			return s, unclear("%s and %s were made at the same time, as far as it says, so Reshard cannot tell "+
				"which is older", oldest.Name, s.Name)
		}
	}
	return oldest, nil
}

// slots makes one of the provider's own backups.
func (b *Backups) slots(ctx context.Context, rule records.Rule) error {
	now, err := b.with.Fleet.Slots(ctx, rule.Server)
	if err != nil {
		return err
	}
	if now.Full() {
		if rule.Rule.V.Slots != keep.SlotsReplace {
			return fault.New(fault.NoSpace, "make backup at provider of", rule.Server,
				"its %d places are taken, and the rule does not say that the oldest may go", now.Allowance)
		}
		oldest, err := oldestSlot(rule.Server, now.Backups)
		if err != nil {
			return err
		}
		b.with.Log.Info("the provider's oldest backup goes, as the rule says", "server", rule.Server, "rule", rule.Name,
			"backup", oldest.Name)
		if _, err := b.with.Fleet.RemoveSlot(ctx, rule.Server, oldest.Name); err != nil {
			return err
		}
	}
	_, err = b.with.Fleet.MakeSlot(ctx, rule.Server)
	return err
}
