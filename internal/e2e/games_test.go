package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/wire"
)

// add registers a server and starts it.
func (b *bundle) add(s wire.NewServer) {
	b.t.Helper()
	_, err := b.api.AddServer(context.Background(), b.placed(s))
	require.NoError(b.t, err)
	b.sayDown(s.Name)
	_, err = b.api.StartServer(context.Background(), s.Name, wire.StartServer{NewWorld: true})
	require.NoError(b.t, err)
}

// must runs a command that has to succeed and gives what it printed, on one line.
func (b *bundle) must(args ...string) string {
	b.t.Helper()
	code, out, errs := b.cli(args...)
	// The service's own work of the day on the vault may be going on.
	for begun := time.Now(); strings.Contains(errs, "it is at work already") && time.Since(begun) < 20*time.Second; {
		time.Sleep(50 * time.Millisecond)
		code, out, errs = b.cli(args...)
	}
	require.Equal(b.t, 0, code, "%v: %s%s", args, out, errs)
	return strings.Join(strings.Fields(out), " ")
}

// saltmarsh makes and starts a server that has been started before.
func (b *bundle) saltmarsh(name string) (root, world, address string) {
	b.t.Helper()
	root = filepath.Join(b.dir, "servers", name)
	require.NoError(b.t, saltmarch.MakeServer(root, "1.3.2", "eels.smm"))
	world, err := saltmarch.Make(filepath.Join(root, saltmarch.WorldsFolder),
		saltmarch.Options{Name: "Old Quay", Seed: 5, Folk: []string{"Ffion"}, Mods: []string{"eels.smm"}})
	require.NoError(b.t, err)
	port := freePort(b.t)
	require.NoError(b.t, saltmarch.WriteSettings(root, world, port))
	b.add(wire.NewServer{
		Name:    name,
		Game:    "saltmarch",
		Root:    root,
		Command: []string{standin, "saltmarch", "serve", "."},
	})
	return root, world, fmt.Sprintf("127.0.0.1:%d", port)
}

func join(t *testing.T, address, name string) string {
	t.Helper()
	conn, err := net.DialTimeout("tcp", address, 5*time.Second)
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // the visit is over
	fmt.Fprintf(conn, "join %s %s\n", name, name)
	line, err := bufio.NewReader(conn).ReadString('\n')
	require.NoError(t, err)
	return line
}

// A game with sealed files, a log file instead of a console, a signal to stop, and
// a host whose id means nothing on a server.
func TestSaltmarch(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root, old, address := b.saltmarsh("marsh")
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
	require.NoError(t, err)
	out := b.must("inspect", filepath.Join(made, own))
	assert.Contains(t, out, "“Sedge Landing”")
	b.must("send", filepath.Join(made, own))

	code, out, _ := b.cli("fit", "sedge-landing", "marsh")
	out = strings.Join(strings.Fields(out), " ")
	assert.Equal(t, 4, code)
	assert.Contains(t, out, "Ada stands under 00000000000000000000000000000001")
	assert.Contains(t, out, "HostRules.smw decides the rules of play")
	out = b.must("put", "sedge-landing", "marsh", "--choose", "players=keep", "--choose", "overrides=leave", "--yes")
	assert.Contains(t, out, "✓ the log names the opened world: "+own)
	assert.Contains(t, out, "✓ player records are there: 2")
	assert.NoFileExists(t, filepath.Join(root, saltmarch.WorldsFolder, own, "HostRules.smw"))
	assert.Contains(t, join(t, address, "Bryn"), "welcome back")
	assert.Contains(t, join(t, address, "Ada"), "stranger", "the host's record means nothing here")
	b.must("undo", "1", "--yes")
	assert.DirExists(t, filepath.Join(root, saltmarch.WorldsFolder, old))
	assert.NoDirExists(t, filepath.Join(root, saltmarch.WorldsFolder, own))

	// All records left behind, in a world that a person has damaged since: its
	// title does not read, and the server refuses it.
	code, _, _ = b.cli("put", "sedge-landing", "marsh", "--choose", "players=strip", "--choose", "overrides=keep",
		"--yes")
	assert.Equal(t, 0, code)
	left, err := os.ReadDir(filepath.Join(root, saltmarch.WorldsFolder, own, "Folk"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestSaltmarchNeverStarted(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "fresh")
	require.NoError(t, saltmarch.MakeServer(root, "1.3.2"))
	_, err := b.api.AddServer(context.Background(),
		wire.NewServer{
			Name:    "fresh",
			Game:    "saltmarch",
			Root:    root,
			Command: []string{standin, "saltmarch", "serve", "."},
		})
	require.NoError(t, err)
	made := filepath.Join(b.dir, "own")
	own, err := saltmarch.Make(made, saltmarch.Options{Name: "Sedge", Seed: 1})
	require.NoError(t, err)
	b.must("send", filepath.Join(made, own))
	code, out, _ := b.cli("fit", "sedge", "fresh")
	assert.Equal(t, 4, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "has never been started")
	out = b.must("put", "sedge", "fresh", "--choose", "first-start=make", "--yes")
	assert.Contains(t, out, "✓ Saved/Worlds/0/: there")
	assert.Contains(t, out, "The first start is made. Now what you wanted")
	assert.Contains(t, out, "✓ the log names the opened world: "+own)
	list, err := b.api.Changeovers(context.Background(), wire.ChangeoverQuery{Server: "fresh"})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"put", "first-start"}, []string{list[0].Kind, list[1].Kind})
	assert.True(t, list[0].Undoable)
	assert.False(t, list[1].Undoable, list[1].WhyNot)
}

