package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/wire"
)

// usualLong is how long backups are kept when nothing is said.
const usualLong = "all for 2 days, then one a day for 3 weeks, then one a week for 6 months, then one a month for ever"

func ruleFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "at",
			Usage: "when, as a cron `EXPRESSION`: minute, hour, day of the month, month, day of the week",
		},
		&cli.StringFlag{
			Name:  "zone",
			Usage: "the time `ZONE` of --at, and of days and months, such as Europe/Oslo; left out: UTC",
		},
		&cli.DurationFlag{
			Name:  "while-played",
			Usage: "how `OFTEN` while somebody plays, such as 30m, in place of --at",
		},
		&cli.StringFlag{
			Name:  "world",
			Usage: "only this world, by its `NAME` on disk; left out: all, with the settings",
		},
		&cli.StringFlag{Name: "keep", Usage: "how long, as a `SENTENCE`; left out: " + usualLong},
		&cli.IntFlag{Name: "most", Usage: "at most `N` backups"},
		&cli.StringFlag{Name: "most-bytes", Usage: "at most so much in the vault, such as `20GB`"},
		&cli.BoolFlag{Name: "may-stop", Usage: "a server that cannot hold its writes may be stopped for a moment"},
		&cli.StringFlag{
			Name:  "provider",
			Usage: "one of the provider's own backups each time: `make`, or replace its oldest",
		},
	}
}

// takeRule changes a rule by what was given.
func takeRule(c *cli.Command, r keep.Rule) (keep.Rule, error) {
	if c.IsSet("at") {
		r.Cron, r.Every = c.String("at"), 0
	}
	if c.IsSet("while-played") {
		r.Every, r.Cron = int64(c.Duration("while-played")/time.Second), ""
	}
	if c.IsSet("zone") {
		r.Zone = c.String("zone")
	}
	if c.IsSet("world") {
		r.World = c.String("world")
	}
	if c.IsSet("keep") || len(r.Long) == 0 {
		l, err := keep.ParseLong(orText(c.String("keep"), usualLong))
		if err != nil {
			return r, err
		}
		r.Long = l
	}
	if c.IsSet("most") {
		r.Number = c.Int("most")
	}
	if c.IsSet("most-bytes") {
		n, err := bytesOf(c.String("most-bytes"))
		if err != nil {
			return r, err
		}
		r.Bytes = n
	}
	if c.IsSet("may-stop") {
		r.MayStop = c.Bool("may-stop")
	}
	if c.IsSet("provider") {
		r.Slots = c.String("provider")
	}
	return r, nil
}

func bytesOf(text string) (int64, error) {
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<62 {
		return 0, usage("%q is no number of bytes; give it like 500MB or 20GB", text)
	}
	return int64(n), nil
}

