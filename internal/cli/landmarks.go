package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"reshard/internal/wire"
)

func (a *app) landmarksCommand() *cli.Command {
	return &cli.Command{
		Name: "landmarks", Usage: "list what to look for in a world when you join", ArgsUsage: "WORLD",
		Description: `Notes kept with a world of the library. After a changeover they are shown as a
list to tick in the game: reshard changeovers tick.

Examples:
  reshard landmarks fen-garden
  reshard landmarks add fen-garden "red roof by the well" --at "120 / -30"
  reshard landmarks remove fen-garden 3`,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			list, err := api.Landmarks(ctx, names[0])
			if err != nil {
				return err
			}
			return a.show(list, func() { a.listLandmarks(names[0], list) })
		},
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "note something to look for", ArgsUsage: "WORLD WORDS",
				Description: "Examples:\n  reshard landmarks add fen-garden \"red roof by the well\" --at \"120 / " +
					"-30\"",
				Flags: []cli.Flag{&cli.StringFlag{Name: "at", Usage: "the `PLACE`, as you write it"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "WORLD", "WORDS")
					if err != nil {
						return err
					}
					list, err := api.AddLandmark(ctx, names[0], wire.NewLandmark{Say: names[1], Place: c.String("at")})
					if err != nil {
						return err
					}
					return a.show(list, func() { a.listLandmarks(names[0], list) })
				},
			},
			{
				Name: "remove", Usage: "forget a landmark", ArgsUsage: "WORLD NUMBER",
				Description: "Examples:\n  reshard landmarks remove fen-garden 3",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "WORLD", "NUMBER")
					if err != nil {
						return err
					}
					id, err := changeoverNumber(names[1])
					if err != nil {
						return usage("a landmark is a number, such as 3, not %q", names[1])
					}
					if err := api.RemoveLandmark(ctx, names[0], id); err != nil {
						return err
					}
					return a.show(struct{}{}, func() { a.print("Forgotten.\n") })
				},
			},
		},
	}
}

func (a *app) listLandmarks(world string, list []wire.Landmark) {
	if len(list) == 0 {
		a.print("No landmarks yet. Next: reshard landmarks add %s \"red roof by the well\" --at \"120 / -30\"\n", world)
		return
	}
	var rows [][]string
	for _, l := range list {
		rows = append(rows, []string{fmt.Sprint(l.ID), l.Say, l.Place, l.CreatedBy})
	}
	a.table([]string{"no.", "look for", "at", "by"}, rows, 0, max(30, a.width-50))
}

// tickCommand tells whether a landmark was found after a changeover.
func (a *app) tickCommand() *cli.Command {
	return &cli.Command{
		Name: "tick", Usage: "tell that you have found a landmark after a changeover, or not",
		ArgsUsage: "CHANGEOVER LANDMARK",
		Description: "The proof compares files; a landmark is for your own eyes, in the game.\n\nExamples:\n  " +
			"reshard changeovers tick 12 3\n  reshard changeovers tick 12 4 --missing",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "missing", Usage: "it is not there"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "CHANGEOVER", "LANDMARK")
			if err != nil {
				return err
			}
			id, err := changeoverNumber(names[0])
			if err != nil {
				return err
			}
			mark, err := changeoverNumber(names[1])
			if err != nil {
				return usage("a landmark is a number, such as 3, not %q", names[1])
			}
			now, err := api.Tick(ctx, id, mark, !c.Bool("missing"))
			if err != nil {
				return err
			}
			return a.show(now, func() { a.printLandmarks(now) })
		},
	}
}

func (a *app) printLandmarks(c wire.Changeover) {
	missing := false
	for _, l := range c.Landmarks {
		mark, by := "☐", ""
		if l.Seen != nil {
			mark, by = "☑", " ("+l.ToldBy+")"
			if !*l.Seen {
				mark, missing = "✕ missing:", true
			}
		}
		at := ""
		if l.Place != "" {
			at = ", at " + l.Place
		}
		a.print("    %s %d  %s%s%s\n", mark, l.ID, l.Say, at, by)
	}
	if missing && c.Undoable {
		a.print("  Something is not there. To take the changeover back: reshard undo %d\n", c.ID)
	}
}
