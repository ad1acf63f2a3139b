package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/wire"
)

func (a *app) serversCommand() *cli.Command {
	return &cli.Command{
		Name: "servers", Usage: "list servers with their states",
		Description: `Examples:
  reshard servers
  reshard servers --search north --order -added
  reshard servers show north-plot
  reshard servers add north-plot --game quarrymoss --kind plain --root /srv/north -- ./quarry serve .
  reshard servers start north-plot
  reshard servers stop north-plot
  reshard servers stopped north-plot
  reshard servers started north-plot
  reshard servers log north-plot --follow`,
		Flags: append(listFlags("name, -name, added or -added; - turns it round"),
			&cli.StringFlag{
				Name:  "search",
				Local: true,
				Usage: "only with these `WORDS` in name, game, kind, host or folder",
			},
			&cli.StringFlag{Name: "game", Local: true, Usage: "only of this `GAME`"},
			&cli.StringFlag{Name: "host", Local: true, Usage: "only on this `HOST`"},
		),
		Action: listing(a, func(ctx context.Context, api *client.Client, c *cli.Command) ([]wire.Server, error) {
			if alerts, err := api.Alerts(ctx); err == nil && !a.json { // what needs somebody stands at the top
				a.printAlerts(alerts)
			}
			return api.Servers(ctx, wire.ServerQuery{
				Part: wire.Part{Limit: c.Int("limit")}, Search: c.String("search"),
				Game: c.String("game"), Host: c.String("host"), Order: c.String("order"),
			})
		}, a.listServers),
		Commands: []*cli.Command{
			a.onServer("show", "show a server's worlds, settings and version",
				"Examples:\n  reshard servers show north-plot", nil,
				func(ctx context.Context, _ *cli.Command, api *client.Client, name string) (wire.ServerFacts, error) {
					return api.Server(ctx, name)
				}),
			a.onServer("start", "start a server and wait until it is ready",
				`Asks first when the world is not there that its settings name: it would make a new,
empty one in silence.

Examples:
  reshard servers start north-plot
  reshard servers start north-plot --new-world`,
				[]cli.Flag{&cli.BoolFlag{
					Name: "new-world", Usage: "also when its world is not there: it makes a new one",
				}},
				a.startServer),
			a.onServer("stop", "stop a server cleanly and wait for its end",
				`Players are told where the game can, and what a stop would lose is saved before. A
server that does not save or stop when asked goes on running: it is never killed.

Examples:
  reshard servers stop north-plot
  reshard servers stop north-plot --unsaved`,
				[]cli.Flag{&cli.BoolFlag{
					Name: "unsaved", Usage: "do not have it save before; what was played may be lost",
				}},
				func(ctx context.Context, c *cli.Command, api *client.Client, name string) (wire.ServerFacts, error) {
					return api.StopServer(ctx, name, wire.StopServer{Unsaved: c.Bool("unsaved")})
				}),
			a.serversStoppedCommand(), a.serversStartedCommand(),
			a.onServer("intended", "say that a server runs the world that it should",
				`Reshard compares the world that a server runs with the one last put there. When
somebody switched it in the game, or changed the settings, say that this is intended,
and the alert ends. It is compared with that world from then on.

Examples:
  reshard servers intended north-plot
  reshard servers intended north-plot --world fen-garden`,
				[]cli.Flag{&cli.StringFlag{Name: "world", Usage: "only if it is `WORLD` that it runs"}},
				func(ctx context.Context, c *cli.Command, api *client.Client, name string) (wire.ServerFacts, error) {
					return api.IntendWorld(ctx, name, wire.IntendWorld{World: c.String("world")})
				}),
			a.serversChangeCommand(),
			a.serversAddCommand(), a.serversLogCommand(), a.serversSlotsCommand(),
			a.remover("remove", "SERVER", "forget a stopped server",
				"Its files stay where they are, and so does what was set aside.\n\nExamples:\n  reshard servers "+
					"remove north-plot", (*client.Client).RemoveServer),
		},
	}
}

