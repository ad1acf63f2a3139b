package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a changeover back", ArgsUsage: "CHANGEOVER",
		Description: `Makes the world that was there before a changeover run again. What was played
since is set aside, not lost, and an undo can be undone. A changeover that is
held is tried once more. With --with-later those that came after it are undone
first, newest first, each as a changeover of its own.

Examples:
  reshard undo 12
  reshard undo 12 --plan-only
  reshard undo 9 --with-later --yes`,
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "with-later", Usage: "undo what came after it first"}},
			planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			id, api, err := a.changeoverArg(c)
			if err != nil {
				return err
			}
			now, err := api.Changeover(ctx, id)
			if err != nil {
				return err
			}
			if now.State == plan.Held {
				if now, err = api.Act(ctx, id, "retry"); err != nil {
					return err
				}
				_, err = a.follow(ctx, api, now)
				return err
			}
			ids := []int64{id}
			if c.Bool("with-later") {
				ids = append(now.Later, id)
			}
			if err := a.inOrder(ctx, api, ids); err != nil {
				return err
			}
			for _, one := range ids {
				draft, err := api.Draft(ctx, wire.Wish{Kind: plan.Undo, Undoes: one})
				if err != nil {
					return err
				}
				if last, err := a.carry(ctx, c, api, draft); err != nil || last.State != plan.Done {
					return err
				}
			}
			return nil
		},
	}
}

// inOrder tells what is undone one after the other: each plan is made of what stands when the one before is done.
func (a *app) inOrder(ctx context.Context, api *client.Client, ids []int64) error {
	if len(ids) < 2 || a.json {
		return nil
	}
	a.print("These are taken back in this order, each planned when the one before it is done:\n\n")
	for _, id := range ids {
		c, err := api.Changeover(ctx, id)
		if err != nil {
			return err
		}
		a.print("  %d  %s\n", id, c.Title)
	}
	return nil
}