func (a *app) rulesCommand() *cli.Command {
	return &cli.Command{
		Name: "rules", Usage: "say when servers are backed up, and how long that is kept", ArgsUsage: "[SERVER]",
		Description: `Examples:
  reshard rules
  reshard rules add north-plot --at "0 4 * * *" --zone Europe/Oslo
  reshard rules add fen-plot --while-played 30m --keep "all for 1 day, then one a day for 2 weeks"
  reshard rules change north-plot usual --most-bytes 20GB --preview
  reshard rules run north-plot usual
  reshard rules pause north-plot usual`,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("rules has no command %q; see reshard rules --help", c.Args().First())
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			list, err := api.Rules(ctx, c.Args().First())
			if err != nil {
				return err
			}
			return a.show(list, func() { a.listRules(list, c.Args().First()) })
		},
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a rule to a server", ArgsUsage: "SERVER",
				Description: `Shows first what the rule would keep, and asks. Pinned backups and those made by hand
stand above rules, and the last good backup never goes.

Examples:
  reshard rules add north-plot --at "0 4 * * *" --zone Europe/Oslo
  reshard rules add north-plot --name weekly --at "0 5 * * 0" --keep "one a week for ever"
  reshard rules add fen-plot --while-played 30m --keep "all for 1 day, then one a day for 2 weeks"`,
				Flags: append([]cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "the rule's `NAME`, unique on its server; left out: usual"},
					&cli.BoolFlag{Name: "preview", Usage: "only show what it would keep"},
					&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
				}, ruleFlags()...),
				Action: a.addRule,
			},
			{
				Name: "change", Usage: "change a rule; what is left out stays as it is", ArgsUsage: "SERVER [RULE]",
				Description: `Shows first what would become of the backups that it has made, and asks.

Examples:
  reshard rules change north-plot usual --keep "all for 1 week, then one a month for 2 years"
  reshard rules change north-plot usual --most 40 --preview`,
				Flags: append([]cli.Flag{
					&cli.BoolFlag{Name: "preview", Usage: "only show what it would do"},
					&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
				}, ruleFlags()...),
				Action: a.changeRule,
			},
			a.onRule("pause", "follow a rule no longer, until you say so",
				func(ctx context.Context, api *client.Client, server, rule string) (wire.Rule, error) {
					yes := true
					return api.ChangeRule(ctx, server, rule, wire.ChangeRule{Paused: &yes})
				}),
			a.onRule("resume", "follow a paused rule again; what was missed is not made up for",
				func(ctx context.Context, api *client.Client, server, rule string) (wire.Rule, error) {
					no := false
					return api.ChangeRule(ctx, server, rule, wire.ChangeRule{Paused: &no})
				}),
			a.onRule("run", "follow a rule now, beside its times",
				func(ctx context.Context, api *client.Client, server, rule string) (wire.Rule, error) {
					return api.RunRule(ctx, server, rule)
				}),
			{
				Name: "remove", Usage: "forget a rule; its backups stay", ArgsUsage: "SERVER [RULE]",
				Description: "No rule lets its backups go any more: set aside yourself what you can do " +
					"without.\n\nExamples:\n" +
					"  reshard rules remove north-plot weekly",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.readyForRule(ctx, c)
					if err == nil {
						err = api.RemoveRule(ctx, names[0], names[1])
					}
					if err != nil {
						return err
					}
					return a.show(struct{}{}, func() {
						a.print("%s no longer has the rule %s. Its backups stay: reshard backups %s\n", names[0],
							names[1], names[0])
					})
				},
			},
			{
				Name: "allow", Usage: "say how much all servers' backups together may take, or one server's",
				ArgsUsage: "[SERVER]",
				Description: `The oldest go first; what is pinned, made by hand or the last good one never goes.
0 allows any.

Examples:
  reshard rules allow
  reshard rules allow --most-bytes 200GB
  reshard rules allow north-plot --most 60`,
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "most", Usage: "at most `N` backups"},
					&cli.StringFlag{Name: "most-bytes", Usage: "at most so much in the vault, such as `200GB`"},
				},
				Action: a.allow,
			},
			{
				Name: "clock", Usage: "say that the service's clock is right, after it has leapt",
				Description: `Ages count by a clock that does not leap: when the machine's clock goes on by a month
at once, nothing goes for it. If it was right, say so.

Examples:
  reshard rules clock --right`,
				Flags: []cli.Flag{&cli.BoolFlag{Name: "right", Usage: "the machine's clock is right"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					_, api, err := a.ready(c)
					switch {
					case err != nil:
						return err
					case !c.Bool("right"):
						return usage(
							"look at the clock of the service's machine, and say that it is right with --right")
					}
					if err := api.TrustClock(ctx); err != nil {
						return err
					}
					return a.show(struct{}{}, func() { a.print("Ages count by the machine's clock again.\n") })
				},
			},
		},
	}
}

// readyForRule is ready for a server and one of its rules; its only one needs no name.
func (a *app) readyForRule(ctx context.Context, c *cli.Command) ([]string, *client.Client, error) {
	if c.Args().Len() != 1 {
		return a.ready(c, "SERVER", "RULE")
	}
	names, api, err := a.ready(c, "SERVER")
	if err != nil {
		return nil, nil, err
	}
	list, err := api.Rules(ctx, names[0])
	switch {
	case err != nil:
		return nil, nil, err
	case len(list) == 1:
		return append(names, list[0].Name), api, nil
	case len(list) == 0:
		return nil, nil, fault.New(fault.NotFound, below(c), names[0], "it has no rule yet").
			With("reshard rules add " + names[0] + " --at \"0 4 * * *\"")
	}
	var rules []string
	for _, r := range list {
		rules = append(rules, r.Name)
	}
	return nil, nil, usage("%s has the rules %s: say which, as in reshard %s %s %s", names[0],
		strings.Join(rules, ", "), below(c), names[0], rules[0])
}

