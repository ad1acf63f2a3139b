package cli

import (
	"context"
	"errors"
	"fmt"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/games"
	"reshard/internal/client"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
	"reshard/internal/wire"
)

func (a *app) gamesCommand() *cli.Command {
	return &cli.Command{
		Name: "games", Usage: "list the games that the service knows, and check profiles",
		Description: `Examples:
  reshard games
  reshard games show quarrymoss
  reshard games lint mygame.yaml                       is the profile right? (offline)
  reshard games try mygame.yaml --world saves/first    what does it read? (offline)`,
		Action: listing(a, gamesOf, func(list []wire.Game) {
			var rows [][]string
			for _, g := range list {
				rows = append(rows, []string{g.ID, g.Title, strings.Join(g.Kinds, ", ")})
			}
			a.table([]string{"game", "title", "kinds of server"}, rows)
		}),
		Commands: []*cli.Command{a.gamesShowCommand(), a.gamesLintCommand(), a.gamesTryCommand()},
	}
}

func gamesOf(ctx context.Context, api *client.Client, _ *cli.Command) ([]wire.Game, error) {
	return api.Games(ctx)
}

func (a *app) gamesShowCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "print a game's profile", ArgsUsage: "GAME",
		Description: "Examples:\n  reshard games show quarrymoss",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "GAME")
			if err != nil {
				return err
			}
			list, err := api.Games(ctx)
			if err != nil {
				return err
			}
			for _, g := range list {
				if g.ID == names[0] {
					return a.show(g, func() { a.print("%s", g.Profile) })
				}
			}
			return fault.New(fault.NotFound, "find game", names[0], "the service has no profile of that name").With("reshard games lists them.")
		},
	}
}

func (a *app) gamesLintCommand() *cli.Command {
	return &cli.Command{
		Name: "lint", Usage: "check a profile: line, column, what is wrong (offline)", ArgsUsage: "FILE",
		Description: "Exit code 1 when there is a complaint.\n\nExamples:\n  reshard games lint mygame.yaml\n  reshard games lint mygame.yaml --json",
		Action: func(_ context.Context, c *cli.Command) error {
			files, err := args(c, "FILE")
			if err != nil {
				return err
			}
			data, err := os.ReadFile(files[0])
			if err != nil {
				return fault.New(fault.NotFound, "read profile", files[0], "it cannot be read: %v", errors.Unwrap(err))
			}
			p, complaints := game.Lint(data)
			if complaints == nil {
				complaints = []game.Complaint{}
			}
			err = a.show(complaints, func() {
				for _, one := range complaints {
					a.wrapped("  ✕ ", one.String())
				}
				if len(complaints) == 0 {
					a.print("✓ %s is a profile of %s.\nNext: reshard games try %s --world PATH\n", files[0], p.Title, shellWord(files[0]))
				} else {
					a.print("%s in %s. docs/profiles.md explains each key.\n", count(len(complaints), "complaint", "complaints"), files[0])
				}
			})
			if err == nil && len(complaints) > 0 {
				err = exitQuietly(ExitFailed)
			}
			return err
		},
	}
}

// tried is what a profile read of examples.
type tried struct {
	World *world.World `json:"world,omitempty"`
	// References are the places that refer to players by id.
	References []world.Reference `json:"references,omitempty"`
	// Picture is the file that the world's picture was written to, PictureWhy why
	// there is none.
	Picture    string        `json:"picture,omitempty"`
	PictureWhy string        `json:"pictureWhy,omitempty"`
	Server     *server.State `json:"server,omitempty"`
}

