package saltmarch

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
)

// Places below a server's root.
const (
	WorldsFolder = "Saved/Worlds/0"
	LinuxConfig  = "Saved/Config/Linux/Marsh.ini"
	LogFile      = "Saved/Logs/marsh.log"
)

// MakeServer writes a server's fixed part. Its settings and its worlds folder are
// made by its first start.
func MakeServer(root, version string, mods ...string) error {
	if err := os.MkdirAll(filepath.Join(root, "Mods"), 0o755); err != nil {
		return err
	}
	for _, m := range mods {
		if err := os.WriteFile(filepath.Join(root, "Mods", m), nil, 0o644); err != nil {
			return err
		}
	}
	data, err := json.Marshal(map[string]string{"version": version})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(root, "marsh.json"), data, 0o644)
}

// WriteSettings writes the settings that a Linux server reads.
func WriteSettings(root, world string, port int) error {
	text := fmt.Sprintf("; Saltmarch host settings\r\n[Host]\r\nWorld=%s\r\nPort=%d\r\n\r\n[Rules]\r\nTides=2\r\n",
		world, port)
	if err := os.MkdirAll(filepath.Dir(filepath.Join(root, LinuxConfig)), 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(root, LinuxConfig), []byte(text), 0o644)
}

type serverRun struct {
	root, version, world, port string
	dir                        string // of the world
	level                      Level
	log                        *os.File

	mu sync.Mutex
}

// Run plays a server in root until its context ends, which is its clean stop. The
// exit code is 0 then.
func Run(ctx context.Context, root string) int {
	s := &serverRun{root: root}
	if err := s.begin(); err != nil {
		fmt.Fprintln(os.Stderr, "saltmarch:", err)
		return 1
	}
	defer s.log.Close() //nolint:errcheck // the process ends
	s.say("marsh version %s", s.version)
	if err := s.open(); err != nil {
		s.say("ERROR cannot load world: %v", err)
		return 2
	}
	listener, err := net.Listen("tcp", "127.0.0.1:"+s.port)
	if err != nil {
		s.say("ERROR cannot listen: %v", err)
		return 3
	}
	go s.welcome(listener)
	s.say("the tide is in on port %s", s.port)
	<-ctx.Done()
	_ = listener.Close() // nobody joins any more
	s.mu.Lock()
	defer s.mu.Unlock()
	s.level.Day++
	if err := Seal(filepath.Join(s.dir, "Level.smw"), s.level); err != nil {
		s.say("ERROR cannot write: %v", err)
		return 4
	}
	s.say("world written, the tide is out")
	return 0
}

// begin makes what a first start makes, puts the last log away and reads the
// settings.
func (s *serverRun) begin() error {
	var fixed map[string]string
	data, err := os.ReadFile(filepath.Join(s.root, "marsh.json"))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &fixed); err != nil {
		return err
	}
	s.version = fixed["version"]
	for _, dir := range []string{WorldsFolder, filepath.Dir(LogFile)} {
		if err := os.MkdirAll(filepath.Join(s.root, dir), 0o755); err != nil {
			return err
		}
	}
	log := filepath.Join(s.root, LogFile)
	if err := os.Rename(log, strings.TrimSuffix(log, ".log")+"-last.log"); err != nil &&
		!errors.Is(err, os.ErrNotExist) {
		return err
	}
	if s.log, err = os.OpenFile(log, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644); err != nil {
		return err
	}
	config := filepath.Join(s.root, LinuxConfig)
	if _, err := os.Stat(config); errors.Is(err, os.ErrNotExist) {
		s.say("ERROR no settings yet, writing them") // it looks bad and is harmless
		fresh := ID(uuid.NewSHA1(space, []byte(s.root)))
		if err := WriteSettings(s.root, fresh.String(), 0); err != nil {
			return err
		}
	}
	text, err := os.ReadFile(config)
	if err != nil {
		return err
	}
	s.world, s.port = setting(text, "World"), setting(text, "Port")
	return nil
}

func setting(text []byte, key string) string {
	m := regexp.MustCompile(`(?m)^` + key + `=([^\r\n]*)`).FindSubmatch(text)
	if m == nil {
		return ""
	}
	return string(m[1])
}

func (s *serverRun) say(format string, args ...any) {
	fmt.Fprintf(s.log, "[%s] %s\n", time.Now().Format("2006.01.02-15.04.05"), fmt.Sprintf(format, args...))
}

// open loads the world that the settings name; one that is not there is made
// without a word.
func (s *serverRun) open() error {
	s.dir = filepath.Join(s.root, WorldsFolder, s.world)
	err := Open(filepath.Join(s.dir, "Level.smw"), &s.level)
	if errors.Is(err, os.ErrNotExist) {
		if err := os.MkdirAll(filepath.Join(s.dir, "Folk"), 0o755); err != nil {
			return err
		}
		s.level = Level{Name: "Salt Flats", Seed: int64(os.Getpid()), Version: s.version, World: ID(uuid.New())}
		err = Seal(filepath.Join(s.dir, "Level.smw"), s.level)
	}
	if err != nil {
		return err
	}
	if major(s.level.Version) != major(s.version) {
		return fmt.Errorf("written by %s, this is %s", s.level.Version, s.version)
	}
	rules := "Tides=" + setting(mustRead(filepath.Join(s.root, LinuxConfig)), "Tides")
	var own map[string]string
	if Open(filepath.Join(s.dir, "HostRules.smw"), &own) == nil {
		rules = "Tides=" + own["tides"] + " by the world's own rules"
	}
	s.say("world %s is \"%s\", day %d, %s", s.world, s.level.Name, s.level.Day, rules)
	return nil
}

func mustRead(file string) []byte {
	data, _ := os.ReadFile(file) // it has been read a moment ago
	return data
}

func major(v string) string {
	parts := strings.SplitN(v, ".", 3)
	return strings.Join(parts[:min(2, len(parts))], ".")
}

// welcome lets people join: a line "join NAME ACCOUNT" is answered by who they are
// here. Someone without a record gets a new one.
func (s *serverRun) welcome(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close() //nolint:errcheck // the visit is over
			line, err := bufio.NewReader(conn).ReadString('\n')
			words := strings.Fields(line)
			if err != nil || len(words) != 3 || words[0] != "join" {
				return
			}
			fmt.Fprintln(conn, s.join(words[1], words[2]))
		}()
	}
}

func (s *serverRun) join(name, account string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := Account(account)
	file := filepath.Join(s.dir, "Folk", id.String()+".smw")
	var f Folk
	if Open(file, &f) == nil {
		s.say("%s joined as %s", name, id)
		return fmt.Sprintf("welcome back, %s, with %s", f.Name, f.Pack)
	}
	if err := Seal(file, Folk{ID: id, Name: name, Health: 100}); err != nil {
		return "no room"
	}
	s.say("%s joined as %s, new here", name, id)
	return "welcome, stranger " + name
}
