// Command reshard is the service, its client and its demo in one.
package main

import (
	"context"
	"os"

	"reshard/internal/cli"
)

func main() {
	os.Exit(cli.Run(context.Background(), os.Args[1:],
		cli.IO{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv}))
}
