// Command standin plays the made-up games that Reshard's demo and tests use.
//
//	standin demo-data DIR
//	standin moor DIR
//	standin quarrymoss serve ROOT
//	standin saltmarch serve ROOT
//	standin emberlode serve ROOT [--load NAME] [--saves DIR]
//	standin quarrymoss make DIR [--title T] [--seed N] [--tiles N] [--tile-bytes N] [--realms caverns,aurora] [--split]
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
)

func main() {
	code := 0
	cmd := &cli.Command{
		Name: "standin", Usage: "play a made-up game for the demo and the tests",
		Commands: []*cli.Command{{
			Name: "demo-data", Usage: "write the demo's servers and worlds below DIR and list them", ArgsUsage: "DIR",
			Action: func(_ context.Context, c *cli.Command) error { return demoData(c.Args().First()) },
		}, {
			Name: "moor", Usage: "be a second machine that keeps its keys in DIR, until standard input ends",
			ArgsUsage: "DIR",
			Action: func(_ context.Context, c *cli.Command) error {
				return moor(c.Args().First(), os.Stdin, os.Stdout)
			},
		}, {
			Name: "saltmarch", Usage: "co-operative survival",
			Commands: []*cli.Command{{
				Name: "serve", Usage: "run a server in ROOT; SIGTERM stops it, its log is a file", ArgsUsage: "ROOT",
				Action: func(ctx context.Context, c *cli.Command) error {
					ctx, stop := signal.NotifyContext(ctx, syscall.SIGTERM)
					defer stop()
					code = saltmarch.Run(ctx, c.Args().First())
					return nil
				},
			}},
		}, {
			Name: "emberlode", Usage: "expeditions",
			Commands: []*cli.Command{{
				Name: "serve", Usage: "run a server in ROOT; console on standard input", ArgsUsage: "ROOT",
				Flags: []cli.Flag{&cli.StringFlag{Name: "load"}, &cli.StringFlag{Name: "saves"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
					defer stop()
					code = emberlode.Run(ctx, c.Args().First(), c.String("load"), c.String("saves"), os.Stdin,
						os.Stdout)
					return nil
				},
			}},
		}, {
			Name: "quarrymoss", Usage: "block building",
			Commands: []*cli.Command{
				{
					Name: "serve", Usage: "run a server in ROOT; console on standard input", ArgsUsage: "ROOT",
					Action: func(ctx context.Context, c *cli.Command) error {
						// SIGINT stops it as a crash would: only halt saves.
						ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
						defer stop()
						code = quarrymoss.Run(ctx, c.Args().First(), os.Stdin, os.Stdout)
						return nil
					},
				},
				{
					Name: "make", Usage: "make a world in DIR", ArgsUsage: "DIR",
					Flags: []cli.Flag{
						&cli.StringFlag{Name: "title", Value: "Meadow"}, &cli.Int64Flag{Name: "seed", Value: 7},
						&cli.IntFlag{Name: "tiles", Value: 16}, &cli.IntFlag{Name: "tile-bytes", Value: 512},
						&cli.StringFlag{Name: "realms"}, &cli.BoolFlag{Name: "split"},
					},
					Action: func(_ context.Context, c *cli.Command) error {
						o := quarrymoss.Options{
							Title:     c.String("title"),
							Seed:      c.Int64("seed"),
							Tiles:     c.Int("tiles"),
							TileBytes: c.Int("tile-bytes"),
							Split:     c.Bool("split"),
						}
						if r := c.String("realms"); r != "" {
							o.Realms = strings.Split(r, ",")
						}
						return quarrymoss.Make(c.Args().First(), o)
					},
				},
			},
		}},
	}
	if err := cmd.Run(context.Background(), os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "standin:", err)
		code = 1
	}
	os.Exit(code)
}
