// Package tollen is a simulated hosting provider, "Tollen Plots": an interface over HTTP that starts,
// stops and watches game servers, and behaves as badly as real ones do. Its paths, fields and words are
// made up.
package tollen

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-chi/chi/v5"
)

// Plot is a server that the provider runs.
type Plot struct {
	ID      string
	Dir     string
	Command []string
	Env     map[string]string
	// StopLine is what it says to the server's console to end it; "": it signals, SIGTERM unless StopSignal is
	// another.
	StopLine   string
	StopSignal syscall.Signal
	// KillsAfter is after how long a stop that the server does not take is a kill; 0: a minute.
	KillsAfter time.Duration
	// Settings is the file of Dir into which the sign on the plot's page is written at each start,
	// as what stands behind world.folder; "": there is none.
	Settings string
	// Watchdog: it is started again when it ends without having been put to sleep.
	Watchdog bool
	// Every is how often a schedule has it sleep and wake, whatever it did before; 0: never.
	Every time.Duration
	// AtWaking is done to its folder at each start, such as an update of the game.
	AtWaking func(dir string) error
	// MostCarried is how large a file the page takes, in bytes; 0: 8 MiB. Spoils is why it unpacks
	// nothing, and LosesEach has it leave out each so-manieth file.
	MostCarried int64
	Spoils      string
	LosesEach   int

	mu      sync.Mutex
	cmd     *exec.Cmd
	in      io.WriteCloser
	ended   chan struct{}
	since   time.Time
	word    string // asleep, waking, awake or dozing
	asleep  bool   // it was asked to
	sign    string // the world's name on its page
	entries []string
	errands []*errand
	jars    []jar
	filled  int
	// Carried and Unwrapped count the files that the page took, and the bundles that it unpacked.
	Carried, Unwrapped int
}

// Provider is a running provider.
type Provider struct {
	// User and Phrase are what is signed in with.
	User, Phrase string
	// Lasts is how long a pass counts; 0: an hour.
	Lasts time.Duration
	// MostAMinute is how often may be asked in a minute; 0: any number of times.
	MostAMinute int

	server   *http.Server
	listener net.Listener
	over     chan struct{}
	broken   chan struct{} // closed by Break

	mu     sync.Mutex
	plots  map[string]*Plot
	passes map[string]time.Time
	asked  []time.Time
	away   bool
	// Signed counts the sign-ins.
	Signed int
}

// Start starts a provider on a free port of the loopback.
func Start(plots ...*Plot) (*Provider, error) {
	p := &Provider{
		User: "bram", Phrase: "seven-grey-herons", plots: map[string]*Plot{}, passes: map[string]time.Time{},
		over: make(chan struct{}), broken: make(chan struct{}),
	}
	for _, one := range plots {
		p.Add(one)
	}
	var err error
	if p.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	p.server = &http.Server{Handler: p.routes(), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = p.server.Serve(p.listener) }() // Close ends it
	return p, nil
}

// Add has it run one more server.
func (p *Provider) Add(one *Plot) {
	one.word = "asleep"
	one.sign = one.world()
	p.mu.Lock()
	p.plots[one.ID] = one
	p.mu.Unlock()
	if one.Every > 0 {
		go one.keepSchedule(p.over)
	}
}

// Origin is where it listens.
func (p *Provider) Origin() string { return "http://" + p.listener.Addr().String() }

// Away has it end connections without an answer, or answer again.
func (p *Provider) Away(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.away = on
}

// Break ends all streams at once.
func (p *Provider) Break() {
	p.mu.Lock()
	defer p.mu.Unlock()
	close(p.broken)
	p.broken = make(chan struct{})
}

// Close ends the provider and its servers.
func (p *Provider) Close() {
	close(p.over)
	_ = p.server.Close()
	for _, one := range p.plots {
		one.mu.Lock()
		cmd, ended := one.cmd, one.ended
		one.asleep = true
		one.mu.Unlock()
		if cmd != nil {
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // it may have ended
			<-ended
		}
	}
}

