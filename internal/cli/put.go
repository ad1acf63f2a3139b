package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
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
		&cli.BoolFlag{Name: "when-told", Usage: "stage the world and wait for your word before the switch"}),
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
		Name: "restore", Usage: "bring a copy of the library back onto a server", ArgsUsage: "COPY SERVER",
		Description: `As put, for a certain copy: the beginning of its id, as reshard worlds show
lists them. A copy of the world that runs there goes back under the name that it
has there, also when the copy is an older one.

Examples:
  reshard restore 3f9a1c north-plot
  reshard restore 3f9a1c terraces --folder old-walk
  reshard restore 3f9a1c north-plot --plan-only`,
		Flags: bringFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "COPY", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.Wish{Kind: plan.Restore, World: names[0], Server: names[1]})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
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
