package backups

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"reshard/internal/core/keep"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// troubleOf says what is wrong with a rule now, what to do, and since when; "" when nothing is.
func (b *Backups) troubleOf(r records.Rule, made records.RuleStanding) (says, next string, since time.Time) {
	show := "reshard backups " + r.Server + " shows how each went."
	now := b.now()
	failed := made.LastState != nil && *made.LastState == records.BackupFailed
	switch {
	case r.PausedAt != nil:
		return "", "", time.Time{}
	case failed:
		why := "it failed"
		if made.LastWhy != nil {
			why = *made.LastWhy
		}
		return "The last backup failed: " + why, show + " Try again: reshard rules run " + r.Server + " " +
			r.Name, *made.LastAt
	case r.DueAt != nil && now.Sub(*r.DueAt) > keep.Late:
		return "A backup was due at " + r.DueAt.UTC().Format("2 January 15:04 MST") + " and has not been begun.", show,
			r.DueAt.Add(keep.Late)
	case r.BegunAt != nil && now.Sub(*r.BegunAt) > keep.Late && made.Running == nil &&
		(made.LastAt == nil || made.LastAt.Before(*r.BegunAt)):
		return "A backup that was due has been put off since " + r.BegunAt.UTC().Format("2 January 15:04 MST") +
			": its server or its host has had something else to do.", show, r.BegunAt.Add(keep.Late)
	case r.SlotsTrouble != "" && r.SlotsAt != nil:
		return "The provider made no backup of its own: " + r.SlotsTrouble, "reshard servers slots " + r.Server +
			" shows what is there, and removes one that you name.", *r.SlotsAt
	case made.LastGood == nil && made.LastState != nil && *made.LastState == records.BackupDone:
		return "None of its backups is sure to be whole.",
			"Let it stop the server for a moment: reshard rules change " + r.Server + " " + r.Name +
				" --may-stop", *made.LastAt
	}
	return "", "", time.Time{}
}

// Room is short when a twentieth of the disk is free, or ten gigabytes where that is less; and until there is a
// quarter more.
const (
	shortShare = 20
	shortRoom  = 10_000_000_000
)

// roomShort tells whether the vault's disk is nearly full.
func (b *Backups) roomShort() (wire.Alert, bool) {
	free, total, err := b.with.Disk()
	if err != nil {
		b.with.Log.Warn("cannot tell how much room there is", "error", err)
		return wire.Alert{}, false
	}
	least := min(total/shortShare, shortRoom)
	if b.short.Load() {
		least += least / 4
	}
	b.short.Store(free < least)
	return wire.Alert{
		Kind: "room", Of: "vault",
		Says: fmt.Sprintf("The disk of the service's data folder has %s free of %s.",
			humanize.IBytes(uint64(max(0, free))),
			humanize.IBytes(uint64(max(0, total)))),
		Next: "reshard backups --report says what takes the room. A rule that keeps less, or reshard rules allow, " +
			"lets go of the oldest; " +
			"reshard vault collect gives the room back when it has been kept aside for long enough.",
		Since: b.now(),
	}, free < least
}

