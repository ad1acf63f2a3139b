package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"reshard/internal/api"
	"reshard/internal/core/fault"
	"reshard/internal/pack"
	"reshard/internal/service"
	"reshard/web"
)

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: `Runs the service until SIGINT or SIGTERM. Game servers that it has started go on
running when it ends, and it finds them again when it comes back. Changeovers
that were cut short are finished or undone at the start.

At the very first start it makes the user admin and writes a password into
DATA/first-sign-in.txt.

Examples:
  reshard serve --data /var/lib/reshard --database postgres://reshard@127.0.0.1/reshard
  RESHARD_DATABASE=postgres://… reshard serve --data /var/lib/reshard --start-servers`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "`FOLDER` for the vault, consoles and logs", Required: true, Sources: cli.EnvVars("RESHARD_DATA")},
			&cli.StringFlag{Name: "database", Usage: "PostgreSQL `URL`", Required: true, Sources: cli.EnvVars("RESHARD_DATABASE")},
			&cli.StringFlag{Name: "listen", Usage: "`ADDRESS` to listen on; put TLS in front of it when that is not loopback", Value: "127.0.0.1:8474", Sources: cli.EnvVars("RESHARD_LISTEN")},
			&cli.BoolFlag{Name: "start-servers", Usage: "start servers that should run and do not"},
			&cli.DurationFlag{Name: "keep-aside", Value: 14 * 24 * time.Hour, Usage: "how long what changeovers set aside is kept; 0: until a person removes it"},
			&cli.StringFlag{Name: "largest-arrival", Value: "64 GiB", Usage: "`SIZE` of a world, unpacked, that is still taken in"},
			&cli.IntFlag{Name: "most-files", Value: 200_000, Usage: "`NUMBER` of files of a world that are still taken in"},
			&cli.Int64Flag{Name: "most-packed", Value: 200, Usage: "how many `TIMES` as large an archive may be unpacked, once that is more than 1 GiB"},
			&cli.IntFlag{Name: "longest-name", Value: 1024, Usage: "longest path in an archive, in `BYTES`"},
			&cli.StringFlag{Name: "games", Usage: "`FOLDER` with profiles of your own (*.yaml)", Sources: cli.EnvVars("RESHARD_GAMES")},
			&cli.BoolFlag{Name: "games-override", Usage: "let a profile of your own replace a shipped one of the same id"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
			defer stop()
			largest, err := humanize.ParseBytes(c.String("largest-arrival"))
			if err != nil || largest == 0 || largest > 1<<62 {
				return usage("--largest-arrival %q is no size; use one such as 64 GiB", c.String("largest-arrival"))
			}
			d, err := Serve(ctx, ServeConfig{
				Limits: pack.Limits{Entries: c.Int("most-files"), Bytes: int64(largest), Ratio: c.Int64("most-packed"), Name: c.Int("longest-name")}, //nolint:gosec // bounded above
				Data:   c.String("data"), Database: c.String("database"), Listen: c.String("listen"),
				StartServers: c.Bool("start-servers"), KeepAside: c.Duration("keep-aside"), Log: a.Err, Games: c.String("games"), GamesOverride: c.Bool("games-override"),
			})
			if err != nil {
				return err
			}
			a.print("Reshard listens on %s\n", d.Address)
			if d.FirstSignIn != "" {
				a.print("The first sign-in is in %s\n", d.FirstSignIn)
			}
			<-ctx.Done()
			return d.Close()
		},
	}
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
	Limits pack.Limits
	// Games is a folder of profiles beside the shipped ones, "" for none.
	Games         string
	GamesOverride bool
	// FirstUser and FirstPassword make the first user; empty: admin with a
	// random password, written to first-sign-in.txt.
	FirstUser, FirstPassword string
	Log                      io.Writer
	// Trace is told each point of every changeover; tests cut it there.
	Trace func(point string)
}

// Daemon is a running service with its listener.
type Daemon struct {
	Address     string // http://host:port
	FirstSignIn string // file with the first password, when one was just made
	Service     *service.Service
	http        *http.Server
	stop        context.CancelFunc
}

// Serve starts a service; ctx bounds the start only.
func Serve(ctx context.Context, c ServeConfig) (*Daemon, error) {
	log := slog.New(slog.NewTextHandler(c.Log, nil))
	documents, err := profilesWith(c.Games, c.GamesOverride)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, &fault.Error{Code: fault.Invalid, Op: "listen on", Path: c.Listen, Err: err, Next: "Choose another address with --listen, or stop what listens there."}
	}
	s, err := service.Open(ctx, service.Config{
		Data: c.Data, Database: c.Database, Games: documents,
		StartServers: c.StartServers, KeepAside: c.KeepAside, Limits: c.Limits, Log: log, Trace: c.Trace,
	})
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	d := &Daemon{Address: "http://" + listener.Addr().String(), Service: s}
	if d.FirstSignIn, err = firstUser(ctx, s, c); err != nil {
		return nil, errors.Join(err, s.Close(), listener.Close())
	}
	// Event streams end when this context does, so that Shutdown need not wait
	// for people who only watch.
	base, stop := context.WithCancel(context.WithoutCancel(ctx))
	d.stop = stop
	d.http = &http.Server{
		Handler: api.Handler(s, web.Console(), log), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return base }, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	go func() {
		if err := d.http.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			log.Error("listening ended", "error", err)
		}
	}()
	return d, nil
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
	return errors.Join(err, d.Service.Close())
}

func firstUser(ctx context.Context, s *service.Service, c ServeConfig) (file string, err error) {
	users, err := s.Users(ctx)
	if err != nil || len(users) > 0 {
		return "", err
	}
	if c.FirstUser != "" {
		return "", s.AddUser(ctx, c.FirstUser, c.FirstPassword)
	}
	password := randomPassword()
	file = filepath.Join(c.Data, "first-sign-in.txt")
	if err := os.WriteFile(file, fmt.Appendf(nil, "user      admin\npassword  %s\n", password), 0o600); err != nil {
		return "", fault.Wrap(fault.Internal, "write", file, err)
	}
	return file, s.AddUser(ctx, "admin", password)
}

func randomPassword() string {
	b := make([]byte, 9)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}
