package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) changeoverArg(c *cli.Command) (int64, *client.Client, error) {
	names, err := args(c, "CHANGEOVER")
	if err != nil {
		return 0, nil, err
	}
	id, err := changeoverNumber(names[0])
	if err != nil {
		return 0, nil, err
	}
	api, err := a.client()
	return id, api, err
}

func changeoverNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usage("a changeover is a number, such as 12, not %q", text)
	}
	return id, nil
}

// carry shows a draft, asks, starts it and follows it to its end. A changeover that was
// only shown keeps its state.
func (a *app) carry(ctx context.Context, c *cli.Command, api *client.Client,
	draft wire.Changeover) (wire.Changeover, error) {
	// Nobody can be asked where a program reads what is printed: it gets the plan, as with --plan-only.
	if c.Bool("plan-only") || a.json && !c.Bool("yes") {
		return draft, a.show(draft, func() {
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
			return draft, err
		}
		if !ok {
			a.print("Nothing has been changed.\n")
			return draft, exitQuietly(ExitFailed)
		}
	}
	started, err := api.Act(ctx, draft.ID, "start")
	if err != nil {
		return draft, err
	}
	return a.follow(ctx, api, started)
}

func (a *app) follow(ctx context.Context, api *client.Client, c wire.Changeover) (wire.Changeover, error) {
	f := a.following()
	if !a.json {
		a.print("Changeover %d on %s\n", c.ID, c.Server)
	}
	// Ctrl-C ends the watching, not the changeover.
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	// Without a person at the screen, waiting for one is no use.
	watching, enough := context.WithCancel(ctx)
	defer enough()
	last, err := api.Watch(watching, c.ID, func(now wire.Changeover) {
		f.see(now)
		if now.State == plan.Waiting && a.plain {
			c = now
			enough()
		}
	})
	f.end()
	switch {
	case ctx.Err() != nil:
		a.print("\nNo longer watching; changeover %d goes on.\n  reshard changeovers show %d     how it stands\n  "+
			"reshard changeovers cancel %d   ends it while it is staging or waiting\n  reshard undo %d               "+
			"  takes it back when it is done\n", c.ID, c.ID, c.ID, c.ID)
		return c, exitQuietly(ExitFailed)
	case watching.Err() != nil:
		return c, a.show(c, func() { a.printWaiting(c) })
	case err != nil:
		return last, err
	}
	if last.State.Open() && last.State != plan.Held {
		return last, fault.New(fault.Unreachable, "watch", fmt.Sprintf("changeover %d", c.ID),
			"the service went away while it was %s; it goes on when the service is back", last.State).
			With(fmt.Sprintf("Look again with: reshard changeovers show %d", c.ID))
	}
	if err := a.show(last, func() { a.printOutcome(last) }); err != nil {
		return last, err
	}
	if last.State != plan.Done {
		return last, exitQuietly(ExitFailed)
	}
	return last, nil
}

func (a *app) printWaiting(c wire.Changeover) {
	for _, s := range c.Steps {
		if s.Kind == plan.Wait && s.State == string(plan.StepIntended) {
			a.wrapped("  ◷ waiting: ", s.Say)
		}
	}
	if c.Progress != nil && c.Progress.Waiting != "" {
		a.wrapped("  ‖ ", c.Progress.Waiting)
	}
	a.print("  reshard changeovers go-on %d    give the word\n  reshard changeovers cancel %d   end it; nothing live "+
		"has been touched\n", c.ID, c.ID)
}

func (a *app) printPlan(c wire.Changeover) {
	p := c.Plan
	a.print("\nPlan of changeover %d: %s on %s\n\n", c.ID, c.Title, c.Server)
	inWindow, stops := false, p.LocksOut()
	for n, s := range p.Steps {
		if stops && s.Switch && !inWindow {
			inWindow = true
			a.print("     ── stop window: players are locked out ──\n")
		}
		if !s.Switch && inWindow {
			inWindow = false
			a.print("     ── players can join again ──\n")
		}
		a.wrapped(fmt.Sprintf("  %2d %-8s", n+1, s.Kind), s.Say)
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
	if stops {
		a.print("  stop window       %s\n", windowText(p.Window))
	} else {
		a.print("  stop window       none: the server is not stopped\n")
	}
	for _, n := range p.Notes {
		a.wrapped("  ", n)
	}
}

func windowText(w plan.Window) string {
	if w.Stopping < 0 || w.Starting < 0 {
		return "under 0.1 s of ours, and what the game takes to stop and start (not measured yet)"
	}
	return fmt.Sprintf("about %s: game stopping %s, ours under 0.1 s, game starting %s",
		millis(w.Stopping+w.Ours+w.Starting), millis(w.Stopping), millis(w.Starting))
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
			switch {
			case check.Unseen:
				mark = "– not seen,"
			case !check.OK && check.Aside:
				mark = "· differs, written was " + check.Expected + ","
			case !check.OK:
				mark = "✕ expected " + check.Expected + ","
			}
			a.wrapped("  ", fmt.Sprintf("%s %s: %s", mark, check.What, check.Seen))
		}
	}
	a.print("\n")
	switch c.State {
	case plan.Done:
		if len(c.Unproven) > 0 {
			a.print("✓ done, not proven. %s\n", c.Outcome)
			a.wrapped("  – ", "Not seen: "+strings.Join(c.Unproven, "; ")+". Join and look: that completes it.")
		} else {
			a.print("✓ done. %s\n", c.Outcome)
		}
		if w := c.Window; w != nil {
			a.print("  Players were locked out for %s: game stopping %s, ours %s, game starting %s.\n",
				millis(w.TotalMS), millis(max(0, w.StoppingMS)), millis(w.OursMS), millis(w.StartingMS))
			if w.Why != "" {
				a.wrapped("  ", w.Why)
			}
		}
		if c.Join != "" && plan.Lasting(c.Kind) && c.Plan.Expect.Placed == "" {
			a.wrapped("  ", "Go and look: "+c.Join+" ("+orText(c.JoinNote, "an address of the host itself")+").")
		}
		if len(c.Landmarks) > 0 {
			a.print("  Look for, and tick with reshard changeovers tick %d NUMBER:\n", c.ID)
			a.printLandmarks(c)
		}
		switch {
		case c.Undoable:
			a.print("  To take it back: reshard undo %d\n", c.ID)
		case c.UndoneBy != 0:
			a.print("  Undone by changeover %d.\n", c.UndoneBy)
		case len(c.Later) > 0:
			a.print("  To take it back with what came after it: reshard undo %d --with-later\n", c.ID)
		}
	case plan.Undone:
		a.print("↩ undone. %s\n", c.Outcome)
		if w := c.Window; w != nil {
			a.print("  Players were locked out for %s.\n", millis(w.TotalMS))
		}
		a.printFailure(c)
	case plan.Held:
		a.print("‖ held. It could not go back by itself; nothing was deleted.\n")
		a.printFailure(c)
		a.print("  To try again: reshard undo %d. When you have put it right by hand: reshard changeovers settle %d\n",
			c.ID, c.ID)
	case plan.Waiting:
		a.printWaiting(c)
	default:
		a.print("%s\n", marked(c.State))
		if c.Progress != nil && c.Progress.Asks.What != "" {
			a.printAsks(c.Progress.Asks)
		}
		if c.Progress != nil && c.Progress.Waiting != "" {
			a.wrapped("  ‖ ", c.Progress.Waiting)
		}
	}
}

