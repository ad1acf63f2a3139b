package cli

import (
	"context"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "plan-only", Usage: "show the plan and stop there"},
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
	}
}

// bringFlags are those of a put, a restore and a clone.
func bringFlags(more ...cli.Flag) []cli.Flag {
	return append(append(choiceFlags(),
		&cli.BoolFlag{
			Name:  "beside",
			Usage: "only place the world; the active one stays active, and nobody is locked out",
		},
		&cli.StringFlag{
			Name:  "title",
			Usage: "the `TITLE` that the world gets on the server, where the game profile allows it",
		},
		&cli.BoolFlag{
			Name:  "sample",
			Usage: "compare a sample of what is staged, and know by size and time what was staged before",
		},
		&cli.BoolFlag{
			Name:  "whole",
			Usage: "read every staged file back, also where a sample is compared by itself (FTP)",
		},
		&cli.BoolFlag{Name: "when-told", Usage: "stage the world and wait for your word before the switch"},
		safetyFlag()),
		append(more, planFlags()...)...)
}

// bringing fills in what the flags of a put, a restore or a clone say.
func bringing(c *cli.Command, wish wire.Wish) (wire.Wish, error) {
	choices, err := choicesOf(c)
	if err != nil {
		return wish, err
	}
	if c.Bool("when-told") {
		choices["switch"] = "when-told"
	}
	switch {
	case c.Bool("sample") && c.Bool("whole"):
		return wish, usage("--sample and --whole do not go together")
	case c.Bool("sample"):
		choices["comparison"] = fit.BySample
	case c.Bool("whole"):
		choices["comparison"] = fit.Whole
	}
	if s := c.String("title"); s != "" {
		choices["title"] = s
	}
	if s := c.String("settings"); s != "" {
		choices["world-settings"] = s
	}
	wish.Choices, wish.Beside = choices, c.Bool("beside")
	return wish, nil
}