func (a *app) serversStoppedCommand() *cli.Command {
	return &cli.Command{
		Name: "stopped", Usage: "say that a server is stopped of which that cannot be told", ArgsUsage: "SERVER",
		Description: `Reshard does nothing to a server while it cannot be told whether it runs. When you
know that it is stopped, say so: your word stands in for it, and proofs name it.
It counts until the server can be seen again.

Examples:
  reshard servers stopped north-plot
  reshard servers stopped north-plot --yes
  reshard servers stopped north-plot --yes --despite-signs`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
			&cli.BoolFlag{Name: "despite-signs", Usage: "also where its lock or its port say that it is running"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			if !c.Bool("yes") {
				a.wrapped("", "If "+names[0]+
					" runs all the same, its world is moved away under it and what is played is lost.")
				sure, err := a.confirm("Is " + names[0] + " stopped?")
				if err != nil {
					return err
				}
				if !sure {
					a.print("Nothing has been said.\n")
					return exitQuietly(ExitFailed)
				}
			}
			s, err := api.SayStoppedDespite(ctx, names[0], c.Bool("despite-signs"))
			if err != nil {
				return err
			}
			return a.show(s, func() { a.describeServer(s) })
		},
	}
}

func (a *app) serversStartedCommand() *cli.Command {
	return a.onServer("started", "say that a server runs that only people can see",
		`A server that is controlled by hand is started by a person, by its provider's own means.
Your word that it runs is named in proofs.

Examples:
  reshard servers started north-plot`, nil,
		func(ctx context.Context, _ *cli.Command, api *client.Client, name string) (wire.ServerFacts, error) {
			return api.SayStarted(ctx, name)
		})
}

// controlFlags are how a server elsewhere is controlled.
func controlFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name: "by", Usage: "control it by a `WAY`: session, unit, commands, provider or hand; left out: as its " +
				"host allows",
		},
		&cli.StringFlag{
			Name:  "session",
			Usage: "`NAME` of the terminal multiplexer's session that its command runs in",
		},
		&cli.StringFlag{Name: "unit", Usage: "systemd `UNIT`"},
		&cli.BoolFlag{Name: "user-unit", Usage: "the unit is one of the account's own manager"},
		&cli.StringFlag{Name: "machine", Usage: "what the host's provider calls it (`ID`)"},
		&cli.StringFlag{Name: "start", Usage: "`COMMAND` that starts it and returns"},
		&cli.StringFlag{Name: "stop", Usage: "`COMMAND` that asks it to end; left out: as the game's profile says"},
		&cli.StringFlag{Name: "state", Usage: "`COMMAND` that ends with 0 when it runs, with 1 or 3 when it does not"},
		&cli.StringFlag{Name: "say", Usage: "`COMMAND` that gets a line for the console on its input"},
		&cli.StringFlag{Name: "signal", Usage: "`COMMAND` that sends it the signal $signal"},
		&cli.StringFlag{Name: "log", Usage: "`COMMAND` that prints the log of the present run from its beginning"},
		&cli.StringFlag{Name: "log-file", Usage: "`FILE` with its log, from its folder or absolute"},
		&cli.StringFlag{
			Name:  "game-root",
			Usage: "`FOLDER` as the game itself names it, where its settings and log speak of another one",
		},
	}
}

func controlOf(c *cli.Command) server.Means {
	return server.Means{
		By: server.By(c.String("by")), Session: c.String("session"), Unit: c.String("unit"),
		UserUnit: c.Bool("user-unit"), Start: c.String("start"), Stop: c.String("stop"), State: c.String("state"),
		Machine: c.String("machine"), Say: c.String("say"), Signal: c.String("signal"), Log: c.String("log"),
		LogFile: c.String("log-file"),
	}
}

func (a *app) serversChangeCommand() *cli.Command {
	return &cli.Command{
		Name: "change", Usage: "change how a server is controlled", ArgsUsage: "SERVER [-- COMMAND]",
		Description: `Its way of control is given whole: what is left out is left to its host.

Examples:
  reshard servers change fen --by hand
  reshard servers change fen --unit fen.service --log-file logs/latest.log
  reshard servers change fen --session fen -- ./quarry serve .
  reshard servers change fen --game-root /opt/game`,
		Flags: controlFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() < 1 {
				return usage("servers change needs SERVER; see reshard servers change --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			change := wire.ServerChange{
				Control:  controlOf(c),
				GameRoot: c.String("game-root"),
				Command:  commandAfter(c),
			}
			s, err := api.ChangeServer(ctx, c.Args().First(), change)
			if err != nil {
				return err
			}
			return a.show(s, func() { a.describeServer(s) })
		},
	}
}

