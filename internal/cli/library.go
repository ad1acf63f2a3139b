package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/local"
	"reshard/internal/pack"
	"reshard/internal/wire"
)

func (a *app) sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Usage: "store a world in the library", ArgsUsage: "PATH",
		Description: `Sends a world (a folder or an archive) to the service, which stores it as an
immutable copy. The source is never changed; of a folder only the world's own
files go, without lock files. Sending the same content again changes nothing.

Examples:
  reshard send ~/saves/"Fen Garden"
  reshard send fen-garden.zip
  reshard send two-plots.zip --root "plots/East Plot"`,
		Flags: []cli.Flag{rootFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			paths, err := args(c, "PATH")
			if err != nil {
				return err
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			// Recognised here first: what is no world is not sent at all.
			profiles, err := servedProfiles(ctx, api)
			if err != nil {
				return err
			}
			arrival, err := a.send(ctx, api, paths[0], c.String("root"), profiles)
			a.endProgress()
			if err != nil {
				return err
			}
			return a.show(arrival, func() { a.describeArrival(arrival) })
		},
	}
}

// send recognises a world and sends it; root chooses among several.
func (a *app) send(ctx context.Context, api *client.Client, file, root string, profiles []*game.Profile) (wire.Arrival, error) {
	w, err := local.Open(file, root, profiles)
	if err != nil {
		return wire.Arrival{}, err
	}
	defer w.Close()
	body, size, err := a.archiveOf(w)
	if err != nil {
		return wire.Arrival{}, err
	}
	defer body.Close() //nolint:errcheck // only read
	if w.Zip {
		return api.Send(ctx, filepath.Base(w.Path), w.Found.At(), body, size)
	}
	return api.Send(ctx, w.Found.Folder+".zip", "", body, size)
}

// archiveOf gives a zip file as it is, and a folder packed as it is read.
func (a *app) archiveOf(l local.World) (io.ReadCloser, int64, error) {
	if l.Zip {
		f, err := os.Open(l.Path)
		if err != nil {
			return nil, 0, err
		}
		info, err := f.Stat()
		if err != nil {
			return nil, 0, err
		}
		return &counting{ReadCloser: f, see: a.progressOf("sending", info.Size())}, info.Size(), nil
	}
	entries, err := world.Parts(l.Tree, l.Found)
	if err != nil {
		return nil, 0, err
	}
	items := make([]pack.Item, 0, len(entries))
	for _, e := range entries {
		items = append(items, pack.Item{Name: nameInArchive(l.Found, e), Open: pack.From(l.Tree, e.Source), Size: e.Size, Modified: e.ModTime})
	}
	// Locks are no part of the world, and what they say of it must arrive: it was open.
	for _, lock := range l.World.Locks {
		source := path.Join(l.Found.Root, lock)
		info, err := fs.Stat(l.Tree, source)
		if err != nil || !info.Mode().IsRegular() {
			continue // it has just been released
		}
		items = append(items, pack.Item{Name: nameInArchive(l.Found, world.Entry{Path: lock}), Open: pack.From(l.Tree, source), Size: info.Size(), Modified: info.ModTime()})
	}
	see := a.progressOf("packing and sending", l.World.Bytes)
	r, w := io.Pipe()
	go func() { w.CloseWithError(pack.WriteZip(w, items, see)) }()
	return r, -1, nil
}

// nameInArchive keeps the folder's name and, beside it, those of its realms.
func nameInArchive(f world.Found, e world.Entry) string {
	if len(f.Files) > 0 {
		return e.Path
	}
	folder := f.Folder
	if e.Part != "" {
		folder = path.Base(f.Realms[e.Part])
	}
	return folder + "/" + e.Path
}

type counting struct {
	io.ReadCloser
	n   int64
	see func(int64)
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n += int64(n)
	c.see(c.n)
	return n, err
}

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
	a.print("\nNext: reshard fit %s SERVER   (reshard servers lists them)\n", c.World)
}

