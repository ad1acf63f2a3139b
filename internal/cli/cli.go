// Package cli is the command line. It uses nothing of the service but its API,
// through package client; only serve and demo run a service themselves, and
// inspect works offline.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"unicode"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"reshard/internal/build"
	"reshard/internal/client"
	"reshard/internal/core/fault"
)

// The exit codes, as docs/guide.md and --help give them.
const (
	ExitDone        = 0
	ExitFailed      = 1 // failed; a changeover was undone
	ExitUsage       = 2
	ExitBlocked     = 3
	ExitNeedsChoice = 4
	ExitUnreachable = 5 // no answer, not signed in, or a state that cannot be told
	ExitNotAllowed  = 6 // you may not
	ExitRefused     = 7 // the host does not let the service
)

// IO is where a command reads and writes; tests inject their own.
type IO struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string
}

// app is what every command has at hand.
type app struct {
	IO
	// screen takes the moving status line, which is the only output with
	// control characters of our own.
	screen io.Writer
	json   bool
	plain  bool // no cursor movement: output is not a terminal
	width  int
	total  int64 // of the progress line that is shown
}

// Run runs a command line (without the program's name) and gives the exit code.
func Run(ctx context.Context, args []string, streams IO) int {
	a := &app{IO: streams, plain: true, width: 110}
	if f, ok := streams.Out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		a.plain = false
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 40 {
			a.width = w
		}
	}
	a.Out, a.screen, a.Err = harmless{streams.Out}, streams.Err, harmless{streams.Err}
	err := a.command().Run(ctx, append([]string{"reshard"}, args...))
	return a.finish(err)
}

// harmless takes control characters out of what is printed: titles, names and
// log lines come from strangers, and a terminal obeys them.
type harmless struct{ w io.Writer }

func (h harmless) Write(p []byte) (int, error) {
	clean := bytes.Map(func(r rune) rune {
		if (unicode.IsControl(r) && r != '\n' && r != '\t') || unicode.Is(unicode.Bidi_Control, r) {
			return '�'
		}
		return r
	}, p)
	if _, err := h.w.Write(clean); err != nil {
		return 0, err
	}
	return len(p), nil
}

// usageError is a wrong command line.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

func usage(format string, args ...any) error { return usageError{fmt.Sprintf(format, args...)} }

// complain says what went wrong and what to do next.
func (a *app) complain(err error) {
	what, next := fault.Words(err)
	if a.json {
		_ = json.NewEncoder(a.Err).Encode(map[string]string{
			"code": string(fault.CodeOf(err)),
			"what": what,
			"next": next,
		})
	} else {
		a.wrappedTo(a.Err, "reshard: ", what)
		if next != "" {
			a.wrappedTo(a.Err, "         ", next)
		}
	}
}

// exitQuietly ends with a code after everything has been said.
type exitQuietly int

func (e exitQuietly) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// finish says an error in words, and gives the exit code.
func (a *app) finish(err error) int {
	if err == nil {
		return ExitDone
	}
	var quiet exitQuietly
	if errors.As(err, &quiet) {
		return int(quiet)
	}
	var wrong usageError
	if errors.As(err, &wrong) {
		fmt.Fprintf(a.Err, "reshard: %s\n", wrong.text)
		return ExitUsage
	}
	code := fault.CodeOf(err)
	if code == fault.Internal {
		var e *fault.Error
		if !errors.As(err, &e) { // not ours: the command line parser's
			fmt.Fprintf(a.Err, "reshard: %s\n", err)
			return ExitUsage
		}
	}
	a.complain(err)
	return exitOf(code)
}

func exitOf(code fault.Code) int {
	switch code {
	case fault.Blocked:
		return ExitBlocked
	case fault.NeedsChoice:
		return ExitNeedsChoice
	case fault.Unreachable, fault.Misbehaving, fault.TooSlow, fault.StateUnknown, fault.StandsBy, fault.Denied:
		return ExitUnreachable
	case fault.NotAllowed:
		return ExitNotAllowed
	case fault.Refused:
		return ExitRefused
	}
	return ExitFailed
}

// A command's help is the same wherever --help stands in its line: the parser takes a first argument for the
// name of a command to tell of.
func init() {
	cli.ShowCommandHelp = func(ctx context.Context, c *cli.Command, name string) error {
		if up := c.Lineage(); c.Command(name) == nil && len(up) > 1 {
			c, name = up[1], c.Name
		}
		return cli.DefaultShowCommandHelp(ctx, c, name)
	}
}