// commandAfter is the command that stands after a server's name.
func commandAfter(c *cli.Command) []string {
	command := c.Args().Tail()
	if len(command) > 0 && command[0] == "--" {
		command = command[1:]
	}
	return command
}

func (a *app) listServers(list []wire.Server) {
	if len(list) == 0 {
		a.print("No servers yet. Next: reshard servers add --help\n")
		return
	}
	var rows [][]string
	for _, s := range list {
		world := quotedIf(s.Active)
		if s.ActiveTitle != "" && s.ActiveTitle != s.Active {
			world += ", " + quoted(s.ActiveTitle)
		}
		state := marked(s.State)
		if s.State == "exited" && s.ExitCode != nil && *s.ExitCode >= 0 {
			state += fmt.Sprintf(" (code %d)", *s.ExitCode)
		}
		note := strings.Join(strings.Fields(s.Note+" "+s.Trouble+" "+s.OtherWorld+" "+s.Amiss), " ")
		if s.Changeover != 0 {
			note = fmt.Sprintf("changeover %d at work", s.Changeover)
		}
		rows = append(rows, []string{s.Name, state, s.Game + ", " + s.Kind, world, s.Join, note})
	}
	a.table([]string{"server", "state", "game, kind", "active world", "players join at", ""}, rows, 0, 0, 0, 44, 0, 40)
}

// startServer starts a server; one that would make a new world is asked about.
func (a *app) startServer(ctx context.Context, c *cli.Command, api *client.Client, name string) (wire.ServerFacts,
	error) {
	s, err := api.StartServer(ctx, name, wire.StartServer{NewWorld: c.Bool("new-world")})
	if fault.CodeOf(err) != fault.NeedsChoice || a.json {
		return s, err
	}
	a.endProgress()
	what, _ := fault.Words(err)
	yes, aerr := a.confirm(what + ". Start it with a new, empty world?")
	if aerr != nil || !yes {
		return s, err
	}
	a.status("start: waiting for %s", name)
	return api.StartServer(ctx, name, wire.StartServer{NewWorld: true})
}

func (a *app) onServer(name, use, description string, flags []cli.Flag,
	do func(context.Context, *cli.Command, *client.Client, string) (wire.ServerFacts, error)) *cli.Command {
	return &cli.Command{
		Name: name, Usage: use, ArgsUsage: "SERVER", Description: description, Flags: flags,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			if name != "show" {
				a.status("%s: waiting for %s", name, names[0])
			}
			s, err := do(ctx, c, api, names[0])
			a.endProgress()
			if err != nil {
				return err
			}
			return a.show(s, func() { a.describeServer(s) })
		},
	}
}

// hostText names a host, with what it does not promise.
func hostText(s wire.Server) string {
	var lacks []string
	for _, l := range s.Lacks {
		lacks = append(lacks, l.Name)
	}
	if len(lacks) == 0 {
		return s.Host
	}
	return s.Host + ", without " + strings.Join(lacks, ", ")
}

// controlText says how a server elsewhere is controlled.
func controlText(s wire.Server) string {
	switch m := s.Control; m.By {
	case server.BySession:
		return "in the session " + m.Session + " on its host (tmux attach -t " + m.Session + ")"
	case server.ByUnit:
		return "as the systemd unit " + m.Unit
	case server.ByCommands:
		return "by commands of its own (state: " + m.State + ")"
	case server.ByHand:
		return "by hand: people start and stop it, and say so"
	case server.ByProvider:
		return "by its provider's own interface, as " + m.Machine
	case server.ByProcess, "":
	}
	return ""
}

