package e2e

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// entrant is a game in the matrix: two servers of it, "one" and "two", and a world in
// the library.
type entrant struct {
	game    *game.Profile
	world   string            // of the library
	choices map[string]string // that a put of it needs
	// moving are names, wherever they stand, that the running game rewrites.
	moving []string
	// other is a free name for a world, seed a seed that the game takes.
	other, seed string
	// noSeed says that the game has no setting for a seed, own that it names a new
	// world by itself.
	noSeed, own bool
}

func enterQuarrymoss(b *bundle) entrant {
	b.quarry("one", plot{
		kind:   "terrace",
		folder: "winter",
		world:  quarrymoss.Options{Title: "Winter Beds", Seed: 111, Realms: []string{"caverns"}},
	})
	b.quarry("two", plot{folder: "shed", world: quarrymoss.Options{Title: "Shed", Seed: 5}})
	b.send("fen", quarrymoss.Options{
		Title:  "Fen Garden",
		Seed:   222,
		Realms: []string{"caverns", "aurora"},
		Folk:   []string{"Ada"},
	})
	return entrant{world: "fen-garden", moving: played, other: "spring", seed: "-9000000000"}
}

func enterSaltmarch(b *bundle) entrant {
	b.saltmarsh("one")
	b.saltmarsh("two")
	made := filepath.Join(b.dir, "own")
	own, err := saltmarch.Make(
		made, saltmarch.Options{
			Name:  "Sedge Landing",
			Seed:  -77,
			Host:  "Ada",
			Folk:  []string{"Bryn"},
			Rules: "9",
			Mods:  []string{"eels.smm"},
		})
	require.NoError(b.t, err)
	b.must("send", filepath.Join(made, own))
	return entrant{
		world: "sedge-landing", choices: map[string]string{"players": "keep", "overrides": "leave"},
		moving: []string{"Level.smw", "Logs"},
		other:  "0123456789ABCDEF0123456789ABCDEF", noSeed: true,
	}
}

