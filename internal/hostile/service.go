package hostile

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Service is a running service, in a process of its own, that hostile files reach as they
// would reach any.
type Service struct {
	base, token string
	dir         string
	process     *exec.Cmd
	games       map[string]bool // that have been made known
}

// Cost is what a file has taken.
type Cost struct {
	Peak   int64         // memory of the service beyond what it has when idle, in bytes
	CPU    time.Duration // of all cores
	Took   time.Duration
	Status int    // of the answer
	Answer string // the beginning of it
	Bytes  int    // of the answer
}

// hardLimit ends a service that takes more, in bytes of data: what a test is about to show
// must not take the machine with it. A Go program maps more than it uses.
const hardLimit = 3_000_000_000

// Start runs a service; program is the built command line, database a database of its own.
func Start(ctx context.Context, program, database, dir string) (*Service, error) {
	s := &Service{dir: dir, games: map[string]bool{}}
	data := filepath.Join(dir, "data")
	s.process = exec.CommandContext(ctx, "prlimit", fmt.Sprintf("--data=%d", hardLimit), "--", program, "serve",
		"--data", data, "--database", database, "--listen", "127.0.0.1:0")
	s.process.Cancel = func() error { return s.process.Process.Signal(syscall.SIGTERM) }
	s.process.Stderr = os.Stderr
	out, err := s.process.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(out)
	for s.base == "" && lines.Scan() {
		if _, at, ok := strings.Cut(lines.Text(), "http://"); ok {
			at, _, _ = strings.Cut(at, " ")
			s.base = "http://" + at
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }() // so that it never waits for a reader
	if s.base == "" {
		return nil, fmt.Errorf("the service did not start: %w", s.process.Wait())
	}
	page, err := os.ReadFile(filepath.Join(data, "first-sign-in.txt"))
	if err != nil {
		return nil, err
	}
	words := strings.Fields(string(page))
	return s, s.signIn(ctx, words[1], words[3])
}

// Address is where it listens: host and port.
func (s *Service) Address() string { return strings.TrimPrefix(s.base, "http://") }

// Stop ends the service.
func (s *Service) Stop() error {
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	return s.process.Wait()
}

func (s *Service) signIn(ctx context.Context, name, password string) error {
	body, err := json.Marshal(map[string]string{"name": name, "password": password, "kind": "token"})
	if err != nil {
		return err
	}
	_, answer, err := s.Ask(ctx, http.MethodPost, "/sign-in", "application/json", body)
	if err != nil {
		return err
	}
	var token struct{ Secret string }
	err = json.Unmarshal(answer, &token)
	s.token = token.Secret
	return err
}

// Ask sends one request of the API and gives its status and its answer.
func (s *Service) Ask(ctx context.Context, method, path, kind string, body []byte) (int, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, s.base+"/api/v1"+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if s.token != "" {
		req.Header.Set("Authorization", "Bearer "+s.token)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close() //nolint:errcheck // only read
	answer, err := io.ReadAll(res.Body)
	return res.StatusCode, answer, err
}

// Idle is what the service takes of memory when nothing is asked of it, in bytes.
func (s *Service) Idle() (int64, error) { return s.memory("VmRSS") }

func (s *Service) memory(what string) (int64, error) {
	page, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.process.Process.Pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(page)) {
		if rest, ok := strings.CutPrefix(line, what+":"); ok {
			kb, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return kb << 10, err
		}
	}
	return 0, fmt.Errorf("the system does not tell %s", what)
}

// tick is the unit of the kernel's accounts of a process's time (proc(5), USER_HZ).
const tick = 10 * time.Millisecond

func (s *Service) cpu() (time.Duration, error) {
	page, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(page), ") ")
	fields := strings.Fields(rest)
	user, err := strconv.ParseInt(fields[11], 10, 64)
	system, serr := strconv.ParseInt(fields[12], 10, 64)
	if err == nil {
		err = serr
	}
	return time.Duration(user+system) * tick, err
}

// Send has a file read by the service, in the way of its kind, and gives what it cost beyond
// idle. The error says that the service did not answer.
func (s *Service) Send(ctx context.Context, f File, idle int64) (Cost, error) {
	send, err := s.prepare(ctx, f)
	if err != nil {
		return Cost{}, err
	}
	return s.cost(ctx, idle, send)
}

// cost does something and gives what it cost the service beyond idle.
func (s *Service) cost(ctx context.Context, idle int64, send func() (int, []byte, error)) (Cost, error) {
	s.rest(ctx, idle)
	// From here on the peak counts (proc(5), clear_refs).
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", s.process.Process.Pid), []byte("5"), 0o200); err != nil {
		return Cost{}, err
	}
	before, err := s.cpu()
	if err != nil {
		return Cost{}, err
	}
	begun := time.Now()
	status, answer, err := send()
	c := Cost{
		Took:   time.Since(begun),
		Status: status,
		Bytes:  len(answer),
		Answer: string(answer[:min(len(answer), 600)]),
	}
	if err != nil {
		return c, err
	}
	after, err := s.cpu()
	if err != nil {
		return c, err
	}
	c.CPU = after - before
	peak, err := s.memory("VmHWM")
	c.Peak = max(0, peak-idle)
	return c, err
}

