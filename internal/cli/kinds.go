package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/plan"
	"reshard/internal/pack"
	"reshard/internal/wire"
)

func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "plan-only", Usage: "show the plan and stop there"},
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
	}
}

// bringFlags are those of a put, a restore and a clone.
func bringFlags(more ...cli.Flag) []cli.Flag {
	return append(append(choiceFlags(),
		&cli.BoolFlag{Name: "beside", Usage: "only place the world; the active one stays active, and nobody is locked out"},
		&cli.StringFlag{Name: "title", Usage: "the `TITLE` that the world gets on the server, where the game profile allows it"},
		&cli.BoolFlag{Name: "when-told", Usage: "stage the world and wait for your word before the switch"}), append(more, planFlags()...)...)
}

// bringing fills in what the flags of a put, a restore or a clone say.
func bringing(c *cli.Command, wish wire.NewChangeover) (wire.NewChangeover, error) {
	choices, err := choicesOf(c)
	if err != nil {
		return wish, err
	}
	if c.Bool("when-told") {
		choices["switch"] = "when-told"
	}
	if s := c.String("title"); s != "" {
		choices["title"] = s
	}
	if s := c.String("settings"); s != "" {
		choices["world-settings"] = s
	}
	wish.Choices, wish.Beside = choices, c.Bool("beside")
	return wish, nil
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
  reshard put orchard north-plot --beside        stands there, and is not active yet
  reshard put fen-garden north-plot --when-told  stage now, switch on your word
  reshard put fen-garden north-plot --plan-only`,
		Flags: bringFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.NewChangeover{Kind: plan.Put, World: names[0], Server: names[1]})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "bring a copy of the library back onto a server", ArgsUsage: "COPY SERVER",
		Description: `As put, for a certain copy: the beginning of its id, as reshard worlds show
lists them. A copy of the world that runs there goes back under the name that it
has there, also when the copy is an older one.

Examples:
  reshard restore 3f9a1c north-plot
  reshard restore 3f9a1c terraces --folder old-walk
  reshard restore 3f9a1c north-plot --plan-only`,
		Flags: bringFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "COPY", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.NewChangeover{Kind: plan.Restore, World: names[0], Server: names[1]})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

func (a *app) cloneCommand() *cli.Command {
	return &cli.Command{
		Name: "clone", Usage: "bring the world of one server onto another", ArgsUsage: "FROM SERVER",
		Description: `Copies the active world of FROM into the library and puts it onto SERVER. FROM
goes on running: its writes are held while the last of the world is copied.
Where a game cannot hold its writes, most is copied while people play, and FROM
is stopped for a moment for the rest. Settings that belong to the world go with
it if you say so.

Examples:
  reshard clone north-plot terraces
  reshard clone north-plot terraces --settings bring --folder north-copy
  reshard clone north-plot terraces --beside --yes`,
		Flags: bringFlags(
			&cli.StringFlag{Name: "world", Usage: "another world of FROM than its active one, by `NAME`"},
			&cli.StringFlag{Name: "settings", Usage: "settings that belong to the world: `bring` or leave"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "FROM", "SERVER")
			if err != nil {
				return err
			}
			wish, err := bringing(c, wire.NewChangeover{Kind: plan.Clone, From: names[0], Server: names[1], World: c.String("world")})
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wish)
		},
	}
}

func (a *app) resetCommand() *cli.Command {
	return &cli.Command{
		Name: "reset", Usage: "let a server make a new world", ArgsUsage: "SERVER",
		Description: `Three ways, and each keeps the old world:
  same name   the old world is set aside, and undo brings it back
  --name NEW  the old world stays where it is, and switch goes back to it
  --seed      with either: a number (also negative or large), words, random (new
              ground), same (the old ground without what was built on it), or
              as-set (whatever the settings hold)
The seed is written before the start, and the proof compares the running seed
with it and shows that the ground is new.

Examples:
  reshard reset north-plot --seed random
  reshard reset north-plot --name spring --seed -9000000000
  reshard reset north-plot --seed "three marrows"
  reshard reset north-plot --seed same --plan-only`,
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the new world's `NAME` on disk; the old one's when left out"},
			&cli.StringFlag{Name: "seed", Usage: "the new world's `SEED`: a number, words, random, same or as-set"},
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			if c.IsSet("name") {
				choices["folder-name"] = c.String("name")
			}
			if c.IsSet("seed") {
				choices["seed"] = c.String("seed")
			}
			return a.change(ctx, c, api, wire.NewChangeover{Kind: plan.Reset, Server: names[0], Choices: choices})
		},
	}
}

func (a *app) switchCommand() *cli.Command {
	return &cli.Command{
		Name: "switch", Usage: "go over to another world that stands on the server", ArgsUsage: "SERVER WORLD",
		Description: `WORLD is a name on disk, exactly as reshard servers show lists it. The world
that ran stays where it is. A game that can load a world while it runs is not
stopped.

Examples:
  reshard switch north-plot winter
  reshard switch ridge-camp kettle-moraine --restart
  reshard switch north-plot winter --plan-only`,
		Flags: append([]cli.Flag{
			&cli.BoolFlag{Name: "restart", Usage: "stop and start the server, also where it could load the world while it runs"},
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER", "WORLD")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			if c.Bool("restart") {
				choices["restart"] = "yes"
			}
			return a.change(ctx, c, api, wire.NewChangeover{Kind: plan.Switch, Server: names[0], World: names[1], Choices: choices})
		},
	}
}

func (a *app) renameCommand() *cli.Command {
	return &cli.Command{
		Name: "rename", Usage: "give a server's active world another name on disk", ArgsUsage: "SERVER NAME",
		Description: `Renames the world's folder or files, its realms beside it, and every setting
that names it, in one short stop. Its title stays.

Examples:
  reshard rename north-plot winter-2026
  reshard rename north-plot winter-2026 --plan-only`,
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{Name: "choose", Usage: "answer a row that asks: `KEY=ANSWER`, may be repeated"},
		}, planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER", "NAME")
			if err != nil {
				return err
			}
			choices, err := choicesOf(c)
			if err != nil {
				return err
			}
			return a.change(ctx, c, api, wire.NewChangeover{Kind: plan.Rename, Server: names[0], World: names[1], Choices: choices})
		},
	}
}

func (a *app) takeAwayCommand() *cli.Command {
	return &cli.Command{
		Name: "take-away", Usage: "bring a server's world to this computer, to play it alone", ArgsUsage: "SERVER [WORLD]",
		Description: `Copies a world of the server into the library and writes it here as the game's
own program takes it: realms inside the world again, packed with the game's own
ending where it has one. Nothing changes on the server.

Examples:
  reshard take-away north-plot
  reshard take-away north-plot winter --to ~/worlds/winter.zip
  reshard take-away north-plot --folder --to ~/worlds`,
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "where to write it: a `FILE` that is not there yet, or a folder; the present folder when left out"},
			&cli.BoolFlag{Name: "folder", Usage: "unpack it as a folder"},
		}, planFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("take-away needs SERVER and may have WORLD; see reshard take-away --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			if info, err := os.Stat(c.String("to")); err == nil && !info.IsDir() {
				return usage("%s is there already; give a name that is free: --to FILE", c.String("to"))
			}
			wish := wire.NewChangeover{Kind: plan.TakeAway, Server: given[0]}
			if len(given) == 2 {
				wish.World = given[1]
			}
			draft, err := api.Draft(ctx, wish)
			if err != nil {
				return err
			}
			last, err := a.carry(ctx, c, api, draft)
			if err != nil || last.State != plan.Done {
				return err
			}
			return a.fetch(ctx, api, last.Copy, c.String("to"), c.Bool("folder"))
		},
	}
}

// fetch writes a copy of the library to this computer.
func (a *app) fetch(ctx context.Context, api *client.Client, id, to string, folder bool) error {
	body, name, err := api.Archive(ctx, id)
	if err != nil {
		return err
	}
	defer body.Close() //nolint:errcheck // only read
	if name == "" || name != filepath.Base(name) {
		name = id[:12] + ".zip"
	}
	if info, err := os.Stat(orText(to, ".")); err == nil && info.IsDir() {
		to = filepath.Join(orText(to, "."), name)
	}
	if !folder {
		n, err := saveNew(to, &counting{ReadCloser: body, see: a.progressOf("fetching", -1)})
		a.endProgress()
		if err != nil {
			return err
		}
		return a.show(map[string]any{"file": to, "bytes": n}, func() { a.print("Wrote %s (%s).\n", to, bytesText(n)) })
	}
	temp, err := os.MkdirTemp("", "reshard-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temp) //nolint:errcheck // a temporary folder
	packed := filepath.Join(temp, "packed.zip")
	if _, err := saveNew(packed, body); err != nil {
		return err
	}
	into := strings.TrimSuffix(to, filepath.Ext(to))
	n, err := unpack(packed, into)
	if err != nil {
		return err
	}
	return a.show(map[string]any{"folder": into, "files": n}, func() { a.print("Wrote %s (%d files).\n", into, n) })
}

// writeNew writes a file that is not there yet; a half written one does not stay.
func saveNew(name string, from io.Reader) (n int64, err error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return 0, fault.New(fault.Invalid, "write", name, "%v", rootCause(err)).With("Give a name that is free: --to FILE. The copy is in the library all the same.")
	}
	n, err = io.Copy(f, from)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(name) // the first error is the one to tell
		return n, fault.Wrap(fault.Interrupted, "write", name, err)
	}
	return n, nil
}

func rootCause(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// unpack writes an archive's files into a new folder. One folder at its top is that
// folder.
func unpack(file, into string) (files int, err error) {
	archive, err := pack.OpenZip(file, filepath.Base(file), pack.Limits{})
	if err != nil {
		return 0, err
	}
	defer archive.Close() //nolint:errcheck // only read
	var tree fs.FS = archive
	if top, err := fs.ReadDir(archive, "."); err == nil && len(top) == 1 && top[0].IsDir() {
		if tree, err = fs.Sub(archive, top[0].Name()); err != nil {
			return 0, err
		}
	}
	if err := os.Mkdir(into, 0o755); err != nil {
		return 0, fault.New(fault.Invalid, "make", into, "%v", rootCause(err)).With("Give a name that is free: --to FOLDER. The copy is in the library all the same.")
	}
	return files, fs.WalkDir(tree, ".", func(p string, d fs.DirEntry, err error) error {
		to := filepath.Join(into, filepath.FromSlash(p))
		if err != nil || p == "." {
			return err
		}
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		in, err := tree.Open(p)
		if err != nil {
			return err
		}
		defer in.Close() //nolint:errcheck // only read
		if _, err := saveNew(to, in); err != nil {
			return err
		}
		files++
		info, err := d.Info()
		if err == nil {
			err = os.Chtimes(to, info.ModTime(), info.ModTime())
		}
		return err
	})
}

// change shows the sheet of what a person wants, drafts it, and carries it out. When
// something else had to come first, it goes on with what was wanted.
func (a *app) change(ctx context.Context, c *cli.Command, api *client.Client, wish wire.NewChangeover) error {
	sheet, err := api.Sheet(ctx, wish)
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
	draft, err := api.Draft(ctx, wish)
	if err != nil {
		return err
	}
	last, err := a.carry(ctx, c, api, draft)
	if err != nil || last.State != plan.Done || draft.Plan.Then == nil {
		return err
	}
	a.print("\nThe first start is made. Now what you wanted:\n\n")
	wish.Choices = draft.Plan.Then.Choices
	return a.change(ctx, c, api, wish)
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

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a changeover back", ArgsUsage: "CHANGEOVER",
		Description: `Makes the world that was there before a changeover run again. What was played
since is set aside, not lost, and an undo can be undone. A changeover that is
held is tried once more. With --with-later those that came after it are undone
first, newest first, each as a changeover of its own.

Examples:
  reshard undo 12
  reshard undo 12 --plan-only
  reshard undo 9 --with-later --yes`,
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "with-later", Usage: "undo what came after it first"}}, planFlags()...),
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
				_, err = a.follow(ctx, api, now)
				return err
			}
			ids := []int64{id}
			if c.Bool("with-later") {
				ids = append(now.Later, id)
			}
			for _, one := range ids {
				draft, err := api.Draft(ctx, wire.NewChangeover{Kind: plan.Undo, Undoes: one})
				if err != nil {
					return err
				}
				if last, err := a.carry(ctx, c, api, draft); err != nil || last.State != plan.Done {
					return err
				}
			}
			return nil
		},
	}
}

func (a *app) tidyCommand() *cli.Command {
	return &cli.Command{
		Name: "tidy", Usage: "list what was set aside on a server, or remove it for good", ArgsUsage: "SERVER [CHANGEOVER]",
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
			return a.show(gone, func() { a.print("Removed %s: %s in %d files.\n", gone.Name, bytesText(gone.Bytes), gone.Files) })
		},
	}
}

// askName has a person type the name of what is removed for good.
func (a *app) askName(name string, list []wire.Aside) (string, error) {
	for _, one := range list {
		if one.Name == name {
			a.print("%s holds %s (%s). It is removed for good.\n", one.Name, strings.Join(one.Holds, ", "), bytesText(one.Bytes))
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
	a.wrapped("", fmt.Sprintf("%s in all. %s To remove one now: reshard tidy %s NUMBER", bytesText(total), list[0].Rule, server))
}

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
				Description: "Examples:\n  reshard landmarks add fen-garden \"red roof by the well\" --at \"120 / -30\"",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "at", Usage: "the `PLACE`, as you write it"}},
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
		Name: "tick", Usage: "tell that you have found a landmark after a changeover, or not", ArgsUsage: "CHANGEOVER LANDMARK",
		Description: "The proof compares files; a landmark is for your own eyes, in the game.\n\nExamples:\n  reshard changeovers tick 12 3\n  reshard changeovers tick 12 4 --missing",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "missing", Usage: "it is not there"}},
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