func (a *app) putCommand() *cli.Command {
	return &cli.Command{
		Name: "put", Usage: "make a world of the library the world of a server", ArgsUsage: "WORLD SERVER",
		Description: `Shows the fit sheet and the plan, asks, and carries it out: the world is staged
beside the live one while people play, the server is stopped, the old world is
set aside, the new one takes its place by a rename, the settings are written,
the server is started, and the result is proven. If anything fails, it goes back
to what was there. Nothing is deleted; undo takes it back later.

Examples:
  reshard put fen-garden north-plot
  reshard put orchard north-plot --folder orchard --yes
  reshard put orchard north-plot --beside        stands there, and is not active yet
  reshard put fen-garden north-plot --when-told  stage now, switch on your word
  reshard put fen-garden sedge-plot --sample     a large world, over a slow line
  reshard put fen-garden north-plot --plan-only`,
		Flags: bringFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.Wish{Kind: plan.Put, World: names[0], Server: names[1]})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "go back to a backup, or bring a copy of the library back onto a server",
		ArgsUsage: "BACKUP|COPY [SERVER]",
		Description: `A backup goes back onto its own server, or onto another one that you name. What differs
from what stands there is shown first; then as with put: staged while people play, a short
stop, a proof, and undo takes it back. The settings stay as they are, unless you say what
comes back with --what. A copy is named by the beginning of its id, as reshard worlds show
lists them.

Examples:
  reshard restore 12                                    the world of backup 12
  reshard restore 12 --what all                         its settings too
  reshard restore 12 --what settings --plan-only        only the settings; show what differs
  reshard restore 12 --file "folk/*.json"               some files of the world
  reshard restore 12 terraces --folder old-walk         onto another server
  reshard restore 12 --beside --folder before-the-flood as a world beside
  reshard restore 12 --to ~/worlds                      to this computer
  reshard restore 3f9a1c north-plot                     a copy of the library`,
		Flags: bringFlags(
			&cli.StringFlag{Name: "what", Usage: "`PART` of a backup: world, settings or all; left out: world"},
			&cli.StringFlag{Name: "world", Usage: "of a backup of several worlds the one of this `NAME` on disk"},
			&cli.StringSliceFlag{
				Name:  "file",
				Usage: "only this `FILE` or folder of the world, or a pattern; may be repeated",
			},
			&cli.StringFlag{
				Name:  "to",
				Usage: "write its world to this computer: a `FILE` that is not there yet, or a folder",
			},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("restore needs BACKUP or COPY, and may have SERVER; see reshard restore --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.Wish{Kind: plan.Restore, World: given[0]})
			if err != nil {
				return err
			}
			if len(given) == 2 {
				wish.Server = given[1]
			}
			copyID := given[0]
			backup, err := backupNamed(ctx, api, given[0])
			switch {
			case err != nil:
				return err
			case backup != nil:
				wish.Backup, wish.World, wish.Server = backup.ID, c.String("world"), orText(wish.Server, backup.Server)
				wish.What, wish.Files = c.String("what"), c.StringSlice("file")
				if copyID, err = copyOf(*backup, c.String("world")); err != nil {
					return err
				}
				if len(wish.Files) > 0 {
					wish.What = plan.SomeFiles
				}
			case c.IsSet("what") || c.IsSet("world") || c.IsSet("file"):
				return usage("--what, --world and --file are for a backup, and %s is none; reshard backups lists them",
					given[0])
			}
			if to := c.String("to"); to != "" {
				return a.fetch(ctx, api, copyID, "game", to, false)
			}
			if wish.Server == "" {
				return usage("say onto which server: reshard restore %s SERVER", given[0])
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

// backupNamed gives the backup of that number; nil where it is none, and may be the beginning of a copy's id.
func backupNamed(ctx context.Context, api *client.Client, text string) (*wire.Backup, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return nil, nil
	}
	b, err := api.Backup(ctx, id)
	if fault.CodeOf(err) == fault.NotFound && len(text) >= 6 {
		return nil, nil
	}
	return &b, err
}

// copyOf gives the copy that a backup has of a world, of the one that ran when none is named.
func copyOf(b wire.Backup, world string) (string, error) {
	if world == "" && b.About != nil {
		world = b.About.Active
	}
	var have []string
	for _, w := range b.Worlds {
		if w.World == world || len(b.Worlds) == 1 {
			return w.Copy, nil
		}
		have = append(have, w.World)
	}
	return "", usage("backup %d has no world %q; say which with --world: %s", b.ID, world, strings.Join(have, ", "))
}

func (a *app) cloneCommand() *cli.Command {
	return &cli.Command{
		Name: "clone", Usage: "bring the world of one server onto another", ArgsUsage: "FROM SERVER",
		Description: `Copies the active world of FROM into the library and puts it onto SERVER. FROM
goes on running: its writes are held while the last of the world is copied.
Where a game cannot hold its writes, most is copied while people play, and FROM
is stopped for a moment for the rest. Settings that belong to the world go with
it if you say so.

Examples:
  reshard clone north-plot terraces
  reshard clone north-plot terraces --settings bring --folder north-copy
  reshard clone north-plot terraces --beside --yes`,
		Flags: bringFlags(
			&cli.StringFlag{Name: "world", Usage: "another world of FROM than its active one, by `NAME`"},
			&cli.StringFlag{Name: "settings", Usage: "settings that belong to the world: `bring` or leave"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "FROM", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(
				c, wire.Wish{Kind: plan.Clone, From: names[0], Server: names[1], World: c.String("world")})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

// change shows the sheet of what a person wants, drafts it, and carries it out. When
// something else had to come first, it goes on with what was wanted.
func (a *app) change(ctx context.Context, c *cli.Command, api *client.Client, wish wire.Wish) error {
	sheet, err := api.Sheet(ctx, wish)
	if err != nil {
		return err
	}
	if exit := sheetExit(sheet.Sheet); exit != nil {
		if err := a.show(sheet, func() { a.printSheet(sheet) }); err != nil {
			return err
		}
		return exit
	}
	if !a.json {
		a.printSheet(sheet)
	}
	draft, err := api.Draft(ctx, wish)
	if err != nil {
		return err
	}
	last, err := a.carry(ctx, c, api, draft)
	if err != nil || last.State != plan.Done || draft.Plan.Then == nil {
		return err
	}
	a.print("\nThe first start is made. Now what you wanted:\n\n")
	wish.Choices = draft.Plan.Then.Choices
	return a.change(ctx, c, api, wish)
}
