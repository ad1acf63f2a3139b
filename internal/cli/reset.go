package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) resetCommand() *cli.Command {
	return &cli.Command{
		Name: "reset", Usage: "let a server make a new world", ArgsUsage: "SERVER",
		Description: `Three ways, and each keeps the old world:
  same name   the old world is set aside, and undo brings it back
  --name NEW  the old world stays where it is, and switch goes back to it
  --seed      with either: a number (also negative or large), words, random (new
              ground), same (the old ground without what was built on it), or
              as-set (whatever the settings hold)
The seed is written before the start, and the proof compares the running seed
with it and shows that the ground is new.

Examples:
  reshard reset north-plot --seed random
  reshard reset north-plot --name spring --seed -9000000000
  reshard reset north-plot --seed "three marrows"
  reshard reset north-plot --seed same --plan-only`,
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the new world's `NAME` on disk; the old one's when left out"},
			&cli.StringFlag{Name: "seed", Usage: "the new world's `SEED`: a number, words, random, same or as-set"},
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, append(planFlags(), safetyFlag())...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			if c.IsSet("name") {
				choices["folder-name"] = c.String("name")
			}
			if c.IsSet("seed") {
				choices["seed"] = c.String("seed")
			}
			return a.change(ctx, c, api, wire.Wish{Kind: plan.Reset, Server: names[0], Choices: choices})
		},
	}
}
