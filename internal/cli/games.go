package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/games"
	"reshard/internal/client"
	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/sketch"
	"reshard/internal/local"
	"reshard/internal/wire"
)

func (a *app) gamesCommand() *cli.Command {
	return &cli.Command{
		Name: "games", Usage: "list the games that the service knows, and check profiles",
		Description: `Examples:
  reshard games
  reshard games show quarrymoss
  reshard games lint mygame.yaml                       is the profile right? (offline)
  reshard games sketch --world saves/first --server /srv/mygame > mygame.yaml
  reshard games try mygame.yaml --world saves/first    what does it read? (offline)
  reshard games add mygame.yaml                        let the service use it`,
		Action: listing(a, gamesOf, func(list []wire.Game) {
			var rows [][]string
			for _, g := range list {
				rows = append(rows, []string{g.ID, g.Title, strings.Join(g.Kinds, ", "), originText(g)})
			}
			a.table([]string{"game", "title", "kinds of server", "profile"}, rows)
		}),
		Commands: []*cli.Command{
			a.gamesShowCommand(),
			a.gamesSketchCommand(),
			a.gamesLintCommand(),
			a.gamesTryCommand(),
			a.gamesAddCommand(),
			a.gamesHistoryCommand(),
			a.gamesRemoveCommand(),
			a.gamesSchemaCommand(),
		},
	}
}

func originText(g wire.Game) string {
	if g.Origin != "uploaded" {
		return g.Origin
	}
	text := fmt.Sprintf("version %d, saved by %s", g.Version, g.SavedBy)
	if g.Overrides != "" {
		text += ", over the " + g.Overrides + " one"
	}
	return text
}

func (a *app) gamesSketchCommand() *cli.Command {
	return &cli.Command{
		Name: "sketch", Usage: "propose a first profile from examples (offline)",
		Description: `Looks at a world and at a server's folder and writes a first profile: which files
mark a world, where title, seed and version might stand, which setting holds the
world's name or path, which log line names it. Behind each line stands how sure
it is: sure, likely or guess. Give a world of the server itself as the example,
and one with others beside it, when you can. Nothing is changed.

Examples:
  reshard games sketch --world /srv/mygame/saves/first --server /srv/mygame
  reshard games sketch --world ~/saves/first --id mygame > mygame.yaml`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "world", Usage: "a world: a folder or a file, `PATH`"},
			&cli.StringFlag{Name: "server", Usage: "a server's `FOLDER`"},
			&cli.StringFlag{Name: "id", Usage: "the game's `ID`"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			if c.String("world") == "" && c.String("server") == "" {
				return usage("games sketch needs --world PATH or --server FOLDER, better both")
			}
			p, err := local.Sketch(local.Examples{World: c.String("world"), Server: c.String("server")}, c.String("id"))
			if err != nil {
				return err
			}
			return a.show(p, func() { a.printSketch(p) })
		},
	}
}

// printSketch writes the profile to the output, and what a person must know of it
// beside, so that the profile can be sent into a file.
func (a *app) printSketch(p sketch.Proposal) {
	a.print("%s", p.Profile)
	say := func(format string, args ...any) { fmt.Fprintf(a.Err, format, args...) }
	say("\n")
	for _, part := range p.Parts {
		mark := map[string]string{sketch.Sure: "✓", sketch.Likely: "→", sketch.Guess: "?"}[part.Sure]
		say("%s %-6s  %s: %s\n", mark, part.Sure, part.Key, part.Why)
	}
	for _, c := range p.Complaints {
		say("✕ %s\n", c.String())
	}
	say("\nNext: fill in what is a guess, then reshard games lint FILE and reshard games try FILE --world PATH " +
		"--server FOLDER\n")
}

func (a *app) gamesAddCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "let the service use a profile of your own", ArgsUsage: "FILE",
		Description: `The profile becomes the next version of its game's. A profile that ships with
Reshard, or stands in the service's own folder, is only replaced with --override.

Examples:
  reshard games add mygame.yaml
  reshard games add quarrymoss.yaml --override`,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "override", Usage: "let it replace a shipped profile of the same id"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			files, api, err := a.ready(c, "FILE")
			if err != nil {
				return err
			}
			data, err := os.ReadFile(files[0])
			if err != nil {
				return fault.New(fault.NotFound, "read profile", files[0], "it cannot be read: %v", errors.Unwrap(err))
			}
			g, err := api.SaveGame(ctx, string(data), c.Bool("override"))
			if err != nil {
				return err
			}
			return a.show(g, func() {
				a.print("✓ %s (%s) is known to the service now, %s.\nNext: reshard servers add NAME --game %s …\n",
					g.Title, g.ID, originText(g), g.ID)
			})
		},
	}
}

