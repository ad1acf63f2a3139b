package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "plan-only", Usage: "show the plan and stop there"},
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
	}
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
  reshard put fen-garden north-plot --plan-only`,
		Flags: append(choiceFlags(), planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			api, choices, sheet, err := a.askFit(ctx, c)
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
			draft, err := api.DraftPut(ctx, sheet.Copy, sheet.Server, choices)
			if err != nil {
				return err
			}
			return a.carry(ctx, c, api, draft)
		},
	}
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a changeover back", ArgsUsage: "CHANGEOVER",
		Description: `Makes the world that was there before a changeover run again. What was played
since is set aside, not lost, and an undo can be undone. A changeover that is
held is tried once more.

Examples:
  reshard undo 12
  reshard undo 12 --plan-only
  reshard undo 12 --yes`,
		Flags: planFlags(),
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
				return a.follow(ctx, api, now)
			}
			draft, err := api.DraftUndo(ctx, id)
			if err != nil {
				return err
			}
			return a.carry(ctx, c, api, draft)
		},
	}
}

func (a *app) changeoverArg(c *cli.Command) (int64, *client.Client, error) {
	names, err := args(c, "CHANGEOVER")
	if err != nil {
		return 0, nil, err
	}
	id, err := strconv.ParseInt(names[0], 10, 64)
	if err != nil {
		return 0, nil, usage("a changeover is a number, such as 12, not %q", names[0])
	}
	api, err := a.client()
	return id, api, err
}

// carry shows a draft, asks, starts it and follows it to its end.
func (a *app) carry(ctx context.Context, c *cli.Command, api *client.Client, draft wire.Changeover) error {
	if c.Bool("plan-only") {
		return a.show(draft, func() {
			a.printPlan(draft)
			a.print("\nNothing has been changed.\n")
		})
	}
	if !a.json {
		a.printPlan(draft)
		a.print("\n")
	}
	if !c.Bool("yes") {
		ok, err := a.confirm("Carry this out on " + draft.Server + "?")
		if err != nil {
			return err
		}
		if !ok {
			a.print("Nothing has been changed.\n")
			return exitQuietly(ExitFailed)
		}
	}
	started, err := api.Act(ctx, draft.ID, "start")
	if err != nil {
		return err
	}
	return a.follow(ctx, api, started)
}

func (a *app) follow(ctx context.Context, api *client.Client, c wire.Changeover) error {
	f := &follower{a: a, printed: map[string]bool{}}
	if !a.json {
		a.print("Changeover %d on %s\n", c.ID, c.Server)
	}
	// Ctrl-C ends the watching, not the changeover.
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	last, err := api.Watch(ctx, c.ID, f.see)
	a.endProgress()
	if ctx.Err() != nil {
		a.print("\nNo longer watching; changeover %d goes on.\n  reshard changeovers show %d     how it stands\n  reshard changeovers cancel %d   ends it while it is staging\n  reshard undo %d                 takes it back when it is done\n", c.ID, c.ID, c.ID, c.ID)
		return exitQuietly(ExitFailed)
	}
	if err != nil {
		return err
	}
	if last.State.Open() && last.State != plan.Held {
		return fault.New(fault.Unreachable, "watch", fmt.Sprintf("changeover %d", c.ID), "the service went away while it was %s; it goes on when the service is back", last.State).
			With(fmt.Sprintf("Look again with: reshard changeovers show %d", c.ID))
	}
	if err := a.show(last, func() { a.printOutcome(last) }); err != nil {
		return err
	}
	if last.State != plan.Done {
		return exitQuietly(ExitFailed)
	}
	return nil
}

func (a *app) printPlan(c wire.Changeover) {
	p := c.Plan
	a.print("\nPlan of changeover %d: %s %s on %s\n\n", c.ID, c.Kind, quoted(orText(p.World, p.Folder)), c.Server)
	inWindow := false
	for n, s := range p.Steps {
		if s.Switch && !inWindow {
			inWindow = true
			a.print("     ── stop window: players are locked out ──\n")
		}
		if !s.Switch && inWindow {
			inWindow = false
			a.print("     ── players can join again ──\n")
		}
		a.wrapped(fmt.Sprintf("  %2d %-7s", n+1, s.Kind), s.Say)
	}
	for _, d := range p.Diffs {
		if d.Text != "" {
			a.print("\n%s", d.Text)
		}
	}
	a.print("\n")
	if p.NeedBytes > 0 {
		a.print("  space needed      %s\n", bytesText(p.NeedBytes))
	}
	a.print("  stop window       %s\n", windowText(p.Window))
	for _, n := range p.Notes {
		a.wrapped("  ", n)
	}
}

func windowText(w plan.Window) string {
	if w.Stopping < 0 || w.Starting < 0 {
		return "under 0.1 s of ours, and what the game takes to stop and start (not measured yet)"
	}
	return fmt.Sprintf("about %s: game stopping %s, ours under 0.1 s, game starting %s", millis(w.Stopping+w.Ours+w.Starting), millis(w.Stopping), millis(w.Starting))
}

func orText(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (a *app) printOutcome(c wire.Changeover) {
	if c.Proof != nil {
		a.print("\nProof\n")
		for _, check := range c.Proof.Checks {
			mark := "✓"
			if !check.OK {
				mark = "✕ expected " + check.Expected + ","
			}
			a.wrapped("  ", fmt.Sprintf("%s %s: %s", mark, check.What, check.Seen))
		}
	}
	a.print("\n")
	switch c.State {
	case plan.Done:
		a.print("✓ done. %s runs on %s.\n", quoted(orText(c.Plan.World, c.Plan.Folder)), c.Server)
		if w := c.Window; w != nil {
			a.print("  Players were locked out for %s: game stopping %s, ours %s, game starting %s.\n", millis(w.TotalMS), millis(max(0, w.StoppingMS)), millis(w.OursMS), millis(w.StartingMS))
		}
		if c.Join != "" {
			a.print("  Go and look: %s (an address of the host itself).\n", c.Join)
		}
		a.print("  To take it back: reshard undo %d\n", c.ID)
	case plan.Undone:
		a.print("↩ undone. What was there before is there again.\n")
		if w := c.Window; w != nil {
			a.print("  Players were locked out for %s.\n", millis(w.TotalMS))
		}
		a.printFailure(c)
	case plan.Held:
		a.print("‖ held. It could not go back by itself; nothing was deleted.\n")
		a.printFailure(c)
		a.print("  To try again: reshard undo %d. When you have put it right by hand: reshard changeovers settle %d\n", c.ID, c.ID)
	default:
		a.print("%s\n", marked(c.State))
	}
}

func (a *app) printFailure(c wire.Changeover) {
	if c.Failure != nil {
		a.wrapped("  ", "Why: "+c.Failure.What)
		a.wrapped("  ", c.Failure.Next)
	}
}

func (a *app) changeoversCommand() *cli.Command {
	return &cli.Command{
		Name: "changeovers", Usage: "list what was changed, newest first",
		Description: `Examples:
  reshard changeovers
  reshard changeovers --server north-plot
  reshard changeovers show 12
  reshard changeovers cancel 12`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "server", Usage: "only of this `SERVER`"}},
		Action: listing(a, func(ctx context.Context, api *client.Client, c *cli.Command) ([]wire.Changeover, error) {
			return api.Changeovers(ctx, c.String("server"))
		}, a.listChangeovers),
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show plan, steps, proof and stop window", ArgsUsage: "CHANGEOVER",
				Description: "Examples:\n  reshard changeovers show 12",
				Action: func(ctx context.Context, c *cli.Command) error {
					id, api, err := a.changeoverArg(c)
					if err != nil {
						return err
					}
					now, err := api.Changeover(ctx, id)
					if err != nil {
						return err
					}
					return a.show(now, func() {
						a.printPlan(now)
						a.print("\n")
						for _, s := range now.Steps {
							a.print("  %-9s %s\n", s.State, s.Say)
						}
						a.printOutcome(now)
					})
				},
			},
			a.onChangeover("cancel", "cancel one that is still staging", "Nothing live has been touched while a changeover is staging.", "Changeover %d is being cancelled.\n"),
			a.onChangeover("settle", "close a held one that you have put right by hand",
				"A held changeover keeps its server from any other. reshard undo tries to go back\nonce more; settle is for when you have put the folders right yourself. It touches\nno file.", "Changeover %d is settled; its server is free again.\n"),
		},
	}
}

func (a *app) onChangeover(verb, use, description, said string) *cli.Command {
	return &cli.Command{
		Name: verb, Usage: use, ArgsUsage: "CHANGEOVER", Description: description + "\n\nExamples:\n  reshard changeovers " + verb + " 12",
		Action: func(ctx context.Context, c *cli.Command) error {
			id, api, err := a.changeoverArg(c)
			if err != nil {
				return err
			}
			now, err := api.Act(ctx, id, verb)
			if err != nil {
				return err
			}
			return a.show(now, func() { a.print(said, id) })
		},
	}
}

func (a *app) listChangeovers(list []wire.Changeover) {
	if len(list) == 0 {
		a.print("No changeovers yet. Next: reshard put WORLD SERVER --plan-only\n")
		return
	}
	var rows [][]string
	for _, c := range list {
		what := c.Kind + " " + quoted(orText(c.Plan.World, c.Plan.Folder))
		if c.Undoes != 0 {
			what = fmt.Sprintf("undo of %d, %s back", c.Undoes, quoted(orText(c.Plan.World, c.Plan.Folder)))
		}
		out := "–"
		if c.Window != nil {
			out = millis(c.Window.TotalMS)
		}
		undo := ""
		switch {
		case c.Undoable:
			undo = fmt.Sprintf("reshard undo %d", c.ID)
		case c.UndoneBy != 0:
			undo = fmt.Sprintf("undone by %d", c.UndoneBy)
		}
		at := c.CreatedAt
		if c.StartedAt != nil {
			at = *c.StartedAt
		}
		rows = append(rows, []string{fmt.Sprint(c.ID), marked(c.State), c.Server, what, at.Local().Format(time.DateTime), out, c.CreatedBy, undo})
	}
	a.table([]string{"id", "state", "server", "what", "when", "locked out", "by", "to take back"}, rows, 0, 0, 0, 40)
}
