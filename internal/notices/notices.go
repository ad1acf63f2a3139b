// Package notices tells people, by webhook and by mail, of what needs them: once, and again when it is well.
package notices

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"

	"reshard/internal/core/fault"
	"reshard/internal/feed"
	"reshard/internal/jobs"
	"reshard/internal/records"
	"reshard/internal/secrets"
	"reshard/internal/wire"
)

// Config is what notices need.
type Config struct {
	Records *records.Records
	Secrets *secrets.Keeper
	Queue   *jobs.Queue
	Feed    *feed.Feed
	Log     *slog.Logger
	// Alerts gives what needs a person now.
	Alerts func(ctx context.Context) ([]wire.Alert, error)
	// Pace is how often it is looked; 0: every quarter of a minute.
	Pace time.Duration
}

// Notices is all targets. It is safe for concurrent use.
type Notices struct {
	with Config
	now  func() time.Time
}

// tries is how often a target is tried for one notice: the last is some hours after the first.
const tries = 9

// New makes notices.
func New(c Config) *Notices {
	n := &Notices{with: c, now: time.Now}
	jobs.Handle(c.Queue, n.work)
	return n
}

// Job tells one target one thing.
type Job struct {
	Target int64 `json:"target" river:"unique"`
	// Alert is its number, Ended whether it is well again.
	Alert int64  `json:"alert" river:"unique"`
	Ended bool   `json:"ended" river:"unique"`
	Says  string `json:"says"` // the alert, as JSON
}

// Kind names the kind of job.
func (Job) Kind() string { return "notice" }

// Notice is what a webhook gets. docs/operations.md describes it.
type Notice struct {
	Reshard string `json:"reshard"` // notice/1
	// ID is the alert's number: that it has begun and that it has ended have the same.
	ID    int64  `json:"id"`
	Event string `json:"event"` // began, ended or test
	wire.Alert
}

// Run looks now and then what needs a person, until ctx ends.
func (n *Notices) Run(ctx context.Context) {
	pace := n.with.Pace
	if pace == 0 {
		pace = 15 * time.Second
	}
	tick := time.NewTicker(pace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if n.with.Records.Acting() != nil {
			continue
		}
		if err := fault.Safely(func() error { return n.look(ctx) }); err != nil && ctx.Err() == nil {
			n.with.Log.Warn("cannot look what needs a person", "error", err)
		}
	}
}

// look notes what has begun and what has ended, and has it told.
func (n *Notices) look(ctx context.Context) error {
	now, err := n.with.Alerts(ctx)
	if err != nil {
		return err
	}
	before, err := n.with.Records.OpenAlerts(ctx)
	if err != nil {
		return err
	}
	targets, err := n.with.Records.NoticeTargets(ctx)
	if err != nil {
		return err
	}
	tell := func(tx pgx.Tx, id int64, ended bool, says string) error {
		for _, t := range targets {
			if _, err := n.with.Queue.Add(ctx, tx, Job{Target: t.ID, Alert: id, Ended: ended, Says: says},
				tries); err != nil {
				return err
			}
		}
		return nil
	}
	there, changed := map[[2]string]bool{}, false
	for _, a := range now {
		there[[2]string{a.Kind, a.Of}] = true
		raw, err := json.Marshal(a)
		if err != nil {
			return fault.Wrap(fault.Internal, "note", "alert", err)
		}
		begun, err := n.with.Records.BeginAlert(ctx, records.OpenAlert{
			Kind: a.Kind, Of: a.Of, Alert: records.JSON[string]{V: string(raw)},
		}, func(tx pgx.Tx, id int64) error { return tell(tx, id, false, string(raw)) })
		if err != nil {
			return err
		}
		changed = changed || begun
	}
	for _, b := range before {
		if there[[2]string{b.Kind, b.Of}] {
			continue
		}
		err := n.with.Records.EndAlert(ctx, b.ID, func(tx pgx.Tx) error { return tell(tx, b.ID, true, b.Alert.V) })
		if err != nil {
			return err
		}
		changed = true
	}
	if changed {
		n.with.Feed.Tell(feed.Event{Kind: feed.Alerts, Key: "all", Value: now})
	}
	return nil
}

// work tells a target one thing.
func (n *Notices) work(ctx context.Context, try jobs.Try[Job]) error {
	targets, err := n.with.Records.NoticeTargets(ctx)
	if err != nil {
		return err
	}
	for _, t := range targets {
		if t.ID != try.Args.Target {
			continue
		}
		notice := Notice{Reshard: format, ID: try.Args.Alert, Event: "began"}
		if try.Args.Ended {
			notice.Event = "ended"
		}
		if err := json.Unmarshal([]byte(try.Args.Says), &notice.Alert); err != nil {
			return jobs.Never(err)
		}
		return n.tell(ctx, t, notice)
	}
	return nil // it is gone
}

