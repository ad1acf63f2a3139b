package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"reshard/games"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/pgserver"
	"reshard/internal/wire"
)

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run a service with made-up servers and worlds to try everything on",
		Description: `Starts a private PostgreSQL, the service and the servers of the Tollen Valley
Allotment Society, all on loopback, and prints where the console is, a sign-in
and the commands to try first. Ctrl-C ends all that it started. What happens in
it is kept for the next start.

Examples:
  reshard demo --data .demo
  make demo         builds first
  make demo-reset   starts afresh`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "`FOLDER` to keep the demo in", Value: ".demo"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			data, err := filepath.Abs(c.String("data"))
			if err != nil {
				return err
			}
			return a.demo(ctx, data)
		},
	}
}

// demoState is what the demo keeps between starts.
type demoState struct {
	Port     int    `json:"port"`
	User     string `json:"user"`
	Password string `json:"password"`
	Loaded   bool   `json:"loaded"`
	// Running are the servers that Ctrl-C stopped and the next start starts.
	Running []string `json:"running"`
}

func (a *app) demo(ctx context.Context, data string) (err error) {
	standin, err := standinProgram()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(data, 0o755); err != nil {
		return fault.Wrap(fault.Internal, "prepare", data, err)
	}
	a.print("Starting PostgreSQL …\n")
	pg, err := pgserver.Start(ctx, postgresFolder(data))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, pg.Stop()) }()
	database, err := pg.Database(ctx, "reshard")
	if err != nil {
		return err
	}
	// docs/backups.md goes back to a store on a new machine, which has an empty database of its own.
	fresh, err := pg.Database(ctx, "fresh")
	if err == nil {
		err = os.WriteFile(filepath.Join(data, "fresh.env"), []byte("FRESH='"+fresh+"'\n"), 0o600)
	}
	if err != nil {
		return err
	}
	state, err := readDemoState(data)
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fault.Wrap(fault.Internal, "open", data, err)
	}
	defer log.Close() //nolint:errcheck // only a log
	a.print("Starting the service …\n")
	d, err := Serve(ctx, ServeConfig{
		Data: filepath.Join(data, "service"), Database: database, Listen: fmt.Sprintf("127.0.0.1:%d", state.Port),
		StartServers: true, KeepAside: 14 * 24 * time.Hour, FirstUser: state.User, FirstPassword: state.Password,
		Log: log,
	})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	api, err := a.demoSignIn(ctx, d, data, state)
	if err != nil {
		return err
	}
	machine, err := startMoor(standin, data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, machine.end()) }()
	if machine == nil {
		a.print("There is no second machine: openssh-server or tmux is not installed.\n")
	}
	if err := machine.introduce(ctx, api); err != nil {
		return err
	}
	if err := a.demoLoad(ctx, api, data, standin, machine, &state); err != nil {
		// What has been started so far is stopped: a demo leaves no process behind.
		_, serr := stopAll(context.WithoutCancel(ctx), api)
		return errors.Join(err, serr)
	}
	a.demoWords(ctx, api, d, data, state)
	<-ctx.Done()
	a.print("\nStopping the game servers, the service and PostgreSQL …\n")
	running, err := stopAll(context.WithoutCancel(ctx), api)
	state.Running = running
	return errors.Join(err, state.write(data))
}

// standinProgram is built beside this one.
func standinProgram() (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", fault.Wrap(fault.Internal, "find", "this program", err)
	}
	p := filepath.Join(filepath.Dir(self), "standin")
	if _, err := os.Stat(p); err != nil {
		return "", fault.New(fault.NotFound, "find", p, "the made-up game is not built").With("Run: make build")
	}
	return p, nil
}

// postgresFolder is in the demo's folder where the user postgres can reach it;
// root's own folders are closed to that user, so there it goes to /var/tmp.
func postgresFolder(data string) string {
	if os.Geteuid() != 0 {
		return filepath.Join(data, "postgres")
	}
	for dir := data; dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			return filepath.Join("/var/tmp", "reshard-demo"+strings.ReplaceAll(data, "/", "-"))
		}
	}
	return filepath.Join(data, "postgres")
}