func (a *app) command() *cli.Command {
	return &cli.Command{
		Name:      "reshard",
		Version:   build.Name(),
		Usage:     "move, replace, back up and prove the worlds of game servers",
		Writer:    a.Out,
		ErrWriter: a.Err,
		Description: `Every mismatch is seen before the server stops, the stop is as short as a
rename, the result is proven, and every step can be undone.

First steps:
  reshard sign-in --address http://127.0.0.1:8474 --user ada
  reshard inspect "Fen Garden.zip"        what is it? (offline)
  reshard send "Fen Garden.zip"           store it in the library
  reshard fit fen-garden north-plot       would it fit that server?
  reshard put fen-garden north-plot       put it there
  reshard reset north-plot --seed random  let the server make a new world
  reshard switch north-plot winter        go over to a world that stands there
  reshard undo 12                         take changeover 12 back

Exit codes: 0 done, 1 failed and undone, 2 usage, 3 blocked by fit,
4 needs a choice, 5 not reachable, not signed in or a state that cannot be told,
6 you may not, 7 the host does not let the service.`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "json", Usage: "print JSON instead of text", Destination: &a.json},
		},
		Commands: []*cli.Command{
			a.inspectCommand(), a.findCommand(), a.sendCommand(), a.arrivalsCommand(), a.worldsCommand(),
			a.compareCommand(), a.landmarksCommand(), a.fitCommand(), a.putCommand(), a.restoreCommand(),
			a.cloneCommand(),
			a.resetCommand(), a.switchCommand(), a.renameCommand(), a.takeAwayCommand(), a.undoCommand(),
			a.backupCommand(), a.backupsCommand(), a.rulesCommand(), a.alertsCommand(), a.storesCommand(),
			a.changeoversCommand(), a.tidyCommand(),
			a.hostsCommand(), a.serversCommand(), a.vaultCommand(), a.gamesCommand(), a.providersCommand(),
			a.usersCommand(),
			a.signInCommand(),
			a.signOutCommand(),
			a.serveCommand(), a.demoCommand(), a.apiCommand(), // the first two where the service runs
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {}, // finish decides, once
		OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
			return usageError{err.Error()}
		},
	}
}

// args checks how many arguments a command got.
func args(c *cli.Command, names ...string) ([]string, error) {
	if c.Args().Len() != len(names) {
		return nil, usage("%s needs %s; see %s --help", below(c), orNothing(names), c.FullName())
	}
	return c.Args().Slice(), nil
}

// ready checks the arguments and opens the service that the user is signed in to.
func (a *app) ready(c *cli.Command, names ...string) ([]string, *client.Client, error) {
	given, err := args(c, names...)
	if err != nil {
		return nil, nil, err
	}
	api, err := a.client()
	return given, api, err
}

// listing is the action of a command that lists things and has others below it.
func listing[T any](a *app, list func(context.Context, *client.Client, *cli.Command) (T, error),
	words func(T)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return usage("%s has no command %q; see %s --help", below(c), c.Args().First(), c.FullName())
		}
		api, err := a.client()
		if err != nil {
			return err
		}
		got, err := list(ctx, api, c)
		if err != nil {
			return err
		}
		return a.show(got, func() { words(got) })
	}
}

// below names a command as people call it, without the program's name.
func below(c *cli.Command) string { return strings.TrimPrefix(c.FullName(), "reshard ") }

func orNothing(names []string) string {
	if len(names) == 0 {
		return "no arguments"
	}
	return strings.Join(names, " and ")
}

// signedIn is the file that keeps the client's address and token.
type signedIn struct {
	Address string `json:"address"`
	User    string `json:"user"`
	Token   string `json:"token"`
}

func (a *app) configFile() string {
	if f := a.Env("RESHARD_CONFIG"); f != "" {
		return f
	}
	return filepath.Join(configFolder(runtime.GOOS, a.Env), "reshard", "client.json")
}

// configFolder is where a system keeps what programs note for a user.
func configFolder(system string, env func(string) string) string {
	switch base := env("XDG_CONFIG_HOME"); {
	case base != "":
		return base
	case system == "windows":
		return env("APPDATA")
	case system == "darwin":
		return filepath.Join(env("HOME"), "Library", "Application Support")
	}
	return filepath.Join(env("HOME"), ".config")
}

// client opens the service that this user has signed in to. RESHARD_ADDRESS and
// RESHARD_TOKEN stand above the file.
func (a *app) client() (*client.Client, error) {
	var s signedIn
	data, err := os.ReadFile(a.configFile())
	if err == nil {
		if err := json.Unmarshal(data, &s); err != nil {
			return nil, fault.Wrap(fault.Invalid, "read", a.configFile(), err)
		}
	}
	if v := a.Env("RESHARD_ADDRESS"); v != "" {
		s.Address = v
	}
	if v := a.Env("RESHARD_TOKEN"); v != "" {
		s.Token = v
	}
	if s.Address == "" || s.Token == "" {
		return nil, fault.New(fault.Denied, "read", a.configFile(), "not signed in to any service")
	}
	return client.New(s.Address, s.Token)
}

// writeSignedIn keeps an address and token for later commands.
func writeSignedIn(file string, s signedIn) error {
	data, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fault.Wrap(fault.Internal, "write", file, err)
	}
	return fault.Wrap(fault.Internal, "write", file, os.WriteFile(file, append(data, '\n'), 0o600))
}

func (a *app) print(format string, args ...any) { fmt.Fprintf(a.Out, format, args...) }

// show prints a value as JSON when that was asked for, else as words do.
func (a *app) show(v any, words func()) error {
	if !a.json {
		words()
		return nil
	}
	enc := json.NewEncoder(a.Out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// confirm asks a person; without a person at the terminal it refuses.
func (a *app) confirm(question string) (bool, error) {
	answer, err := a.ask(question+" [y/N] ", "nobody is there to ask; read the plan above and add --yes")
	answer = strings.ToLower(answer)
	return answer == "y" || answer == "yes", err
}

// ask has a person type a word; without one at the terminal it refuses with words.
func (a *app) ask(question, nobody string) (string, error) {
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usage("%s", nobody)
	}
	a.print("%s", question)
	var answer string
	_, _ = fmt.Fscanln(a.In, &answer) // an empty line is an answer too: no
	return answer, nil
}

// listFlags are the flags that every long list has.
func listFlags(orders string) []cli.Flag {
	return []cli.Flag{
		&cli.IntFlag{Name: "limit", Local: true, Usage: "at most `N`; 0: all"},
		&cli.StringFlag{Name: "order", Local: true, Usage: "the `ORDER`: " + orders},
	}
}