func (p *Provider) routes() http.Handler {
	r := chi.NewRouter()
	r.Use(p.mood)
	r.Post("/gate/doorbell", p.doorbell)
	r.Route("/gate/plots/{plot}", func(r chi.Router) {
		r.Use(p.passed)
		r.Get("/", p.onPlot(func(w http.ResponseWriter, _ *http.Request, one *Plot) { answer(w, 200, one.view()) }))
		r.Post("/rest", p.onPlot(p.rest))
		r.Post("/whisper", p.onPlot(p.whisper))
		r.Get("/diary", p.onPlot(p.diary))
		r.Get("/sign", p.onPlot(func(w http.ResponseWriter, _ *http.Request, one *Plot) {
			one.mu.Lock()
			defer one.mu.Unlock()
			if one.sign == "none" {
				one.sign = one.world()
			}
			answer(w, http.StatusOK, map[string]any{"sign": map[string]string{"worldName": one.sign}})
		}))
		r.Put("/sign", p.onPlot(p.paint))
		r.Get("/diary/aloud", p.onPlot(p.aloud))
		r.Put("/porch", p.onPlot(p.carry))
		r.Post("/porch/unwrapping", p.onPlot(p.unwrap))
		r.Get("/errands/{ticket}", p.onPlot(p.errand))
		r.Get("/shelf", p.onPlot(p.shelves))
		r.Post("/shelf", p.onPlot(p.fill))
		r.Delete("/shelf/{label}", p.onPlot(p.pour))
	})
	return r
}

func answer(w http.ResponseWriter, code int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(value) // who asked has gone
}

func sorry(w http.ResponseWriter, code int, why string) {
	answer(w, code, map[string]any{"sorry": map[string]string{"because": why}})
}

// mood bounds how often is asked, and goes away.
func (p *Provider) mood(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		away := p.away
		now := time.Now()
		for len(p.asked) > 0 && now.Sub(p.asked[0]) > time.Minute {
			p.asked = p.asked[1:]
		}
		often := p.MostAMinute > 0 && len(p.asked) >= p.MostAMinute
		if !often {
			p.asked = append(p.asked, now)
		}
		p.mu.Unlock()
		switch {
		case away:
			panic(http.ErrAbortHandler)
		case often:
			w.Header().Set("Retry-After", "1")
			sorry(w, http.StatusTooManyRequests, "you ring too often")
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func (p *Provider) doorbell(w http.ResponseWriter, r *http.Request) {
	var who struct{ Name, Phrase string }
	if err := json.NewDecoder(r.Body).Decode(&who); err != nil || who.Name != p.User || who.Phrase != p.Phrase {
		sorry(w, http.StatusForbidden, "nobody of that name with that phrase lives here")
		return
	}
	var raw [12]byte
	_, _ = rand.Read(raw[:]) // it never fails (crypto/rand)
	pass := hex.EncodeToString(raw[:])
	lasts := p.Lasts
	if lasts == 0 {
		lasts = time.Hour
	}
	p.mu.Lock()
	p.passes[pass] = time.Now().Add(lasts)
	p.Signed++
	p.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"pass": map[string]string{"word": pass}})
}

func (p *Provider) passed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		word, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Gate ")
		p.mu.Lock()
		until, ok := p.passes[word]
		p.mu.Unlock()
		if !ok || time.Now().After(until) {
			sorry(w, http.StatusUnauthorized, "this pass opens nothing")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (p *Provider) onPlot(do func(http.ResponseWriter, *http.Request, *Plot)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		one, ok := p.plots[chi.URLParam(r, "plot")]
		p.mu.Unlock()
		if !ok {
			sorry(w, http.StatusNotFound, "there is no such plot")
			return
		}
		do(w, r, one)
	}
}

func (one *Plot) view() any {
	one.mu.Lock()
	defer one.mu.Unlock()
	out := map[string]any{"rests": one.word}
	if one.cmd != nil {
		out["upSince"] = one.since.Format(time.RFC3339)
	}
	return map[string]any{"plot": out}
}

func (p *Provider) rest(w http.ResponseWriter, r *http.Request, one *Plot) {
	var wish struct{ To string }
	if err := json.NewDecoder(r.Body).Decode(&wish); err != nil {
		sorry(w, http.StatusBadRequest, "that is no wish")
		return
	}
	switch wish.To {
	case "awake":
		if err := one.wake(); err != nil {
			sorry(w, http.StatusConflict, err.Error())
			return
		}
	case "asleep":
		go one.sleep()
	default:
		sorry(w, http.StatusBadRequest, "a plot is awake or asleep")
		return
	}
	answer(w, http.StatusAccepted, one.view())
}

func (one *Plot) wake() error {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.cmd != nil {
		return fmt.Errorf("%s is up already", one.ID)
	}
	if err := one.hang(); err != nil {
		return err
	}
	if one.AtWaking != nil {
		if err := one.AtWaking(one.Dir); err != nil {
			return err
		}
	}
	cmd := exec.Command(one.Command[0], one.Command[1:]...)
	cmd.Dir, cmd.Env = one.Dir, os.Environ()
	for k, v := range one.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = (*pen)(one), (*pen)(one)
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	one.cmd, one.in, one.ended, one.since, one.word, one.asleep = cmd, in, ended, time.Now(), "awake", false
	go func() {
		_ = cmd.Wait()
		one.mu.Lock()
		one.cmd, one.word = nil, "asleep"
		again := one.Watchdog && !one.asleep
		one.mu.Unlock()
		close(ended)
		if again {
			time.Sleep(300 * time.Millisecond)
			_ = one.wake() // somebody else may have
		}
	}()
	return nil
}