func (a *app) gamesTryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "run a profile against examples and show what each fact and key read (offline)", ArgsUsage: "FILE",
		Description: `Shows of each fact and key what was read and where, or why it was not. Nothing is
changed.

Examples:
  reshard games try mygame.yaml --world saves/first --picture first.png
  reshard games try mygame.yaml --server /srv/mygame --kind plain
  reshard games try mygame.yaml --world first.zip --server /srv/mygame`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "world", Usage: "a world to read: a folder or an archive, `PATH`"},
			&cli.StringFlag{Name: "picture", Usage: "draw the world into this PNG `FILE`"},
			&cli.StringFlag{Name: "server", Usage: "a server's `FOLDER` to read"},
			&cli.StringFlag{Name: "kind", Usage: "the server's `KIND`, when the profile has several"},
			&cli.StringFlag{Name: "system", Usage: "the server's operating `SYSTEM`: linux, macos or windows"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			files, err := args(c, "FILE")
			if err != nil {
				return err
			}
			if c.String("world") == "" && c.String("server") == "" {
				return usage("try needs --world PATH or --server FOLDER, or both")
			}
			p, err := readProfile(files[0])
			if err != nil {
				return err
			}
			got, err := tryProfile(p, c.String("world"), c.String("picture"), c.String("server"), c.String("kind"), c.String("system"))
			if err != nil {
				return err
			}
			return a.show(got, func() { a.printTried(p, got) })
		},
	}
}

func readProfile(file string) (*game.Profile, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.New(fault.NotFound, "read profile", file, "it cannot be read: %v", errors.Unwrap(err))
	}
	return game.Parse(file, data)
}

func tryProfile(p *game.Profile, worldPath, picture, serverPath, kind, system string) (tried, error) {
	var got tried
	if worldPath != "" {
		local, err := openLocal(worldPath, "", []*game.Profile{p})
		if err != nil {
			return got, err
		}
		defer local.close()
		got.World = &local.world
		var warnings []string
		got.References, warnings = world.References(local.tree, local.found, local.world.Players)
		got.World.Warnings = append(got.World.Warnings, warnings...)
		if picture != "" {
			got.Picture, got.PictureWhy = picture, ""
			if err := drawWorld(local, picture); err != nil {
				got.Picture, got.PictureWhy = "", err.Error()
			}
		}
	}
	if serverPath == "" {
		return got, nil
	}
	if kind == "" && len(p.Server.Kinds) == 1 {
		kind = p.KindNames()[0]
	}
	if _, ok := p.Server.Kinds[kind]; !ok {
		return got, usage("the profile has the kinds %s; say which with --kind", strings.Join(p.KindNames(), ", "))
	}
	state, err := server.Read(os.DirFS(serverPath), p, server.Machine{Kind: kind, System: system, Roots: rootsOf(serverPath)})
	if err != nil {
		return got, fault.New(fault.NotFound, "read server", serverPath, "it cannot be listed: %v", err)
	}
	got.Server = &state
	return got, nil
}

// drawWorld writes a world's picture as a PNG file, which must not be there yet.
func drawWorld(l localWorld, file string) error {
	img, err := world.Picture(l.tree, l.found)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(png.Encode(f, img), f.Close())
}

// rootsOf gives a folder's absolute path, which settings may name.
func rootsOf(folder string) []string {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil
	}
	return []string{full}
}

func (a *app) printTried(p *game.Profile, got tried) {
	if w := got.World; w != nil {
		a.print("World %s: %s\n", quoted(w.Folder), w.Why)
		var rows [][]string
		for _, name := range sortedNames(w.Facts) {
			rows = append(rows, factRow(name, w.Facts[name]))
		}
		if p.World.Players != nil {
			rows = append(rows, []string{"✓ players", playersText(w.Players), "", ""})
		}
		if len(p.World.Realms) > 0 {
			rows = append(rows, []string{"✓ realms", orText(strings.TrimSpace(w.Layout+" "+strings.Join(w.Realms, ", ")), "none"), "", ""})
		}
		for _, ref := range got.References {
			rows = append(rows, []string{"✓ refers to", fmt.Sprintf("%s, %s", ref.ID, count(ref.Count, "time", "times")), ref.File, ref.Place})
		}
		if got.Picture != "" {
			rows = append(rows, []string{"✓ picture", "drawn", got.Picture, ""})
		}
		if got.PictureWhy != "" {
			rows = append(rows, []string{"✕ picture", got.PictureWhy, "", ""})
		}
		a.table([]string{"fact", "read", "file", "place"}, rows, 0, 48, 24, 40)
		for _, warning := range w.Warnings {
			a.wrapped("  ! ", warning)
		}
	}
	if s := got.Server; s != nil {
		if got.World != nil {
			a.print("\n")
		}
		a.print("Server, kind %s\n", s.Kind)
		rows := [][]string{factRow("version", s.Version), factRow("mods", s.Mods)}
		for _, name := range sortedNames(s.Keys) {
			k := s.Keys[name]
			switch {
			case k.Found:
				rows = append(rows, []string{"✓ " + name, k.Value, k.File, "line " + strconv.Itoa(k.Line) + ", " + k.Key})
			case k.Default:
				rows = append(rows, []string{"✓ " + name, k.Value, "game profile", "default"})
			default:
				rows = append(rows, []string{"✕ " + name, "not set", k.File, k.Key})
			}
			for _, h := range k.Hides {
				rows = append(rows, []string{"  beats", h.Value, h.File, "line " + strconv.Itoa(h.Line) + ", " + h.Key})
			}
			for _, h := range k.With {
				mark := "✓"
				if !h.OK() {
					mark = "✕"
				}
				rows = append(rows, []string{"  " + mark + " with", orText(h.Value, "not set"), h.File, h.Key + " = " + h.Want})
			}
		}
		var worlds []string
		for _, w := range s.Worlds {
			worlds = append(worlds, w.Folder)
		}
		rows = append(rows, []string{"✓ worlds", orText(strings.Join(worlds, ", "), "none"), s.WorldsFolder + "/", ""})
		a.table([]string{"fact or key", "read", "file", "place"}, rows, 0, 48, 24, 40)
		for _, d := range s.Settings {
			if d.Why != "" {
				a.wrapped("  ! ", d.File+": "+d.Why)
			}
		}
	}
}

