package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/api"
	"reshard/internal/archive"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/host"
	"reshard/internal/records"
	"reshard/internal/service"
	"reshard/web"
)

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: `Runs the service until SIGINT or SIGTERM. Game servers that it has started go on
running when it ends, and it finds them again when it comes back. Changeovers
that were cut short are finished or undone at the start.

One service acts at a time. A second one on the same database and data folder
stands by, refuses calls and says so, and takes over by itself when the first is
gone or has not reached the database for ten seconds.

At the very first start it makes the user admin and writes a password into
DATA/first-sign-in.txt.

Examples:
  reshard serve --data /var/lib/reshard --database postgres://reshard@127.0.0.1/reshard
  RESHARD_DATABASE=postgres://… reshard serve --data /var/lib/reshard --start-servers`,
		Flags: serveFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			boundMemory(ctx)
			largest, err := humanize.ParseBytes(c.String("largest-arrival"))
			if err != nil || largest == 0 || largest > 1<<62 {
				return usage("--largest-arrival %q is no size; use one such as 64 GiB", c.String("largest-arrival"))
			}
			handler, err := logHandler(a.Err, c.String("log"), c.String("log-level"))
			if err != nil {
				return err
			}
			proxies, err := proxiesOf(c.StringSlice("behind-proxy"))
			if err != nil {
				return err
			}
			agent := ""
			if c.Bool("ssh-agent") {
				if agent = os.Getenv("SSH_AUTH_SOCK"); agent == "" {
					return usage("--ssh-agent needs SSH_AUTH_SOCK, which is not set in this session")
				}
			}
			d, err := Serve(ctx, ServeConfig{
				SSHAgent: agent, Proxies: proxies, LogTo: handler,
				Limits: archive.Limits{
					Entries: c.Int("most-files"),
					Bytes:   int64(largest),
					Ratio:   c.Int64("most-packed"),
					Name:    c.Int("longest-name"),
				}, //nolint:gosec // bounded above
				Data: c.String("data"), Database: c.String("database"), Listen: c.String("listen"),
				StartServers: c.Bool("start-servers"), MoveHere: c.Bool("move-here"),
				WaitForDatabase: c.Duration("wait-for-database"),
				KeepAside:       c.Duration("keep-aside"), Games: c.String("games"),
				GamesOverride: c.Bool("games-override"),
			})
			if err != nil {
				return err
			}
			switch who := d.Acting(); {
			case who != "" && d.Address == "":
				a.print("Reshard stands by: %s. It takes over by itself when that is gone, and then listens on %s.\n",
					who, c.String("listen"))
			case who != "":
				a.print("Reshard stands by on %s: %s. It takes over by itself when that is gone.\n", d.Address, who)
			default:
				a.print("Reshard listens on %s\n", d.Address)
			}
			if d.FirstSignIn != "" {
				a.print("The first sign-in is in %s\n", d.FirstSignIn)
			}
			if d.Acting() != "" {
				select {
				case <-ctx.Done():
				case err := <-d.up:
					if err != nil {
						return errors.Join(err, d.Close())
					}
					a.print("Reshard has taken over, and listens on %s\n", d.Address)
				}
			}
			<-ctx.Done()
			return d.Close()
		},
	}
}