func (a *app) printFailure(c wire.Changeover) {
	if c.Failure != nil {
		a.wrapped("  ", "Why: "+c.Failure.What)
		a.wrapped("  ", c.Failure.Next)
		a.print("  The whole story: reshard changeovers show %d --why\n", c.ID)
	}
}

// printStory tells why one did not end done.
func (a *app) printStory(c wire.Changeover) {
	a.print("Changeover %d on %s: %s, %s\n", c.ID, c.Server, c.Title, marked(c.State))
	if len(c.Story) == 0 {
		a.print("There is nothing to explain: it is %s. What it did: reshard changeovers show %d\n", c.State, c.ID)
	}
	for _, part := range c.Story {
		a.print("\n%s\n", part.Title)
		for _, say := range part.Says {
			a.wrapped("  ", say)
		}
	}
}

func (a *app) changeoversCommand() *cli.Command {
	sought := "" // what the list is narrowed to
	return &cli.Command{
		Name: "changeovers", Usage: "list what was changed, newest first",
		Description: `Examples:
  reshard changeovers
  reshard changeovers --server north-plot --limit 5
  reshard changeovers --state held
  reshard changeovers show 12
  reshard changeovers cancel 12`,
		Flags: append(listFlags("-started (newest first) or started"),
			&cli.StringFlag{Name: "server", Local: true, Usage: "only of this `SERVER`"},
			&cli.StringFlag{Name: "kind", Local: true, Usage: "only of this `KIND`, such as put or reset"},
			&cli.StringFlag{Name: "state", Local: true, Usage: "only in this `STATE`, such as done, held or drafted"},
		),
		Action: listing(a, func(ctx context.Context, api *client.Client, c *cli.Command) ([]wire.Changeover, error) {
			sought = c.String("server") + c.String("kind") + c.String("state")
			return api.Changeovers(ctx, wire.ChangeoverQuery{
				Part: wire.Part{Limit: c.Int("limit")}, Server: c.String("server"), Kind: c.String("kind"),
				State: c.String("state"), Order: c.String("order"),
			})
		}, func(list []wire.Changeover) {
			if len(list) == 0 && sought != "" {
				a.print("No changeover fits that. To see all: reshard changeovers\n")
				return
			}
			a.listChangeovers(list)
		}),
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show plan, steps, proof and stop window", ArgsUsage: "CHANGEOVER",
				Description: "Examples:\n  reshard changeovers show 12\n  reshard changeovers show 12 --why",
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "why",
					Usage: "tell why one did not end done: meant, seen, done, what stands where, what to do",
				}},
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
						if c.Bool("why") {
							a.printStory(now)
							return
						}
						a.printPlan(now)
						a.print("\n")
						for _, s := range now.Steps {
							a.wrapped(fmt.Sprintf("  %-9s %8s  ", s.State, tookText(s)), s.Say+" "+s.Note)
						}
						a.printOutcome(now)
					})
				},
			},
			a.tickCommand(),
			a.onChangeover("go-on", "give one that waits your word",
				"A changeover that waits has staged its world; people still play. With your word the\nswitch begins.",
				"Changeover %d goes on.\n"),
			a.onChangeover("cancel", "cancel one that is still staging or waiting",
				"Nothing live has been touched while a changeover is staging or waiting.",
				"Changeover %d is being cancelled.\n"),
			a.onChangeover("leave", "wait no longer for a host or a server that does not answer",
				"A changeover waits for a host that does not answer, and goes on by itself. Leave it when you\ndo "+
					"not want to "+
					"wait: it is held then, and changeovers show says what stands where.",
				"Changeover %d waits no longer. What stands where: reshard changeovers show\n"),
			a.onChangeover("settle", "close a held one that you have put right by hand",
				"A held changeover keeps its server from any other. reshard undo tries to go back\nonce more; settle "+
					"is for when you have put the folders right yourself. It touches\nno file.",
				"Changeover %d is settled; its server is free again.\n"),
		},
	}
}

func tookText(s wire.Step) string {
	if s.TookMS < 0 {
		return ""
	}
	return millis(s.TookMS)
}

func (a *app) onChangeover(verb, use, description, said string) *cli.Command {
	return &cli.Command{
		Name: verb, Usage: use, ArgsUsage: "CHANGEOVER",
		Description: description + "\n\nExamples:\n  reshard changeovers " + verb + " 12",
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
		what := c.Title
		out := "–"
		if c.Window != nil {
			out = millis(c.Window.TotalMS)
		}
		state := marked(c.State)
		if len(c.Unproven) > 0 {
			state += ", not proven"
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
		rows = append(rows, []string{
			fmt.Sprint(c.ID),
			state,
			c.Server,
			what,
			at.Local().Format(time.DateTime),
			out,
			c.CreatedBy,
			undo,
		})
	}
	a.table([]string{"id", "state", "server", "what", "when", "locked out", "by", "to take back"}, rows, 0, 0, 0, 40)
}