func (a *app) describeServer(sf wire.ServerFacts) {
	s, f := sf.Server, sf.Facts
	a.print("%s  %s\n", s.Name, marked(s.State))
	if s.Note != "" {
		a.wrapped("  ", s.Note)
	}
	if s.Asked != nil {
		a.printAsks(s.Asked.Asks)
	} else if s.State == string(life.Unknown) {
		a.print("  When you know that it is stopped: reshard servers stopped %s\n", s.Name)
		if s.Control.By == server.ByHand {
			a.print("  When you know that it runs: reshard servers started %s\n", s.Name)
		}
	}
	a.print("\n")
	line := func(label, value string) {
		if value != "" {
			a.print("  %-14s %s\n", label, value)
		}
	}
	line("game, kind", s.Game+", "+s.Kind)
	line("folder", s.Root)
	line("command", commandText(s.Command))
	line("control", controlText(s))
	line("host", hostText(s))
	if s.Process != "" && s.Since != nil {
		line("process", fmt.Sprintf("%s, since %s", strings.TrimPrefix(s.Process, "process "), when(*s.Since)))
	}
	if s.State == string(life.Unknown) && s.Since != nil {
		line("unknown", "since "+when(*s.Since))
	}
	if s.State == "exited" {
		line("exited", exitText(s))
	}
	if s.Version != "" {
		line("version", s.Version+"   ("+s.VersionFrom+")")
	}
	if s.Trouble != "" {
		a.print("\n")
		a.wrapped("  ✕ ", s.Trouble)
		return
	}
	for _, bad := range []string{s.OtherWorld + " " + s.OtherWorldNext, s.Amiss + " " + s.AmissNext} {
		if bad = strings.TrimSpace(bad); bad != "" {
			a.print("\n")
			a.wrapped("  ! ", bad)
			a.print("\n")
		}
	}
	line("mods", modsText(f.Mods.Items))
	line("opened", s.Opened)
	line("join at", s.Join)
	if s.Changeover != 0 {
		line("held by", fmt.Sprintf("changeover %d", s.Changeover))
	}
	a.printSettings(f)
	a.print("\nWorlds on it\n")
	if len(f.Worlds) == 0 {
		a.print("  none\n")
		return
	}
	var rows [][]string
	for _, w := range f.Worlds {
		active := ""
		if w.Folder == f.Active {
			active = "active"
		}
		if w.Autosave {
			active = "saved by the game itself"
		}
		rows = append(rows, []string{
			"  " + w.Folder,
			quoted(w.Title),
			w.Seed,
			bytesText(w.Bytes),
			when(w.LastPlayed),
			active,
		})
	}
	a.table([]string{"  name", "title", "seed", "size", "last played", ""}, rows)
}

// printSettings shows each key's effective value, which source gives it, what that
// beats, and what must hold with it.
func (a *app) printSettings(f server.State) {
	a.print("\nSettings that matter\n")
	for _, key := range sortedNames(f.Keys) {
		k := f.Keys[key]
		switch {
		case k.Fixed:
			a.print("  %-14s %s   (always)\n", key, k.Value)
		case k.Default:
			a.print("  %-14s %s   (what the game takes by itself; not set in %s)\n", key, k.Value, k.File)
		case !k.Found:
			a.print("  %-14s not set (%s, %s)\n", key, k.File, k.Key)
		default:
			a.print("  %-14s %s   (%s)\n", key, orText(k.Value, "empty"), k.Where())
		}
		for _, h := range k.Hides {
			a.print("  %-14s   beats %s   (%s)\n", "", orText(h.Value, "empty"), h.Where())
		}
		for _, h := range k.With {
			mark := "✓"
			if !h.OK() {
				mark = "✕"
			}
			a.print("  %-14s   %s only with %s = %s   (%s says %s)\n", "", mark, h.Key, h.Want, h.File,
				orText(h.Value, "nothing"))
		}
	}
	for _, d := range f.Settings {
		switch {
		case d.Absent:
			a.print("  ! there is no %s\n", d.File)
		case d.Why != "":
			a.wrapped("  ! ", d.Why)
		case d.ReadOnly:
			a.print("  ! %s is marked read-only\n", d.File)
		}
	}
}

func commandText(words []string) string {
	out := make([]string, 0, len(words))
	for _, w := range words {
		out = append(out, shellWord(w))
	}
	return strings.Join(out, " ")
}

func exitText(s wire.Server) string {
	text := "on its own"
	if s.ExitCode != nil && *s.ExitCode >= 0 {
		text += fmt.Sprintf(", code %d", *s.ExitCode)
	}
	if s.ExitedAt != nil {
		text += ", at " + when(*s.ExitedAt)
	}
	return text + "; its log says why: reshard servers log " + s.Name
}