// serveFlags are the options of a service.
func serveFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:     "data",
			Usage:    "`FOLDER` for the vault, consoles and logs",
			Required: true,
			Sources:  cli.EnvVars("RESHARD_DATA"),
		},
		&cli.StringFlag{
			Name:     "database",
			Usage:    "PostgreSQL `URL`",
			Required: true,
			Sources:  cli.EnvVars("RESHARD_DATABASE"),
		},
		&cli.StringFlag{
			Name:    "listen",
			Usage:   "`ADDRESS` to listen on; put TLS in front of it when that is not loopback",
			Value:   "127.0.0.1:8474",
			Sources: cli.EnvVars("RESHARD_LISTEN"),
		},
		&cli.BoolFlag{
			Name: "start-servers",
			Usage: "start servers that should run and do not, each once: at the start, or when what holds it ends or " +
				"its host answers",
		},
		&cli.DurationFlag{
			Name: "wait-for-database", Value: 5 * time.Minute,
			Usage: "how long the start waits for a database that does not answer yet",
		},
		&cli.DurationFlag{
			Name:  "keep-aside",
			Value: 14 * 24 * time.Hour,
			Usage: "how long what changeovers set aside is kept; 0: until a person removes it",
		},
		&cli.StringFlag{
			Name:  "largest-arrival",
			Value: "64 GiB",
			Usage: "`SIZE` of a world, unpacked, that is still taken in",
		},
		&cli.IntFlag{
			Name:  "most-files",
			Value: 200_000,
			Usage: "`NUMBER` of files of a world that are still taken in",
		},
		&cli.Int64Flag{
			Name:  "most-packed",
			Value: 200,
			Usage: "how many `TIMES` as large an archive may be unpacked, once that is more than 1 GiB",
		},
		&cli.IntFlag{Name: "longest-name", Value: 1024, Usage: "longest path in an archive, in `BYTES`"},
		&cli.StringFlag{
			Name:    "games",
			Usage:   "`FOLDER` with profiles of your own (*.yaml)",
			Sources: cli.EnvVars("RESHARD_GAMES"),
		},
		&cli.StringFlag{
			Name: "log", Value: "text", Usage: "how the log is written to standard error: `FORMAT` text or json",
			Sources: cli.EnvVars("RESHARD_LOG"),
		},
		&cli.StringFlag{
			Name: "log-level", Value: "info", Usage: "the least `LEVEL` that is logged: debug, info, warn or error",
			Sources: cli.EnvVars("RESHARD_LOG_LEVEL"),
		},
		&cli.StringSliceFlag{
			Name: "behind-proxy",
			Usage: "believe the proxy at `ADDRESS`, such as 127.0.0.1 or 10.0.0.0/24, where requests come from; for " +
				"each proxy",
		},
		&cli.BoolFlag{
			Name:  "ssh-agent",
			Usage: "let hosts be signed in to with the SSH agent of this session (SSH_AUTH_SOCK)",
		},
		&cli.BoolFlag{
			Name: "move-here",
			Usage: "take over records that were made with another data folder: only when all servers of it are " +
				"stopped",
		},
		&cli.BoolFlag{
			Name:  "games-override",
			Usage: "let a profile of your own replace a shipped one of the same id",
		},
	}
}

