package backups

import (
	"context"
	"regexp"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// usualName is the name of a server's rule that is given none.
const usualName = "usual"

var ruleName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// limitsSetting names what is allowed for all servers together.
const limitsSetting = "backup-limits"

// Limits gives what is allowed for all servers' backups together.
func (b *Backups) Limits(ctx context.Context) (out wire.BackupLimits, err error) {
	return out, b.with.Records.Setting(ctx, limitsSetting, &out)
}

// SetLimits sets it.
func (b *Backups) SetLimits(ctx context.Context, to wire.BackupLimits) (wire.BackupLimits, error) {
	all := []keep.Allowance{to.Allowance}
	for server, a := range to.Servers {
		if _, err := b.with.Records.Server(ctx, server); err != nil {
			return to, err
		}
		if all = append(all, a); a == (keep.Allowance{}) {
			delete(to.Servers, server)
		}
	}
	for _, a := range all {
		if a.Number < 0 || a.Bytes < 0 {
			return to, fault.New(fault.Invalid, "set", "allowance", "it is less than nothing")
		}
	}
	if err := b.with.Records.Set(ctx, limitsSetting, to); err != nil {
		return to, err
	}
	b.thinSoon()
	return b.Limits(ctx)
}

// check says what is wrong with a rule for a server.
func (b *Backups) check(ctx context.Context, server string, rule keep.Rule) (records.Server, error) {
	rec, err := b.with.Records.Server(ctx, server)
	if err == nil {
		err = rule.Check()
	}
	if err == nil && rule.Slots != "" {
		_, err = b.with.Fleet.Slots(ctx, server) // says what is missing where there is no provider
	}
	return rec, err
}

// AddRule adds a rule to a server.
func (b *Backups) AddRule(ctx context.Context, server string, in wire.NewRule, by string) (wire.Rule, error) {
	rec, err := b.check(ctx, server, in.Rule)
	if err != nil {
		return wire.Rule{}, err
	}
	if in.Name == "" {
		in.Name = usualName
	}
	if !ruleName.MatchString(in.Name) {
		return wire.Rule{}, fault.New(fault.Invalid, "add rule", in.Name,
			"a rule's name has small letters, digits and hyphens")
	}
	rule, err := b.with.Records.AddRule(ctx, records.Rule{
		ServerID: rec.ID, Name: in.Name, Rule: records.JSON[keep.Rule]{V: in.Rule}, CreatedBy: by,
		DueAt: due(in.Rule, 0, b.now()),
	})
	if err != nil {
		return wire.Rule{}, err
	}
	rule.DueAt = due(rule.Rule.V, rule.ID, b.now()) // spread by its number
	if err := b.with.Records.ChangeRule(ctx, rule); err != nil {
		return wire.Rule{}, err
	}
	return b.Rule(ctx, server, in.Name)
}

// due is when a rule is due next; nil: while somebody plays.
func due(r keep.Rule, id int64, now time.Time) *time.Time {
	next := r.Next(now)
	if next.IsZero() {
		return nil
	}
	next = next.Add(r.Spread(id, now))
	return &next
}

// ChangeRule changes a rule, pauses it or lets it go on. A rule that was paused makes up for nothing.
func (b *Backups) ChangeRule(ctx context.Context, server, name string, change wire.ChangeRule,
	by string) (wire.Rule, error) {
	rule, err := b.with.Records.RuleNamed(ctx, server, name)
	if err != nil {
		return wire.Rule{}, err
	}
	if change.Rule != nil {
		if _, err := b.check(ctx, server, *change.Rule); err != nil {
			return wire.Rule{}, err
		}
		rule.Rule.V = *change.Rule
		rule.DueAt = due(rule.Rule.V, rule.ID, b.now())
	}
	if change.Paused != nil && *change.Paused != (rule.PausedAt != nil) {
		if rule.PausedAt, rule.PausedBy = nil, ""; *change.Paused {
			now := b.now()
			rule.PausedAt, rule.PausedBy = &now, by
		}
		rule.DueAt = due(rule.Rule.V, rule.ID, b.now())
	}
	if err := b.with.Records.ChangeRule(ctx, rule); err != nil {
		return wire.Rule{}, err
	}
	b.thinSoon()
	return b.Rule(ctx, server, name)
}

// RemoveRule forgets a rule. The backups that it has made stay, and nothing lets them go any more but a person.
func (b *Backups) RemoveRule(ctx context.Context, server, name string) error {
	rule, err := b.with.Records.RuleNamed(ctx, server, name)
	if err != nil {
		return err
	}
	return b.with.Records.RemoveRule(ctx, rule.ID)
}

// RunRule has a rule followed now, beside its times.
func (b *Backups) RunRule(ctx context.Context, server, name, by string) (wire.Rule, error) {
	rule, err := b.with.Records.RuleNamed(ctx, server, name)
	if err != nil {
		return wire.Rule{}, err
	}
	fresh, err := b.with.Queue.Add(ctx, nil, Job{Rule: rule.ID, Due: b.now(), By: by}, tries)
	if err == nil && !fresh {
		err = fault.New(fault.Busy, "run rule", name, "it is being followed already, or about to be").
			With("reshard backups " + server + " shows how it stands.")
	}
	if err != nil {
		return wire.Rule{}, err
	}
	return b.Rule(ctx, server, name)
}

// Rule gives a rule of a server.
func (b *Backups) Rule(ctx context.Context, server, name string) (wire.Rule, error) {
	rule, err := b.with.Records.RuleNamed(ctx, server, name)
	if err != nil {
		return wire.Rule{}, err
	}
	made, err := b.with.Records.RuleStandings(ctx)
	return b.wireRule(rule, made[rule.ID]), err
}

// Rules lists the rules of a server, or of all when it is "".
func (b *Backups) Rules(ctx context.Context, server string) ([]wire.Rule, error) {
	if server != "" {
		if _, err := b.with.Records.Server(ctx, server); err != nil {
			return nil, err
		}
	}
	list, err := b.with.Records.Rules(ctx, server)
	if err != nil {
		return nil, err
	}
	made, err := b.with.Records.RuleStandings(ctx)
	out := make([]wire.Rule, len(list))
	for i, r := range list {
		out[i] = b.wireRule(r, made[r.ID])
	}
	return out, err
}

func (b *Backups) wireRule(r records.Rule, made records.RuleStanding) wire.Rule {
	out := wire.Rule{
		Server: r.Server, Name: r.Name, Rule: r.Rule.V, Says: r.Rule.V.String(), Begun: r.BegunAt, PausedAt: r.PausedAt,
		PausedBy: r.PausedBy, CreatedBy: r.CreatedBy, CreatedAt: r.CreatedAt, LastGood: made.LastGood, Kept: made.Kept,
	}
	if r.PausedAt == nil {
		out.Due = r.DueAt
	}
	out.Trouble, _, _ = b.troubleOf(r, made)
	return out
}

// nextShown is how many of the next times a preview shows.
const nextShown = 5

// Preview tells what a rule would do, and changes nothing.
func (b *Backups) Preview(ctx context.Context, server string, in wire.PreviewRule) (wire.RulePreview, error) {
	rec, err := b.with.Records.Server(ctx, server)
	if err == nil {
		err = in.Rule.Check()
	}
	if err != nil {
		return wire.RulePreview{}, err
	}
	zone, err := in.Rule.Location()
	if err != nil {
		return wire.RulePreview{}, err
	}
	out := wire.RulePreview{
		Says:    in.Rule.String(),
		Next:    []time.Time{},
		Shown:   []keep.Shown{},
		Backups: []wire.BackupFate{},
	}
	for at := in.Rule.Next(b.now()); !at.IsZero() && len(out.Next) < nextShown; at = in.Rule.Next(at) {
		out.Next = append(out.Next, at)
	}
	for _, s := range keep.Preview(in.Rule.When,
		keep.Series{Long: in.Rule.Long, Allowance: in.Rule.Allowance, Zone: zone}, b.now()) {
		out.Made++
		if s.Keeps {
			out.Shown = append(out.Shown, s)
		}
	}
	if in.Name == "" {
		return out, nil
	}
	rule, err := b.with.Records.RuleNamed(ctx, server, in.Name)
	if err != nil {
		return out, err
	}
	rule.Rule.V, rule.ServerID = in.Rule, rec.ID
	ids, all, err := b.series(ctx, []records.Rule{rule})
	if err != nil {
		return out, err
	}
	begun := map[int64]time.Time{}
	kept, err := b.with.Records.KeptBackups(ctx)
	if err != nil {
		return out, err
	}
	for _, k := range kept {
		begun[k.ID] = k.BegunAt
	}
	for i, fates := range keep.Thin(b.with.Counted.Now(), all, keep.Totals{}) {
		if ids[i] != rule.ID {
			continue
		}
		for _, f := range fates {
			out.Backups = append(out.Backups, wire.BackupFate{ID: f.ID, Begun: begun[f.ID], Keeps: f.Keeps, Why: f.Why})
			if !f.Keeps {
				out.Goes++
			}
		}
	}
	return out, nil
}