func factRow(name string, f fact.Fact) []string {
	if !f.Known() {
		return []string{"✕ " + name, f.Why, f.File, f.Place}
	}
	text := f.Text
	if f.Type == "list" {
		text = modsText(f.Items)
	}
	return []string{"✓ " + name, text, f.File, f.Place}
}

func sortedNames[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// servedProfiles are the service's own: it may know games that this program does
// not ship. A profile that this program cannot read is left out; the service
// recognises its worlds itself.
func servedProfiles(ctx context.Context, api *client.Client) ([]*game.Profile, error) {
	list, err := api.Games(ctx)
	if err != nil {
		return nil, err
	}
	var out []*game.Profile
	for _, g := range list {
		if p, err := game.Parse(g.ID, []byte(g.Profile)); err == nil {
			out = append(out, p)
		}
	}
	return out, nil
}

// profilesWith reads a folder of users' profiles beside the shipped ones. An id
// that ships already is refused unless override says that it may be replaced.
func profilesWith(folder string, override bool) (all []*game.Profile, sources map[string][]byte, err error) {
	sources = map[string][]byte{}
	byID := map[string]*game.Profile{}
	for _, p := range games.All() {
		byID[p.ID] = p
		if sources[p.ID], err = games.Source(p.ID); err != nil {
			return nil, nil, fault.Wrap(fault.Internal, "read profile", p.ID, err)
		}
	}
	if folder != "" {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return nil, nil, &fault.Error{Code: fault.NotFound, Op: "read profiles in", Path: folder, Err: err}
		}
		mine := map[string]string{}
		for _, e := range entries {
			if e.IsDir() || (filepath.Ext(e.Name()) != ".yaml" && filepath.Ext(e.Name()) != ".yml") {
				continue
			}
			p, data, err := oneProfile(os.DirFS(folder), e.Name())
			if err != nil {
				return nil, nil, err
			}
			if other, twice := mine[p.ID]; twice {
				return nil, nil, fault.New(fault.Exists, "read profile", e.Name(), "%s has the id %s too", other, p.ID)
			}
			if _, ships := byID[p.ID]; ships && !override {
				return nil, nil, fault.New(fault.Exists, "read profile", e.Name(), "a profile with the id %s ships with Reshard", p.ID).
					With("Give it another id, or start the service with --games-override.")
			}
			mine[p.ID], byID[p.ID], sources[p.ID] = e.Name(), p, data
		}
	}
	for _, id := range sortedNames(byID) {
		all = append(all, byID[id])
	}
	return all, sources, nil
}

func oneProfile(folder fs.FS, name string) (*game.Profile, []byte, error) {
	data, err := fs.ReadFile(folder, name)
	if err != nil {
		return nil, nil, fault.Wrap(fault.NotFound, "read profile", name, err)
	}
	p, err := game.Parse(name, data)
	return p, data, err
}