// proxiesOf reads addresses and networks.
func proxiesOf(list []string) (out []netip.Prefix, err error) {
	for _, text := range list {
		if ip, err := netip.ParseAddr(text); err == nil {
			out = append(out, netip.PrefixFrom(ip, ip.BitLen()))
			continue
		}
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, usage("--behind-proxy %q is neither an address nor a network; use one such as 127.0.0.1 "+
				"or 10.0.0.0/24", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// logHandler writes the log as a person, or a program, wants it.
func logHandler(to io.Writer, format, level string) (slog.Handler, error) {
	var o slog.HandlerOptions
	var least slog.Level
	if err := least.UnmarshalText([]byte(level)); err != nil {
		return nil, usage("--log-level %q is none of debug, info, warn and error", level)
	}
	o.Level = least
	switch format {
	case "text":
		return slog.NewTextHandler(to, &o), nil
	case "json":
		return slog.NewJSONHandler(to, &o), nil
	}
	return nil, usage("--log %q is neither text nor json", format)
}

func (a *app) apiCommand() *cli.Command {
	return &cli.Command{
		Name: "api", Usage: "print the description of the service's interface (OpenAPI 3.1)",
		Description: "Examples:\n  reshard api > openapi.json",
		Action: func(_ context.Context, _ *cli.Command) error {
			data, err := api.OpenAPI()
			if err != nil {
				return err
			}
			var out bytes.Buffer
			if err := json.Indent(&out, data, "", " "); err != nil {
				return err
			}
			a.print("%s\n", out.String())
			return nil
		},
	}
}

// ServeConfig is what a running service needs beside its game profiles.
type ServeConfig struct {
	Data, Database, Listen string
	StartServers           bool
	KeepAside              time.Duration
	// Limits bound what arrives; zero values are the defaults.
	Limits archive.Limits
	// Games is a folder of profiles beside the shipped ones, "" for none.
	Games         string
	GamesOverride bool
	// FirstUser and FirstPassword make the first user; empty: admin with a
	// random password, written to first-sign-in.txt.
	FirstUser, FirstPassword string
	// Log is where the log goes as text; LogTo, when it is given, has it instead.
	Log   io.Writer
	LogTo slog.Handler `json:"-"`
	// Lease is how long the service may act without hearing from the database; 0: ten
	// seconds.
	Lease time.Duration
	// WaitForDatabase is how long the start waits for a database that does not answer yet.
	WaitForDatabase time.Duration
	// MoveHere takes records of another data folder over.
	MoveHere bool
	// Kinds are the kinds of hosts that it knows; nil: all of this build.
	Kinds host.Kinds
	// Proxies are the addresses of proxies that are believed where requests come from.
	Proxies []netip.Prefix
	// SSHAgent is the socket of the agent that hosts may be signed in to with; "": none may.
	SSHAgent string
	// Patience is how long a host may take to answer one look. Defaults to ten seconds.
	Patience time.Duration
	// RulePace is how often it is looked whether a rule of backups is due; 0: every few seconds.
	RulePace time.Duration
	// Clock is the machine's, by which ages count; nil is that itself. Tests let it leap.
	Clock func() time.Time `json:"-"`
	// Disk tells how much is free on the data folder's disk, and how much it has; nil looks there.
	Disk func() (free, total int64, err error) `json:"-"`
	// Trace is told each point of every changeover; tests cut it there.
	Trace func(point string)
}

// Daemon is a service with its listener: one that acts, or one that stands by until
// another is gone.
type Daemon struct {
	Address     string // http://host:port; "" while another service has the address
	FirstSignIn string // file with the first password, when one was just made

	config   ServeConfig
	log      *slog.Logger
	games    []game.Document
	http     *http.Server
	listener net.Listener
	handler  atomic.Pointer[http.Handler]
	base     context.Context
	stop     context.CancelFunc
	acting   atomic.Pointer[string] // who acts while this one stands by
	standing chan struct{}          // told once that it stands by
	waits    atomic.Bool            // it has said that it waits for the database
	up       chan error             // how the first life of the service came up
	ended    chan error             // how the last life of the service ended
}

// What the service's own data may take before its memory is tidied more often, and what may
// lie unused before it is given back to the system, both in bytes. GOMEMLIMIT sets another
// limit (pkg.go.dev/runtime); more is still taken when it is needed.
const (
	memory = 256 << 20
	unused = 48 << 20
)

// boundMemory keeps what one large reading has left behind from adding to the next one, until
// ctx ends.
func boundMemory(ctx context.Context) {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	go func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		idle := []metrics.Sample{{Name: "/memory/classes/heap/free:bytes"}, {Name: "/memory/classes/heap/unused:bytes"},
			{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/gc/heap/live:bytes"}}
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			metrics.Read(idle)
			lies := idle[0].Value.Uint64() + idle[1].Value.Uint64()
			if objects, live := idle[2].Value.Uint64(), idle[3].Value.Uint64(); objects > live {
				lies += objects - live // most of what came since the last collection
			}
			if lies > unused {
				debug.FreeOSMemory()
			}
		}
	}()
}

// Serve starts a service; ctx bounds the start only. When another service acts on the
// same database it returns as well: the daemon then refuses calls, and takes over by
// itself when the other is gone.
func Serve(ctx context.Context, c ServeConfig) (*Daemon, error) {
	if c.LogTo == nil {
		c.LogTo = slog.NewTextHandler(c.Log, nil)
	}
	d := &Daemon{
		config:   c,
		log:      slog.New(c.LogTo),
		standing: make(chan struct{}, 1),
		up:       make(chan error, 1),
		ended:    make(chan error, 1),
	}
	var err error
	if d.games, err = profilesWith(c.Games, c.GamesOverride); err != nil {
		return nil, err
	}
	d.refuse(fault.New(fault.Unreachable, "", "", "The service is starting").With("Try again in a moment."))
	// Event streams end when this context does, so that Shutdown need not wait
	// for people who only watch.
	d.base, d.stop = context.WithCancel(context.WithoutCancel(ctx))
	d.http = &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			(*d.handler.Load()).ServeHTTP(w, r)
		}),
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return d.base }, ConnContext: api.Remember,
		ErrorLog: slog.NewLogLogger(d.log.Handler(), slog.LevelDebug),
	}
	lerr := d.listen()
	if lerr != nil && !errors.Is(lerr, syscall.EADDRINUSE) {
		return nil, lerr
	}
	go func() { d.ended <- d.live(lerr) }()
	select {
	case err := <-d.up:
		if err != nil {
			d.failed("the service does not come up", err)
			return nil, errors.Join(err, d.Close())
		}
	case <-d.standing:
		d.log.Info("stands by", "why", d.Acting())
	case <-ctx.Done():
		return nil, errors.Join(context.Cause(ctx), d.Close())
	}
	return d, nil
}