func (a *app) worldsCommand() *cli.Command {
	return &cli.Command{
		Name: "worlds", Usage: "list the library",
		Description: `Lists the worlds that the library keeps, each with what it says of itself.

Examples:
  reshard worlds
  reshard worlds --search "garden ada" --game quarrymoss
  reshard worlds --search -4713582209              by its seed
  reshard worlds show fen-garden
  reshard worlds verify fen-garden`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "search", Usage: "only worlds that have all these `WORDS` in their names, facts, players or where they came from"},
			&cli.StringFlag{Name: "game", Usage: "only of this `GAME`"},
		},
		Action: listing(a, func(ctx context.Context, api *client.Client, c *cli.Command) ([]wire.World, error) {
			if !c.IsSet("search") && !c.IsSet("game") {
				return api.Worlds(ctx)
			}
			list, err := api.FindWorlds(ctx, c.String("search"), c.String("game"))
			if err == nil && len(list) == 0 {
				err = fault.New(fault.NotFound, "find worlds", c.String("search"), "no world of the library has all of that").With("reshard worlds lists all of them.")
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
						a.print("Every byte of %s, copy %s, is as it was stored (%s).\n", got.World, got.ID[:12], bytesText(got.Bytes))
					})
				},
			},
			a.pictureCommand(), a.filesCommand(),
		},
	}
}

func (a *app) filesCommand() *cli.Command {
	return &cli.Command{
		Name: "files", Usage: "list the files of a copy, or fetch one", ArgsUsage: "WORLD [FILE]",
		Description: "Examples:\n  reshard worlds files fen-garden\n  reshard worlds files fen-garden diary.txt           writes its text here\n  reshard worlds files fen-garden icon.png --to icon.png",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "write the file to this `FILE`, which is not there yet, instead of the screen"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			given := c.Args().Slice()
			if len(given) < 1 || len(given) > 2 {
				return usage("files needs WORLD and may have FILE; see reshard worlds files --help")
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
					rows = append(rows, []string{f.Path, bytesText(f.Size), f.Modified.Local().Format(time.DateTime)})
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
		Description: "Where the game's profile says how to draw one.\n\nExamples:\n  reshard worlds picture fen-garden\n  reshard worlds picture 3f9a1c --to before.png",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the `FILE`, which is not there yet; WORLD.png when left out"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "WORLD")
			if err != nil {
				return err
			}
			body, err := api.Picture(ctx, names[0])
			if err != nil {
				return err
			}
			defer body.Close() //nolint:errcheck // only read
			to := orText(c.String("to"), filepath.Base(names[0])+".png")
			n, err := saveNew(to, body)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"file": to, "bytes": n}, func() { a.print("Wrote %s (%s).\n", to, bytesText(n)) })
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
		rows = append(rows, []string{w.Name, quoted(w.Title), w.Game, f.Fact("version").Text, f.Fact("seed").Text, bytesText(w.Copies[0].Bytes), when(f.LastPlayed), fmt.Sprint(len(w.Copies))})
	}
	a.table([]string{"world", "title", "game", "version", "seed", "size", "last played", "copies"}, rows, 0, 30)
}

func (a *app) describeLibraryWorld(w wire.World) {
	a.print("%s: %s, %s\n\n", w.Name, quoted(w.Title), w.Game)
	for _, c := range w.Copies {
		f := c.Facts
		a.print("copy %s, %s from %s by %s, %s\n", c.ID[:12], c.Kind, c.Source, c.CreatedBy, when(c.CreatedAt))
		a.print("  folder      %s\n", quoted(f.Folder))
		for _, name := range []string{"seed", "version", "family", "world-id"} {
			if got := f.Fact(name); got.Known() {
				a.print("  %-11s %s   (%s)\n", name, got.Text, got.File)
			}
		}
		a.print("  mods        %s\n", modsText(f.Fact("mods").Items))
		if len(f.Realms) > 0 {
			a.print("  realms      %s: %v\n", f.Layout, f.Realms)
		}
		a.print("  players     %s\n", playersText(f.Players))
		a.print("  size        %s in %s\n", bytesText(c.Bytes), count(f.Files, "file", "files"))
		a.print("  last played %s\n", when(f.LastPlayed))
		for _, warning := range f.Warnings {
			a.wrapped("  ! ", warning)
		}
	}
}
