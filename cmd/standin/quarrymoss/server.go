package quarrymoss

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Config is a server's fixed part, server.json in its root.
type Config struct {
	Version string `json:"version"`
	Kind    string `json:"kind"` // plain, terrace or mossling
	Mods    []Mod  `json:"mods"`
	// HexSeeds: seeds are written with 16 hexadecimal digits, and a number of another form is not read.
	HexSeeds bool `json:"hexSeeds,omitempty"`
}

// MakeServer writes a server root: server.json and quarry.properties.
func MakeServer(root string, c Config, folder string, seed int64, port int) error {
	if err := os.MkdirAll(filepath.Join(root, "worlds"), 0o755); err != nil {
		return err
	}
	data, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "server.json"), data, 0o644); err != nil {
		return err
	}
	text := fmt.Sprintf("# Quarrymoss server settings\n# Edit while the server is stopped: it writes this file on "+
		"its way down.\nlisten.port=%d\nworld.folder=%s\n# the seed serves new worlds "+
		"only\nworld.seed=%d\nwelcome=Mind the marrows\n", port, folder, seed)
	return os.WriteFile(filepath.Join(root, "quarry.properties"), []byte(text), 0o644)
}

type serverRun struct {
	root   string
	config Config
	// settings are the bytes as they were at the start; they are written back
	// on exit, over whatever has been changed meanwhile.
	settings []byte
	folder   string
	seed     int64
	heart    Heart
	out      io.Writer
	mischief string

	mu   sync.Mutex
	folk map[string]net.Conn
	held bool
	// writing is held for each pair of files of a busy server.
	writing sync.Mutex
}

// Run plays a server in root until it is told to halt; it returns the exit
// code. The file misbehave in the root may name one of: never-ready,
// opens-other, ignores-halt, exits-early, regenerates, slow-halt,
// quiet-halt, updates-itself, busy, loose-hold; a folder name behind it makes that true for this
// world only.
func Run(ctx context.Context, root string, in io.Reader, out io.Writer) int {
	s := &serverRun{root: root, out: out, folk: map[string]net.Conn{}}
	if err := writePageField(root); err != nil {
		s.say("cannot write settings: %v", err)
		return 1
	}
	port, err := s.load()
	if data, err := os.ReadFile(filepath.Join(root, "misbehave")); err == nil {
		how, folder, only := strings.Cut(strings.TrimSpace(string(data)), " ")
		if !only || folder == s.folder {
			s.mischief = how
		}
	}
	if err != nil {
		s.say("cannot read settings: %v", err)
		return 1
	}
	if s.mischief == "updates-itself" {
		if err := s.update(); err != nil {
			s.say("cannot update: %v", err)
			return 1
		}
	}
	if err := s.open(); err != nil {
		s.say("cannot open world: %v", err)
		return 1
	}
	listener, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		s.say("cannot listen: %v", err)
		return 1
	}
	defer listener.Close() //nolint:errcheck // the process ends
	go s.welcome(listener)
	if s.mischief == "exits-early" {
		s.say("out of peat")
		return 3
	}
	if s.mischief == "busy" || s.mischief == "loose-hold" {
		busy, rest := context.WithCancel(ctx)
		defer rest()
		go s.dig(busy)
	}
	if s.mischief != "never-ready" {
		s.say("ready on port %d", port)
	}
	return s.console(ctx, in)
}

// PageField is a file in the root with the world's name as a provider's page knows it: the page writes it into the
// settings right before each start, whatever stands there.
const PageField = "page-field"

func writePageField(root string) error {
	name, err := os.ReadFile(filepath.Join(root, PageField))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	file := filepath.Join(root, "quarry.properties")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return os.WriteFile(file, worldLine.ReplaceAll(text, append([]byte("world.folder="), name...)), 0o644)
}

var worldLine = regexp.MustCompile(`(?m)^world\.folder=[^\r\n]*`)

// Works are the files of a busy server: it writes the same number into both, one after the other, many times
// a second, and so shows whether a copy is of one moment.
var Works = []string{"works-dug.txt", "works-hauled.txt"}