func (a *app) onRule(verb, use string,
	do func(ctx context.Context, api *client.Client, server, rule string) (wire.Rule, error)) *cli.Command {
	return &cli.Command{
		Name: verb, Usage: use, ArgsUsage: "SERVER [RULE]",
		Description: "Examples:\n  reshard rules " + verb + " north-plot usual",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.readyForRule(ctx, c)
			if err != nil {
				return err
			}
			r, err := do(ctx, api, names[0], names[1])
			if err != nil {
				return err
			}
			return a.show(r, func() {
				switch verb {
				case "pause":
					a.print("Rule %s of %s is paused. To go on: reshard rules resume %s %s\n", r.Name, r.Server,
						r.Server, r.Name)
				case "run":
					a.print("Rule %s of %s is followed now. How it goes: reshard backups %s\n", r.Name, r.Server,
						r.Server)
				default:
					a.printRule(r)
				}
			})
		},
	}
}

func (a *app) printRule(r wire.Rule) {
	a.wrapped(fmt.Sprintf("%s of %s: ", r.Name, r.Server), r.Says+".")
	if r.Due != nil {
		a.print("  due next at %s (%s)\n", when(*r.Due), humanize.Time(*r.Due))
	}
}

func (a *app) listRules(list []wire.Rule, server string) {
	if len(list) == 0 {
		a.print("No rules yet: nothing is backed up by itself. Next: reshard rules add %s --at \"0 4 * * *\"\n",
			orText(server, "SERVER"))
		return
	}
	var rows [][]string
	for _, r := range list {
		next := "while somebody plays"
		switch {
		case r.PausedAt != nil:
			next = "paused by " + r.PausedBy
		case r.Due != nil:
			next = when(*r.Due)
		}
		last := "none yet"
		if r.LastGood != nil {
			last = ago(*r.LastGood)
		}
		state := "✓"
		switch {
		case r.Trouble != "":
			state = "! " + r.Trouble
		case r.LastGood == nil:
			state = "– has made none yet"
		}
		rows = append(rows, []string{r.Server, r.Name, next, last, fmt.Sprint(r.Kept), r.Says, state})
	}
	a.table([]string{"server", "rule", "next", "last good", "kept", "says", "state"}, rows, 0, 0, 0, 0, 0, 44, 34)
}

func (a *app) addRule(ctx context.Context, c *cli.Command) error {
	names, api, err := a.ready(c, "SERVER")
	if err != nil {
		return err
	}
	if !c.IsSet("at") && !c.IsSet("while-played") {
		return usage("say when: --at \"0 4 * * *\" for each day at four, or --while-played 30m; see reshard rules " +
			"add --help")
	}
	rule, err := takeRule(c, keep.Rule{})
	if err != nil {
		return err
	}
	preview, err := api.PreviewRule(ctx, names[0], wire.PreviewRule{Rule: rule})
	if err != nil {
		return err
	}
	if ok, err := a.agreed(c, preview, "Add this rule to "+names[0]+"?"); err != nil || !ok {
		return err
	}
	r, err := api.AddRule(ctx, names[0], wire.NewRule{Name: c.String("name"), Rule: rule})
	if err != nil {
		return err
	}
	return a.show(r, func() {
		a.print("Added. ")
		a.printRule(r)
		a.print("  To make the first one now: reshard rules run %s %s\n", r.Server, r.Name)
	})
}

func (a *app) changeRule(ctx context.Context, c *cli.Command) error {
	names, api, err := a.readyForRule(ctx, c)
	if err != nil {
		return err
	}
	list, err := api.Rules(ctx, names[0])
	if err != nil {
		return err
	}
	var now *wire.Rule
	for i := range list {
		if list[i].Name == names[1] {
			now = &list[i]
		}
	}
	if now == nil {
		return usage("%s has no rule %q; reshard rules %s lists them", names[0], names[1], names[0])
	}
	rule, err := takeRule(c, now.Rule)
	if err != nil {
		return err
	}
	preview, err := api.PreviewRule(ctx, names[0], wire.PreviewRule{Rule: rule, Name: now.Name})
	if err != nil {
		return err
	}
	if ok, err := a.agreed(c, preview, "Change the rule "+now.Name+" of "+names[0]+"?"); err != nil || !ok {
		return err
	}
	r, err := api.ChangeRule(ctx, names[0], names[1], wire.ChangeRule{Rule: &rule})
	if err != nil {
		return err
	}
	return a.show(r, func() { a.print("Changed. "); a.printRule(r) })
}

