package main

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/internal/core/server"
	"reshard/internal/wire"
)

// demoData writes the servers and sample worlds of the made-up Tollen Valley
// Allotment Society, whose members keep winter gardens in a game, below dir, and
// prints what there is.
func demoData(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	// An earlier try may have been cut short.
	for _, sub := range []string{"servers", "samples", "making"} {
		if err := os.RemoveAll(filepath.Join(dir, sub)); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}
	var out struct {
		Servers []wire.NewServer `json:"servers"`
		Send    []string         `json:"send"`
	}
	mods := []quarrymoss.Mod{{Name: "marrow-scales", Version: "1.2.0"}, {Name: "rain-butts", Version: "0.9.1"}}
	for _, s := range []struct {
		name, kind string
		world      quarrymoss.Options
		folder     string
	}{
		{
			"north-plot",
			"plain",
			quarrymoss.Options{
				Title:  "Winter Beds",
				Seed:   20251101,
				Mods:   mods,
				Tiles:  64,
				Folk:   []string{"Ada", "Bryn", "Carys"},
				Realms: []string{"caverns"},
			},
			"winter-beds",
		},
		{
			"terraces",
			"terrace",
			quarrymoss.Options{
				Title:  "Top Terrace",
				Seed:   -884422,
				Mods:   mods,
				Tiles:  36,
				Folk:   []string{"Dilys"},
				Realms: []string{"caverns", "aurora"},
				Split:  true,
			},
			"top-terrace",
		},
	} {
		root := filepath.Join(dir, "servers", s.name)
		port, err := freePort()
		if err != nil {
			return err
		}
		if err := quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: s.kind, Mods: mods}, s.folder,
			s.world.Seed, port); err != nil {
			return err
		}
		if err := quarrymoss.Make(filepath.Join(root, "worlds", s.folder), s.world); err != nil {
			return err
		}
		out.Servers = append(out.Servers, wire.NewServer{
			Name:    s.name,
			Game:    "quarrymoss",
			Kind:    s.kind,
			Root:    root,
			Command: []string{self, "quarrymoss", "serve", "."},
		})
	}
	if program, err := exec.LookPath("/usr/games/minetestserver"); err == nil {
		shed, err := minetestServer(filepath.Join(dir, "servers", "shed"), program)
		if err != nil {
			return err
		}
		out.Servers = append(out.Servers, shed)
	}
	others, err := otherServers(dir, self)
	if err != nil {
		return err
	}
	out.Servers = append(out.Servers, others...)
	elsewhere, err := moorServers(dir, self, mods)
	if err != nil {
		return err
	}
	out.Servers = append(out.Servers, elsewhere...)
	if out.Send, err = samples(dir, mods); err != nil {
		return err
	}
	more, err := otherSamples(filepath.Join(dir, "samples"))
	if err != nil {
		return err
	}
	out.Send = append(out.Send, more...)
	if err := errors.Join(os.RemoveAll(filepath.Join(dir, "making")),
		playedBefore(filepath.Join(dir, "samples"), 40*time.Hour)); err != nil {
		return err
	}
	return json.NewEncoder(os.Stdout).Encode(out)
}

// moorServers writes the servers of the Society's other machines: one in a session, and in rented
// accounts one that gives files over SFTP and no more, and one that gives them over FTP.
func moorServers(dir, self string, mods []quarrymoss.Mod) ([]wire.NewServer, error) {
	var out []wire.NewServer
	// Sessions belong to an account, and several demos may run.
	session := fmt.Sprintf("fen-plot-%08x", crc32.ChecksumIEEE([]byte(dir)))
	for _, s := range []wire.NewServer{
		{Name: "fen-plot", Host: "moor", Control: server.Means{Session: session}},
		{Name: "sedge-plot", Host: "moor-files", Control: server.Means{By: server.ByHand}},
		{Name: rentedServer, Host: "quay", Control: server.Means{Machine: rentedPlot}},
		{Name: spareServer}, // another rented one, of which Reshard has not been told
	} {
		root := filepath.Join(dir, "moor", s.Name)
		if err := os.RemoveAll(root); err != nil {
			return nil, err
		}
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		world := quarrymoss.Options{Title: "Alder Carr", Seed: 4096, Tiles: 36, Folk: []string{"Carys"}}
		switch s.Host {
		case "":
			world = quarrymoss.Options{Title: "Osier Holt", Seed: 2718, Tiles: 25, Folk: []string{"Gwen"}}
		case "quay":
			world = quarrymoss.Options{Title: "Withy Bed", Seed: -52, Tiles: 49, Folk: []string{"Bryn", "Ffion"}}
		case "moor-files":
			world = quarrymoss.Options{Title: "Reed Beds", Seed: 777, Tiles: 25, Folk: []string{"Dilys", "Emrys"}}
		}
		folder := strings.ReplaceAll(strings.ToLower(world.Title), " ", "-")
		if err := quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain", Mods: mods}, folder,
			world.Seed,
			port); err != nil {
			return nil, err
		}
		if err := quarrymoss.Make(filepath.Join(root, "worlds", folder), world); err != nil {
			return nil, err
		}
		if s.Host == "" {
			continue
		}
		s.Game, s.Kind, s.Root = "quarrymoss", "plain", root
		s.Command = []string{self, "quarrymoss", "serve", "."}
		out = append(out, s)
	}
	return out, nil
}