func (s *serverRun) dig(ctx context.Context) {
	dir := filepath.Join(s.root, "worlds", s.folder)
	for n := 1; ctx.Err() == nil; n++ {
		s.writing.Lock()
		for _, name := range Works {
			if !s.held {
				// a player would not be told either
				_ = os.WriteFile(filepath.Join(dir, name), []byte(strconv.Itoa(n)), 0o644)
				time.Sleep(time.Millisecond)
			}
		}
		s.writing.Unlock()
		time.Sleep(5 * time.Millisecond)
	}
}

// Updated is the version that a server that updates itself has then.
const Updated = "2.6.0"

func (s *serverRun) update() error {
	s.config.Version = Updated
	data, err := json.Marshal(s.config)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.root, "server.json"), data, 0o644)
}

func (s *serverRun) say(format string, args ...any) {
	fmt.Fprintf(s.out, "%s %s\n", time.Now().Format("15:04:05.000"), fmt.Sprintf(format, args...))
}

var settingLine = regexp.MustCompile(`(?m)^[ \t]*([a-z.]+)[ \t]*[=:][ \t]*([^\r\n]*)`)

func (s *serverRun) load() (port int, err error) {
	data, err := os.ReadFile(filepath.Join(s.root, "server.json"))
	if err != nil {
		return 0, err
	}
	if err := json.Unmarshal(data, &s.config); err != nil {
		return 0, err
	}
	if s.settings, err = os.ReadFile(filepath.Join(s.root, "quarry.properties")); err != nil {
		return 0, err
	}
	text := strings.TrimPrefix(string(s.settings), "\xef\xbb\xbf")
	for _, m := range settingLine.FindAllStringSubmatch(text, -1) {
		switch m[1] {
		case "listen.port":
			port, err = strconv.Atoi(m[2])
		case "world.folder":
			s.folder = m[2]
		case "world.seed":
			if m[2] != "" && s.config.HexSeeds {
				if !hexSeed.MatchString(m[2]) {
					return 0, fmt.Errorf("%q is no seed", m[2])
				}
				var seed uint64
				seed, err = strconv.ParseUint(m[2], 16, 64)
				s.seed = int64(seed)
			} else if m[2] != "" {
				if s.seed, err = strconv.ParseInt(m[2], 10, 64); err != nil {
					s.seed, err = seedOfWords(m[2]), nil
				}
			}
		}
		if err != nil {
			return 0, err
		}
	}
	return port, nil
}

var hexSeed = regexp.MustCompile(`^[0-9A-F]{16}$`)

// seedOfWords makes a number of a seed in words: the FNV-1a hash of its bytes.
func seedOfWords(words string) int64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(words)) // a hash never fails to write
	return int64(h.Sum64())
}

// open opens the world that the settings name. One that is not there is
// generated without a word, which is the trap that Reshard exists for.
func (s *serverRun) open() (err error) {
	folder := s.folder
	if s.mischief == "opens-other" {
		folder += "-spare"
	}
	dir := filepath.Join(s.root, "worlds", folder)
	if s.mischief == "regenerates" {
		if err := os.RemoveAll(filepath.Join(dir, "ground")); err != nil {
			return err
		}
		if err := makeTiles(filepath.Join(dir, "ground"), s.seed, 9, 512, false); err != nil {
			return err
		}
	}
	s.heart, err = ReadHeart(dir)
	if errors.Is(err, os.ErrNotExist) {
		if err := s.generate(dir, folder); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	family := "moss"
	if s.config.Kind == "mossling" {
		family = "pebble"
	}
	if s.heart.Family != family {
		return fmt.Errorf("family %s is not %s", s.heart.Family, family)
	}
	if newer(s.heart.WrittenBy, s.config.Version) {
		return fmt.Errorf("written by %s, this is %s", s.heart.WrittenBy, s.config.Version)
	}
	s.heart.WrittenBy = s.config.Version // a newer server upgrades the world for good
	for _, realm := range []string{"caverns", "aurora"} {
		if err := s.openRealm(dir, realm); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "held.lock"), []byte(strconv.Itoa(os.Getpid())), 0o644); err != nil {
		return err
	}
	s.say(`opening world "%s"`, folder)
	s.folder = folder
	return WriteHeart(dir, s.heart)
}

