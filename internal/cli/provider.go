package cli

import (
	"context"
	"os"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/provider"
	"reshard/internal/wire"
	"reshard/providers"
)

func (a *app) hostsProviderCommand() *cli.Command {
	return &cli.Command{
		Name: "provider", Usage: "tell of the provider's own interface of a host", ArgsUsage: "HOST",
		Description: `Many who rent servers start and stop them on their provider's page. A provider
description (docs/providers.md) tells Reshard how that is done over HTTP; servers are
then added with --machine, which is what the provider calls them. Nothing is sent to
any other origin than the one that you give, and to addresses of private networks
only with --private.

Examples:
  reshard hosts provider quay --description tollen-plots.yaml --origin https://gate.example --user bram --secret
  reshard hosts provider quay --secret
  reshard hosts provider quay --forget
  reshard hosts try quay 14`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "description", Usage: "`FILE` with the provider description"},
			&cli.StringFlag{Name: "origin", Usage: "`URL` of the interface: scheme, host and port"},
			&cli.StringFlag{Name: "user", Usage: "`USER` there"},
			&cli.BoolFlag{
				Name:  "secret",
				Usage: "ask for the password, key or token; with --password-stdin it is read from there",
			},
			&cli.BoolFlag{Name: "password-stdin", Usage: "read it from standard input"},
			&cli.BoolFlag{
				Name:  "private",
				Usage: "the origin may be an address of a private network or of the service's machine",
			},
			&cli.BoolFlag{Name: "forget", Usage: "forget the interface and what it is signed in with"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "HOST")
			if err != nil {
				return err
			}
			n := wire.NewProvider{Origin: c.String("origin"), User: c.String("user"), Private: c.Bool("private")}
			file := c.String("description")
			switch {
			case c.Bool("forget"):
			case file == "" && (c.Bool("secret") || c.Bool("password-stdin")):
			case file == "":
				return usage("hosts provider needs --description FILE and --origin URL, --secret, or --forget")
			default:
				data, err := os.ReadFile(file)
				if err != nil {
					return usage("the description cannot be read: %v", err)
				}
				n.Description = string(data)
			}
			if c.Bool("secret") || c.Bool("password-stdin") {
				secret, err := a.password(c, "Password, key or token at the provider: ")
				if err != nil {
					return err
				}
				n.Secret = &secret
			}
			h, err := api.SetProvider(ctx, names[0], n)
			if err != nil {
				return err
			}
			return a.show(h, func() {
				if h.Provider == nil {
					a.print("The provider's interface of %s is forgotten.\n", h.Name)
					return
				}
				a.print("%s is spoken to at %s for %s.\nNext: reshard hosts try %s MACHINE, which looks and changes "+
					"nothing\n",
					h.Provider.Title, h.Provider.Origin, h.Name, h.Name)
			})
		},
	}
}

func (a *app) hostsTryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "look whether a server can be seen by its provider's own interface",
		ArgsUsage: "HOST MACHINE",
		Description: `It signs in, asks for the state and reads the log, and changes nothing.

Examples:
  reshard hosts try quay 14`,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "HOST", "MACHINE")
			if err != nil {
				return err
			}
			tried, err := api.TryProvider(ctx, names[0], names[1])
			if err != nil {
				return err
			}
			failed := false
			err = a.show(tried, func() {
				for _, t := range tried {
					mark := "✓"
					if failed = failed || !t.OK; !t.OK {
						mark = "✕"
					}
					a.wrapped("  "+mark+" ", t.What+": "+t.Seen)
					if t.Next != "" {
						a.wrapped("    ", t.Next)
					}
				}
			})
			if err == nil && failed {
				return exitQuietly(ExitUnreachable)
			}
			return err
		},
	}
}

func (a *app) providersCommand() *cli.Command {
	return &cli.Command{
		Name: "providers", Usage: "write provider descriptions",
		Description: `Examples:
  reshard providers example > my-provider.yaml
  reshard providers lint my-provider.yaml`,
		Commands: []*cli.Command{
			{
				Name: "lint", Usage: "say what is wrong with a provider description", ArgsUsage: "FILE",
				Description: "Examples:\n  reshard providers lint my-provider.yaml",
				Action: func(_ context.Context, c *cli.Command) error {
					if c.Args().Len() != 1 {
						return usage("providers lint needs FILE")
					}
					data, err := os.ReadFile(c.Args().First())
					if err != nil {
						return usage("the description cannot be read: %v", err)
					}
					_, complaints := provider.Lint(data)
					if complaints == nil {
						a.print("Nothing is wrong with it.\n")
						return nil
					}
					for _, one := range complaints {
						a.wrapped("  ✕ ", one.String())
					}
					return exitQuietly(ExitUsage)
				},
			},
			{
				Name: "schema", Usage: "print the JSON Schema of provider descriptions, for editors",
				Description: "Examples:\n  reshard providers schema > provider.schema.json",
				Action: func(context.Context, *cli.Command) error {
					a.print("%s", provider.Schema())
					return nil
				},
			},
			{
				Name: "example", Usage: "print the description of the made-up provider that the demo runs",
				Description: "Examples:\n  reshard providers example > my-provider.yaml",
				Action: func(context.Context, *cli.Command) error {
					a.print("%s", providers.Example())
					return nil
				},
			},
		},
	}
}
