package cli

import (
	"context"
	"fmt"
	"runtime"
	"sort"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) fitCommand() *cli.Command {
	return &cli.Command{
		Name: "fit", Usage: "show the fit sheet of a world and a server, or of a server alone",
		ArgsUsage: "[WORLD] SERVER",
		Description: `Lays world, settings and server side by side, a row a concern, each with a
verdict: ✓ fits, → adjust (the plan will change it), ? choose (you must),
✕ blocks. Nothing is changed. Without a world the server is checked alone: would
its next start open the world that people expect?

Exit code 3 when something blocks, 4 when you must choose.

Examples:
  reshard fit fen-garden north-plot
  reshard fit orchard north-plot --folder orchard
  reshard fit fen-garden north-plot --json
  reshard fit north-plot`,
		Flags: choiceFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 1 {
				return a.checkServer(ctx, c)
			}
			sheet, err := a.askFit(ctx, c)
			if err != nil {
				return err
			}
			if err := a.show(sheet, func() { a.printSheet(sheet) }); err != nil {
				return err
			}
			return sheetExit(sheet.Sheet)
		},
	}
}

// checkServer shows the sheet of a server alone.
func (a *app) checkServer(ctx context.Context, c *cli.Command) error {
	names, api, err := a.ready(c, "SERVER")
	if err != nil {
		return err
	}
	sheet, err := api.CheckServer(ctx, names[0])
	if err != nil {
		return err
	}
	err = a.show(sheet, func() {
		a.print("Server %s, as it is\n\n", sheet.Server)
		a.printRows(sheet.Sheet.Rows, nil)
		if sheet.Sheet.Verdict == fit.Fits {
			a.print("\n✓ What its files say agrees.\n")
		} else {
			a.print("\n%s Look at the rows above. Nothing has been changed.\n", marks[string(sheet.Sheet.Verdict)])
		}
	})
	if err != nil {
		return err
	}
	return sheetExit(sheet.Sheet)
}

// askFit asks for the sheet of the world and the server that a command names.
func (a *app) askFit(ctx context.Context, c *cli.Command) (wire.Sheet, error) {
	choices, err := choicesOf(c)
	if err != nil {
		return wire.Sheet{}, err
	}
	names, api, err := a.ready(c, "WORLD", "SERVER")
	if err != nil {
		return wire.Sheet{}, err
	}
	sheet, err := api.Sheet(ctx, wire.Wish{
		Kind:    plan.Put,
		World:   names[0],
		Server:  names[1],
		Choices: choices,
	})
	return sheet, err
}

func choiceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "folder", Usage: "the folder `NAME` that the world gets on the server"},
		&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
	}
}

func choicesOf(c *cli.Command) (map[string]string, error) {
	out := map[string]string{}
	for _, pair := range c.StringSlice("choose") {
		k, v, ok := strings.Cut(pair, "=")
		if !ok || k == "" {
			return nil, usage("--choose wants KEY=ANSWER, not %q", pair)
		}
		out[k] = v
	}
	if c.IsSet("folder") {
		out["folder-name"] = c.String("folder")
	}
	if c.Bool("safety-copy") {
		out[plan.SafetyCopy] = "library"
	}
	return out, nil
}

// safetyFlag is that of everything that replaces a world.
func safetyFlag() cli.Flag {
	return &cli.BoolFlag{
		Name: "safety-copy", Usage: "first copy the world that it replaces into the library, while people play",
	}
}

func sheetExit(s fit.Sheet) error {
	switch s.Verdict {
	case fit.Blocks:
		return exitQuietly(ExitBlocked)
	case fit.Choose:
		return exitQuietly(ExitNeedsChoice)
	}
	return nil
}

var worst = map[fit.Verdict]int{fit.Blocks: 0, fit.Choose: 1, fit.Adjust: 2, fit.Fits: 3}

