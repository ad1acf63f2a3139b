package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/archive"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

func (a *app) takeAwayCommand() *cli.Command {
	return &cli.Command{
		Name: "take-away", Usage: "bring a server's world to this computer, to play it alone",
		ArgsUsage: "SERVER [WORLD]",
		Description: `Copies a world of the server into the library and writes it here as the game's
own program takes it: realms inside the world again, packed with the game's own
ending where it has one. Nothing changes on the server.

Examples:
  reshard take-away north-plot
  reshard take-away north-plot winter --to ~/worlds/winter.zip
  reshard take-away north-plot --folder --to ~/worlds
  reshard take-away north-plot winter --aside 6-3f9a21c0/aside --library`,
		Flags: append([]cli.Flag{
			&cli.StringFlag{
				Name: "to",
				Usage: "where to write it: a `FILE` that is not there yet, or a folder; the present folder when left " +
					"out",
			},
			&cli.BoolFlag{Name: "folder", Usage: "unpack it as a folder"},
			&cli.StringFlag{
				Name:  "aside",
				Usage: "take a world that was set aside: the `FOLDER/PART` that reshard tidy lists it in",
			},
			&cli.BoolFlag{Name: "library", Usage: "leave it in the library, and write nothing here"},
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
			if c.String("aside") != "" && len(given) != 2 {
				return usage("--aside needs the WORLD: reshard take-away SERVER WORLD --aside FOLDER/PART")
			}
			if info, err := os.Stat(c.String("to")); err == nil && !info.IsDir() {
				return usage("%s is there already; give a name that is free: --to FILE", c.String("to"))
			}
			wish := wire.Wish{Kind: plan.TakeAway, Server: given[0], Aside: c.String("aside")}
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
			if c.Bool("library") {
				a.inLibrary(last)
				return nil
			}
			return a.fetch(ctx, api, last.Copy, "game", c.String("to"), c.Bool("folder"))
		},
	}
}

// inLibrary says what can be done with a world that was taken into the library.
func (a *app) inLibrary(last wire.Changeover) {
	if a.json {
		return // it was shown with its changeover
	}
	short := last.Copy[:min(len(last.Copy), 12)]
	a.print("To put it on the server again: reshard put %s %s\n", short, last.Server)
}

// fetch writes a copy of the library to this computer.
func (a *app) fetch(ctx context.Context, api *client.Client, id, as, to string, folder bool) error {
	if folder {
		as = "zip" // also of a world that is one file
	}
	body, name, err := api.Archive(ctx, id, as)
	if err != nil {
		return err
	}
	defer body.Close() //nolint:errcheck // only read
	if name == "" || name != filepath.Base(name) {
		name = filepath.Base(id) + ".zip"
	}
	if info, err := os.Stat(orText(to, ".")); err == nil && info.IsDir() {
		to = filepath.Join(orText(to, "."), name)
	} else if !folder && filepath.Ext(to) == "" {
		to += filepath.Ext(name) // a game knows its worlds by their ending
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
		return 0, fault.New(fault.Invalid, "write", name, "%v", rootCause(err)).
			With("Give a name that is free: --to FILE.")
	}
	n, err = io.Copy(f, from)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(name) // the first error is the one to tell
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return n, fault.New(fault.Interrupted, "write", name, "the service ended it before its end").
				With("Its log says why. Where the copy is damaged, reshard vault check tells of it, and what else " +
					"is; else try again.")
		}
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
	archive, err := archive.OpenZip(file, filepath.Base(file), archive.Limits{})
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
		return 0, fault.New(fault.Invalid, "make", into, "%v", rootCause(err)).
			With("Give a name that is free: --to FOLDER. The copy is in the library all the same.")
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