func (s *serverRun) generate(dir, folder string) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	family := "moss"
	if s.config.Kind == "mossling" {
		family = "pebble"
	}
	if err := Make(dir, Options{
		Title:      folder,
		Seed:       s.seed,
		Version:    s.config.Version,
		Family:     family,
		Tiles:      1,
		LastPlayed: time.Now().UTC(),
	}); err != nil {
		return err
	}
	if err := makeTiles(filepath.Join(dir, "ground"), s.seed, 9, 512, false); err != nil {
		return err
	}
	h, err := ReadHeart(dir)
	s.heart = h
	return err
}

// openRealm makes a realm anew where this kind keeps it, if it is not there.
func (s *serverRun) openRealm(dir, realm string) error {
	to := filepath.Join(dir, "realms", realm)
	if s.config.Kind == "terrace" {
		to = dir + "~" + realm
	}
	if _, err := os.Stat(to); err == nil {
		return nil
	}
	return makeTiles(to, s.seed^int64(len(realm)), 1, 512, false)
}

func newer(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(x), len(y)) {
		m, _ := strconv.Atoi(x[i])
		n, _ := strconv.Atoi(y[i])
		if m != n {
			return m > n
		}
	}
	return len(x) > len(y)
}

// welcome takes players: each sends a line with their name and stays joined
// while the connection lasts.
func (s *serverRun) welcome(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close() //nolint:errcheck // a leaving player
			lines := bufio.NewScanner(conn)
			if !lines.Scan() {
				return
			}
			name := lines.Text()
			s.mu.Lock()
			s.folk[name] = conn
			s.mu.Unlock()
			s.say("%s joined", name)
			for lines.Scan() { // held open until the player goes
			}
			s.mu.Lock()
			delete(s.folk, name)
			s.mu.Unlock()
			s.say("%s left", name)
		}()
	}
}

func (s *serverRun) console(ctx context.Context, in io.Reader) int {
	lines := make(chan string)
	go func() {
		sc := bufio.NewScanner(in)
		for sc.Scan() {
			lines <- strings.TrimSpace(sc.Text())
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return 130 // stopped without halt: the last writes are lost
		case line := <-lines:
			if line == "halt" && s.mischief == "slow-halt" {
				time.Sleep(1500 * time.Millisecond)
			}
			if done := s.command(line); done {
				return 0
			}
		}
	}
}

func (s *serverRun) command(line string) (done bool) {
	switch line {
	case "":
	case "halt":
		if s.mischief == "ignores-halt" {
			s.say("the kettle is on, not now")
			return false
		}
		if s.mischief == "quiet-halt" {
			return true // nothing is saved and nothing is said
		}
		if err := s.save(); err != nil {
			s.say("saving failed: %v", err)
			return false
		}
		s.say("all tiles written")
		return true
	case "seed":
		if s.config.HexSeeds {
			s.say("seed is %016X", uint64(s.heart.Seed))
		} else {
			s.say("seed is %d", s.heart.Seed)
		}
	case "hold":
		s.writing.Lock()
		s.held = s.mischief != "loose-hold"
		s.writing.Unlock()
		s.say("writes held")
	case "flush":
		s.say("tiles flushed")
	case "release":
		s.writing.Lock()
		s.held = false
		s.writing.Unlock()
		s.say("writes released")
	case "folk":
		s.mu.Lock()
		names := make([]string, 0, len(s.folk))
		for n := range s.folk {
			names = append(names, n)
		}
		s.mu.Unlock()
		s.say("%d here: %s", len(names), strings.Join(names, ", "))
	default:
		if text, ok := strings.CutPrefix(line, "announce "); ok {
			s.say("to all: %s", text)
			return false
		}
		s.say("what is %q?", line)
	}
	return false
}

// save writes the world's last changes and, over whatever stands there now,
// the settings as they were at the start.
func (s *serverRun) save() error {
	dir := filepath.Join(s.root, "worlds", s.folder)
	s.heart.LastPlayed = time.Now().UTC()
	diary := filepath.Join(dir, "diary.txt")
	f, err := os.OpenFile(diary, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	fmt.Fprintf(f, "played until %s\n", s.heart.LastPlayed.Format(time.RFC3339Nano))
	if err := errors.Join(f.Close(), WriteHeart(dir, s.heart), os.Remove(filepath.Join(dir, "held.lock"))); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.root, "quarry.properties"), s.settings, 0o644)
}