func (a *app) gamesHistoryCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "list every version that was added for a game", ArgsUsage: "GAME",
		Description: "Examples:\n  reshard games history mygame\n  reshard games history mygame --json",
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "GAME")
			if err != nil {
				return err
			}
			list, err := api.GameVersions(ctx, names[0])
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, v := range list {
					state := ""
					if v.WithdrawnAt != nil {
						state = "removed " + when(*v.WithdrawnAt)
					}
					rows = append(rows, []string{strconv.Itoa(v.Version), when(v.SavedAt), v.SavedBy, state})
				}
				a.table([]string{"version", "saved", "by", ""}, rows)
			})
		},
	}
}

func (a *app) gamesRemoveCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "take the profiles that were added for a game out of use", ArgsUsage: "GAME",
		Description: `What the added profile was over counts again. Its versions stay on record.

Examples:
  reshard games remove mygame`,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "GAME")
			if err != nil {
				return err
			}
			if err := api.WithdrawGame(ctx, names[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"removed": names[0]}, func() {
				a.print("✓ What was added for %s is out of use. reshard games history %s still lists it.\n", names[0],
					names[0])
			})
		},
	}
}

func (a *app) gamesSchemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "print the JSON Schema of profiles, for editors (offline)",
		Description: "Examples:\n  reshard games schema > profile.schema.json\n\nThen begin a profile with: # " +
			"yaml-language-server: $schema=profile.schema.json",
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := args(c); err != nil {
				return err
			}
			a.print("%s", game.Schema())
			return nil
		},
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
			return fault.New(fault.NotFound, "find game", names[0], "the service has no profile of that name").
				With("reshard games lists them.")
		},
	}
}

func (a *app) gamesLintCommand() *cli.Command {
	return &cli.Command{
		Name: "lint", Usage: "check a profile: line, column, what is wrong (offline)", ArgsUsage: "FILE",
		Description: "Exit code 1 when there is a complaint.\n\nExamples:\n  reshard games lint mygame.yaml\n  " +
			"reshard games lint mygame.yaml --json",
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
					a.print("✓ %s is a profile of %s.\nNext: reshard games try %s --world PATH\n", files[0], p.Title,
						shellWord(files[0]))
				} else {
					a.print("%s in %s. docs/profiles.md explains each key.\n",
						count(len(complaints), "complaint", "complaints"), files[0])
				}
			})
			if err == nil && len(complaints) > 0 {
				err = exitQuietly(ExitFailed)
			}
			return err
		},
	}
}

func (a *app) gamesTryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "run a profile against examples and show what each fact and key read (offline)",
		ArgsUsage: "FILE",
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
				return usage("games try needs --world PATH or --server FOLDER, or both")
			}
			p, err := readProfile(files[0])
			if err != nil {
				return err
			}
			if _, known := p.Server.Kinds[c.String("kind")]; c.String("server") != "" && !known &&
				(c.IsSet("kind") || len(p.Server.Kinds) > 1) {
				return usage("the profile has the kinds %s; say which with --kind", strings.Join(p.KindNames(), ", "))
			}
			picture := c.String("picture")
			var drawn bytes.Buffer
			got, err := local.Try(
				p, local.Examples{
					World:  c.String("world"),
					Server: c.String("server"),
					Kind:   c.String("kind"),
					System: c.String("system"),
				}, &drawn)
			if err != nil {
				return err
			}
			if picture != "" && got.Picture {
				if err := writeNew(picture, drawn.Bytes()); err != nil {
					return err
				}
			}
			return a.show(got, func() { a.printTried(p, got, picture) })
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

// writeNew writes a file that must not be there yet.
func writeNew(file string, data []byte) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Exists, "write", file, "it is there already").
			With("Give another name; nothing is written over.")
	}
	if err != nil {
		return fault.Wrap(fault.Refused, "write", file, err)
	}
	_, err = f.Write(data)
	return fault.Wrap(fault.Internal, "write", file, errors.Join(err, f.Close()))
}