// Alerts gives what needs a person, the oldest first.
func (b *Backups) Alerts(ctx context.Context) ([]wire.Alert, error) {
	out := []wire.Alert{}
	rules, err := b.with.Records.Rules(ctx, "")
	if err != nil {
		return out, err
	}
	made, err := b.with.Records.RuleStandings(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range rules {
		if says, next, since := b.troubleOf(r, made[r.ID]); says != "" {
			out = append(out, wire.Alert{
				Kind: "rule", Of: r.Server + " " + r.Name, Server: r.Server,
				Says: "Rule " + r.Name + " of " + r.Server + ": " + says,
				Next: next, Since: since,
			})
		}
	}
	damaged, err := b.with.Records.DamagedBackups(ctx)
	if err != nil {
		return out, err
	}
	for _, d := range damaged {
		out = append(out, wire.Alert{
			Kind: "backup", Of: fmt.Sprint(d.ID), Server: d.Server,
			Says: fmt.Sprintf("Backup %d of %s is damaged: %s", d.ID,
				d.Server, d.Damage), Next: "reshard vault check says what else is. The next backup stores it anew.",
			Since: *d.ReadAt,
		})
	}
	copies, err := b.with.Records.DamagedCopies(ctx)
	if err != nil {
		return out, err
	}
	for _, c := range copies {
		out = append(out, wire.Alert{
			Kind: "copy", Of: c.ID[:12], Since: c.At,
			Says: fmt.Sprintf("Copy %s of %s in the library is damaged: %s.", c.ID[:12], c.World, c.Damage),
			Next: "No store that could be asked has it whole. Bring the world again from where it came from, or " +
				"connect a store that has it: reshard vault check",
		})
	}
	unheld, err := b.with.Records.UnheldBackups(ctx)
	if err != nil {
		return out, err
	}
	for _, u := range unheld {
		files := "files of " + u.World
		if len(u.Moved.V) > 0 {
			files = u.Moved.V[0]
		}
		out = append(out, wire.Alert{
			Kind: "hold", Of: u.Server, Server: u.Server,
			Says: fmt.Sprintf("%s did not hold its writes while backup %d was made: %s changed. Backups made this "+
				"way may not be whole.", u.Server, u.ID, files),
			Next: fmt.Sprintf("Check whether its version still knows the hold command of its game profile, or let a "+
				"rule stop it for a moment: reshard rules %s.", u.Server),
			Since: u.EndedAt,
		})
	}
	behind, err := b.with.Stores.Alerts(ctx)
	if err != nil {
		return out, err
	}
	out = append(out, behind...)
	folders, err := b.with.Changeovers.FolderAlerts(ctx)
	if err != nil {
		return out, err
	}
	out = append(out, folders...)
	untold, err := b.untold(ctx)
	if err != nil {
		return out, err
	}
	out = append(out, untold...)
	running, err := b.with.Fleet.Alerts(ctx)
	if err != nil {
		return out, err
	}
	out = append(out, running...)
	if short, ok := b.roomShort(); ok {
		out = append(out, short)
	}
	if trouble := b.with.Counted.Trouble(); trouble != "" {
		out = append(out, wire.Alert{
			Kind: "clock", Of: "clock", Says: trouble, Since: b.now(),
			Next: "If the machine's clock is right, say so: reshard rules clock --right",
		})
	}
	slices.SortStableFunc(out, func(x, y wire.Alert) int { return x.Since.Compare(y.Since) })
	return out, nil
}

// untoldFor is how long telling a target fails until that is an alert: mail servers ask to be tried again later.
const untoldFor = 10 * time.Minute

// untold gives the targets that alerts do not reach.
func (b *Backups) untold(ctx context.Context) (out []wire.Alert, err error) {
	targets, err := b.with.Records.NoticeTargets(ctx)
	for _, t := range targets {
		if t.TroubleSince == nil || b.now().Sub(*t.TroubleSince) < untoldFor {
			continue
		}
		why := t.Trouble
		if _, after, ok := strings.Cut(why, t.Name+": "); ok { // it is named already
			why = after
		}
		out = append(out, wire.Alert{
			Kind: "target", Of: t.Name, Since: *t.TroubleSince,
			Says: "Alerts do not reach target " + t.Name + ": " + why + ".",
			Next: "Check it: reshard alerts targets try " + t.Name,
		})
	}
	return out, err
}

// TrustClock takes the machine's clock for right.
func (b *Backups) TrustClock(ctx context.Context) error { return b.with.Counted.Trust(ctx) }

// Report tells how it stands with the backups of each server, in the order of their names.
func (b *Backups) Report(ctx context.Context) ([]wire.Report, error) {
	servers, err := b.with.Records.Servers(ctx)
	if err != nil {
		return nil, err
	}
	rules, err := b.with.Records.Rules(ctx, "")
	if err != nil {
		return nil, err
	}
	kept, err := b.with.Records.KeptBackups(ctx)
	if err != nil {
		return nil, err
	}
	alerts, err := b.Alerts(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Report, len(servers))
	at := map[string]*wire.Report{}
	for i, s := range servers {
		out[i] = wire.Report{Server: s.Name, Rules: []string{}, Troubles: []string{}}
		at[s.Name] = &out[i]
	}
	for _, r := range rules {
		at[r.Server].Rules = append(at[r.Server].Rules, r.Name)
	}
	for _, k := range kept {
		rep := at[k.Server]
		if rep == nil {
			continue
		}
		rep.Kept++
		rep.Bytes += k.Bytes
		if k.Good() {
			begun := k.BegunAt
			rep.LastGood, rep.LastRead = &begun, k.ReadAt
		}
	}
	for _, a := range alerts {
		if rep := at[a.Server]; rep != nil {
			rep.Troubles = append(rep.Troubles, a.Says)
		}
	}
	return out, nil
}