// rest waits until the service has given back what the file before has left, which it does
// within seconds; what it keeps for good counts for the next file.
func (s *Service) rest(ctx context.Context, idle int64) {
	for begun := time.Now(); time.Since(begun) < 2*time.Second && ctx.Err() == nil; time.Sleep(50 * time.Millisecond) {
		if now, err := s.Idle(); err != nil || now-idle < rested {
			return
		}
	}
}

// rested is how much more than at first a service may take that is at rest, in bytes.
const rested = 80 << 20

// prepare does what the file needs before it is read.
func (s *Service) prepare(ctx context.Context, f File) (send func() (int, []byte, error), err error) {
	ask := func(method, path, kind string, body []byte) func() (int, []byte, error) {
		return func() (int, []byte, error) { return s.Ask(ctx, method, path, kind, body) }
	}
	switch f.Kind {
	case Profile:
		body, err := json.Marshal(map[string]string{"profile": strings.ToValidUTF8(string(f.Make()), "?")})
		return ask(http.MethodPost, "/games/lint", "application/json", body), err
	case Listing:
		path := map[string]string{"files": "/arrivals/recognise", "chunks": "/worlds/assemble"}[f.Format]
		return ask(http.MethodPost, path, "application/json", f.Make()), nil
	case Archive:
		return ask(http.MethodPost, "/worlds?name=w."+f.Format, "application/zip", f.Make()), nil
	case Settings:
		return s.settings(ctx, f)
	}
	if format, ok := strings.CutPrefix(f.Format, "strange-"); ok {
		if err := s.know(ctx, f.Format, Strange(format)); err != nil {
			return nil, err
		}
	}
	data, err := inWorld(f)
	return ask(http.MethodPost, "/worlds?name="+url.QueryEscape(f.What+".zip"), "application/zip", data), err
}

// know makes a game known, once.
func (s *Service) know(ctx context.Context, id, profile string) error {
	if s.games[id] {
		return nil
	}
	body, err := json.Marshal(map[string]string{"profile": profile})
	if err != nil {
		return err
	}
	status, answer, err := s.Ask(ctx, http.MethodPost, "/games", "application/json", body)
	if err == nil && status >= 300 {
		err = fmt.Errorf("the game %s is not taken: %s", id, answer)
	}
	s.games[id] = err == nil
	return err
}

// settings puts a file into the folder of a server of a game that keeps its settings so.
func (s *Service) settings(ctx context.Context, f File) (func() (int, []byte, error), error) {
	id := "keeps-" + f.Format
	root := filepath.Join(s.dir, id)
	if !s.games[id] {
		main := "{file: settings.txt, format: " + f.Format + "}"
		if f.Format == "lines" {
			main = `{file: settings.txt, format: lines, line: "set {key} {value}"}`
		}
		profile := strings.Replace(strings.Replace(honest, "honest", id, 1), "{file: server.env, format: env}", main, 1)
		if err := s.know(ctx, id, profile); err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Join(root, "worlds"), 0o755); err != nil {
			return nil, err
		}
		body, err := json.Marshal(map[string]any{
			"name": id, "game": id, "kind": "plain", "root": root, "command": []string{"/bin/false"},
		})
		if err != nil {
			return nil, err
		}
		if status, answer, err := s.Ask(ctx, http.MethodPost, "/servers", "application/json", body); err != nil ||
			status >= 300 {
			return nil, fmt.Errorf("the server %s is not added: %d %s %w", id, status, answer, err)
		}
	}
	file := filepath.Join(root, "settings.txt")
	data := f.Make()
	if err := os.WriteFile(file, data, 0o644); err != nil {
		return nil, err
	}
	if len(data) == 0 {
		if err := os.Truncate(file, Sparse); err != nil {
			return nil, err
		}
	}
	return func() (int, []byte, error) { return s.Ask(ctx, http.MethodGet, "/servers/"+id, "", nil) }, nil
}

// inWorld packs an honest world of a game with one file that is not.
func inWorld(f File) ([]byte, error) {
	title := cborMap("seed", []byte{1})
	files := map[string][]byte{}
	switch f.Format {
	case "quarrymoss":
		files["w/heart.cbor.gz"] = gz(title)
	case "saltmarch":
		files["w/Level.smw"] = sealed(title, nil)
	case "minetest":
		files["w/world.mt"] = []byte("gameid = minetest\nworld_name = Fen\n")
		files["w/map_meta.txt"] = []byte("seed = 1\n")
	}
	switch {
	case f.At == "":
		ending := map[string]string{"emberlode": "1.ember", "openttd": "sav"}[f.Format]
		if ending == "" {
			ending = f.Format
		}
		files["w/fen."+ending] = f.Make()
	case strings.HasSuffix(f.At, "/"): // a folder of many honest files
		for i := range 16_000 {
			name, data := fmt.Sprintf("t.%d.%d.qt", i%128, i/128), make([]byte, 272)
			if f.At == "folk/" {
				name, data = fmt.Sprintf("00000000-0000-4000-8000-%012d.json", i), []byte(`{"name": "Bryn"}`)
			}
			files["w/"+f.At+name] = data
		}
	default:
		files["w/"+f.At] = f.Make()
	}
	var b bytes.Buffer
	z := quickly(&b)
	for name, data := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(data); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}
