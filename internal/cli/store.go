package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/wire"
)

// ofStore is a command about one store.
func (a *app) ofStore(name, usage, description string, flags []cli.Flag,
	do func(ctx context.Context, c *cli.Command, api *client.Client, store string) error) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "STORE", Description: description, Flags: flags,
		Action: func(ctx context.Context, c *cli.Command) error {
			names, api, err := a.ready(c, "STORE")
			if err != nil {
				return err
			}
			return do(ctx, c, api, names[0])
		},
	}
}

func (a *app) showStoreCommand() *cli.Command {
	return a.ofStore("show", "show a store: what it has and lacks, and what will be deleted there",
		"Examples:\n  reshard stores show granary", nil,
		func(ctx context.Context, _ *cli.Command, api *client.Client, store string) error {
			s, err := api.Store(ctx, store)
			if err != nil {
				return err
			}
			return a.show(s, func() {
				a.printStore(s)
				for _, w := range s.Waiting {
					a.wrapped("  ! ", fmt.Sprintf("pack %s was refused (%s), next try %s: %s", w.Pack[:12],
						count(w.Tries, "try", "tries"), when(w.Again), w.Why))
				}
				if more := s.Waits - len(s.Waiting); more > 0 && len(s.Waiting) > 0 {
					a.print("  ! and %d more\n", more)
				}
				a.printDeletes(s.Deletes)
			})
		})
}

