package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"reshard/internal/wire"
)

func (a *app) serversSlotsCommand() *cli.Command {
	return &cli.Command{
		Name: "slots", Usage: "list the provider's own backups of a server, make one or remove one",
		ArgsUsage: "SERVER",
		Description: `They are the provider's: what is shown is what it says of them, and Reshard has checked
none of them. None is removed unless you say which.

Examples:
  reshard servers slots withy-plot
  reshard servers slots withy-plot --make
  reshard servers slots withy-plot --remove jar-1`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "make", Usage: "have the provider make one, and wait until that is done"},
			&cli.StringFlag{Name: "remove", Usage: "have the provider remove the one of this `NAME`"},
			&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "SERVER")
			if err != nil {
				return err
			}
			var slots wire.Slots
			switch name := c.String("remove"); {
			case c.Bool("make") && name != "":
				return usage("--make and --remove do not go together")
			case c.Bool("make"):
				fmt.Fprintln(a.Err, "Its provider makes a backup …")
				slots, err = api.MakeSlot(ctx, names[0])
			case name != "":
				if err := a.mayRemoveSlot(c, name); err != nil {
					return err
				}
				slots, err = api.RemoveSlot(ctx, names[0], name)
			default:
				slots, err = api.Slots(ctx, names[0])
			}
			if err != nil {
				return err
			}
			return a.show(slots, func() { a.printSlots(slots, names[0]) })
		},
	}
}

// mayRemoveSlot asks before a provider's backup is removed.
func (a *app) mayRemoveSlot(c *cli.Command, name string) error {
	if c.Bool("yes") {
		return nil
	}
	sure, err := a.confirm("Remove " + name + "? Nobody can bring it back.")
	if err == nil && !sure {
		a.print("Nothing was removed.\n")
		return exitQuietly(ExitFailed)
	}
	return err
}

func (a *app) printSlots(s wire.Slots, server string) {
	of := ""
	if s.Allowance > 0 {
		of = fmt.Sprintf(" of %d", s.Allowance)
	}
	a.print("%s has %d%s backups of %s.\n", s.Provider, len(s.Backups), of, server)
	for _, b := range s.Backups {
		made, size := "it does not say when", ""
		if b.MadeAt != nil {
			made = when(*b.MadeAt) + " (" + ago(*b.MadeAt) + ")"
		}
		if b.Bytes >= 0 {
			size = ", " + bytesText(b.Bytes)
		}
		a.print("  %-12s %s%s\n", b.Name, made, size)
	}
	switch {
	case s.Full() && s.CanRemove:
		a.print("All are taken: to make another, remove one that you can do without, with --remove NAME.\n")
	case s.Full():
		a.print("All are taken: to make another, remove one on the provider's own page.\n")
	case s.CanMake:
		a.print("Next: reshard servers slots %s --make\n", server)
	}
}
