package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) switchCommand() *cli.Command {
	return &cli.Command{
		Name: "switch", Usage: "go over to another world that stands on the server", ArgsUsage: "SERVER WORLD",
		Description: `WORLD is a name on disk, exactly as reshard servers show lists it. The world
that ran stays where it is. A game that can load a world while it runs is not
stopped.

Examples:
  reshard switch north-plot winter
  reshard switch ridge-camp kettle-moraine --restart
  reshard switch north-plot winter --plan-only`,
		Flags: append([]cli.Flag{
			&cli.BoolFlag{
				Name:  "restart",
				Usage: "stop and start the server, also where it could load the world while it runs",
			},
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, append(planFlags(), safetyFlag())...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER", "WORLD")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			if c.Bool("restart") {
				choices["restart"] = "yes"
			}
			return a.change(ctx, c, api, wire.Wish{
				Kind:    plan.Switch,
				Server:  names[0],
				World:   names[1],
				Choices: choices,
			})
		},
	}
}

func (a *app) renameCommand() *cli.Command {
	return &cli.Command{
		Name: "rename", Usage: "give a server's active world another name on disk", ArgsUsage: "SERVER NAME",
		Description: `Renames the world's folder or files, its realms beside it, and every setting
that names it, in one short stop. Its title stays.

Examples:
  reshard rename north-plot winter-2026
  reshard rename north-plot winter-2026 --plan-only`,
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, append(planFlags(), safetyFlag())...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER", "NAME")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wire.Wish{
				Kind:    plan.Rename,
				Server:  names[0],
				World:   names[1],
				Choices: choices,
			})
		},
	}
}