// agreed shows what a rule would do, and asks.
func (a *app) agreed(c *cli.Command, p wire.RulePreview, question string) (bool, error) {
	if c.Bool("preview") {
		return false, a.show(p, func() { a.printPreview(p); a.print("\nNothing has been changed.\n") })
	}
	if !a.json {
		a.printPreview(p)
		a.print("\n")
	}
	if c.Bool("yes") {
		return true, nil
	}
	ok, err := a.confirm(question)
	if err == nil && !ok {
		a.print("Nothing has been changed.\n")
		return false, exitQuietly(ExitFailed)
	}
	return ok, err
}

func (a *app) printPreview(p wire.RulePreview) {
	a.wrapped("", p.Says+".")
	var next []string
	for _, t := range p.Next {
		next = append(next, t.Local().Format("Mon 2 Jan 15:04"))
	}
	if len(next) > 0 {
		a.wrapped("  next:          ", strings.Join(next, ", "))
	}
	a.wrapped("  in the long run: ", fmt.Sprintf("of %s made, %s kept:", count(p.Made, "backup", "backups"),
		count(len(p.Shown), "is", "are")))
	for _, line := range timeLine(p.Shown, time.Now()) {
		a.print("    %s\n", line)
	}
	if len(p.Backups) == 0 {
		return
	}
	a.print("  of the %s that it has made, %d stay and %d go:\n", count(len(p.Backups), "backup", "backups"),
		len(p.Backups)-p.Goes, p.Goes)
	shown := 0
	for _, b := range p.Backups {
		if b.Keeps {
			continue
		}
		if shown++; shown > 12 {
			a.print("    and %d more\n", p.Goes-12)
			break
		}
		a.wrapped(fmt.Sprintf("    ✕ %d, %s: ", b.ID, when(b.Begun)), b.Why)
	}
}

// spans are the stretches of a time line, from the youngest.
var spans = []struct {
	name string
	age  time.Duration
}{
	{"last day", 24 * time.Hour}, {"last week", 7 * 24 * time.Hour}, {"last month", 30 * 24 * time.Hour},
	{"last half year", 182 * 24 * time.Hour}, {"last year", 365 * 24 * time.Hour}, {"before that", keep.Forever},
}

// timeLine draws kept backups by their age, a mark each.
func timeLine(list []keep.Shown, now time.Time) (out []string) {
	from := time.Duration(0)
	for _, s := range spans {
		n := 0
		for _, one := range list {
			if age := now.Sub(one.At); age >= from && age < s.age {
				n++
			}
		}
		from = s.age
		if n > 0 {
			out = append(out, fmt.Sprintf("%-15s %4d  %s", s.name, n, strings.Repeat("●", min(n, 60))))
		}
	}
	return out
}

func (a *app) allow(ctx context.Context, c *cli.Command) error {
	of := []string{"SERVER"}[:min(1, c.Args().Len())]
	given, api, err := a.ready(c, of...)
	if err != nil {
		return err
	}
	limits, err := api.BackupLimits(ctx)
	if err != nil {
		return err
	}
	server := strings.Join(given, "")
	if c.IsSet("most") || c.IsSet("most-bytes") {
		to := limits.Allowance
		if server != "" {
			to = limits.Servers[server]
		}
		if c.IsSet("most") {
			to.Number = c.Int("most")
		}
		if c.IsSet("most-bytes") {
			if to.Bytes, err = bytesOf(c.String("most-bytes")); err != nil {
				return err
			}
		}
		if limits.Servers == nil {
			limits.Servers = map[string]keep.Allowance{}
		}
		if server == "" {
			limits.Allowance = to
		} else {
			limits.Servers[server] = to
		}
		if limits, err = api.SetBackupLimits(ctx, limits); err != nil {
			return err
		}
	}
	return a.show(limits, func() {
		say := func(who string, to keep.Allowance) {
			var most []string
			if to.Number > 0 {
				most = append(most, count(to.Number, "backup", "backups"))
			}
			if to.Bytes > 0 {
				most = append(most, bytesText(to.Bytes))
			}
			a.print("%s may have: %s\n", who, orText(strings.Join(most, " and "), "any number and size of backups"))
		}
		if _, its := limits.Servers[server]; server != "" && !its {
			say(server, keep.Allowance{})
		}
		say("All servers together", limits.Allowance)
		for _, name := range slices.Sorted(maps.Keys(limits.Servers)) {
			say(name, limits.Servers[name])
		}
	})
}
