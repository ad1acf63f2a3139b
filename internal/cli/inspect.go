package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/games"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/pack"
)

func (a *app) inspectCommand() *cli.Command {
	return &cli.Command{
		Name: "inspect", Usage: "say what a folder or archive is (offline)", ArgsUsage: "PATH",
		Description: `Looks for a world in a folder or a zip archive, under any wrapper folders, and
says which game it is and why, its title and folder name, seed, version, mods,
players and warnings. Nothing is changed, and no service is needed.

Examples:
  reshard inspect ~/saves/"Fen Garden"
  reshard inspect fen-garden.zip --json
  reshard inspect two-plots.zip --root "plots/East Plot"`,
		Flags: []cli.Flag{rootFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			paths, err := args(c, "PATH")
			if err != nil {
				return err
			}
			local, err := openLocal(paths[0], c.String("root"), games.All())
			if err != nil {
				return err
			}
			defer local.close()
			return a.show(local.world, func() { a.describeWorld(local) })
		},
	}
}

func rootFlag() cli.Flag {
	return &cli.StringFlag{Name: "root", Usage: "which world, when there are several: its `FOLDER`"}
}

// localWorld is a world recognised on this computer.
type localWorld struct {
	path    string
	zip     bool
	tree    fs.FS
	found   world.Found
	world   world.World
	ignored []string
	close   func()
}

// openLocal recognises the world in a folder or a zip archive. A folder is read
// through its parent, so that realm folders beside it are seen.
func openLocal(name, root string, profiles []*game.Profile) (localWorld, error) {
	info, err := os.Stat(name)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return localWorld{}, fault.New(fault.NotFound, "look at", name, "there is no such file or folder")
		}
		return localWorld{}, fault.Wrap(fault.Denied, "look at", name, err)
	}
	full, err := filepath.Abs(name)
	if err != nil {
		return localWorld{}, fault.Wrap(fault.Internal, "look at", name, err)
	}
	l := localWorld{path: name, close: func() {}}
	start, label := ".", strings.TrimSuffix(filepath.Base(full), filepath.Ext(full))
	switch {
	case world.IsFile(filepath.Base(full), profiles):
		// Read through its folder: other files of its session stand beside it.
		l.tree, start = os.DirFS(filepath.Dir(full)), filepath.Base(full)
	case info.IsDir():
		l.tree, start, label = os.DirFS(filepath.Dir(full)), filepath.Base(full), filepath.Base(full)
		if full == string(filepath.Separator) {
			l.tree, start = os.DirFS(full), "."
		}
	default:
		archive, err := pack.OpenZip(full, filepath.Base(full), pack.Limits{})
		if err != nil {
			return l, err
		}
		l.tree, l.zip, l.ignored = archive, true, archive.Ignored
		l.close = func() { _ = archive.Close() } // only read
	}
	l.world, l.found, err = world.Inspect(l.tree, start, label, root, profiles)
	if err != nil {
		l.close()
		var e *fault.Error
		if errors.As(err, &e) && e.Code != fault.Invalid {
			e.Path = name
		}
	}
	return l, err
}

func (a *app) describeWorld(l localWorld) {
	w := l.world
	a.print("%s world, because it %s.\n\n", l.found.Game.Title, w.Why)
	line := func(label, value string) { a.print("  %-12s %s\n", label, value) }
	line("title", orUnknown(w.Title))
	if len(w.Members) > 0 {
		line("name on disk", quoted(w.Folder))
		line("files", strings.Join(w.Members, ", "))
	} else {
		line("folder", quoted(w.Folder))
	}
	if w.Root != w.Folder && len(w.Members) == 0 {
		where := w.Root
		if where == "." {
			where = "the top of the archive"
		}
		line("stands in", where)
	}
	for _, name := range []string{"seed", "version", "family"} {
		if f := w.Fact(name); f.Known() {
			line(name, f.Text)
		} else if _, asked := w.Facts[name]; asked {
			line(name, "not read: "+f.Why)
		}
	}
	if m := w.Fact("mods"); m.Known() {
		line("mods", modsText(m.Items))
	}
	if len(w.Realms) > 0 {
		line("realms", w.Layout+": "+strings.Join(w.Realms, ", "))
	}
	line("players", playersText(w.Players))
	line("size", bytesText(w.Bytes)+" in "+count(w.Files, "file", "files"))
	line("last played", when(w.LastPlayed)+" ("+humanize.Time(w.LastPlayed)+")")
	if len(w.Warnings) > 0 {
		a.print("\nMind:\n")
		for _, warning := range w.Warnings {
			a.wrapped("  ! ", warning)
		}
	}
	if len(l.ignored) > 0 {
		a.print("\n%s of the archive belong to no world and are not carried, such as %s.\n", count(len(l.ignored), "entry", "entries"), path.Base(l.ignored[0]))
	}
	a.print("\nNext: reshard send %q\n", l.path)
}

func orUnknown(s string) string {
	if s == "" {
		return "not known"
	}
	return quoted(s)
}

func modsText(mods []fact.Item) string {
	if len(mods) == 0 {
		return "none"
	}
	names := make([]string, 0, len(mods))
	for _, m := range mods {
		names = append(names, strings.TrimSpace(m.Name+" "+m.Version))
	}
	return strings.Join(names, ", ")
}

func playersText(players []world.Player) string {
	if len(players) == 0 {
		return "no records"
	}
	names := make([]string, 0, len(players))
	for _, p := range players {
		if p.Name != "" {
			names = append(names, p.Name)
		} else {
			names = append(names, p.ID)
		}
	}
	more := ""
	if len(names) > 8 {
		more = " and " + count(len(names)-8, "other", "others")
		names = names[:8]
	}
	return count(len(players), "record", "records") + ": " + strings.Join(names, ", ") + more
}
