// Package emberlode plays a made-up game of expeditions: a world is a session of
// several save files (checkpoints), which of them is loaded is named in
// server.json beside a flag without which the server starts afresh, and launch
// arguments beat both and may move the save folder. It is used by the demo and
// the tests only; Reshard knows the game from games/emberlode.yaml alone.
// docs/stand-ins.md describes the formats.
package emberlode

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Save is one checkpoint, NAME.N.ember.
type Save struct {
	Emberlode  int      `json:"emberlode"` // the format's number
	Expedition string   `json:"expedition"`
	Seed       uint64   `json:"seed"`
	Turn       int      `json:"turn"`
	WrittenBy  string   `json:"writtenBy"`
	SavedAt    string   `json:"savedAt"`
	Party      []Member `json:"party"`
}

// Member is one person of a party.
type Member struct {
	ID   int    `json:"id"`
	Name string `json:"name"`
	Gear string `json:"gear"`
}

// Version of this server, and the formats that it reads.
const (
	Version = "0.9.2"
	oldest  = 3
	format  = 4
)

// SavesFolder is where a server keeps saves unless it is told otherwise.
const SavesFolder = "saves/host"

// Make writes a session of some checkpoints into dir.
func Make(dir, name string, s Save, checkpoints int) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if s.Emberlode == 0 {
		s.Emberlode = format
	}
	if s.WrittenBy == "" {
		s.WrittenBy = Version
	}
	for n := 1; n <= checkpoints; n++ {
		s.Turn = n * 5
		s.SavedAt = time.Date(2026, 11, 15, 19, n, 0, 0, time.UTC).Format(time.RFC3339)
		if err := write(filepath.Join(dir, fileName(name, n)), s); err != nil {
			return err
		}
	}
	return nil
}

func fileName(name string, n int) string { return fmt.Sprintf("%s.%03d.ember", name, n) }

func write(file string, s Save) error {
	data, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(data, '\n'), 0o644)
}

// MakeServer writes a server root: server.json and launch.sh, which runs this
// program with the arguments given.
func MakeServer(root, program, load string, resume bool, seed uint64, port int, arguments string) error {
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	config := fmt.Sprintf("{\n  // which expedition to go on with\n  \"load\": %q,\n  \"resume\": %t,\n  \"seed\": "+
		"%d,\n  \"port\": %d\n}\n", load, resume, seed, port)
	if err := os.WriteFile(filepath.Join(root, "server.json"), []byte(config), 0o644); err != nil {
		return err
	}
	script := fmt.Sprintf("#!/bin/sh\n# Emberlode: what stands here beats server.json\nexec %q emberlode serve . %s\n",
		program, arguments)
	return os.WriteFile(filepath.Join(root, "launch.sh"), []byte(script), 0o755)
}

type config struct {
	Load   string `json:"load"`
	Resume bool   `json:"resume"`
	Seed   uint64 `json:"seed"`
	Port   int    `json:"port"`
}

type serverRun struct {
	dir    string // of the saves
	name   string
	save   Save
	number int
	out    io.Writer
}

// Run plays a server in root until it is told to strike camp; it returns the exit
// code. load and saves are the launch arguments, empty when not given.
func Run(ctx context.Context, root, load, saves string, in io.Reader, out io.Writer) int {
	s := &serverRun{out: out}
	s.say("emberlode %s (formats %d to %d)", Version, oldest, format)
	conf, err := readConfig(filepath.Join(root, "server.json"))
	if err != nil {
		s.say("cannot read server.json: %v", err)
		return 1
	}
	s.dir = filepath.Join(root, SavesFolder)
	if saves != "" {
		s.dir = saves
		if !filepath.IsAbs(saves) {
			s.dir = filepath.Join(root, saves)
		}
	}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		s.say("cannot make %s: %v", s.dir, err)
		return 1
	}
	switch {
	case load != "":
		err = s.open(load)
	case conf.Resume && conf.Load != "":
		err = s.open(conf.Load)
	default:
		err = errFresh
	}
	if errors.Is(err, errFresh) { // the trap: nothing says that this is not what was meant
		err = s.afresh(conf.Seed)
	}
	if err != nil {
		s.say("cannot load: %v", err)
		return 2
	}
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(conf.Port))
	if err != nil {
		s.say("cannot listen: %v", err)
		return 3
	}
	defer l.Close() //nolint:errcheck // the process ends
	s.say("the gate is open on port %d", conf.Port)
	return s.console(ctx, in)
}

func readConfig(file string) (c config, err error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return c, err
	}
	var lines []string
	for _, l := range strings.Split(string(data), "\n") {
		if !strings.HasPrefix(strings.TrimSpace(l), "//") {
			lines = append(lines, l)
		}
	}
	return c, json.Unmarshal([]byte(strings.Join(lines, "\n")), &c)
}

func (s *serverRun) say(format string, args ...any) {
	fmt.Fprintf(s.out, "> %s\n", fmt.Sprintf(format, args...))
}

var errFresh = errors.New("nothing to go on with")

// open loads the last checkpoint of an expedition. Without one the server starts
// afresh.
func (s *serverRun) open(name string) error {
	found, err := filepath.Glob(filepath.Join(s.dir, name+".*.ember"))
	if err != nil || len(found) == 0 {
		return errFresh
	}
	sort.Strings(found)
	data, err := os.ReadFile(found[len(found)-1])
	if err != nil {
		return err
	}
	var save Save
	if err := json.Unmarshal(data, &save); err != nil {
		return err
	}
	if save.Emberlode < oldest || save.Emberlode > format {
		return fmt.Errorf("format %d is none of %d to %d", save.Emberlode, oldest, format)
	}
	s.name, s.save, s.number = name, save, len(found)
	s.say("expedition %q goes on at checkpoint %d", name, s.number)
	return nil
}

func (s *serverRun) afresh(seed uint64) error {
	s.name = "expedition-" + strconv.FormatInt(time.Now().UnixNano(), 36)
	s.number, s.save = 1, Save{Emberlode: format, Expedition: "New Expedition", Seed: seed, WrittenBy: Version}
	s.say("expedition %q begins", s.name)
	return write(filepath.Join(s.dir, fileName(s.name, 1)), s.save)
}

// checkpoint writes what was played as one more file.
func (s *serverRun) checkpoint() error {
	s.number++
	s.save.Turn++
	s.save.SavedAt = time.Now().UTC().Format(time.RFC3339)
	return write(filepath.Join(s.dir, fileName(s.name, s.number)), s.save)
}

func (s *serverRun) console(ctx context.Context, in io.Reader) int {
	lines := make(chan string)
	go func() {
		for scanner := bufio.NewScanner(in); scanner.Scan(); {
			lines <- scanner.Text()
		}
		close(lines)
	}()
	for {
		select {
		case <-ctx.Done():
			return 130
		case line, ok := <-lines:
			word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
			switch {
			case !ok:
				<-ctx.Done()
				return 130
			case word == "strike":
				if err := s.checkpoint(); err != nil {
					s.say("cannot save: %v", err)
					return 4
				}
				s.say("camp is struck")
				return 0
			case word == "load":
				if err := s.open(rest); err != nil {
					s.say("no expedition %q here", rest)
				}
			case word == "seed":
				s.say("seed %d", s.save.Seed)
			case word == "save":
				if err := s.checkpoint(); err != nil {
					s.say("cannot save: %v", err)
				} else {
					s.say("checkpoint %d is safe", s.number)
				}
			}
		}
	}
}