// A file that is called as those of a session and begins otherwise is no part of it: whoever sends the session, backs
// it up or looks at the copy is told.
func TestASessionTellsWhatItLeavesBehind(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	require.NoError(t, emberlode.MakeServer(root, standin, "frostfall", true, 3, freePort(t), ""))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	made := filepath.Join(b.dir, "own")
	odd := func(dir, name string, bytes int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), make([]byte, bytes), 0o644))
	}
	for _, name := range []string{"Kettle", "Bog"} {
		require.NoError(t, emberlode.Make(made, name, emberlode.Save{Expedition: name}, 2))
		odd(made, name+".007.ember", 0)
		odd(made, name+".009.ember", 1_000_000)
	}
	packed := filepath.Join(b.dir, "bog.tar")
	require.NoError(t, exec.Command("tar", "-C", made, "-cf", packed, "Bog.001.ember", "Bog.002.ember",
		"Bog.009.ember").Run())
	for from, left := range map[string]string{
		filepath.Join(made, "Kettle.002.ember"): "Kettle.007.ember, Kettle.009.ember", packed: "Bog.009.ember",
	} {
		assert.Contains(t, b.must("send", from), "left behind: "+left)
		name := strings.ToLower(left[:strings.Index(left, ".")])
		assert.Contains(t, b.must("worlds", "show", name), "left behind: "+left)
		w, err := b.api.World(context.Background(), name)
		require.NoError(t, err)
		assert.EqualValues(t, 2, w.Copies[0].Files)
		assert.Less(t, w.Copies[0].Bytes, int64(10_000))
	}
	saves := filepath.Join(root, emberlode.SavesFolder)
	require.NoError(t, emberlode.Make(saves, "frostfall", emberlode.Save{Expedition: "Frostfall"}, 2))
	odd(saves, "frostfall.009.ember", 3)
	out := strings.Join(strings.Fields(b.must("backup", "camp")), " ")
	assert.Contains(t, out, "! Called as its files and beginning otherwise, so left behind: frostfall.009.ember. Whole")
}

