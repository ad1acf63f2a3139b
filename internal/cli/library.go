package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/wire"
)

func (a *app) describeArrival(r wire.Arrival) {
	c := r.Copy
	if r.New {
		a.print("Stored %s as %s, copy %s.\n", quoted(c.Facts.Title), c.World, c.ID[:12])
	} else {
		a.print("The library has this content already: %s, copy %s of %s.\n", c.World, c.ID[:12], when(c.CreatedAt))
	}
	a.print("  %s in %s, from %s\n", bytesText(c.Bytes), count(c.Facts.Files, "file", "files"), c.Source)
	for _, w := range c.Facts.Warnings {
		a.wrapped("  ! ", w)
	}
	if len(r.Ignored) > 0 {
		a.wrapped("  - ", "not taken along: "+someText(r.Ignored))
	}
	a.sayAlike(c.World, r.Same)
	a.print("\nNext: reshard fit %s SERVER   (reshard servers lists them)\n", c.World)
}

func (a *app) worldsCommand() *cli.Command {
	return &cli.Command{
		Name: "worlds", Usage: "list the library",
		Description: `Lists the worlds that the library keeps, each with what it says of itself.

Examples:
  reshard worlds
  reshard worlds --search "garden ada" --game quarrymoss
  reshard worlds --seed=-4713582209
  reshard worlds --player Ada --server north-plot
  reshard worlds show fen-garden
  reshard worlds verify fen-garden`,
		Flags: append(listFlags("arrived, name, played or size; - turns it round; left out: -arrived"),
			&cli.StringFlag{
				Name: "search", Local: true,
				Usage: "only worlds that have all these `WORDS` in their names, facts, players, notes, tags or where " +
					"they came from",
			},
			&cli.StringFlag{Name: "game", Local: true, Usage: "only of this `GAME`"},
			&cli.StringFlag{
				Name:  "server",
				Local: true,
				Usage: "only those brought onto this `SERVER`, or taken from it",
			},
			&cli.StringFlag{Name: "tag", Local: true, Usage: "only with this `TAG`"},
			&cli.StringFlag{Name: "seed", Local: true, Usage: "only with this `SEED`"},
			&cli.StringFlag{Name: "version", Local: true, Usage: "only of this game `VERSION`"},
			&cli.StringFlag{
				Name:  "player",
				Local: true,
				Usage: "only those in which this `PLAYER` (name or id) has played",
			},
			&cli.BoolFlag{Name: "aside", Local: true, Usage: "only copies that are set aside"},
		),
		Action: listing(a, func(ctx context.Context, api *client.Client, c *cli.Command) ([]wire.World, error) {
			w := wire.WorldQuery{
				Search: c.String("search"), Game: c.String("game"), Server: c.String("server"), Tag: c.String("tag"),
				Seed: c.String("seed"), Version: c.String("version"), Player: c.String("player"),
				Aside: c.Bool("aside"), Order: c.String("order"), Part: wire.Part{Limit: c.Int("limit")},
			}
			list, err := api.Worlds(ctx, w)
			if err == nil && len(list) == 0 && w != (wire.WorldQuery{}) {
				err = fault.New(fault.NotFound, "find worlds", w.Search, "no world of the library has all of that").
					With("reshard worlds lists all of them.")
			}
			return list, err
		}, a.listWorlds),
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show a world's copies and what they say", ArgsUsage: "WORLD",
				Description: "Examples:\n  reshard worlds show fen-garden\n  reshard worlds show 5f2b9c",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "WORLD")
					if err != nil {
						return err
					}
					w, err := api.World(ctx, names[0])
					if err != nil {
						return err
					}
					return a.show(w, func() { a.describeLibraryWorld(w) })
				},
			},
			{
				Name: "verify", Usage: "read a copy back from the vault and verify every byte", ArgsUsage: "WORLD",
				Description: "Examples:\n  reshard worlds verify fen-garden",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "WORLD")
					if err != nil {
						return err
					}
					got, err := api.VerifyWorld(ctx, names[0])
					if err != nil {
						return err
					}
					return a.show(got, func() {
						a.print("Every byte of %s, copy %s, is as it was stored (%s).\n", got.World, got.ID[:12],
							bytesText(got.Bytes))
					})
				},
			},
			a.pictureCommand(), a.filesCommand(), a.fetchCommand(), a.lineageCommand(), a.changeWorldCommand(),
			a.copyCommand("pin", "keep a copy from being set aside", wire.ChangeCopy{Pinned: ptr(true)}),
			a.copyCommand("unpin", "let a copy be set aside again", wire.ChangeCopy{Pinned: ptr(false)}),
			a.copyCommand("set-aside", "take a copy out of the library; it goes when it has been kept long enough",
				wire.ChangeCopy{Aside: ptr(true)}),
			a.copyCommand("bring-back", "bring a copy back that was set aside", wire.ChangeCopy{Aside: ptr(false)}),
			a.joinCommand(), a.apartCommand(), a.splitCommand(),
		},
	}
}

