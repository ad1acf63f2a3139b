package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/wire"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "back a server up now, while people play", ArgsUsage: "SERVER",
		Description: `Stores the server's worlds, its settings and what is needed to make it the same
again. Where the game can hold its writes, it holds them for a moment and people go on
playing; else it is copied until two looks at it agree. The server is not stopped unless
you let it be. What has not changed since the last backup is not read again.

Examples:
  reshard backup north-plot
  reshard backup north-plot --note "before the flood" --pin
  reshard backup north-plot --world winter
  reshard backup fen-plot --may-stop`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "world", Usage: "only this world, by its `NAME` on disk"},
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` for people"},
			&cli.BoolFlag{Name: "pin", Usage: "no rule removes it"},
			&cli.BoolFlag{Name: "may-stop", Usage: "a server that cannot hold its writes may be stopped for a moment"},
			&cli.BoolFlag{
				Name:  "read-all",
				Usage: "read every file, also those that have not changed by size and time",
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			b, err := api.MakeBackup(ctx, wire.MakeBackup{
				Server: names[0], World: c.String("world"), Note: c.String("note"), Pinned: c.Bool("pin"),
				MayStop: c.Bool("may-stop"), ReadAll: c.Bool("read-all"),
			})
			if err != nil {
				return err
			}
			if b, err = a.followBackup(ctx, api, b); err != nil {
				return err
			}
			if err := a.show(b, func() { a.printBackup(b) }); err != nil {
				return err
			}
			if b.State != "done" {
				return exitQuietly(ExitFailed)
			}
			return nil
		},
	}
}

// followBackup shows how a backup goes on, until it has ended.
func (a *app) followBackup(ctx context.Context, api *client.Client, b wire.Backup) (wire.Backup, error) {
	if !a.json {
		a.print("Backup %d of %s\n", b.ID, b.Server)
	}
	f := a.following()
	_, err := api.Watch(ctx, b.Changeover, f.see)
	f.end()
	if err != nil {
		return b, err
	}
	return api.Backup(ctx, b.ID)
}

func (a *app) printBackup(b wire.Backup) {
	mark := map[string]string{"done": "✓", "failed": "✕", "running": "◔", "gave-way": "↩"}[b.State]
	if b.State == "done" && !b.Good {
		mark = "?"
	}
	a.print("\n")
	a.wrapped(mark+" ", fmt.Sprintf("Backup %d of %s, %s: %s", b.ID, b.Server, when(b.Begun), b.Says))
	for _, w := range b.Worlds {
		note := ""
		if w.AsBefore {
			note = ", as before: nothing new was stored"
		}
		a.wrapped("  ", fmt.Sprintf("%s  copy %s, %s%s. %s", w.World, w.Copy[:12], bytesText(w.Bytes), note, w.Says))
		if len(w.Moved) > 0 {
			a.wrapped("    changed meanwhile: ", strings.Join(w.Moved, ", "))
		}
	}
	if r := b.About; r != nil {
		var about []string
		if r.Version != "" {
			about = append(about, "version "+r.Version)
		}
		if n := len(r.Mods); n > 0 {
			about = append(about, count(n, "mod", "mods"))
		}
		about = append(about, "settings "+orText(strings.Join(r.Settings, ", "), "none"))
		a.wrapped("  with it: ", strings.Join(about, "; "))
		for _, file := range slices.Sorted(maps.Keys(r.Lacking)) {
			a.wrapped("  not with it: ", file+": "+r.Lacking[file])
		}
	}
	if b.Failure != nil && b.Failure.Next != "" {
		a.wrapped("  ", b.Failure.Next)
	}
	if b.State == "done" && b.Why != "" {
		a.wrapped("  kept: ", b.Why)
	}
	if b.Damage == "" && b.State == "done" && b.AsideAt == nil {
		a.print("  To go back to it: reshard restore %d\n", b.ID)
	}
}

func (a *app) backupsCommand() *cli.Command {
	return &cli.Command{
		Name: "backups", Usage: "list backups, newest first, and what each is worth", ArgsUsage: "[SERVER]",
		Description: `Examples:
  reshard backups
  reshard backups north-plot
  reshard backups --report
  reshard backups show 12
  reshard backups change 12 --pin --note "before the flood"`,
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "limit", Local: true, Usage: "at most `N`; 0: all", Value: 20},
			&cli.StringFlag{Name: "rule", Local: true, Usage: "only those of the rule of this `NAME`"},
			&cli.StringFlag{
				Name:  "state",
				Local: true,
				Usage: "only in this `STATE`: running, done, failed or gave-way",
			},
			&cli.BoolFlag{Name: "aside", Local: true, Usage: "those that are set aside"},
			&cli.BoolFlag{Name: "report", Local: true, Usage: "how it stands with each server"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("backups may have SERVER; see reshard backups --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			if c.Bool("report") {
				report, err := api.BackupReport(ctx)
				if err != nil {
					return err
				}
				return a.show(report, func() { a.printReport(report) })
			}
			list, err := api.Backups(ctx, wire.BackupQuery{
				Part: wire.Part{Limit: c.Int("limit")}, Server: c.Args().First(), Rule: c.String("rule"),
				State: c.String("state"), Aside: c.Bool("aside"),
			})
			if err != nil {
				return err
			}
			return a.show(list, func() { a.listBackups(list, c.Args().First()) })
		},
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show a backup, what it is worth and what the server was", ArgsUsage: "BACKUP",
				Description: "Examples:\n  reshard backups show 12",
				Action: func(ctx context.Context, c *cli.Command) error {
					id, api, err := a.backupArg(c)
					if err != nil {
						return err
					}
					b, err := api.Backup(ctx, id)
					if err != nil {
						return err
					}
					return a.show(b, func() { a.printBackup(b); a.printAbout(b) })
				},
			},
			{
				Name: "change", Usage: "pin a backup, write a note, set it aside or bring it back", ArgsUsage: "BACKUP",
				Description: `A pinned backup is removed by no rule. One that is set aside goes when it has been