// A game whose worlds are sessions of files, with a flag beside the name and
// launch arguments that beat the settings and move the folder.
func TestEmberlode(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	port := freePort(t)
	require.NoError(t, emberlode.MakeServer(root, standin, "frostfall", true, 3, port,
		"--saves elsewhere --load frostfall"))
	require.NoError(t, emberlode.Make(filepath.Join(root, "elsewhere"), "frostfall",
		emberlode.Save{Expedition: "Frostfall", Seed: 3}, 2))
	require.NoError(t, os.MkdirAll(filepath.Join(root, emberlode.SavesFolder), 0o755))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	made := filepath.Join(b.dir, "own", "u-17")
	require.NoError(t, emberlode.Make(made, "Kettle",
		emberlode.Save{
			Expedition: "Kettle Moraine",
			Seed:       18446744073709551615,
			Party:      []emberlode.Member{{ID: 1001, Name: "Ada"}},
		}, 3))
	require.NoError(t, emberlode.Make(made, "Other", emberlode.Save{Expedition: "Other"}, 1))
	out := b.must("inspect", filepath.Join(made, "Kettle.002.ember"))
	assert.Contains(t, out, "Kettle.001.ember, Kettle.002.ember, Kettle.003.ember")
	b.must("send", filepath.Join(made, "Kettle.003.ember"))

	// Somebody turned the flag off and named another in the file that does not count.
	config := filepath.Join(root, "server.json")
	data, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(
		config, []byte(strings.NewReplacer("true", "false", "frostfall", "bog").Replace(string(data))), 0o644))
	code, out, _ := b.cli("fit", "camp")
	assert.Equal(t, 4, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "),
		"launch.sh line 3, --load (“frostfall”) beats server.json line 3, /load (“bog”)")

	out = b.must("put", "kettle-moraine", "camp", "--folder", "kettle-2", "--yes")
	assert.Contains(t, out, "✓ the log names the opened world: kettle-2")
	assert.Contains(t, out, "✓ the console answers seed: 18446744073709551615")
	for _, name := range []string{"kettle-2.001.ember", "kettle-2.002.ember", "kettle-2.003.ember"} {
		assert.FileExists(t, filepath.Join(root, "elsewhere", name))
	}
	data, err = os.ReadFile(config)
	require.NoError(t, err)
	assert.Contains(t, string(data), `"load": "kettle-2"`, "the hidden source says the same now")
	script, err := os.ReadFile(filepath.Join(root, "launch.sh"))
	require.NoError(t, err)
	assert.Contains(t, string(script), "--saves elsewhere --load kettle-2\n")
	b.must("undo", "1", "--yes")
	assert.FileExists(t, filepath.Join(root, "elsewhere", "frostfall.001.ember"))
	assert.NoFileExists(t, filepath.Join(root, "elsewhere", "kettle-2.001.ember"))
	after, err := os.ReadFile(config)
	require.NoError(t, err)
	assert.Contains(t, string(after), `"load": "bog"`)
}

// A flag that is off is seen, and written: otherwise the server begins afresh.
func TestEmberlodeFlag(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "camp")
	require.NoError(t, emberlode.MakeServer(root, standin, "", false, 9, freePort(t), ""))
	b.add(wire.NewServer{Name: "camp", Game: "emberlode", Root: root, Command: []string{"sh", "launch.sh"}})
	made := filepath.Join(b.dir, "own")
	require.NoError(t, emberlode.Make(made, "kettle", emberlode.Save{Expedition: "Kettle Moraine", Seed: 4}, 1))
	b.must("send", filepath.Join(made, "kettle.001.ember"))
	out := b.must("put", "kettle-moraine", "camp", "--yes")
	assert.Contains(t, out, "/load=kettle and /resume=true and /seed=4 into server.json")
	assert.Contains(t, b.must("servers", "show", "camp"), "kettle")
}

const openttdProgram = "/usr/games/openttd"

