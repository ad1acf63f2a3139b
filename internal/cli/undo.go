package cli

import (
	"context"

	"github.com/urfave/cli/v3"

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