// playedBefore dates the files below a folder back: a world that has just been written
// looks as if its game were running.
func playedBefore(dir string, ago time.Duration) error {
	at := time.Now().Add(-ago)
	return filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		return errors.Join(err, os.Chtimes(p, at, at))
	})
}

// otherServers writes a server of each of the other made-up games.
func otherServers(dir, self string) ([]wire.NewServer, error) {
	marsh, camp := filepath.Join(dir, "servers", "low-marsh"), filepath.Join(dir, "servers", "ridge-camp")
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	if err := saltmarch.MakeServer(marsh, "1.3.2", "eels.smm"); err != nil {
		return nil, err
	}
	world, err := saltmarch.Make(filepath.Join(marsh, saltmarch.WorldsFolder),
		saltmarch.Options{Name: "Old Quay", Seed: 1907, Folk: []string{"Ffion", "Gwen"}, Mods: []string{"eels.smm"}})
	if err != nil {
		return nil, err
	}
	if err := saltmarch.WriteSettings(marsh, world, port); err != nil {
		return nil, err
	}
	if port, err = freePort(); err != nil {
		return nil, err
	}
	if err := emberlode.MakeServer(camp, self, "frostfall", true, 77, port, "--load frostfall"); err != nil {
		return nil, err
	}
	party := []emberlode.Member{{ID: 1004, Name: "Dilys", Gear: "lantern"}, {ID: 1009, Name: "Emrys", Gear: "rope"}}
	if err := emberlode.Make(filepath.Join(camp, emberlode.SavesFolder), "frostfall",
		emberlode.Save{Expedition: "Frostfall", Seed: 77, Party: party}, 4); err != nil {
		return nil, err
	}
	return []wire.NewServer{
		{
			Name:    "low-marsh",
			Game:    "saltmarch",
			Kind:    "marsh",
			Root:    marsh,
			Command: []string{self, "saltmarch", "serve", "."},
		},
		{Name: "ridge-camp", Game: "emberlode", Kind: "camp", Root: camp, Command: []string{"sh", "launch.sh"}},
	}, nil
}

// otherSamples writes worlds of these games as members keep them at home, and gives
// their paths.
func otherSamples(dir string) ([]string, error) {
	home := filepath.Join(dir, "home of Ada")
	own, err := saltmarch.Make(filepath.Join(home, "Saltmarch", "u-3001"), saltmarch.Options{
		Name: "Sedge Landing", Seed: -77, Host: "Ada", Folk: []string{"Bryn"}, Rules: "9", Mods: []string{"eels.smm"},
	})
	if err != nil {
		return nil, err
	}
	saves := filepath.Join(home, "Emberlode", "u-3001")
	party := []emberlode.Member{{ID: 3001, Name: "Ada", Gear: "map"}}
	if err := emberlode.Make(saves, "Kettle-Moraine",
		emberlode.Save{Expedition: "Kettle Moraine", Seed: 18446744073709551615, Party: party}, 3); err != nil {
		return nil, err
	}
	return []string{
		filepath.Join(home, "Saltmarch", "u-3001", own),
		filepath.Join(saves, "Kettle-Moraine.003.ember"),
	}, nil
}

func minetestServer(root, program string) (wire.NewServer, error) {
	if err := os.MkdirAll(filepath.Join(root, "worlds"), 0o755); err != nil {
		return wire.NewServer{}, err
	}
	port, err := freePort()
	if err != nil {
		return wire.NewServer{}, err
	}
	text := fmt.Sprintf("# Minetest in the shed\nmap-dir = worlds/shed\nfixed_map_seed = 1954\nport = "+
		"%d\nbind_address = 127.0.0.1\nserver_announce = false\n", port)
	return wire.NewServer{
		Name: "shed", Game: "minetest", Kind: "minetest", Root: root,
		Command: []string{program, "--config", "minetest.conf", "--gameid", "minetest", "--logfile", "", "--color",
			"never"},
	}, os.WriteFile(filepath.Join(root, "minetest.conf"), []byte(text), 0o644)
}