// The real openttd: a save file, named by nothing but a launch argument. A damaged
// one makes the real server begin a random game without an error; the proof sees
// that.
func TestOpenTTD(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat(openttdProgram); err != nil {
		t.Fatal("install openttd and openttd-opengfx: scripts/setup.sh test does it")
	}
	b := setup(t)
	root := filepath.Join(b.dir, "servers", "trains")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "save"), 0o755))
	made := filepath.Join(b.dir, "own")
	for name, seed := range map[string]string{"first": "4242", "second": "777"} {
		makeOpenTTDSave(t, filepath.Join(made, name), name, seed)
	}
	data, err := os.ReadFile(filepath.Join(made, "first", "save", "first.sav"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "save", "first.sav"), data, 0o644))
	script := fmt.Sprintf("#!/bin/sh\nexec %s -D 127.0.0.1:%d -c openttd.cfg -g save/first.sav -x\n", openttdProgram,
		freePort(t))
	require.NoError(t, os.WriteFile(filepath.Join(root, "start.sh"), []byte(script), 0o755))
	b.add(wire.NewServer{Name: "trains", Game: "openttd", Root: root, Command: []string{"sh", "start.sh"}})

	// Every stop saves before: the game itself would lose what was played.
	save := filepath.Join(root, "save", "first.sav")
	long := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(save, long, long))
	b.must("servers", "stop", "trains")
	saved, err := os.Stat(save)
	require.NoError(t, err)
	assert.Less(t, time.Since(saved.ModTime()), time.Minute, "it is saved")
	b.must("servers", "start", "trains")

	out := b.must("inspect", filepath.Join(made, "second", "save", "second.sav"))
	assert.Contains(t, out, "version 302")
	b.must("send", filepath.Join(made, "second", "save", "second.sav"))
	out = b.must("put", "second", "trains", "--yes")
	assert.Contains(t, out, "✓ the log holds no refusal")
	assert.Contains(t, out, "✓ files stand as they were placed")
	after, err := os.ReadFile(filepath.Join(root, "start.sh"))
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(script, "first.sav", "second.sav", 1), string(after))
	b.must("undo", "1", "--yes")

	half := filepath.Join(b.dir, "half.sav")
	data, err = os.ReadFile(filepath.Join(made, "second", "save", "second.sav"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(half, data[:len(data)/2], 0o644))
	b.must("send", half)
	code, out, _ := b.cli("put", "half", "trains", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "Game Load Failed")
	back, err := os.ReadFile(filepath.Join(root, "start.sh"))
	require.NoError(t, err)
	assert.Equal(t, script, string(back))
}

// makeOpenTTDSave has the real server generate a map and save it.
func makeOpenTTDSave(t *testing.T, dir, name, seed string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, openttdProgram, "-D", fmt.Sprintf("127.0.0.1:%d", freePort(t)), "-c",
		filepath.Join(dir, "openttd.cfg"), "-G", seed, "-x")
	cmd.Env = append(os.Environ(), "HOME="+dir)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	output, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(t, cmd.Start())
	for lines := bufio.NewScanner(output); lines.Scan(); {
		switch {
		case strings.Contains(lines.Text(), "Listening on"):
			fmt.Fprintln(in, "save "+name)
		case strings.Contains(lines.Text(), "successfully saved"):
			fmt.Fprintln(in, "quit")
		}
	}
	require.NoError(t, cmd.Wait())
}

// A profile is saved, versioned, refused where it would replace a shipped one
// without a word, and taken back.
func TestProfilesAreSavedAndWithdrawn(t *testing.T) {
	t.Parallel()
	b := setup(t)
	source := b.must("games", "show", "saltmarch")
	require.Contains(t, source, "id: saltmarch")
	shipped := profileSource(t, "saltmarch")
	file := filepath.Join(b.dir, "p.yaml")
	write := func(text string) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	write(shipped)
	code, _, errs := b.cli("games", "add", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "--override")
	write(strings.Replace(shipped, "id: saltmarch", "id: my-marsh", 1))
	assert.Contains(t, b.must("games", "add", file), "version 1")
	write(strings.Replace(strings.Replace(shipped, "id: saltmarch", "id: my-marsh", 1), "title: Saltmarch",
		"title: My Marsh", 1))
	assert.Contains(t, b.must("games", "add", file), "My Marsh (my-marsh) is known to the service now, version 2")
	assert.Contains(t, b.must("games", "history", "my-marsh"), "2")

	// A server of the game, open while its profile changes, is read with the new one.
	root := filepath.Join(b.dir, "servers", "m")
	require.NoError(t, saltmarch.MakeServer(root, "1.3.2"))
	b.add(wire.NewServer{
		Name:    "m",
		Game:    "my-marsh",
		Root:    root,
		Command: []string{standin, "saltmarch", "serve", "."},
	})
	code, _, errs = b.cli("games", "remove", "my-marsh")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "the server m is of this game")
	write(strings.Replace(strings.Replace(shipped, "id: saltmarch", "id: my-marsh", 1), "    marsh: {}",
		"    other: {}", 1))
	code, _, errs = b.cli("games", "add", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is of the kind marsh")
	write(strings.Replace(strings.Replace(shipped, "id: saltmarch", "id: my-marsh", 1), "marsh.json", "none.json", 1))
	b.must("games", "add", file)
	got, err := b.api.Server(context.Background(), "m")
	require.NoError(t, err)
	assert.Equal(t, "running", got.Server.State, "its process is found again")
	assert.Contains(t, got.Facts.Version.Why, "none.json")
	b.must("servers", "stop", "m")
	b.must("servers", "remove", "m")
	b.must("games", "remove", "my-marsh")
	assert.NotContains(t, b.must("games"), "my-marsh")

	write("reshard: game/1\nid: x\n")
	code, _, errs = b.cli("games", "add", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "line")
	write(strings.Replace(shipped, "title: Saltmarch", "title: Our Marsh", 1))
	assert.Contains(t, b.must("games", "add", file, "--override"), "over the shipped one")
	b.end()
	b.start()
	assert.Contains(t, b.must("games"), "Our Marsh", "it is there after a restart")
	b.must("games", "remove", "saltmarch")
	assert.NotContains(t, b.must("games"), "Our Marsh")
}