// printSheet puts what is broken first.
func (a *app) printSheet(s wire.Sheet) {
	a.print("%s\n\n", sheetTitle(s))
	a.printRows(s.Sheet.Rows, flagOf(s.Kind))
	a.print("\n%s", verdictOf(s.Sheet.Verdict))
}

// printRows prints rows as a table, what is broken first, and words for each that
// does not simply fit; answer gives the flag that answers a row that asks.
func (a *app) printRows(given []fit.Row, answer func(fit.Option) string) {
	rows := append([]fit.Row{}, given...)
	sort.SliceStable(rows, func(i, j int) bool { return worst[rows[i].Verdict] < worst[rows[j].Verdict] })
	var cells [][]string
	var idle []string
	for _, r := range rows {
		if r.Idle && r.Verdict == fit.Fits {
			idle = append(idle, r.Title)
			continue
		}
		cells = append(cells, []string{marked(r.Verdict), r.Title, r.World.Text, r.Settings.Text, r.Server.Text})
	}
	w := max(16, (a.width-32)/3)
	a.table([]string{"verdict", "concern", "world says", "settings say", "server has"}, cells, 0, 0, w, w, w)
	if len(idle) > 0 {
		a.wrapped("", "Nothing to compare: "+strings.ToLower(strings.Join(idle, ", "))+".")
	}
	for _, r := range rows {
		if r.Verdict == fit.Fits {
			continue
		}
		a.print("\n%s  %s\n", marks[string(r.Verdict)], r.Title)
		a.wrapped("   ", r.Say)
		if r.Mend != "" {
			a.wrapped("   ", r.Mend)
		}
		for _, todo := range r.Todo {
			a.wrapped("     · ", todo)
		}
		if answer == nil || r.Verdict != fit.Choose {
			continue
		}
		for _, o := range r.Options {
			a.print("     %s\n", answer(o))
			a.wrapped("         ", o.Say)
		}
	}
}

// flagOf gives the flags of a kind of changeover that answer its rows.
func flagOf(kind string) func(fit.Option) string {
	names := map[string]string{"folder-name": "--folder"}
	switch kind {
	case plan.Reset:
		names = map[string]string{"folder-name": "--name", "seed": "--seed"}
	case plan.Rename:
		return func(o fit.Option) string { return "the name " + shellWord(o.Answer) }
	}
	return func(o fit.Option) string {
		if flag, ok := names[o.Choice]; ok {
			return flag + " " + shellWord(o.Answer)
		}
		return "--choose " + o.Choice + "=" + o.Answer
	}
}

// shellWord quotes what a shell would split or expand.
func shellWord(s string) string { return shellWordOn(runtime.GOOS, s) }

func shellWordOn(system, s string) string {
	safe := "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./"
	if system == "windows" {
		safe += `:\`
	}
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool { return !strings.ContainsRune(safe, r) }) {
		return s
	}
	if system == "windows" { // both of its shells take these
		return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

func sheetTitle(s wire.Sheet) string {
	switch s.Kind {
	case plan.Reset:
		return "A new world on server " + s.Server
	case plan.Switch, plan.Rename, plan.Clone:
		return fmt.Sprintf("%s %s on server %s", s.Kind, quoted(s.World), s.Server)
	}
	if s.Copy == "" {
		return fmt.Sprintf("World %s on server %s", s.World, s.Server)
	}
	return fmt.Sprintf("World %s (copy %s) on server %s", s.World, s.Copy[:12], s.Server)
}

// verdictOf says in one line what a sheet means for a changeover.
func verdictOf(v fit.Verdict) string {
	switch v {
	case fit.Blocks:
		return "✕ It does not fit as things are. Nothing has been changed.\n"
	case fit.Choose:
		return "? You must choose first: add the flags above. Nothing has been changed.\n"
	case fit.Adjust:
		return "→ It fits with the changes above.\n"
	}
	return "✓ It fits as it is.\n"
}
