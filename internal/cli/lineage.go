package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/wire"
)

// someText names the first few of many.
func someText(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// sayAlike offers worlds that may be the same one. Nothing is joined by itself.
func (a *app) sayAlike(world string, same []wire.SameWorld) {
	for _, s := range same {
		a.wrapped("  = ", fmt.Sprintf("may be the same world as %s (%s): %s", s.World, quoted(s.Title), s.Why))
		a.print("    reshard worlds join %s %s   or   reshard worlds apart %s %s\n", world, s.World, world, s.World)
	}
}

func (a *app) fetchCommand() *cli.Command {
	return &cli.Command{
		Name: "fetch", Usage: "write a copy to this computer", ArgsUsage: "WORLD",
		Description: `As the game's own program takes it, or as an archive. The same copy gives the same
bytes each time.

Examples:
  reshard worlds fetch fen-garden
  reshard worlds fetch 3f9a1c --as tar.zst --to fen.tar.zst
  reshard worlds fetch fen-garden --unpacked`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Value: "game", Usage: "`FORM`: game, zip or tar.zst"},
			&cli.StringFlag{Name: "to", Usage: "the `FILE` or folder, which is not there yet"},
			&cli.BoolFlag{Name: "unpacked", Usage: "as a folder"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			if c.Bool("unpacked") && c.String("as") == "tar.zst" {
				return usage("--unpacked makes a folder; leave --as out")
			}
			return a.fetch(ctx, api, names[0], c.String("as"), c.String("to"), c.Bool("unpacked"))
		},
	}
}

func (a *app) lineageCommand() *cli.Command {
	return &cli.Command{
		Name: "lineage", Usage: "show where a world's copies came from and where they went", ArgsUsage: "WORLD",
		Description: "Examples:\n  reshard worlds lineage fen-garden",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			l, err := api.Lineage(ctx, names[0])
			if err != nil {
				return err
			}
			return a.show(l, func() {
				var rows [][]string
				for _, p := range l.Steps {
					change := ""
					if p.Changeover > 0 {
						change = fmt.Sprint(p.Changeover)
					}
					rows = append(rows, []string{when(p.At), p.Copy[:12], p.Say, change, p.By})
				}
				a.table([]string{"when", "copy", "what happened", "changeover", "by"}, rows, 0, 0, 60)
			})
		},
	}
}

func (a *app) changeWorldCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "change a world's title, note or tags", ArgsUsage: "WORLD",
		Description: `Another title is written into the world itself, as another copy; the former copy
stays. --tag is given once for each tag, and replaces those that there are; one
empty --tag removes all.

Examples:
  reshard worlds change fen-garden --note "before the fence was moved"
  reshard worlds change fen-garden --tag winter --tag members
  reshard worlds change fen-garden --title "Fen Garden, second year"`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "title", Usage: "the `NAME` that players see"},
			&cli.StringFlag{Name: "note", Usage: "`WORDS` for people; empty removes them"},
			&cli.StringSliceFlag{Name: "tag", Usage: "a `WORD` to find it by"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			var change wire.ChangeWorld
			if c.IsSet("title") {
				change.Title = ptr(c.String("title"))
			}
			if c.IsSet("note") {
				change.Note = ptr(c.String("note"))
			}
			if c.IsSet("tag") {
				change.Tags = ptr(c.StringSlice("tag"))
			}
			if change == (wire.ChangeWorld{}) {
				return usage("worlds change needs --title, --note or --tag; see reshard worlds change --help")
			}
			w, err := api.ChangeWorld(ctx, names[0], change)
			if err != nil {
				return err
			}
			return a.show(w, func() { a.describeLibraryWorld(w) })
		},
	}
}

func ptr[T any](v T) *T { return &v }

// copyCommand is a command that changes one thing of a copy.
func (a *app) copyCommand(name, what string, change wire.ChangeCopy) *cli.Command {
	return &cli.Command{
		Name: name, Usage: what, ArgsUsage: "COPY",
		Description: "COPY is a world's name, for its newest copy, or the beginning of a copy's id.\n\nExamples:\n  " +
			"reshard worlds " + name + " 3f9a1c",
		Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`WORDS` for people"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "COPY")
			if err != nil {
				return err
			}
			change := change
			if c.IsSet("note") {
				change.Note = ptr(c.String("note"))
			}
			got, err := api.ChangeCopy(ctx, names[0], change)
			if err != nil {
				return err
			}
			return a.show(got, func() {
				a.print("Copy %s of %s: %s.\n", got.ID[:12], got.World, copyState(got))
				if got.AsideAt != nil {
					a.print("Next: reshard worlds bring-back %s brings it back\n", got.ID[:12])
				}
			})
		},
	}
}