// keepSchedule restarts the server again and again, and wakes one that sleeps.
func (one *Plot) keepSchedule(over chan struct{}) {
	for {
		select {
		case <-over:
			return
		case <-time.After(one.Every):
		}
		one.Restart()
	}
}

// Restart has the server sleep and wake, whatever it did before.
func (one *Plot) Restart() {
	one.mu.Lock()
	ended, up := one.ended, one.cmd != nil
	one.mu.Unlock()
	if up {
		one.sleep()
		<-ended
	}
	_ = one.wake() // somebody else may have
}

// sleep asks the server to end, and kills it when it does not.
func (one *Plot) sleep() {
	one.mu.Lock()
	cmd, in, ended, wait := one.cmd, one.in, one.ended, one.KillsAfter
	if cmd == nil {
		one.mu.Unlock()
		return
	}
	one.asleep, one.word = true, "dozing"
	one.mu.Unlock()
	if wait == 0 {
		wait = time.Minute
	}
	switch {
	case one.StopLine != "":
		_, _ = io.WriteString(in, one.StopLine+"\n") // it may have ended, here and below
	case one.StopSignal != 0:
		_ = syscall.Kill(-cmd.Process.Pid, one.StopSignal)
	default:
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
	}
	select {
	case <-ended:
	case <-time.After(wait):
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	}
}

func (p *Provider) whisper(w http.ResponseWriter, r *http.Request, one *Plot) {
	var said struct{ Words string }
	if err := json.NewDecoder(r.Body).Decode(&said); err != nil {
		sorry(w, http.StatusBadRequest, "that is no whisper")
		return
	}
	one.mu.Lock()
	in, up := one.in, one.cmd != nil
	one.mu.Unlock()
	if !up {
		sorry(w, http.StatusConflict, "it sleeps")
		return
	}
	if _, err := io.WriteString(in, said.Words+"\n"); err != nil {
		sorry(w, http.StatusConflict, "it does not listen")
		return
	}
	answer(w, http.StatusOK, map[string]any{})
}

// pen writes a plot's diary.
type pen Plot

func (w *pen) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for one := range strings.SplitSeq(strings.TrimSuffix(string(p), "\n"), "\n") {
		w.entries = append(w.entries, one)
	}
	return len(p), nil
}

func (p *Provider) diary(w http.ResponseWriter, r *http.Request, one *Plot) {
	from, _ := strconv.Atoi(r.URL.Query().Get("page")) // the first, when it is none
	one.mu.Lock()
	defer one.mu.Unlock()
	from = min(max(from, 0), len(one.entries))
	lines := []map[string]string{}
	for _, e := range one.entries[from:min(from+500, len(one.entries))] {
		lines = append(lines, map[string]string{"entry": e})
	}
	answer(w, http.StatusOK, map[string]any{"lines": lines, "nextPage": strconv.Itoa(from + len(lines))})
}

// paint sets the world's name on a plot's page.
func (p *Provider) paint(w http.ResponseWriter, r *http.Request, one *Plot) {
	var wish struct {
		WorldName string `json:"worldName"`
	}
	if err := json.NewDecoder(r.Body).Decode(&wish); err != nil || wish.WorldName == "" {
		sorry(w, http.StatusBadRequest, "a sign has a name on it")
		return
	}
	one.mu.Lock()
	one.sign = wish.WorldName
	one.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{})
}

const worldKey = "world.folder="

// world is the world that a plot's settings file names.
func (one *Plot) world() string {
	if one.Settings == "" {
		return "none"
	}
	text, _ := os.ReadFile(filepath.Join(one.Dir, one.Settings)) // it may be made later
	for line := range strings.Lines(string(text)) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), worldKey); ok {
			return name
		}
	}
	return "none"
}

// hang writes the sign into the plot's settings file, whatever stood there; the lock is held.
func (one *Plot) hang() error {
	if one.Settings == "" {
		return nil
	}
	if one.sign == "none" {
		one.sign = one.world()
	}
	file := filepath.Join(one.Dir, one.Settings)
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	lines := strings.Split(string(text), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, worldKey) {
			lines[i] = worldKey + one.sign
		}
	}
	return os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o644)
}
