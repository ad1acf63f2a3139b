// Package bench measures whole operations of a running service against plain
// tools, in one run, and reports ratios: make bench. docs/operations.md tells
// how to read the figures. Nothing here is a test with a limit: a busy machine
// must not fail anybody's change.
package bench

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/archive"
	"reshard/internal/client"
	"reshard/internal/core/plan"
	"reshard/internal/pgserver"
	"reshard/internal/testdir"
	"reshard/internal/wire"
)

// bundle is a service in a process of its own, so that its memory can be read.
type bundle struct {
	b    *testing.B
	dir  string
	api  *client.Client
	cmd  *exec.Cmd
	tool string // the stand-in game
}

func setup(b *testing.B, settings ...string) *bundle {
	b.Helper()
	return start(b, func(string, string) {}, settings...)
}

// start starts a service on a database that before has filled; settings are the database's.
func start(b *testing.B, before func(dir, database string), settings ...string) *bundle {
	b.Helper()
	dir, err := testdir.New("reshard-bench-")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx := context.Background()
	pg, err := pgserver.Start(ctx, filepath.Join(dir, "postgres"), settings...)
	require.NoError(b, err)
	b.Cleanup(func() { _ = pg.Stop() })
	database, err := pg.Database(ctx, "bench")
	require.NoError(b, err)
	bin, err := programs()
	require.NoError(b, err)
	before(dir, database)
	s := &bundle{b: b, dir: dir, tool: filepath.Join(bin, "standin")}
	s.cmd = exec.Command(filepath.Join(bin, "reshard"), "serve", "--data", filepath.Join(dir, "data"), "--database",
		database, "--listen", "127.0.0.1:0")
	pipe, err := s.cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, s.cmd.Start())
	lines := bufio.NewScanner(pipe)
	require.True(b, lines.Scan())
	address := strings.TrimPrefix(lines.Text(), "Reshard listens on ")
	go func() {
		for lines.Scan() { // keep the pipe empty
		}
	}()
	first, err := os.ReadFile(filepath.Join(dir, "data", "first-sign-in.txt"))
	require.NoError(b, err)
	password := regexp.MustCompile(`password\s+(\S+)`).FindStringSubmatch(string(first))[1]
	api, err := client.New(address, "")
	require.NoError(b, err)
	token, err := api.SignIn(ctx, "admin", password, "bench")
	require.NoError(b, err)
	s.api, err = client.New(address, token.Secret)
	require.NoError(b, err)
	b.Cleanup(s.end)
	return s
}

func (s *bundle) end() {
	list, err := s.api.Servers(context.Background(), wire.ServerQuery{})
	if err == nil {
		for _, v := range list {
			_, _ = s.api.StopServer(context.Background(), v.Name, wire.StopServer{})
		}
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
}

// peakMemory is the service's greatest resident size so far, in MB.
func (s *bundle) peakMemory() float64 { return peakMemory(s.b, s.cmd.Process.Pid) }

func peakMemory(b *testing.B, pid int) float64 {
	b.Helper()
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err)
	kb, err := strconv.ParseFloat(regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(data))[1], 64)
	require.NoError(b, err)
	return kb / 1024
}

func (s *bundle) server(name, folder string) string {
	s.b.Helper()
	root := filepath.Join(s.dir, "servers", name)
	require.NoError(s.b, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, folder, 1, 0))
	require.NoError(s.b, quarrymoss.Make(filepath.Join(root, "worlds", folder),
		quarrymoss.Options{Title: folder, Seed: 1}))
	ctx := context.Background()
	_, err := s.api.AddServer(ctx, wire.NewServer{
		Name:    name,
		Game:    "quarrymoss",
		Kind:    "plain",
		Root:    root,
		Command: []string{s.tool, "quarrymoss", "serve", "."},
	})
	require.NoError(s.b, err)
	_, err = s.api.StartServer(ctx, name, wire.StartServer{})
	require.NoError(s.b, err)
	return root
}

