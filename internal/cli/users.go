package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"reshard/internal/client"
	"reshard/internal/wire"
)

func (a *app) signInCommand() *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "sign in to a service and remember it",
		Description: `Keeps the service's address and a token in ~/.config/reshard/client.json, on Windows
in %APPDATA%, on macOS in ~/Library/Application Support, or in the file that
RESHARD_CONFIG names. RESHARD_ADDRESS and RESHARD_TOKEN stand above it.

Examples:
  reshard sign-in --address http://127.0.0.1:8474 --user ada
  reshard sign-in --address http://127.0.0.1:8474 --user ada --password-stdin < secret`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "the service's `URL`", Required: true},
			&cli.StringFlag{Name: "user", Usage: "your `NAME`", Required: true},
			passwordFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			api, err := client.New(c.String("address"), "")
			if err != nil {
				return err
			}
			password, err := a.password(c, "Password: ")
			if err != nil {
				return err
			}
			host, _ := os.Hostname() // only a label
			token, err := api.SignIn(ctx, c.String("user"), password, "command line on "+host)
			if err != nil {
				return err
			}
			if err := writeSignedIn(a.configFile(),
				signedIn{Address: c.String("address"), User: token.User, Token: token.Secret}); err != nil {
				return err
			}
			a.print("Signed in to %s as %s until %s.\nNext: reshard servers\n", c.String("address"), token.User,
				when(token.Expires))
			return nil
		},
	}
}

func (a *app) signOutCommand() *cli.Command {
	return &cli.Command{
		Name: "sign-out", Usage: "end this computer's token",
		Description: "Examples:\n  reshard sign-out",
		Action: func(ctx context.Context, _ *cli.Command) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if err := api.SignOut(ctx); err != nil {
				return err
			}
			if err := os.Remove(a.configFile()); err != nil && !os.IsNotExist(err) {
				return err
			}
			a.print("Signed out.\n")
			return nil
		},
	}
}

func passwordFlag() cli.Flag {
	return &cli.BoolFlag{Name: "password-stdin", Usage: "read the password from standard input"}
}

// password asks for one without showing it, or reads one line of input.
func (a *app) password(c *cli.Command, prompt string) (string, error) {
	f, isFile := a.In.(*os.File)
	if !c.Bool("password-stdin") && isFile && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.Err, prompt)
		data, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(data), err
	}
	if !c.Bool("password-stdin") {
		return "", usage("nobody is there to ask for the password; use --password-stdin")
	}
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if line == "" && err != nil {
		return "", usage("no password came on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// passwordCommand sets a password. Of one's own the present one is asked for first.
func passwordCommand(a *app) *cli.Command {
	return &cli.Command{
		Name: "password", Usage: "set a user's password and end all of their sessions", ArgsUsage: "NAME",
		Description: `Your own password also needs the current one. With --password-stdin it comes first, on
a line of its own.

Examples:
  reshard users password bryn`,
		Flags: []cli.Flag{passwordFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "NAME")
			if err != nil {
				return err
			}
			me, err := api.Me(ctx)
			if err != nil {
				return err
			}
			if c.Bool("password-stdin") {
				a.In = bufio.NewReader(a.In) // of which two lines may be read
			}
			present := ""
			if strings.EqualFold(me.Name, names[0]) {
				if present, err = a.password(c, "Your current password: "); err != nil {
					return err
				}
			}
			password, err := a.password(c, "New password for "+names[0]+": ")
			if err != nil {
				return err
			}
			if err := api.SetPassword(ctx, names[0], password, present); err != nil {
				return err
			}
			a.print("The password of %s is changed; all of their sessions and tokens have ended.\n", names[0])
			return nil
		},
	}
}

func (a *app) usersCommand() *cli.Command {
	withName := func(name, use, example string, do func(*client.Client, context.Context, string, string) error,
		said string) *cli.Command {
		return &cli.Command{
			Name: name, Usage: use, ArgsUsage: "NAME", Description: "Examples:\n  " + example,
			Flags: []cli.Flag{passwordFlag()},
			Action: func(ctx context.Context, c *cli.Command) error {
				names, api, err := a.ready(c, "NAME")
				if err != nil {
					return err
				}
				password, err := a.password(c, "New password for "+names[0]+": ")
				if err != nil {
					return err
				}
				if err := do(api, ctx, names[0], password); err != nil {
					return err
				}
				a.print(said, names[0])
				return nil
			},
		}
	}
	return &cli.Command{
		Name: "users", Usage: "list who may sign in",
		Description: "Every user may do everything: there are no roles.\n\nExamples:\n  reshard users\n  reshard " +
			"users add bryn\n  reshard users password bryn",
		Action: listing(a, func(ctx context.Context, api *client.Client, _ *cli.Command) ([]wire.User, error) {
			return api.Users(ctx)
		}, func(list []wire.User) {
			var rows [][]string
			for _, u := range list {
				rows = append(rows, []string{u.Name, when(u.CreatedAt)})
			}
			a.table([]string{"user", "since"}, rows)
		}),
		Commands: []*cli.Command{
			withName("add", "add a user", "reshard users add bryn", (*client.Client).AddUser, "Added %s.\n"),
			a.remover("remove", "NAME", "remove a user with all of their sessions and tokens",
				"Examples:\n  reshard users remove bryn", (*client.Client).RemoveUser),
			passwordCommand(a),
		},
	}
}