func readDemoState(data string) (demoState, error) {
	var s demoState
	file := filepath.Join(data, "demo.json")
	raw, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		s = demoState{User: "warden", Password: randomPassword()}
	case err != nil:
		return s, fault.Wrap(fault.Internal, "read", file, err)
	default:
		if err := json.Unmarshal(raw, &s); err != nil {
			return s, fault.New(fault.Invalid, "read", file, "it is damaged").With("Start afresh: make demo-reset")
		}
	}
	// The same port as before, if it is still free, so that an open console
	// page goes on working.
	if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port)); err == nil {
		s.Port = l.Addr().(*net.TCPAddr).Port
		err = l.Close()
		return s, errors.Join(err, s.write(data))
	}
	s.Port = 0
	return s, s.write(data)
}

func (s demoState) write(data string) error {
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(data, "demo.json"), raw, 0o600)
}

func (a *app) demoSignIn(ctx context.Context, d *Daemon, data string, s demoState) (*client.Client, error) {
	api, err := client.New(d.Address, "")
	if err != nil {
		return nil, err
	}
	token, err := api.SignIn(ctx, s.User, s.Password, "demo")
	if err != nil {
		return nil, err
	}
	err = writeSignedIn(filepath.Join(data, "client.json"),
		signedIn{Address: d.Address, User: s.User, Token: token.Secret})
	if err != nil {
		return nil, err
	}
	return client.New(d.Address, token.Secret)
}

func (a *app) demoLoad(ctx context.Context, api *client.Client, data, standin string, elsewhere *moor,
	s *demoState,
) error {
	if s.Loaded {
		failed := make([]string, len(s.Running))
		var starts sync.WaitGroup
		for i, name := range s.Running {
			starts.Go(func() {
				if _, err := api.StartServer(ctx, name, wire.StartServer{}); err != nil {
					failed[i], _ = fault.Words(err)
				}
			})
		}
		starts.Wait()
		for i, what := range failed {
			if what != "" {
				a.print("%s does not start: %s\n", s.Running[i], what)
			}
		}
		return nil
	}
	a.print("Making the worlds and servers of the Tollen Valley Allotment Society …\n")
	out, err := exec.CommandContext(ctx, standin, "demo-data", data).Output()
	if err != nil {
		return &fault.Error{
			Code: fault.Internal,
			Op:   "make",
			Path: "demo data",
			Err:  err,
			Next: "Start afresh: make demo-reset",
		}
	}
	var made struct {
		Servers []wire.NewServer `json:"servers"`
		Send    []string         `json:"send"`
	}
	if err := json.Unmarshal(out, &made); err != nil {
		return fault.Wrap(fault.Internal, "read", "demo data", err)
	}
	var starts errgroup.Group
	for _, m := range made.Servers {
		if m.Host != "" && !elsewhere.has(m.Host) {
			continue
		}
		_, err := api.AddServer(ctx, m)
		if err != nil && fault.CodeOf(err) != fault.Exists {
			return err
		}
		if m.Control.By == server.ByHand { // nobody runs it
			if _, err := api.SayStopped(ctx, m.Name); err != nil {
				return err
			}
			continue
		}
		starts.Go(func() error {
			_, err := api.StartServer(ctx, m.Name, wire.StartServer{NewWorld: true})
			return err
		})
	}
	for _, file := range made.Send {
		if _, err := a.send(ctx, api, file, "", games.All()); err != nil {
			return errors.Join(err, starts.Wait())
		}
	}
	if err := starts.Wait(); err != nil {
		return err
	}
	s.Loaded = true
	return s.write(data)
}