func profileSource(t *testing.T, id string) string {
	t.Helper()
	source, err := games.Source(id)
	require.NoError(t, err)
	return string(source)
}

// raw sends a request as a signed-in client and gives status and body.
func (b *bundle) raw(method, path, body string) (int, string) {
	b.t.Helper()
	token, err := b.api.SignIn(context.Background(), userName, password, "raw")
	require.NoError(b.t, err)
	res := ask(b.t, b, method, path, "Bearer "+token.Secret, body)
	data, err := io.ReadAll(res.Body)
	require.NoError(b.t, err)
	return res.StatusCode, string(data)
}

// The calls that the console's editor uses, as any client may.
func TestProfilesThroughTheAPI(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	post := func(path string, body any) (int, string) {
		data, err := json.Marshal(body)
		require.NoError(t, err)
		return b.raw(http.MethodPost, path, string(data))
	}
	code, out := post("/api/v1/games/lint", map[string]string{"profile": "reshard: game/1\nid: X\n"})
	assert.Equal(t, 200, code)
	assert.Contains(t, out, `"line":2`)
	source := profileSource(t, "quarrymoss")
	code, out = post("/api/v1/games/try", map[string]string{
		"profile": source,
		"world":   filepath.Join(root, "worlds", "winter"),
		"server":  root,
		"kind":    "plain",
	})
	assert.Equal(t, 200, code, out)
	assert.Contains(t, out, `"how":"gzip, cbor"`)
	assert.Contains(t, out, `"active":"winter"`)
	code, out = post("/api/v1/games/try", map[string]string{"profile": source, "world": "relative/path"})
	assert.Equal(t, 422, code)
	assert.Contains(t, out, "whole path")
	code, out = post("/api/v1/games/try", map[string]string{"profile": source, "server": root})
	assert.Equal(t, 422, code)
	assert.Contains(t, out, "the kinds mossling, plain, terrace")
	code, out = post("/api/v1/games/try", map[string]string{"profile": "nonsense", "server": root})
	assert.GreaterOrEqual(t, code, 400)
	assert.Contains(t, out, "bad-profile")
	code, out = post("/api/v1/games/sketch", map[string]string{
		"world":  filepath.Join(root, "worlds", "winter"),
		"server": root,
		"id":     "moss",
	})
	assert.Equal(t, 200, code)
	assert.Contains(t, out, "id: moss")
	code, out = b.raw(http.MethodGet, "/api/v1/games/schema", "")
	assert.Equal(t, 200, code)
	assert.Contains(t, out, "json-schema.org")
	code, out = b.raw(http.MethodDelete, "/api/v1/games/quarrymoss", "")
	assert.Equal(t, 404, code)
	assert.Contains(t, out, "has been uploaded")
}