kept long enough; until then it can be brought back.

Examples:
  reshard backups change 12 --pin --note "before the flood"
  reshard backups change 12 --set-aside`,
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "pin", Usage: "no rule removes it"},
					&cli.BoolFlag{Name: "unpin", Usage: "rules count again"},
					&cli.StringFlag{Name: "note", Usage: "a `NOTE` for people"},
					&cli.BoolFlag{Name: "set-aside", Usage: "let it go when it has been kept long enough"},
					&cli.BoolFlag{Name: "bring-back", Usage: "take back that it was set aside"},
				},
				Action: a.changeBackup,
			},
		},
	}
}

func (a *app) changeBackup(ctx context.Context, c *cli.Command) error {
	id, api, err := a.backupArg(c)
	if err != nil {
		return err
	}
	var change wire.ChangeBackup
	yes, no := true, false
	for flag, set := range map[string]func(){
		"pin": func() { change.Pinned = &yes }, "unpin": func() { change.Pinned = &no },
		"set-aside": func() { change.Aside = &yes }, "bring-back": func() { change.Aside = &no },
	} {
		if c.Bool(flag) {
			set()
		}
	}
	if c.IsSet("note") {
		note := c.String("note")
		change.Note = &note
	}
	if change == (wire.ChangeBackup{}) {
		return usage("say what to change; see reshard backups change --help")
	}
	b, err := api.ChangeBackup(ctx, id, change)
	if err != nil {
		return err
	}
	return a.show(b, func() {
		a.printBackup(b)
		if b.AsideAt != nil && b.Goes != nil {
			a.print("  It is set aside, and goes %s. To bring it back: reshard backups change %d --bring-back\n",
				humanize.Time(*b.Goes), b.ID)
		}
	})
}

func (a *app) backupArg(c *cli.Command) (int64, *client.Client, error) {
	names, err := args(c, "BACKUP")
	if err != nil {
		return 0, nil, err
	}
	id, err := strconv.ParseInt(names[0], 10, 64)
	if err != nil {
		return 0, nil, usage("a backup is a number, such as 12, not %q; reshard backups lists them", names[0])
	}
	api, err := a.client()
	return id, api, err
}

func (a *app) printAbout(b wire.Backup) {
	r := b.About
	if r == nil {
		return
	}
	a.print("\nWhat the server was\n")
	a.wrapped("  ", fmt.Sprintf("%s, %s (%s) on %s in %s", r.Server, r.Game, r.Kind, r.Host, r.Root))
	if len(r.Command) > 0 {
		a.wrapped("  started with: ", strings.Join(r.Command, " "))
	}
	if len(r.Env) > 0 {
		a.wrapped("  given: ", strings.Join(slices.Sorted(maps.Keys(r.Env)), ", "))
	}
	for _, key := range slices.Sorted(maps.Keys(r.Keys)) {
		a.wrapped("  "+key+": ", r.Keys[key])
	}
	if len(r.Mods) > 0 {
		a.wrapped("  mods: ", strings.Join(r.Mods, ", "))
	}
}

func (a *app) listBackups(list []wire.Backup, server string) {
	if len(list) == 0 {
		next := "reshard backup " + orText(server, "SERVER")
		a.print("No backups yet. Next: %s   or by rule: reshard rules add %s\n", next, orText(server, "SERVER"))
		return
	}
	var rows [][]string
	for _, b := range list {
		state := map[string]string{
			"done":     "✓ good",
			"failed":   "✕ failed",
			"running":  "◔ running",
			"gave-way": "↩ gave way",
		}[b.State]
		if b.State == "done" && !b.Good {
			state = "? see below"
			if b.Damage != "" {
				state = "✕ damaged"
			}
		}
		var worlds []string
		for _, w := range b.Worlds {
			worlds = append(worlds, w.World)
		}
		by := b.By
		if b.Rule != "" {
			by = "rule " + b.Rule
		}
		kept := b.Why
		if b.AsideAt != nil {
			kept = "set aside by " + b.AsideBy
		} else if b.State != "done" || !b.Good {
			kept = b.Says
		}
		rows = append(rows, []string{
			fmt.Sprint(b.ID), state, b.Server, strings.Join(worlds, ", "), when(b.Begun), bytesText(b.Bytes), by, kept,
		})
	}
	a.table([]string{"id", "state", "server", "worlds", "when", "size", "by", "kept because"}, rows, 0, 0, 0, 24, 0, 0,
		0, 40)
	a.print("\nNext: reshard backups show %d", list[0].ID)
	if i := slices.IndexFunc(list, func(b wire.Backup) bool { return b.Good && b.AsideAt == nil }); i >= 0 {
		a.print("   reshard restore %d", list[i].ID)
	}
	a.print("\n")
}

func (a *app) printReport(list []wire.Report) {
	var rows [][]string
	for _, r := range list {
		last, read := "never", ""
		if r.LastGood != nil {
			last = when(*r.LastGood) + " (" + ago(*r.LastGood) + ")"
		}
		if r.LastRead != nil {
			read = ago(*r.LastRead)
		}
		state := "✓ well"
		if len(r.Troubles) > 0 {
			state = "! " + strings.Join(r.Troubles, " ")
		} else if len(r.Rules) == 0 {
			state = "· no rule"
		}
		rows = append(rows, []string{
			r.Server,
			last,
			read,
			fmt.Sprint(r.Kept),
			bytesText(r.Bytes),
			strings.Join(r.Rules, ", "),
			state,
		})
	}
	a.table([]string{"server", "last good backup", "read back", "kept", "size", "rules", "state"}, rows, 0, 0, 0, 0, 0,
		0, 50)
}

// printAlerts says at the top of a list what needs a person.
func (a *app) printAlerts(list []wire.Alert) {
	for _, al := range list {
		a.wrapped("! ", al.Says)
		a.wrapped("  ", al.Next)
	}
	if len(list) > 0 {
		a.print("\n")
	}
}
