package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/wire"
)

func (a *app) tidyCommand() *cli.Command {
	return &cli.Command{
		Name: "tidy", Usage: "list what was set aside on a server, or remove it for good",
		ArgsUsage: "SERVER [CHANGEOVER | FOLDER]",
		Description: `Nothing that a changeover puts out of the way is deleted: it is set aside on the
server's own disk, and goes when its time has passed (reshard serve --keep-aside).
To remove it earlier it must be named as it is listed: this cannot be undone.

After an older copy of the database was restored there may be folders of changeovers
that are not known any more. They never go by themselves: keep them as they are, take a
world from them into the library (reshard take-away --aside), or remove them.

Examples:
  reshard tidy north-plot
  reshard tidy north-plot 12
  reshard tidy north-plot 12 --confirm north-plot/12
  reshard tidy north-plot 6-3f9a21c0 --keep`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "confirm", Usage: "the `NAME` of what is removed, typed by you"},
			&cli.BoolFlag{Name: "keep", Usage: "of a folder that is not known: leave it as it is, and end its alert"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("tidy needs SERVER and may have CHANGEOVER or FOLDER; see reshard tidy --help")
			}
			if c.Bool("keep") && len(given) != 2 {
				return usage("--keep needs the FOLDER that stays: reshard tidy SERVER FOLDER --keep")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			if c.Bool("keep") {
				return a.keepFolder(ctx, api, given[0], given[1])
			}
			list, err := api.Aside(ctx, given[0])
			if err != nil {
				return err
			}
			if len(given) == 1 {
				return a.show(list, func() { a.listAside(given[0], list) })
			}
			confirm := c.String("confirm")
			if confirm == "" {
				if confirm, err = a.askName(given[0]+"/"+given[1], list); err != nil {
					return err
				}
			}
			gone, err := api.Tidy(ctx, given[0], given[1], confirm)
			if err != nil {
				return err
			}
			return a.show(gone, func() {
				a.print("Removed %s: %s in %d files.\n", gone.Name, bytesText(gone.Bytes), gone.Files)
			})
		},
	}
}

// keepFolder leaves a folder of a changeover that is not known as it is.
func (a *app) keepFolder(ctx context.Context, api *client.Client, server, folder string) error {
	kept, err := api.KeepFolder(ctx, server, folder)
	if err != nil {
		return err
	}
	return a.show(kept, func() {
		a.print("%s stays as it is; its alert ends. It is still listed: reshard tidy %s\n", kept.Name, server)
	})
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
	i := slices.IndexFunc(list, func(one wire.Aside) bool { return one.Name == name })
	if i < 0 {
		return name, nil // the service says that there is none
	}
	a.print("%s holds %s (%s). It is removed for good.\n", name, strings.Join(list[i].Holds, ", "),
		bytesText(list[i].Bytes))
	return a.ask("Type its name to remove it: ", "nobody is there to ask; add --confirm "+name)
}

func (a *app) listAside(server string, all []wire.Aside) {
	if len(all) == 0 {
		a.print("Nothing is set aside on %s.\n", server)
		return
	}
	var list, unknown []wire.Aside
	for _, one := range all {
		if one.Unknown {
			unknown = append(unknown, one)
		} else {
			list = append(list, one)
		}
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
	if len(list) > 0 {
		a.table([]string{"name", "size", "set aside", "goes", "holds"}, rows, 0, 0, 0, 0, max(30, a.width-60))
		a.wrapped("", fmt.Sprintf("%s in all. %s To remove one now: reshard tidy %s NUMBER", bytesText(total),
			strings.Join(rulesOf(list), " "), server))
	}
	if len(unknown) > 0 {
		if len(list) > 0 {
			a.print("\n")
		}
		a.listUnknown(server, unknown)
	}
}

// listUnknown lists folders of changeovers that are not known, and what can be done about them.
func (a *app) listUnknown(server string, list []wire.Aside) {
	a.wrapped("", "Of changeovers that are not known here. Reshard leaves them alone until you decide:")
	var rows [][]string
	for _, one := range list {
		kept := ""
		if one.KeptBy != "" {
			kept = "kept by " + one.KeptBy
		}
		for i, w := range one.Worlds {
			name, size := one.Name, bytesText(one.Bytes)
			if i > 0 {
				name, size, kept = "", "", ""
			}
			played := ""
			if w.LastPlayed != nil {
				played = ", last played " + ago(*w.LastPlayed)
			}
			holds := fmt.Sprintf("%s (%s)%s: %s", titled(w), w.World, played, w.What)
			rows = append(rows, []string{name, size, holds, kept})
		}
		if len(one.Worlds) == 0 {
			rows = append(rows, []string{one.Name, bytesText(one.Bytes), strings.Join(one.Holds, ", "), kept})
		}
	}
	a.table([]string{"name", "size", "holds", ""}, rows, 0, 0, max(30, a.width-50), 0)
	one := list[max(0, slices.IndexFunc(list, func(a wire.Aside) bool { return len(a.Worlds) > 0 }))]
	folder := strings.TrimPrefix(one.Name, server+"/")
	a.print("What you can do, here for %s:\n", folder)
	a.print("  Keep it as it is:       reshard tidy %s %s --keep\n", server, folder)
	if len(one.Worlds) > 0 {
		world, part := shellWord(one.Worlds[0].World), one.Worlds[0].Part
		a.print("  Take it to the library: reshard take-away %s %s --aside %s/%s --library\n", server, world, folder,
			part)
		a.print("  Put it back:            take it to the library first, which shows the next command\n")
	}
	a.print("  Remove it for good:     reshard tidy %s %s\n", server, folder)
}

func titled(w wire.AsideWorld) string {
	if w.Title == "" {
		return w.World
	}
	return "“" + w.Title + "”"
}
