package cli

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/core/fact"
	"reshard/internal/core/world"
	"reshard/internal/local"
)

func (a *app) inspectCommand() *cli.Command {
	return &cli.Command{
		Name: "inspect", Usage: "say what a folder or archive is (offline)", ArgsUsage: "PATH",
		Description: `Looks for a world in a folder or an archive, under any wrapper folders, and
says which game it is and why, its title and folder name, seed, version, mods,
players and warnings. Nothing is changed, and no service is needed.

Examples:
  reshard inspect ~/saves/"Fen Garden"
  reshard inspect fen-garden.zip --json
  reshard inspect two-plots.zip --root "plots/East Plot"`,
		Flags: []cli.Flag{rootFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			paths, err := args(c, "PATH")
			if err != nil {
				return err
			}
			w, err := local.Open(paths[0], c.String("root"), a.knownProfiles(ctx))
			if err != nil {
				return err
			}
			defer w.Close()
			return a.show(w.World, func() { a.describeWorld(w) })
		},
	}
}

func rootFlag() cli.Flag {
	return &cli.StringFlag{Name: "root", Usage: "which world, when there are several: its `FOLDER`"}
}

func (a *app) describeWorld(l local.World) {
	w := l.World
	a.print("%s world, because it %s.\n\n", l.Found.Game.Title, w.Why)
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
	for _, name := range ownFacts(w) {
		line(name, w.Fact(name).Text)
	}
	if m := w.Fact("mods"); m.Known() {
		line("mods", modsText(m.Items))
	}
	if len(w.Realms) > 0 {
		line("realms", w.Layout+": "+strings.Join(w.Realms, ", "))
	}
	line("players", playersText(w))
	line("size", bytesText(w.Bytes)+" in "+count(w.Files, "file", "files"))
	line("last played", when(w.LastPlayed)+" ("+humanize.Time(w.LastPlayed)+")")
	if len(w.Warnings) > 0 {
		a.print("\nMind:\n")
		for _, warning := range w.Warnings {
			a.wrapped("  ! ", warning)
		}
	}
	if len(l.Ignored) > 0 {
		a.print("\n%s of the archive belong to no world and are not carried, such as %s.\n",
			count(len(l.Ignored), "entry", "entries"), path.Base(l.Ignored[0]))
	}
	a.print("\nNext: reshard send %s\n", shellWord(l.Path))
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

// ownFacts are the facts of a world that its profile alone gives a meaning to, in order.
func ownFacts(w world.Facts) (out []string) {
	shown := []string{"title", "seed", "version", "family", "mods", "last-played", "world-id", "players"}
	for _, name := range slices.Sorted(maps.Keys(w.Facts)) {
		if !slices.Contains(shown, name) && w.Fact(name).Known() {
			out = append(out, name)
		}
	}
	return out
}

func playersText(w world.Facts) string {
	players := w.Players
	if len(players) == 0 {
		if f := w.Fact("players"); f.Known() { // a fact of the profile's own
			return f.Text
		}
		return "no records"
	}
	names := make([]string, 0, len(players))
	for _, p := range players {
		name := orText(p.Name, p.ID)
		if p.At != nil {
			name += fmt.Sprintf(" at %.0f / %.0f", p.At.X, p.At.Z)
		}
		names = append(names, name)
	}
	more := ""
	if w.PlayerTotal() > 8 {
		names = names[:min(len(names), 8)]
		more = " and " + count(w.PlayerTotal()-len(names), "other", "others")
	}
	return count(w.PlayerTotal(), "record", "records") + ": " + strings.Join(names, ", ") + more
}