func (a *app) filesCommand() *cli.Command {
	return &cli.Command{
		Name: "files", Usage: "list the files of a copy, or fetch one", ArgsUsage: "WORLD [FILE]",
		Description: "Examples:\n  reshard worlds files fen-garden\n  reshard worlds files fen-garden diary.txt      " +
			"     writes its text here\n  reshard worlds files fen-garden icon.png --to icon.png",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "to",
				Usage: "write the file to this `FILE`, which is not there yet, instead of the screen",
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("worlds files needs WORLD and may have FILE; see reshard worlds files --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			if len(given) == 2 {
				return a.fetchFile(ctx, api, given[0], given[1], c.String("to"))
			}
			list, err := api.Files(ctx, given[0])
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, f := range list {
					rows = append(
						rows, []string{
							filename.Show(f.Path),
							bytesText(f.Size),
							f.Modified.Local().Format(time.DateTime),
						})
				}
				a.table([]string{"file", "size", "changed"}, rows)
			})
		},
	}
}

// fetchFile writes one file of a copy to a file, or its text to the screen.
func (a *app) fetchFile(ctx context.Context, api *client.Client, world, name, to string) error {
	body, err := api.File(ctx, world, name)
	if err != nil {
		return err
	}
	defer body.Close() //nolint:errcheck // only read
	if to != "" {
		n, err := saveNew(to, body)
		if err != nil {
			return err
		}
		return a.show(map[string]any{"file": to, "bytes": n}, func() { a.print("Wrote %s (%s).\n", to, bytesText(n)) })
	}
	head := bufio.NewReader(body)
	if start, _ := head.Peek(512); !strings.HasPrefix(http.DetectContentType(start), "text/") {
		return usage("%s is no text; give --to FILE", name)
	}
	_, err = io.Copy(a.Out, head)
	return fault.Wrap(fault.Interrupted, "read", name, err)
}

func (a *app) pictureCommand() *cli.Command {
	return &cli.Command{
		Name: "picture", Usage: "write a picture of a world from above, as PNG", ArgsUsage: "WORLD",
		Description: "Where the game's profile says how to draw one.\n\nExamples:\n  reshard worlds picture " +
			"fen-garden\n  reshard worlds picture 3f9a1c --to before.png --marks",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "the `FILE`, which is not there yet; WORLD.png when left out"},
			&cli.BoolFlag{Name: "marks", Usage: "with spawn (a ring) and landmarks (crosses) on it"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			body, err := api.Picture(ctx, names[0], c.Bool("marks"))
			if err != nil {
				return err
			}
			defer body.Close() //nolint:errcheck // only read
			to := orText(c.String("to"), filepath.Base(names[0])+".png")
			n, err := saveNew(to, body)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"file": to, "bytes": n},
				func() { a.print("Wrote %s (%s).\n", to, bytesText(n)) })
		},
	}
}

func (a *app) listWorlds(worlds []wire.World) {
	if len(worlds) == 0 {
		a.print("The library is empty. Next: reshard send PATH\n")
		return
	}
	var rows [][]string
	for _, w := range worlds {
		f := w.Copies[0].Facts
		rows = append(rows, []string{
			w.Name,
			quoted(w.Title),
			w.Game,
			f.Fact("version").Text,
			f.Fact("seed").Text,
			bytesText(w.Copies[0].Bytes),
			when(f.LastPlayed),
			fmt.Sprint(len(w.Copies)),
		})
	}
	a.table([]string{"world", "title", "game", "version", "seed", "size", "last played", "copies"}, rows, 0, 30)
}

func (a *app) describeLibraryWorld(w wire.World) {
	a.print("%s: %s, %s\n", w.Name, quoted(w.Title), w.Game)
	if len(w.Tags) > 0 {
		a.print("  tags        %s\n", strings.Join(w.Tags, ", "))
	}
	if len(w.Servers) > 0 {
		a.print("  servers     %s\n", strings.Join(w.Servers, ", "))
	}
	if w.Note != "" {
		a.wrapped("  note        ", w.Note)
	}
	a.sayAlike(w.Name, w.Same)
	for _, c := range w.Copies {
		a.print("\n")
		f := c.Facts
		pinned := ""
		if c.Pinned {
			pinned = ", pinned"
		}
		a.print("copy %s, %s from %s by %s, %s%s\n", c.ID[:12], c.Kind, c.Source, c.CreatedBy, when(c.CreatedAt),
			pinned)
		if c.AsideAt != nil {
			goes := "stays until a person removes it"
			if c.Goes != nil {
				goes = "goes " + when(*c.Goes)
			}
			a.print("  set aside by %s, %s\n", c.AsideBy, goes)
		}
		if c.Note != "" {
			a.wrapped("  note        ", c.Note)
		}
		a.print("  folder      %s\n", quoted(f.Folder))
		for _, name := range []string{"seed", "version", "family", "world-id"} {
			if got := f.Fact(name); got.Known() {
				a.print("  %-11s %s   (%s)\n", name, got.Text, got.File)
			}
		}
		for _, name := range ownFacts(f) {
			a.print("  %-11s %s   (%s)\n", name, f.Fact(name).Text, f.Fact(name).File)
		}
		a.print("  mods        %s\n", modsText(f.Fact("mods").Items))
		if len(f.Realms) > 0 {
			a.print("  realms      %s: %v\n", f.Layout, f.Realms)
		}
		a.print("  players     %s\n", playersText(f))
		a.print("  size        %s in %s\n", bytesText(c.Bytes), count(f.Files, "file", "files"))
		a.print("  last played %s\n", when(f.LastPlayed))
		for _, warning := range f.Warnings {
			a.wrapped("  ! ", warning)
		}
	}
}
