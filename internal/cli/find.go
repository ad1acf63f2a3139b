package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/local"
)

func (a *app) findCommand() *cli.Command {
	return &cli.Command{
		Name: "find", Usage: "list the worlds on this computer (offline)", ArgsUsage: "[PATH]",
		Description: `Looks where the games keep worlds that are played alone, as their profiles say; or
anywhere below PATH. The last played comes first. What is damaged, or stands where
worlds do and is none, is listed with the reason. Nothing is changed, and no
service is needed.

Examples:
  reshard find
  reshard find /media/old-disk/Users
  reshard find --game quarrymoss --json
  reshard find --profiles ~/profiles        games of your own profiles as well`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "game", Usage: "only of this `GAME`"},
			&cli.StringFlag{Name: "profiles", Usage: "a `FOLDER` with profiles of your own"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("find takes at most one PATH; see reshard find --help")
			}
			profiles := a.knownProfiles(ctx)
			if folder := c.String("profiles"); folder != "" {
				docs, err := profilesWith(folder, true)
				if err != nil {
					return err
				}
				profiles = nil
				for _, d := range docs {
					profiles = append(profiles, d.Profile)
				}
			}
			if only := c.String("game"); only != "" {
				profiles = slices.DeleteFunc(profiles, func(p *game.Profile) bool { return p.ID != only })
				if len(profiles) == 0 {
					return fault.New(fault.NotFound, "find game", only, "there is no profile of that name").
						With("reshard games lists those of the service; --profiles reads a folder of your own.")
				}
			}
			if c.Args().Present() {
				found, err := local.FindBelow(c.Args().First(), profiles, time.Now())
				if err != nil {
					return err
				}
				return a.show(found, func() { a.printFound(found, []string{c.Args().First()}) })
			}
			home := a.Env("HOME")
			if home == "" {
				home, _ = os.UserHomeDir() // without one, places below it are left out
			}
			stores := local.Stores(profiles, local.System(), home, a.Env)
			var places []string
			for _, s := range stores {
				places = append(places, s.Folder)
			}
			found := local.Find(stores, time.Now())
			return a.show(found, func() { a.printFound(found, places) })
		},
	}
}

func (a *app) printFound(found world.Survey, places []string) {
	if len(found.Worlds) == 0 {
		a.print("No world of a known game. Looked in:\n")
		for _, p := range places {
			a.print("  %s\n", p)
		}
		a.printUnfamiliar(found.Unfamiliar)
		a.print("\nNext: reshard find PATH looks anywhere; reshard inspect PATH looks at one world\n")
		return
	}
	var rows [][]string
	likely := 0
	for i, f := range found.Worlds {
		w := f.World
		mark := " "
		if f.Likely != "" {
			mark, likely = "»", i
		}
		rows = append(rows, []string{
			mark, w.Game, orText(quotedIf(w.Title), "?"), w.Folder, when(w.LastPlayed), bytesText(w.Bytes),
			orText(w.Fact("seed").Text, "-"), orText(w.Fact("version").Text, "-"), playersShort(w),
		})
	}
	a.table([]string{"", "game", "title", "folder", "last played", "size", "seed", "version", "players"}, rows, 0, 0,
		24, 20, 0, 0, 12, 0, 16)
	best := found.Worlds[likely]
	if best.Likely != "" {
		a.print("\n» %s: most likely the one you mean, because %s.\n",
			orText(quotedIf(best.World.Title), best.World.Folder), best.Likely)
	}
	for _, f := range found.Worlds {
		if f.Damaged != "" {
			a.wrapped("  ✕ ", fmt.Sprintf("%s is damaged: %s", f.At, f.Damaged))
		}
		if f.Open != "" {
			a.wrapped("  ! ", fmt.Sprintf("%s seems to be open in the game (%s): quit the game before you send it",
				orText(quotedIf(f.World.Title), f.At), f.Open))
		}
	}
	a.printUnfamiliar(found.Unfamiliar)
	a.print("\nNext: reshard send %s\n", shellWord(best.At))
}

func (a *app) printUnfamiliar(list []world.Unfamiliar) {
	for i, u := range list {
		if i == 10 {
			a.print("  and %d more that are no worlds\n", len(list)-i)
			return
		}
		a.wrapped("  ? ", fmt.Sprintf("%s is no world: %s", u.At, u.Why))
	}
}

func quotedIf(s string) string {
	if s == "" {
		return ""
	}
	return quoted(s)
}

func playersShort(w world.Facts) string {
	list := w.Players
	if len(list) == 0 {
		return "-"
	}
	var names []string
	for _, p := range list {
		names = append(names, orText(p.Name, p.ID))
	}
	return someText(names)
}