// send packs a made world and sends it, as the command line does.
func (s *bundle) send(dir, folder string) wire.Copy {
	s.b.Helper()
	zip := filepath.Join(dir, folder+".zip")
	packDir(s.b, dir, folder, zip)
	f, err := os.Open(zip)
	require.NoError(s.b, err)
	defer f.Close() //nolint:errcheck // only read
	arrival, err := s.api.Send(context.Background(), folder+".zip", "", f, -1)
	require.NoError(s.b, err)
	require.NoError(s.b, os.Remove(zip))
	return arrival.Copy
}

func packDir(b *testing.B, dir, folder, zip string) {
	b.Helper()
	var items []archive.Item
	require.NoError(b, filepath.WalkDir(filepath.Join(dir, folder), func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		rel, _ := filepath.Rel(dir, p)
		items = append(items, archive.Item{
			Name:     rel,
			Open:     archive.From(os.DirFS(dir), rel),
			Size:     info.Size(),
			Modified: info.ModTime(),
		})
		return err
	}))
	out, err := os.Create(zip)
	require.NoError(b, err)
	require.NoError(b, archive.WriteZip(out, items, nil))
	require.NoError(b, out.Close())
}

func (s *bundle) do(wish wire.Wish) wire.Changeover {
	s.b.Helper()
	ctx := context.Background()
	draft, err := s.api.Draft(ctx, wish)
	require.NoError(s.b, err)
	_, err = s.api.Act(ctx, draft.ID, "start")
	require.NoError(s.b, err)
	last, err := s.api.Watch(ctx, draft.ID, func(c wire.Changeover) {
		if os.Getenv("BENCH_TALKS") != "" {
			s.b.Logf("%s %s %+v", time.Now().Format(time.TimeOnly), c.State, c.Progress)
		}
	})
	require.NoError(s.b, err)
	require.Equal(s.b, plan.Done, last.State, last.Failure)
	for _, step := range last.Steps {
		s.b.Log(step.Kind, step.TookMS, "ms", step.Note)
	}
	return last
}

func median(v []float64) float64 {
	slices.Sort(v)
	return v[len(v)/2]
}