// failed logs what the service cannot go on with, and what to do.
func (d *Daemon) failed(what string, err error) {
	why, next := fault.Words(err)
	d.log.Error(what, "error", why, "next", next)
}

func (d *Daemon) listen() error {
	l, err := net.Listen("tcp", d.config.Listen)
	if err != nil {
		return &fault.Error{
			Code: fault.Invalid,
			Op:   "listen on",
			Path: d.config.Listen,
			Err:  err,
			Next: "Choose another address with --listen, or stop what listens there.",
		}
	}
	d.listener, d.Address = l, "http://"+l.Addr().String()
	go func() {
		bounded := &api.Connections{Listener: l, Proxies: d.config.Proxies}
		if err := d.http.Serve(bounded); !errors.Is(err, http.ErrServerClosed) {
			d.failed("listening ended", err)
		}
	}()
	return nil
}

// standBy has every call refused, with who acts.
func (d *Daemon) standBy(why string) {
	d.refuse(fault.New(fault.StandsBy, "", "", "This service stands by: %s", why))
}

func (d *Daemon) refuse(why error) {
	h := api.Refusing(why)
	d.handler.Store(&h)
}

// live runs one life of the service after the other: each begins when this daemon may
// act, and ends when it may not any more. How the first one came up is told to d.up.
func (d *Daemon) live(listening error) error {
	until := time.Now().Add(d.config.WaitForDatabase)
	for first := true; ; first = false {
		s, err := d.comeUp(&listening)
		for first && records.NotUpYet(err) && time.Now().Before(until) && d.base.Err() == nil {
			d.waitForDatabase(err, until)
			s, err = d.comeUp(&listening)
		}
		if first && fault.CodeOf(err) == fault.Unreachable {
			err = notUp(err, d.config.WaitForDatabase)
		}
		switch {
		case d.base.Err() != nil && s != nil:
			return s.Close()
		case d.base.Err() != nil:
			return nil // it only stood by
		case err != nil && first:
			d.up <- err
			return nil
		case err != nil:
			d.failed("the service does not come up", err)
			d.rest(time.Second)
			continue
		}
		h := api.Handler(s, web.Console(), d.log)
		d.handler.Store(&h)
		d.acting.Store(nil)
		if first {
			d.up <- nil
		}
		select {
		case <-d.base.Done():
			return s.Close()
		case <-s.Lost():
		}
		d.log.Warn("another service has taken over; this one stands by")
		d.standBy("another service has taken over")
		if err := s.Close(); err != nil {
			d.failed("closing", err)
		}
	}
}

