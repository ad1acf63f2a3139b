package cli

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/games"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/local"
)

// foundWorld is a world on this computer.
type foundWorld struct {
	Game       string    `json:"game"`
	Title      string    `json:"title"`
	Path       string    `json:"path"`
	Bytes      int64     `json:"bytes"`
	LastPlayed time.Time `json:"lastPlayed"`
}

func (a *app) findCommand() *cli.Command {
	return &cli.Command{
		Name: "find", Usage: "list the worlds on this computer (offline)",
		Description: `Looks where the games keep worlds that are played alone, as their profiles say.
Nothing is changed, and no service is needed.

Examples:
  reshard find
  reshard find --game quarrymoss --json
  reshard find --profiles ~/profiles        games of your own profiles as well`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "game", Usage: "only of this `GAME`"},
			&cli.StringFlag{Name: "profiles", Usage: "a `FOLDER` with profiles of your own"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			profiles := slices.Clone(games.All())
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
					return fault.New(fault.NotFound, "find game", only, "there is no profile of that name").With("reshard games lists those of the service; --profiles reads a folder of your own.")
				}
			}
			found, places := findWorlds(profiles, a.Env)
			return a.show(found, func() { a.printFound(found, places) })
		},
	}
}

// findWorlds looks into every place of every game; places are those that it looked at.
func findWorlds(profiles []*game.Profile, env func(string) string) (found []foundWorld, places []string) {
	system := map[string]string{"darwin": "macos", "windows": "windows"}[runtime.GOOS]
	if system == "" {
		system = "linux"
	}
	home := env("HOME")
	if home == "" {
		home, _ = os.UserHomeDir() // without one, places below it are left out
	}
	found = []foundWorld{}
	seen := map[string]bool{}
	for _, p := range profiles {
		for _, pattern := range p.Stores(system, filepath.ToSlash(home), env) {
			places = append(places, pattern)
			matches, err := filepath.Glob(filepath.FromSlash(pattern))
			if err != nil {
				continue // the profile's pattern is no pattern here
			}
			for _, match := range matches {
				w, err := local.Open(match, "", []*game.Profile{p})
				if err != nil {
					continue // something else stands there
				}
				key := p.ID + "\x00" + filepath.Dir(match) + "\x00" + w.World.Folder
				if !seen[key] {
					seen[key] = true
					found = append(found, foundWorld{Game: p.ID, Title: w.World.Title, Path: match, Bytes: w.World.Bytes, LastPlayed: w.World.LastPlayed})
				}
				w.Close()
			}
		}
	}
	slices.SortFunc(found, func(x, y foundWorld) int { return y.LastPlayed.Compare(x.LastPlayed) })
	return found, places
}

func (a *app) printFound(found []foundWorld, places []string) {
	if len(found) == 0 {
		a.print("No world of a known game. Looked in:\n")
		for _, p := range places {
			a.print("  %s\n", p)
		}
		a.print("Give a world's own path: reshard inspect PATH\n")
		return
	}
	var rows [][]string
	for _, f := range found {
		rows = append(rows, []string{f.Game, quoted(f.Title), when(f.LastPlayed), bytesText(f.Bytes), f.Path})
	}
	a.table([]string{"game", "title", "last played", "size", "path"}, rows, 0, 40, 0, 0, 60)
	a.print("\nNext: reshard send %s\n", shellWord(found[0].Path))
}
