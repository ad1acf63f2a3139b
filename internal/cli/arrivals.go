package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

func (a *app) arrivalsCommand() *cli.Command {
	return &cli.Command{
		Name: "arrivals", Usage: "list uploads that have not become a copy",
		Description: `Lists what browsers and other programs have begun to upload: cut off, or whole
and waiting for a person to say which of its worlds is meant. What nobody goes on
with is removed after three days.

Examples:
  reshard arrivals
  reshard arrivals take 3f9a1c --root "plots/East Plot"
  reshard arrivals remove 3f9a1c`,
		Action: listing(a, func(ctx context.Context, api *client.Client, _ *cli.Command) ([]wire.Unfinished, error) {
			return api.Arrivals(ctx)
		}, a.listArrivals),
		Commands: []*cli.Command{
			{
				Name: "take", Usage: "store what has been uploaded whole", ArgsUsage: "ARRIVAL",
				Description: "Examples:\n  reshard arrivals take 3f9a1c --root \"plots/East Plot\"",
				Flags:       []cli.Flag{rootFlag()},
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "ARRIVAL")
					if err != nil {
						return err
					}
					u, err := findArrival(ctx, api, names[0])
					if err != nil {
						return err
					}
					arrival, err := api.TakeArrival(ctx, u.ID, c.String("root"), "")
					if err != nil {
						return err
					}
					return a.show(arrival, func() { a.describeArrival(arrival) })
				},
			},
			{
				Name: "remove", Usage: "remove an upload that has not become a copy", ArgsUsage: "ARRIVAL",
				Description: "What was sent of it is gone then; the file it came from is not touched.\n\nExamples:\n " +
					" reshard arrivals remove 3f9a1c",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "ARRIVAL")
					if err != nil {
						return err
					}
					u, err := findArrival(ctx, api, names[0])
					if err != nil {
						return err
					}
					if err := api.DropArrival(ctx, u.ID); err != nil {
						return err
					}
					return a.show(
						u, func() { a.print("Removed what had come of %s (%s).\n", u.Name, bytesText(u.Received)) })
				},
			},
		},
	}
}

// findArrival finds an upload by the beginning of its id.
func findArrival(ctx context.Context, api *client.Client, ref string) (wire.Unfinished, error) {
	list, err := api.Arrivals(ctx)
	if err != nil {
		return wire.Unfinished{}, err
	}
	return byPrefix(list, ref, "arrival", "reshard arrivals", func(u wire.Unfinished) string { return u.ID })
}

func (a *app) listArrivals(list []wire.Unfinished) {
	if len(list) == 0 {
		a.print("Nothing is on its way.\n")
		return
	}
	var rows [][]string
	for _, u := range list {
		came := fmt.Sprintf("%s of %s", bytesText(u.Received), bytesText(u.Size))
		if u.Received == u.Size {
			came = bytesText(u.Size) + ", all of it"
		}
		rows = append(rows, []string{u.ID[:6], u.Name, came, u.By, when(u.Last), when(u.Goes)})
	}
	a.table([]string{"arrival", "file", "has come", "by", "last", "is removed"}, rows, 0, 40)
	a.print("\nNext: go on sending in the console, or reshard arrivals take ARRIVAL, or reshard arrivals remove " +
		"ARRIVAL\n")
}

// byPrefix finds the one of a list whose id begins so.
func byPrefix[T any](list []T, ref, what, lister string, id func(T) string) (T, error) {
	var found []T
	for _, v := range list {
		if strings.HasPrefix(id(v), strings.ToLower(ref)) {
			found = append(found, v)
		}
	}
	var none T
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return none, fault.New(fault.NotFound, "find "+what, ref, "there is none whose id begins so").
			With(lister + " lists them.")
	}
	return none, fault.New(fault.Invalid, "find "+what, ref, "several begin so").With("Give more digits of the id.")
}