func (a *app) demoWords(ctx context.Context, api *client.Client, d *Daemon, data string, s demoState) {
	a.print("\nReshard's demo is up.\n\n")
	a.print("  console    %s\n  sign in    %s / %s\n\n", d.Address, s.User, s.Password)
	if list, err := api.Servers(ctx, wire.ServerQuery{}); err == nil {
		a.listServers(list)
	}
	self, _ := os.Executable() // shown only
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, self); err == nil && !strings.HasPrefix(rel, "..") {
			self = rel
		}
		if rel, err := filepath.Rel(wd, data); err == nil && !strings.HasPrefix(rel, "..") {
			data = "$PWD/" + rel
		}
	}
	a.print("\nIn another terminal, first:\n  export RESHARD_CONFIG=%s/client.json\n\nThen try:\n", data)
	for _, c := range [][2]string{
		{"servers", "what runs"},
		{"worlds", "what the library keeps"},
		{"inspect " + strings.Replace(data, "$PWD/", "", 1) + "/samples/fen-garden.zip", "what a file is (offline)"},
		{"fit fen-garden north-plot", "would it fit?"},
		{"put fen-garden north-plot", "put it there; then reshard undo as it says"},
		{"fit old-glasshouse north-plot", "one that does not fit"},
		{"fit orchard north-plot", "one that asks"},
		{"reset north-plot --name spring --seed random", "a new world; the old one stays"},
		{"switch north-plot winter-beds", "and back to the old one"},
		{"clone north-plot terraces --folder copy --plan-only", "from one server to another"},
		{"hosts show moor", "a second machine, over SSH"},
		{"put fen-garden fen-plot", "a world onto it"},
		{"put fen-garden sedge-plot", "by SFTP alone: you stop and start it"},
		{"hosts show quay", "a third machine, over FTP and its provider's own interface"},
		{"put fen-garden withy-plot", "a world onto a rented server"},
	} {
		a.print("  %s %-52s # %s\n", self, c[0], c[1])
	}
	a.print("\nCtrl-C ends everything it started; the next start keeps what you did.\n")
}

// stopAll stops every running server, all at the same time, and names them. It waits for a changeover that is under way
// and cancels one that waits for a person: no process of the demo is left behind.
func stopAll(ctx context.Context, api *client.Client) (stopped []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	list, err := api.Servers(ctx, wire.ServerQuery{})
	errs := make([]error, len(list))
	ran := make([]bool, len(list))
	var stops sync.WaitGroup
	for i, s := range list {
		stops.Go(func() {
			if now, lerr := api.Server(ctx, s.Name); lerr == nil { // a list tells what was known
				s = now.Server
			}
			if s.Changeover != 0 {
				_, _ = api.Act(ctx, s.Changeover, "cancel") // one that switches already cannot be; it ends by itself
			}
			if (s.State == "stopped" || s.State == "exited" || s.Control.By == server.ByHand) && s.Changeover == 0 {
				return
			}
			ran[i], errs[i] = true, stopOne(ctx, api, s.Name)
		})
	}
	stops.Wait()
	for i, s := range list {
		if ran[i] {
			stopped = append(stopped, s.Name)
		}
	}
	return stopped, errors.Join(append(errs, err)...)
}

// stopPatience is how long the end of the demo waits for changeovers and for games that do not stop.
const stopPatience = 3 * time.Second

// stopOne stops a server, once no changeover is at work on it any more. One that is held, so that Reshard leaves it
// alone, or that does not stop, gets a signal to end.
func stopOne(ctx context.Context, api *client.Client, name string) error {
	patient, done := context.WithTimeout(ctx, stopPatience)
	defer done()
	for {
		_, err := api.StopServer(patient, name, wire.StopServer{})
		if err == nil || patient.Err() == nil && fault.CodeOf(err) != fault.Busy {
			return err
		}
		select {
		case <-patient.Done():
			var pid int
			now, serr := api.Server(ctx, name)
			if _, perr := fmt.Sscanf(now.Server.Process, "process %d", &pid); serr == nil && perr == nil && pid > 0 {
				return end(pid)
			}
			return err
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// end ends a process: it is asked to, and made to after a second.
func end(pid int) error {
	err := syscall.Kill(pid, syscall.SIGTERM)
	for begun := time.Now(); err == nil && time.Since(begun) < time.Second; time.Sleep(50 * time.Millisecond) {
		err = syscall.Kill(pid, 0)
	}
	if err == nil {
		err = syscall.Kill(pid, syscall.SIGKILL)
	}
	if errors.Is(err, syscall.ESRCH) {
		return nil
	}
	return err
}