func (a *app) printTried(p *game.Profile, got local.Tried, picture string) {
	if w := got.World; w != nil {
		a.print("World %s: %s\n", quoted(w.Folder), w.Why)
		var rows [][]string
		for _, name := range sortedNames(w.Facts) {
			rows = append(rows, factRow(name, w.Facts[name]))
		}
		if p.World.Players != nil {
			rows = append(rows, []string{"✓ players", playersText(*w), "", ""})
		}
		if len(p.World.Realms) > 0 {
			rows = append(rows, []string{
				"✓ realms",
				orText(strings.TrimSpace(w.Layout+" "+strings.Join(w.Realms, ", ")), "none"),
				"",
				"",
			})
		}
		for _, ref := range got.References {
			rows = append(rows, []string{
				"✓ refers to",
				fmt.Sprintf("%s, %s", ref.ID, count(ref.Count, "time", "times")),
				ref.File,
				ref.Place,
			})
		}
		if got.Picture {
			rows = append(rows, []string{"✓ picture", "drawn", picture, ""})
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
				rows = append(rows, []string{
					"✓ " + name,
					k.Value,
					k.File,
					"line " + strconv.Itoa(k.Line) + ", " + k.Key,
				})
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
				rows = append(rows, []string{
					"  " + mark + " with",
					orText(h.Value, "not set"),
					h.File,
					h.Key + " = " + h.Want,
				})
			}
		}
		var worlds []string
		for _, w := range s.Worlds {
			worlds = append(worlds, w.Folder)
		}
		rows = append(rows, []string{
			"✓ worlds", orText(strings.Join(worlds, ", "), "none"), s.WorldsFolder + "/", "",
		})
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

// servedPatience is how long the service is waited for by what needs none.
const servedPatience = 3 * time.Second

// knownProfiles are those of the service that the user is signed in to, or what ships where there is none or it
// does not answer: looking at a world needs no service.
func (a *app) knownProfiles(ctx context.Context) []*game.Profile {
	ctx, done := context.WithTimeout(ctx, servedPatience)
	defer done()
	if api, err := a.client(); err == nil {
		if served, err := servedProfiles(ctx, api); err == nil && len(served) > 0 {
			return served
		}
	}
	return slices.Clone(games.All())
}

// profilesWith reads a folder of users' profiles beside the shipped ones. An id
// that ships already is refused unless override says that it may be replaced.
func profilesWith(folder string, override bool) ([]game.Document, error) {
	byID := map[string]game.Document{}
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		if err != nil {
			return nil, fault.Wrap(fault.Internal, "read profile", p.ID, err)
		}
		byID[p.ID] = game.Document{Profile: p, Source: source, Origin: game.OriginShipped}
	}
	if folder != "" {
		if err := folderProfiles(folder, override, byID); err != nil {
			return nil, err
		}
	}
	var all []game.Document
	for _, id := range sortedNames(byID) {
		all = append(all, byID[id])
	}
	return all, nil
}

func folderProfiles(folder string, override bool, byID map[string]game.Document) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return &fault.Error{Code: fault.NotFound, Op: "read profiles in", Path: folder, Err: err}
	}
	mine := map[string]string{}
	for _, e := range entries {
		if e.IsDir() || (filepath.Ext(e.Name()) != ".yaml" && filepath.Ext(e.Name()) != ".yml") {
			continue
		}
		p, data, err := oneProfile(os.DirFS(folder), e.Name())
		if err != nil {
			return err
		}
		if other, twice := mine[p.ID]; twice {
			return fault.New(fault.Exists, "read profile", e.Name(), "%s has the id %s too", other, p.ID)
		}
		if _, ships := byID[p.ID]; ships && !override {
			return fault.New(fault.Exists, "read profile", e.Name(), "a profile with the id %s ships with Reshard",
				p.ID).
				With("Give it another id, or start the service with --games-override.")
		}
		mine[p.ID] = e.Name()
		byID[p.ID] = game.Document{Profile: p, Source: data, Origin: game.OriginFolder}
	}
	return nil
}

func oneProfile(folder fs.FS, name string) (*game.Profile, []byte, error) {
	data, err := budget.ReadFile(folder, name, game.LongestProfile)
	if err != nil {
		return nil, nil, fault.Wrap(fault.NotFound, "read profile", name, err)
	}
	p, err := game.Parse(name, data)
	return p, data, err
}