func (a *app) serversAddCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "add a server of a host", ArgsUsage: "NAME -- COMMAND [ARGUMENT...]",
		Description: `Tells the service of a game server: its folder and the command that starts it in
that folder. The server is not started. The command runs with the rights of the
service's account.

Examples:
  reshard servers add north-plot --game quarrymoss --kind plain --root /srv/north -- ./quarry serve .
  reshard servers add fen --host moor --game quarrymoss --kind plain --root /servers/fen -- ./quarry serve .
  reshard servers add sedge --host moor --game quarrymoss --kind plain --root sedge --by hand
  reshard servers add shed --game minetest --root /srv/shed -- \
    /usr/games/minetestserver --config minetest.conf --gameid minetest --logfile '' --color never`,
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "game", Local: true, Usage: "the `GAME` (reshard games lists them)", Required: true},
			&cli.StringFlag{
				Name:  "kind",
				Local: true,
				Usage: "the `KIND` of server software, when the game has several",
			},
			&cli.StringFlag{
				Name:  "system",
				Usage: "the operating `SYSTEM` it is made for, where its files depend on that: linux, macos or windows",
			},
			&cli.StringFlag{
				Name:  "host",
				Local: true,
				Usage: "the `HOST` where it is; the service's own machine if left out",
			},
			&cli.StringFlag{Name: "root", Usage: "the server's `FOLDER` on its host", Required: true},
			&cli.StringSliceFlag{
				Name:  "env",
				Usage: "an environment variable for the server, `NAME=VALUE`; may be repeated",
			},
			&cli.StringFlag{Name: "server-version", Usage: "the server's `VERSION`, where no file tells it"},
		}, controlFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			root := c.String("root")
			elsewhere := c.String("host") != "" && c.String("host") != "local"
			if c.Args().Len() < 1 || (!elsewhere && len(commandAfter(c)) == 0) {
				return usage("servers add needs NAME and, after --, the command that starts the server; see reshard " +
					"servers add --help")
			}
			if !elsewhere {
				var err error
				if root, err = filepath.Abs(root); err != nil {
					return err
				}
			}
			n := wire.NewServer{
				Name:     c.Args().First(),
				Game:     c.String("game"),
				Kind:     c.String("kind"),
				Root:     root,
				Version:  c.String("server-version"),
				System:   c.String("system"),
				Host:     c.String("host"),
				Control:  controlOf(c),
				GameRoot: c.String("game-root"),
				Command:  commandAfter(c),
				Env:      map[string]string{},
			}
			for _, pair := range c.StringSlice("env") {
				k, v, ok := strings.Cut(pair, "=")
				if !ok {
					return usage("--env wants NAME=VALUE, not %q", pair)
				}
				n.Env[k] = v
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			s, err := api.AddServer(ctx, n)
			if err != nil {
				return err
			}
			return a.show(s, func() {
				a.describeServer(s)
				a.print("\nNext: reshard servers start %s\n", s.Server.Name)
			})
		},
	}
}

func (a *app) serversLogCommand() *cli.Command {
	return &cli.Command{
		Name: "log", Usage: "show a server's log", ArgsUsage: "SERVER",
		Description: "Of a server that writes a log of its own, what it prints beside that stands first.\n\n" +
			"Examples:\n  reshard servers log north-plot\n  reshard servers log north-plot --last 500\n  " +
			"reshard servers log north-plot --follow",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "last", Usage: "begin with the last `N` lines", Value: 40},
			&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on with new lines until Ctrl-C"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			err = api.FollowLog(ctx, names[0], c.Int("last"), func(lines []wire.LogLine) error {
				for _, l := range lines {
					if l.Printed {
						a.print("printed: ")
					}
					a.print("%s\n", l.Text)
				}
				if !c.Bool("follow") {
					cancel()
				}
				return nil
			})
			if ctx.Err() != nil {
				return nil
			}
			return err
		},
	}
}

// remover is a command that removes one named thing from the records.
func (a *app) remover(name, argument, use, description string,
	do func(*client.Client, context.Context, string) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: use, ArgsUsage: argument, Description: description,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, argument)
			if err != nil {
				return err
			}
			if err := do(api, ctx, names[0]); err != nil {
				return err
			}
			a.print("Removed %s.\n", names[0])
			return nil
		},
	}
}