func copyState(c wire.Copy) string {
	switch {
	case c.AsideAt != nil && c.Goes != nil:
		return "set aside, and goes " + when(*c.Goes)
	case c.AsideAt != nil:
		return "set aside"
	case c.Pinned:
		return "pinned"
	}
	return "in the library"
}

func (a *app) joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "make a world's copies those of another one, because they are the same",
		ArgsUsage: "WORLD INTO",
		Description: "Nothing of the content changes; reshard worlds split gives a copy a world of its\nown " +
			"again.\n\nExamples:\n  reshard worlds join fen-garden-2 fen-garden",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD", "INTO")
			if err != nil {
				return err
			}
			w, err := api.Join(ctx, names[0], names[1])
			if err != nil {
				return err
			}
			return a.show(w, func() { a.print("%s has %s now.\n", w.Name, count(len(w.Copies), "copy", "copies")) })
		},
	}
}

func (a *app) apartCommand() *cli.Command {
	return &cli.Command{
		Name: "apart", Usage: "say that two worlds are not the same, so that it is not asked again",
		ArgsUsage:   "WORLD OTHER",
		Description: "Examples:\n  reshard worlds apart fen-garden-2 fen-garden",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD", "OTHER")
			if err != nil {
				return err
			}
			if err := api.SayApart(ctx, names[0], names[1]); err != nil {
				return err
			}
			return a.show(map[string][]string{"apart": names},
				func() { a.print("%s and %s are two worlds.\n", names[0], names[1]) })
		},
	}
}

func (a *app) splitCommand() *cli.Command {
	return &cli.Command{
		Name: "split", Usage: "give a copy a world of its own", ArgsUsage: "COPY",
		Description: "Examples:\n  reshard worlds split 3f9a1c",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "COPY")
			if err != nil {
				return err
			}
			w, err := api.Split(ctx, names[0])
			if err != nil {
				return err
			}
			return a.show(w, func() { a.print("It is %s now.\n", w.Name) })
		},
	}
}

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "tell in what two copies differ", ArgsUsage: "BEFORE AFTER",
		Description: `Facts, settings that were taken along, players, tiles of the map and files.

Examples:
  reshard compare 3f9a1c fen-garden
  reshard compare 3f9a1c fen-garden --picture changes.png
  reshard compare 3f9a1c 77b0e2 --files`,
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name: "picture",
				Usage: "write the map to this `FILE`, new tiles framed green, changed ones yellow, lost ones red and " +
					"crossed out",
			},
			&cli.BoolFlag{Name: "files", Usage: "list the files that differ, with their sizes"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "BEFORE", "AFTER")
			if err != nil {
				return err
			}
			got, err := api.Compare(ctx, names[0], names[1])
			if err != nil {
				return err
			}
			if to := c.String("picture"); to != "" {
				body, err := api.ComparePicture(ctx, names[0], names[1])
				if err != nil {
					return err
				}
				defer body.Close() //nolint:errcheck // only read
				if _, err := saveNew(to, body); err != nil {
					return err
				}
			}
			return a.show(got, func() { a.describeComparison(got, c.Bool("files"), c.String("picture")) })
		},
	}
}

func (a *app) describeComparison(c wire.Compared, files bool, picture string) {
	for _, side := range []struct {
		name string
		of   wire.Copy
	}{{"before", c.Before}, {"after", c.After}} {
		a.print("%-7s copy %s of %s, %s from %s, %s\n", side.name, side.of.ID[:12], side.of.World, side.of.Kind,
			side.of.Source, when(side.of.CreatedAt))
	}
	a.print("\n")
	for _, w := range c.Words {
		a.wrapped("  ", w)
	}
	f := c.Files
	a.print("\n")
	a.table([]string{"files", "", "size"}, [][]string{
		{"new", fmt.Sprint(f.Added.Files), bytesText(f.Added.Bytes)},
		{"changed", fmt.Sprint(f.Changed.Files), bytesText(f.Changed.Bytes)},
		{"lost", fmt.Sprint(f.Lost.Files), bytesText(f.Lost.Bytes)},
		{"same", fmt.Sprint(f.Same.Files), bytesText(f.Same.Bytes)},
	})
	if files {
		var rows [][]string
		for _, ch := range c.Changes {
			rows = append(rows, []string{ch.What, ch.Path, sizeText(ch.Before), sizeText(ch.After)})
		}
		a.print("\n")
		a.table([]string{"", "file", "before", "after"}, rows)
		if total := f.Added.Files + f.Changed.Files + f.Lost.Files; total > len(c.Changes) {
			a.print("and %d more\n", total-len(c.Changes))
		}
	}
	if picture != "" {
		a.print("\nWrote %s: new tiles are framed green, changed ones yellow, lost ones red and crossed out.\n",
			picture)
	}
}

func sizeText(n int64) string {
	if n < 0 {
		return "-"
	}
	return bytesText(n)
}