func enterEmberlode(b *bundle) entrant {
	for _, name := range []string{"one", "two"} {
		root := filepath.Join(b.dir, "servers", name)
		require.NoError(b.t, emberlode.MakeServer(root, standin, "frostfall", true, 3, freePort(b.t), ""))
		require.NoError(b.t, emberlode.Make(filepath.Join(root, emberlode.SavesFolder), "frostfall",
			emberlode.Save{Expedition: "Frostfall " + name, Seed: 3}, 2))
		b.add(wire.NewServer{Name: name, Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	}
	made := filepath.Join(b.dir, "own")
	require.NoError(b.t, emberlode.Make(made, "kettle",
		emberlode.Save{Expedition: "Kettle Moraine", Seed: 18446744073709551615}, 3))
	b.must("send", filepath.Join(made, "kettle.001.ember"))
	return entrant{world: "kettle-moraine", other: "bog", seed: "18446744073709551610", own: true}
}

func enterMinetest(b *bundle) entrant {
	for name, seed := range map[string]string{"one": "1954", "two": "1955"} {
		root := filepath.Join(b.dir, "servers", name)
		minetestConfig(b.t, root, "shed", seed)
		b.add(wire.NewServer{
			Name:    name,
			Game:    "minetest",
			Root:    root,
			Command: minetestCommand(),
			Env:     map[string]string{"HOME": root},
		})
	}
	made := makeMinetestWorld(b.t, b.t.TempDir(), "fen garden", "4713582209")
	b.must("send", made)
	return entrant{
		world: "fen-garden",
		moving: []string{"env_meta.txt", "map.sqlite", "mod_storage.sqlite", "players.sqlite", "auth.sqlite", "cache",
			"client", "debug.txt", "force_loaded.txt", "map_meta.txt"},
		other: "spring",
		seed:  "77",
	}
}

func enterOpenTTD(b *bundle) entrant {
	made := filepath.Join(b.dir, "own")
	for name, seed := range map[string]string{"first": "4242", "second": "777"} {
		makeOpenTTDSave(b.t, filepath.Join(made, name), name, seed)
	}
	data, err := os.ReadFile(filepath.Join(made, "first", "save", "first.sav"))
	require.NoError(b.t, err)
	for _, name := range []string{"one", "two"} {
		root := filepath.Join(b.dir, "servers", name)
		require.NoError(b.t, os.MkdirAll(filepath.Join(root, "save"), 0o755))
		require.NoError(b.t, os.WriteFile(filepath.Join(root, "save", "first.sav"), data, 0o644))
		script := fmt.Sprintf("#!/bin/sh\nexec %s -D 127.0.0.1:%d -c openttd.cfg -g save/first.sav -x\n",
			openttdProgram, freePort(b.t))
		require.NoError(b.t, os.WriteFile(filepath.Join(root, "start.sh"), []byte(script), 0o755))
		b.add(wire.NewServer{
			Name:    name,
			Game:    "openttd",
			Root:    root,
			Command: []string{"sh", "start.sh"},
			Env:     map[string]string{"HOME": root},
		})
	}
	b.must("send", filepath.Join(made, "second", "save", "second.sav"))
	// The running game is saved into its file before each stop.
	return entrant{
		world: "second",
		moving: []string{"first.sav", "second.sav", "openttd.cfg", "hotkeys.cfg", "private.cfg", "secrets.cfg",
			"windows.cfg", "content_download", "autosave"},
		other: "valley",
		seed:  "99",
	}
}

// do drafts a changeover, answers what it asks, and carries it out.
func (b *bundle) do(wish wire.Wish) wire.Changeover {
	b.t.Helper()
	draft, err := b.api.Draft(context.Background(), wish)
	require.NoError(b.t, err, "%+v", wish)
	last := b.carry(draft)
	require.Equal(b.t, plan.Done, last.State, "%s: %+v %+v", wish.Kind, last.Failure, last.Proof)
	return last
}

// files hashes what stands on a server, without what Reshard keeps beside and what
// the running game rewrites.
func (b *bundle) files(server string, e entrant) map[string]string {
	b.t.Helper()
	return snapshot(b.t, filepath.Join(b.dir, "servers", server),
		append([]string{".reshard", ".reshard-console", "held.lock"}, e.moving...)...)
}

// assertBack checks that everything that was there is there again, byte for byte. A
// game may only have added files of its own.
func assertBack(t *testing.T, before, after map[string]string, what string) {
	t.Helper()
	for name, sum := range before {
		if got, there := after[name]; !assert.True(t, there, "%s: %s is gone", what, name) || got != sum {
			assert.Equal(t, sum, got, "%s: %s has changed", what, name)
		}
	}
	worlds := func(m map[string]string) (out []string) {
		for name := range m {
			if strings.HasSuffix(name, "/") && strings.Count(name, "/") == 2 { // worlds/NAME/
				out = append(out, name)
			}
		}
		slices.Sort(out)
		return out
	}
	assert.Equal(t, worlds(before), worlds(after), what)
}

// active is the name of the world that a server's settings give, and whether it runs it.
func (b *bundle) active(server string) string {
	b.t.Helper()
	s, err := b.api.Server(context.Background(), server)
	require.NoError(b.t, err)
	require.Equal(b.t, "running", s.Server.State)
	if s.Server.Opened != "" {
		assert.Contains(b.t, []string{s.Server.Active, path.Join(s.Facts.WorldsFolder, s.Server.Active)},
			s.Server.Opened)
	}
	return s.Server.Active
}

// Every kind of changeover on every game, on real processes: its outcome, its proof,
// its undo, and every byte where it was.
func TestEveryKindOnEveryGame(t *testing.T) {
	t.Parallel()
	for id, enter := range entrants {
		t.Run(id, func(t *testing.T) {
			t.Parallel()
			everyKind(t, id, enter, nil)
		})
	}
}

var entrants = map[string]func(*bundle) entrant{
	"quarrymoss": enterQuarrymoss, "saltmarch": enterSaltmarch, "emberlode": enterEmberlode,
	"minetest": enterMinetest, "openttd": enterOpenTTD,
}

// The same on another machine: in sessions there, and with files alone, over SFTP or FTP, and people
// who start and stop the servers. With RESHARD_EVERY_PLACE all games are.
func TestEveryKindOnAnotherMachine(t *testing.T) {
	t.Parallel()
	for name, place := range map[string]struct {
		begin func(b *bundle, game string)
		games []string
	}{
		"in a session": {
			func(b *bundle, _ string) { b.machine(farhost.Shape{}, 0) }, []string{"openttd"},
		},
		"files alone": {
			func(b *bundle, _ string) { b.machine(farhost.Shape{FilesOnly: true}, 0) }, nil,
		},
		"FTPS by hand": {
			func(b *bundle, _ string) { b.quay(farhost.FTPShape{TLS: account.Explicit}, 0) }, crashOnly("emberlode"),
		},
		"FTP with a provider": {func(b *bundle, game string) {
			b.quay(farhost.FTPShape{}, 0)
			b.rent(game)
		}, nil},
		"SFTP with a provider": {func(b *bundle, game string) {
			b.machine(farhost.Shape{FilesOnly: true}, 0)
			b.rent(game)
		}, nil},
		"FTP with a provider that watches": {func(b *bundle, game string) {
			b.quay(farhost.FTPShape{}, 0)
			b.rent(game)
			b.far.watches = true
		}, []string{"quarrymoss"}},
	} {
		for id, enter := range entrants {
			if os.Getenv("RESHARD_EVERY_PLACE") == "" && !slices.Contains(place.games, id) {
				continue
			}
			t.Run(name+"/"+id, func(t *testing.T) {
				t.Parallel()
				everyKind(t, id, enter, place.begin)
			})
		}
	}
}

// everyKind carries out every kind of changeover on a game, and takes each back. place begins the
// machine where its servers are; nil: the service's own.
func everyKind(t *testing.T, id string, enter func(*bundle) entrant, place func(b *bundle, game string)) {
	t.Helper()
	b := setup(t)
	if place != nil {
		place(b, id)
	}
	e := enter(b)
	byHand := b.far != nil && b.far.byHand
	e.game, _ = games.Find(id)
	first := b.active("one")
	before := b.files("one", e)
	takeBack := func(c wire.Changeover) {
		t.Helper()
		require.Equal(t, plan.Done, b.undo(c.ID).State, "undo of %s", c.Kind)
		assert.Equal(t, first, b.active("one"), "after the undo of %s", c.Kind)
		assertBack(t, before, b.files("one", e), "undo of "+c.Kind)
	}

	c := b.do(wire.Wish{Kind: plan.Put, World: e.world, Server: "one", Choices: e.choices})
	placed := b.active("one")
	assert.NotEqual(t, first, placed)
	assert.NotNil(t, c.Window)
	// The undo of an undo brings it again, and that is undone as well.
	back := b.undo(c.ID)
	again := b.undo(back.ID)
	require.Equal(t, plan.Done, again.State, again.Failure)
	assert.Equal(t, placed, b.active("one"))
	takeBack(again)

	t.Run("beside and switch", func(t *testing.T) {
		beside := b.do(wire.Wish{
			Kind:    plan.Put,
			World:   e.world,
			Server:  "one",
			Beside:  true,
			Choices: e.choices,
		})
		assert.Nil(t, beside.Window, "nobody is locked out")
		assert.Equal(t, first, b.active("one"))
		there := b.do(wire.Wish{Kind: plan.Switch, World: placed, Server: "one"})
		assert.Equal(t, placed, b.active("one"))
		if e.game.Server.Console.Load.Say != "" && !byHand {
			assert.Nil(t, there.Window, "it is loaded while the server runs")
		}
		hop := b.do(wire.Wish{
			Kind:    plan.Switch,
			World:   first,
			Server:  "one",
			Choices: map[string]string{"restart": "yes"},
		})
		assert.Equal(t, first, b.active("one"))
		assert.NotNil(t, hop.Window)
		for _, one := range []wire.Changeover{hop, there} {
			back := b.undo(one.ID)
			require.Equal(t, plan.Done, back.State, "%+v", back.Failure)
		}
		takeBack(beside)
	})

	t.Run("rename", func(t *testing.T) {
		c := b.do(wire.Wish{Kind: plan.Rename, World: e.other, Server: "one"})
		assert.Equal(t, e.other, b.active("one"))
		takeBack(c)
	})

	t.Run("reset", func(t *testing.T) {
		if byHand && (e.own || e.game.Server.NewWorld.Save.Say != "") {
			_, err := b.api.Draft(context.Background(), wire.Wish{Kind: plan.Reset, Server: "one"})
			require.ErrorIs(t, err, fault.Blocked.As(), "what it needs cannot be heard or said there")
			return
		}
		wish := wire.Wish{
			Kind:    plan.Reset,
			Server:  "one",
			Choices: map[string]string{"seed": "random"},
		}
		same := b.do(wish)
		if !e.own {
			assert.Equal(t, first, b.active("one"), "the same name")
		}
		takeBack(same)
		wish.Choices = map[string]string{"folder-name": e.other, "seed": e.seed}
		if e.noSeed {
			delete(wish.Choices, "seed")
		}
		other := b.do(wish)
		if !e.own {
			assert.Equal(t, e.other, b.active("one"))
		}
		if e.seed != "" {
			assert.Equal(t, e.seed, other.Plan.Expect.Seed)
		}
		s, err := b.api.Server(context.Background(), "one")
		require.NoError(t, err)
		names := []string{}
		for _, w := range s.Facts.Worlds {
			names = append(names, w.Folder)
		}
		assert.Contains(t, names, first, "the old world stays where it is")
		takeBack(other)
	})

	t.Run("take away and restore", func(t *testing.T) {
		taken := b.do(wire.Wish{Kind: plan.TakeAway, Server: "one"})
		require.NotEmpty(t, taken.Copy)
		assert.False(t, taken.Undoable)
		body, name, err := b.api.Archive(context.Background(), taken.Copy, "")
		require.NoError(t, err)
		data, err := io.ReadAll(body)
		require.NoError(t, err)
		require.NotEmpty(t, data)
		file := filepath.Join(b.dir, "taken-"+name)
		require.NoError(t, os.WriteFile(file, data, 0o644))
		assert.Contains(t, b.must("inspect", file), e.game.Title)
		restored := b.do(wire.Wish{
			Kind:    plan.Restore,
			World:   taken.Copy[:12],
			Server:  "one",
			Choices: goOn(e),
		})
		assert.Equal(t, first, b.active("one"))
		takeBack(restored)
	})

	t.Run("clone", func(t *testing.T) {
		into := b.files("two", e)
		was := b.active("two")
		pid, err := b.api.Server(context.Background(), "one")
		require.NoError(t, err)
		choices := goOn(e)
		choices["folder-name"] = e.other
		c := b.do(wire.Wish{Kind: plan.Clone, From: "one", Server: "two", Choices: choices})
		assert.Equal(t, e.other, b.active("two"))
		assert.Equal(t, first, b.active("one"), "the source runs")
		now, err := b.api.Server(context.Background(), "one")
		require.NoError(t, err)
		if console := e.game.Server.Console; (console.Hold.Say != "" && !byHand) || console.Quiet {
			assert.Equal(t, pid.Server.Process, now.Server.Process, "the source was not stopped")
		}
		require.Equal(t, plan.Done, b.undo(c.ID).State)
		assert.Equal(t, was, b.active("two"))
		assertBack(t, into, b.files("two", e), "undo of clone")
	})
}

// goOn answers what a world of the game's own servers asks.
func goOn(entrant) map[string]string {
	return map[string]string{"world-settings": "leave", "players": "keep", "overrides": "keep"}
}
