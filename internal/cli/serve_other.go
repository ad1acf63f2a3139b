//go:build !linux

package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/core/fault"
)

// The service runs on Linux; what is built for other systems is the client.

func (a *app) serveCommand() *cli.Command { return elsewhere("serve", "run the service (on Linux)") }
func (a *app) demoCommand() *cli.Command {
	return elsewhere("demo", "run a service with made-up servers and worlds to try everything on (on Linux)")
}
func (a *app) apiCommand() *cli.Command {
	return elsewhere("api", "print the description of the service's interface (on Linux)")
}

func elsewhere(name, usage string) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, Action: func(context.Context, *cli.Command) error {
		return fault.New(fault.Invalid, name, "", "the service runs on Linux; this is the client").
			With("Run it there, and use it from here: reshard sign-in --address URL.")
	}}
}
