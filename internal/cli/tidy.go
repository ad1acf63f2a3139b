package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/wire"
)

func (a *app) tidyCommand() *cli.Command {
	return &cli.Command{
		Name: "tidy", Usage: "list what was set aside on a server, or remove it for good",
		ArgsUsage: "SERVER [CHANGEOVER]",
		Description: `Nothing that a changeover puts out of the way is deleted: it is set aside on the
server's own disk, and goes when its time has passed (reshard serve --keep-aside).
To remove it earlier it must be named as it is listed: this cannot be undone.

Examples:
  reshard tidy north-plot
  reshard tidy north-plot 12
  reshard tidy north-plot 12 --confirm north-plot/12`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "confirm", Usage: "the `NAME` of what is removed, typed by you"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("tidy needs SERVER and may have CHANGEOVER; see reshard tidy --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			list, err := api.Aside(ctx, given[0])
			if err != nil {
				return err
			}
			if len(given) == 1 {
				return a.show(list, func() { a.listAside(given[0], list) })
			}
			id, err := changeoverNumber(given[1])
			if err != nil {
				return err
			}
			confirm := c.String("confirm")
			if confirm == "" {
				if confirm, err = a.askName(fmt.Sprintf("%s/%d", given[0], id), list); err != nil {
					return err
				}
			}
			gone, err := api.Tidy(ctx, given[0], id, confirm)
			if err != nil {
				return err
			}
			return a.show(gone, func() {
				a.print("Removed %s: %s in %d files.\n", gone.Name, bytesText(gone.Bytes), gone.Files)
			})
		},
	}
}

// rulesOf gives the rules by which a list is tidied, each once.
func rulesOf(list []wire.Aside) (out []string) {
	going := 0
	for _, one := range list {
		if one.Goes != nil {
			going++
		}
	}
	if going > 1 {
		out = append(out, "Each goes on the day that stands beside it.")
	}
	for _, one := range list {
		if (one.Goes == nil || going == 1) && !slices.Contains(out, one.Rule) {
			out = append(out, one.Rule)
		}
	}
	return out
}

// askName has a person type the name of what is removed for good.
func (a *app) askName(name string, list []wire.Aside) (string, error) {
	for _, one := range list {
		if one.Name == name {
			a.print("%s holds %s (%s). It is removed for good.\n", one.Name, strings.Join(one.Holds, ", "),
				bytesText(one.Bytes))
		}
	}
	return a.ask("Type its name to remove it: ", "nobody is there to ask; add --confirm "+name)
}

func (a *app) listAside(server string, list []wire.Aside) {
	if len(list) == 0 {
		a.print("Nothing is set aside on %s.\n", server)
		return
	}
	var rows [][]string
	var total int64
	for _, one := range list {
		since, goes := "–", "stays"
		if one.Since != nil {
			since = ago(*one.Since)
		}
		if one.Goes != nil {
			goes = one.Goes.Local().Format("2006-01-02")
		}
		total += one.Bytes
		rows = append(rows, []string{one.Name, bytesText(one.Bytes), since, goes, strings.Join(one.Holds, ", ")})
	}
	a.table([]string{"name", "size", "set aside", "goes", "holds"}, rows, 0, 0, 0, 0, max(30, a.width-60))
	a.wrapped("", fmt.Sprintf("%s in all. %s To remove one now: reshard tidy %s NUMBER", bytesText(total),
		strings.Join(rulesOf(list), " "), server))
}