// yesFlag answers what a command asks.
func yesFlag() []cli.Flag {
	return []cli.Flag{&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"}}
}

func (a *app) takeStoreOverCommand() *cli.Command {
	return a.ofStore("take-over", "make a store and its packs this service's own",
		`A store belongs to one service. A store added with --recover is read-only. Take it over when its
former service is gone for good. If that service still runs, it stops writing there and raises an
alert.

Examples:
  reshard stores take-over granary`, yesFlag(),
		func(ctx context.Context, c *cli.Command, api *client.Client, store string) error {
			h, err := api.StoreHolder(ctx, store)
			if err != nil {
				return err
			}
			if h.Ours {
				return a.show(h, func() { a.print("%s already belongs to this service.\n", store) })
			}
			whose := "It has no mark."
			if h.Service != "" {
				whose = "It belongs to the service on " + h.Service + ", since " + when(*h.Since) + "."
			} else if h.Since != nil {
				whose = "It belongs to another service, since " + when(*h.Since) + "."
			}
			if !c.Bool("yes") {
				a.print("%s has %s (%s). %s\n", store, count(h.Packs, "pack", "packs"), bytesText(h.Bytes), whose)
				if n := h.Packs - h.Known; n > 0 {
					a.wrapped("", fmt.Sprintf("%s not in this vault. This service never deletes such packs. To bring "+
						"them here first: reshard vault recover %s", count(n, "pack is", "packs are"), store))
				}
				a.wrapped("", "If the other service still runs, it stops writing there.")
				if sure, err := a.confirm("Take it over?"); err != nil || !sure {
					return err
				}
			}
			s, err := api.TakeStoreOver(ctx, store, h.Mark)
			if err != nil {
				return err
			}
			return a.show(s, func() { a.printStore(s) })
		})
}

func (a *app) tidyStoreCommand() *cli.Command {
	return a.ofStore("tidy", "delete unneeded packs that wait for confirmation",
		`A store keeps a pack for a week after the vault stops needing it. Reshard then deletes it, unless
that would be more than a tenth of the store at once, or something could not be read. In that
case this command lists the packs, asks, and deletes exactly those.

Examples:
  reshard stores tidy granary`, yesFlag(),
		func(ctx context.Context, c *cli.Command, api *client.Client, store string) error {
			s, err := api.Store(ctx, store)
			if err != nil {
				return err
			}
			var due []wire.StoreDeletion
			var packs []string
			for _, d := range s.Deletes {
				if d.Due {
					due, packs = append(due, d), append(packs, d.Pack)
				}
			}
			if len(due) == 0 {
				return a.show(s, func() {
					a.print("There is nothing to delete in %s now.\n", store)
					a.printDeletes(s.Deletes)
				})
			}
			if !c.Bool("yes") {
				if s.Asks != "" {
					a.wrapped("", s.Asks+".")
				}
				a.printDeletes(due)
				a.print("The store has all packs that the vault needs now.\n")
				sure, err := a.confirm(fmt.Sprintf("Delete %s of %s?", count(len(due), "pack", "packs"),
					count(s.Packs, "pack", "packs")))
				if err != nil || !sure {
					return err
				}
			}
			if s, err = api.TidyStore(ctx, store, packs); err != nil {
				return err
			}
			return a.show(s, func() {
				a.print("%s deleted.\n", count(len(packs), "pack", "packs"))
				a.printStore(s)
			})
		})
}

func (a *app) confirmStoreCommand() *cli.Command {
	return a.ofStore("confirm", "keep a store at a place that Reshard would refuse for a new one",
		`Reshard refuses stores in folders of the system, the service, a server or a database. It does not
write to an existing store in such a folder until you confirm.

Examples:
  reshard stores confirm granary`, yesFlag(),
		func(ctx context.Context, c *cli.Command, api *client.Client, store string) error {
			s, err := api.Store(ctx, store)
			if err != nil {
				return err
			}
			if !c.Bool("yes") {
				if s.Trouble != "" {
					a.wrapped("", s.Name+": "+s.Trouble)
				}
				if sure, err := a.confirm("Keep it in " + s.Folder + "?"); err != nil || !sure {
					return err
				}
			}
			if s, err = api.ConfirmStore(ctx, store); err != nil {
				return err
			}
			return a.show(s, func() { a.printStore(s) })
		})
}

// printDeletes lists packs that will be deleted, with when.
func (a *app) printDeletes(list []wire.StoreDeletion) {
	if len(list) == 0 {
		return
	}
	bytes := int64(0)
	for _, d := range list {
		bytes += d.Bytes
	}
	a.print("No longer needed: %s (%s)\n", count(len(list), "pack", "packs"), bytesText(bytes))
	for i, d := range list {
		if i == 20 {
			a.print("  and %d more (--json lists all)\n", len(list)-i)
			return
		}
		state := "deleted after " + when(d.At)
		if d.Due {
			state = "due since " + when(d.At)
		}
		a.print("  %s  %9s  %s\n", d.Pack[:12], bytesText(d.Bytes), state)
	}
}

func (a *app) printStore(s wire.Store) {
	where := s.Folder
	if s.Kind == "s3" {
		where = s.Endpoint + "/" + s.Bucket
		if s.Prefix != "" {
			where += "/" + strings.Trim(s.Prefix, "/")
		}
	}
	sealed := "encrypted"
	if s.Plain {
		sealed = "not encrypted"
	}
	if s.ReadOnly {
		sealed += ", read-only"
	}
	a.print("%s: %s, %s\n", s.Name, where, sealed)
	a.print("  has     %s (%s)\n", count(s.Packs, "pack", "packs"), bytesText(s.Bytes))
	switch {
	case s.ReadOnly:
		a.print("  sends   nothing: it was added for a recovery\n")
	case s.Lacks > 0:
		since := ""
		if s.Behind != nil {
			since = ", the oldest of " + ago(*s.Behind)
		}
		a.print("  lacks   %s (%s)%s\n", count(s.Lacks, "pack", "packs"), bytesText(s.LacksBytes), since)
	case s.Trouble != "": // that it has everything is what was so when it was last reached
		a.print("  lacks   nothing, when it was last reached (%s)\n", reached(s))
	default:
		a.print("  lacks   nothing\n")
	}
	if s.OldKeys > 0 {
		a.print("  keys    %s an older key; Reshard re-encrypts them\n",
			count(s.OldKeys, "pack uses", "packs use"))
	}
	if s.Unread > 0 {
		a.print("  unread  %s not been read here yet\n", count(s.Unread, "pack has", "packs have"))
	}
	if s.Foreign > 0 {
		a.print("  foreign %s to another service; this one never deletes them\n",
			count(s.Foreign, "pack belongs", "packs belong"))
	}
	if s.Checked != nil {
		a.print("  read    everything was read back since %s\n", when(*s.Checked))
	}
	for _, w := range s.Warnings {
		a.wrapped("  note    ", w)
	}
	if s.Trouble != "" {
		a.wrapped("  ! ", s.Trouble)
		if s.TroubleNext != "" {
			a.wrapped("    ", s.TroubleNext)
		}
	}
	if s.Asks != "" {
		a.wrapped("  ! ", s.Asks)
		a.wrapped("    ", "Review and confirm: reshard stores tidy "+s.Name)
	}
}

// reached is when a store was last reached.
func reached(s wire.Store) string {
	if s.Reached == nil {
		return "never"
	}
	return when(*s.Reached)
}