// BenchmarkStopWindow measures how long players are locked out beside the game's own
// stopping and starting, in the kinds of changeover that move a world, and the copy
// that stop-copy-start by hand does with cp -a in the same place.
func BenchmarkStopWindow(b *testing.B) {
	for _, world := range []struct {
		name  string
		tiles int
	}{{"16MB", 16}, {"256MB", 256}, {"2GB", 2048}} {
		if tiny && world.tiles > 16 {
			continue
		}
		b.Run(world.name, func(b *testing.B) {
			s := setup(b)
			root := s.server("north", "winter")
			other := s.server("south", "south")
			dir := filepath.Join(s.dir, "made")
			require.NoError(b, os.Mkdir(dir, 0o755))
			require.NoError(b, quarrymoss.Make(filepath.Join(dir, "fen"),
				quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: world.tiles, TileBytes: size(1<<20, 1<<10)}))
			stored := s.send(dir, "fen")
			ours := map[string][]float64{}
			var cp []float64
			took := func(kind string, c wire.Changeover) wire.Changeover {
				ours[kind] = append(ours[kind], float64(c.Window.OursMS))
				return c
			}
			undo := func(c wire.Changeover) {
				took("undo", s.do(wire.Wish{Kind: plan.Undo, Undoes: c.ID}))
			}
			// The disk that the benchmark leaves behind is not what is measured.
			clear := func() {
				require.NoError(b, os.RemoveAll(filepath.Join(root, ".reshard")))
				require.NoError(b, os.RemoveAll(filepath.Join(other, ".reshard")))
			}
			for b.Loop() {
				for range rounds {
					put := took("put", s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north"}))
					undo(took("clone", s.do(wire.Wish{
						Kind:    plan.Clone,
						From:    "north",
						Server:  "south",
						Choices: map[string]string{"folder-name": "copy", "world-settings": "leave"},
					})))
					undo(put)
					clear()
					undo(took("restore", s.do(wire.Wish{
						Kind:    plan.Restore,
						World:   stored.ID,
						Server:  "north",
						Choices: map[string]string{"folder-name": "winter"},
					})))
					clear()
					beside := s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "north", Beside: true})
					there := took("switch", s.do(wire.Wish{Kind: plan.Switch, World: "fen", Server: "north"}))
					undo(there)
					s.do(wire.Wish{Kind: plan.Undo, Undoes: beside.ID})
					clear()
				}
				for range rounds {
					to := filepath.Join(root, "worlds", "copied")
					begun := time.Now()
					out, err := exec.Command("cp", "-a", filepath.Join(dir, "fen"), to).CombinedOutput()
					require.NoError(b, err, string(out))
					cp = append(cp, float64(time.Since(begun).Milliseconds()))
					require.NoError(b, os.RemoveAll(to))
				}
			}
			worst := 0.0
			for kind, all := range ours {
				b.ReportMetric(median(all), kind+"-ms")
				worst = max(worst, slices.Max(all))
			}
			b.ReportMetric(worst, "worst-ms")
			b.ReportMetric(median(cp), "cp-ms")
			b.ReportMetric(s.peakMemory(), "service-MB")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// arrivalWorld makes a world of 130 large and 2,000 small files, 1 GB in all,
// whose content packs to about two thirds, as real worlds that are not packed
// yet do.
func arrivalWorld(b *testing.B, dir string) {
	b.Helper()
	require.NoError(b, quarrymoss.Make(filepath.Join(dir, "fen"), quarrymoss.Options{Title: "Fen", Seed: 3, Tiles: 1}))
	random := rand.NewChaCha8([32]byte{7})
	fill := func(name string, size int) {
		data := make([]byte, size)
		for at := 0; at < size; at += 4096 {
			end := min(size, at+4096)
			_, _ = random.Read(data[at : at+(end-at)*5/8]) // the rest stays zero
		}
		require.NoError(b, os.WriteFile(filepath.Join(dir, "fen", "ground", name), data, 0o644))
	}
	for i := range size(130, 2) {
		fill(fmt.Sprintf("large.%d.qt", i), size(7_600_000, 76_000))
	}
	for i := range size(2000, 20) {
		fill(fmt.Sprintf("small.%d.qt", i), 12_000)
	}
}

// BenchmarkArrival1GB compares an arriving archive, received, checked,
// recognised, stored and synced, with unzip and sync of the same file.
func BenchmarkArrival1GB(b *testing.B) {
	s := setup(b)
	dir := filepath.Join(s.dir, "made")
	require.NoError(b, os.Mkdir(dir, 0o755))
	arrivalWorld(b, dir)
	zip := filepath.Join(s.dir, "fen.zip")
	packDir(b, dir, "fen", zip)
	var ratios, ours, theirs []float64
	for b.Loop() {
		for i := range rounds {
			out := filepath.Join(s.dir, "unzipped")
			begun := time.Now()
			said, err := exec.Command("sh", "-c", `unzip -q "$0" -d "$1" && sync -f "$1"`, zip, out).CombinedOutput()
			require.NoError(b, err, string(said))
			t := time.Since(begun).Seconds()
			require.NoError(b, os.RemoveAll(out))

			// A vault of its own each time: content that is there already would
			// cost nothing.
			fresh := s
			if i > 0 {
				fresh = setup(b)
			}
			f, err := os.Open(zip)
			require.NoError(b, err)
			begun = time.Now()
			_, err = fresh.api.Send(context.Background(), "fen.zip", "", f, -1)
			require.NoError(b, err)
			o := time.Since(begun).Seconds()
			require.NoError(b, f.Close())
			ours, theirs, ratios = append(ours, o), append(theirs, t), append(ratios, o/t)
		}
	}
	b.ReportMetric(median(ours), "ours-s")
	b.ReportMetric(median(theirs), "unzip-s")
	b.ReportMetric(median(ratios), "ratio")
	b.ReportMetric(s.peakMemory(), "service-MB")
	b.ReportMetric(0, "ns/op")
}