const format = "notice/1"

// tell tells a target something, and records how that went.
func (n *Notices) tell(ctx context.Context, t records.NoticeTarget, notice Notice) error {
	secret := []byte{}
	var err error
	if t.Sealed != nil {
		secret, err = n.with.Secrets.Open(t.Sealed, "target "+t.Name)
	}
	if err == nil {
		ctx, done := context.WithTimeout(ctx, patience)
		defer done()
		if t.Settings.V.Kind == KindMail {
			err = n.mail(ctx, t, string(secret), notice)
		} else {
			err = n.post(ctx, t, string(secret), notice)
		}
	}
	trouble := ""
	if err != nil {
		trouble, _ = fault.Words(err)
	}
	return errors.Join(err, n.with.Records.NoticeTold(context.WithoutCancel(ctx), t.ID, trouble, n.now()))
}

var targetName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// Add adds a target, and tells it that it was added: what cannot be told is not added.
func (n *Notices) Add(ctx context.Context, in wire.NewNoticeTarget, by string) (wire.NoticeTarget, error) {
	if !targetName.MatchString(in.Name) {
		return wire.NoticeTarget{}, fault.New(fault.Invalid, "add target", in.Name,
			"a target's name has small letters, digits and hyphens")
	}
	s := records.NoticeSettings{
		Kind: in.Kind, URL: in.URL, Server: in.Server, Secure: in.Secure, User: in.User, From: in.From, To: in.To,
		Private: in.Private,
	}
	if err := check(in.Name, &s, in.Secret); err != nil {
		return wire.NoticeTarget{}, err
	}
	rec := records.NoticeTarget{Name: in.Name, Settings: records.JSON[records.NoticeSettings]{V: s}, CreatedBy: by}
	var err error
	if in.Secret != "" {
		if rec.Sealed, err = n.with.Secrets.Seal([]byte(in.Secret), "target "+in.Name); err != nil {
			return wire.NoticeTarget{}, err
		}
	}
	if err := n.tell(ctx, rec, n.test(in.Name)); err != nil {
		return wire.NoticeTarget{}, err
	}
	if rec, err = n.with.Records.AddNoticeTarget(ctx, rec); err != nil {
		return wire.NoticeTarget{}, err
	}
	return wireTarget(rec), n.with.Records.NoticeTold(ctx, rec.ID, "", n.now())
}

func (n *Notices) test(name string) Notice {
	return Notice{Reshard: format, Event: "test", Alert: wire.Alert{
		Kind: "test", Of: name, Says: "This is what Reshard's notices look like. Nothing is wrong.",
		Since: n.now().UTC(),
		Next:  "Nothing is to be done.",
	}}
}

// Try tells a target something now, to see whether it arrives.
func (n *Notices) Try(ctx context.Context, name string) (wire.NoticeTarget, error) {
	t, err := n.with.Records.NoticeTargetNamed(ctx, name)
	if err == nil {
		err = n.tell(ctx, t, n.test(name))
	}
	if err != nil {
		return wire.NoticeTarget{}, err
	}
	t, err = n.with.Records.NoticeTargetNamed(ctx, name)
	return wireTarget(t), err
}

// Remove forgets a target.
func (n *Notices) Remove(ctx context.Context, name string) error {
	t, err := n.with.Records.NoticeTargetNamed(ctx, name)
	if err != nil {
		return err
	}
	return n.with.Records.RemoveNoticeTarget(ctx, t.ID)
}

// Targets lists whom the service tells.
func (n *Notices) Targets(ctx context.Context) ([]wire.NoticeTarget, error) {
	list, err := n.with.Records.NoticeTargets(ctx)
	out := make([]wire.NoticeTarget, len(list))
	for i, t := range list {
		out[i] = wireTarget(t)
	}
	return out, err
}

func wireTarget(t records.NoticeTarget) wire.NoticeTarget {
	s := t.Settings.V
	return wire.NoticeTarget{
		Name: t.Name, Kind: s.Kind, URL: s.URL, Server: s.Server, Secure: s.Secure, User: s.User, From: s.From,
		To:      append([]string{}, s.To...),
		Private: s.Private, CreatedBy: t.CreatedBy, CreatedAt: t.CreatedAt, Told: t.ToldAt, Trouble: t.Trouble,
	}
}