// waitForDatabase says that it waits, and does so for a moment.
func (d *Daemon) waitForDatabase(err error, until time.Time) {
	why, _ := fault.Words(err)
	if d.waits.CompareAndSwap(false, true) {
		d.log.Warn("waits for the database", "why", why, "until", until.UTC().Format(time.RFC3339))
		d.refuse(fault.New(fault.Unreachable, "", "", "The service waits for its database").
			With("Start PostgreSQL. The service then continues."))
	}
	d.rest(time.Second)
}

// notUp is the error of a start that the database did not answer, once that has been waited for where it helps.
func notUp(err error, waited time.Duration) error {
	what, _ := fault.Words(err)
	told := fault.New(fault.Unreachable, "", "", "%s", what)
	if !records.NotUpYet(err) {
		return told.With("Check the address, the account and the database's name in --database; the log of " +
			"PostgreSQL tells why. Then start reshard serve again.")
	}
	return told.With("Check that PostgreSQL runs at the address of --database, then start reshard serve again. It " +
		"has waited " + waited.String() + "; --wait-for-database lets it wait longer.")
}

// comeUp begins a life of the service, with its first user and its address. On an error
// nothing of it is left.
func (d *Daemon) comeUp(listening *error) (*service.Service, error) {
	s, err := d.open()
	if err != nil {
		return nil, err
	}
	if file, ferr := firstUser(d.base, s, d.config); file != "" || ferr != nil {
		d.FirstSignIn, err = file, ferr
	}
	if err == nil && *listening != nil {
		*listening = d.listenAgain(s)
		err = *listening
	}
	if err != nil && d.base.Err() == nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (d *Daemon) open() (*service.Service, error) {
	c := d.config
	return service.Open(d.base, service.Config{
		Data: c.Data, Database: c.Database, Games: d.games, StartServers: c.StartServers, KeepAside: c.KeepAside,
		RulePace: c.RulePace, SSHAgent: c.SSHAgent, Proxies: c.Proxies, Patience: c.Patience,
		Clock: c.Clock, Disk: c.Disk,
		Limits: c.Limits,
		Log:    d.log, Trace: c.Trace, Address: d.Address, Lease: c.Lease, MoveHere: c.MoveHere, Kinds: c.Kinds,
		StandsBy: func(who string) {
			d.acting.Store(&who)
			d.standBy(d.Acting())
			select {
			case d.standing <- struct{}{}:
			default: // that has been told
			}
		},
	})
}

// listenAgain waits for an address that another service had. One that has it although it
// does not act may keep it for a while: this one acts meanwhile.
func (d *Daemon) listenAgain(s *service.Service) error {
	for {
		err := d.listen()
		if err == nil || d.Acting() == "" {
			return err // nobody had to be waited for: somebody else's program has the address
		}
		select {
		case <-d.base.Done():
			return err
		case <-s.Lost():
			return err
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Acting names the service that acts while this one stands by; "" when it acts itself.
func (d *Daemon) Acting() string {
	if who := d.acting.Load(); who != nil {
		return "another service acts (" + *who + ")"
	}
	return ""
}

func (d *Daemon) rest(wait time.Duration) {
	select {
	case <-d.base.Done():
	case <-time.After(wait):
	}
}

// Close ends the service: what only stages is cancelled, what switches is
// waited for; game servers go on running.
func (d *Daemon) Close() error {
	d.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err := d.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = d.http.Close()
	}
	return errors.Join(err, <-d.ended)
}

func firstUser(ctx context.Context, s *service.Service, c ServeConfig) (file string, err error) {
	users, err := s.Accounts.List(ctx)
	if err != nil || len(users) > 0 {
		return "", err
	}
	if c.FirstUser != "" {
		return "", s.Accounts.Add(ctx, c.FirstUser, c.FirstPassword)
	}
	password := randomPassword()
	file = filepath.Join(c.Data, "first-sign-in.txt")
	if err := os.WriteFile(file, []byte("user      admin\npassword  "+password+"\n"), 0o600); err != nil {
		return "", fault.Wrap(fault.Internal, "write", file, err)
	}
	return file, s.Accounts.Add(ctx, "admin", password)
}

func randomPassword() string {
	b := make([]byte, 9)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}