// samples writes archives as members would send them, and gives those that the
// demo puts into the library.
func samples(dir string, mods []quarrymoss.Mod) ([]string, error) {
	made := filepath.Join(dir, "making")
	played := time.Date(2026, 11, 20, 21, 15, 0, 0, time.UTC)
	worlds := []struct {
		folder string
		o      quarrymoss.Options
	}{
		{
			"Fen-Garden",
			quarrymoss.Options{
				Title:      "Fen Garden",
				Seed:       -4713582209,
				Mods:       mods,
				Tiles:      144,
				TileBytes:  4096,
				Folk:       []string{"Ada", "Emrys"},
				Realms:     []string{"caverns"},
				LastPlayed: played,
			},
		},
		{
			"Orchard 🍎 ",
			quarrymoss.Options{
				Title:      "Orchard 🍎 ",
				Seed:       99,
				Mods:       mods[:1],
				Tiles:      49,
				Folk:       []string{"Ffion"},
				LastPlayed: played.AddDate(0, 0, -3),
			},
		},
		{
			"old-glasshouse",
			quarrymoss.Options{
				Title:      "Old Glasshouse",
				Seed:       1887,
				Version:    "2.6.0",
				Mods:       append([]quarrymoss.Mod{{Name: "cold-frames", Version: "3.0.0"}}, mods...),
				Tiles:      25,
				LastPlayed: played.AddDate(0, -1, 0),
			},
		},
		{
			"terrace-walk",
			quarrymoss.Options{
				Title:      "Terrace Walk",
				Seed:       31337,
				Version:    "2.5.1",
				Mods:       mods,
				Tiles:      81,
				Folk:       []string{"Dilys", "Gwen"},
				Realms:     []string{"caverns"},
				Split:      true,
				LastPlayed: played.AddDate(0, 0, -9),
			},
		},
		{"East Plot", quarrymoss.Options{Title: "East Plot", Seed: 5, Tiles: 9, LastPlayed: played}},
		{"West Plot", quarrymoss.Options{Title: "West Plot", Seed: 6, Tiles: 9, LastPlayed: played}},
	}
	for _, w := range worlds {
		if err := quarrymoss.Make(filepath.Join(made, w.folder), w.o); err != nil {
			return nil, err
		}
	}
	var send []string
	for _, a := range []struct {
		file, wrapper string
		folders       []string
		send          bool
	}{
		{"fen-garden.zip", "from Ada/My Saves/", []string{"Fen-Garden"}, true},
		{"orchard.zip", "", []string{"Orchard 🍎 "}, true},
		{"old-glasshouse.zip", "", []string{"old-glasshouse"}, true},
		{"terrace-walk.zip", "", []string{"terrace-walk", "terrace-walk~caverns"}, true},
		{"two-plots.zip", "plots/", []string{"East Plot", "West Plot"}, false},
	} {
		file := filepath.Join(dir, "samples", a.file)
		if err := zipFolders(file, made, a.wrapper, a.folders); err != nil {
			return nil, err
		}
		if a.send {
			send = append(send, file)
		}
	}
	notes := filepath.Join(dir, "samples", "minutes.zip")
	if err := os.WriteFile(filepath.Join(made, "minutes-of-the-meeting.txt"), []byte("Item 1: the water butt.\n"),
		0o644); err != nil {
		return nil, err
	}
	return send, zipFolders(notes, made, "", []string{"minutes-of-the-meeting.txt"})
}

func zipFolders(file, base, wrapper string, folders []string) (err error) {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	z := zip.NewWriter(f)
	for _, folder := range folders {
		err := filepath.WalkDir(filepath.Join(base, folder), func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, err := filepath.Rel(base, p)
			if err != nil {
				return err
			}
			out, err := z.Create(wrapper + strings.ReplaceAll(rel, `\`, "/"))
			if err != nil {
				return err
			}
			in, err := os.Open(p)
			if err != nil {
				return err
			}
			_, err = io.Copy(out, in)
			return errors.Join(err, in.Close())
		})
		if err != nil {
			return err
		}
	}
	return z.Close()
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}
