package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/wire"
)

func (a *app) storesCommand() *cli.Command {
	return &cli.Command{
		Name: "stores", Usage: "list the places that get everything that the vault has, and add one",
		Description: `A vault in one place is lost with that place. A store gets everything too, encrypted before
it leaves, is read back in its turn, and mends what is damaged in the vault.

Examples:
  reshard stores
  reshard stores add granary --folder /mnt/granary/reshard
  reshard stores add far --s3 https://s3.example --bucket backups --key-id ID
  reshard stores show granary           its packs, and those to be deleted
  reshard stores check granary
  reshard stores key`,
		Action: listing(a, func(ctx context.Context, api *client.Client, _ *cli.Command) ([]wire.Store, error) {
			return api.Stores(ctx)
		}, a.listStores),
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a store, and try it", ArgsUsage: "NAME",
				Description: `A folder should be empty, and on another disk or another machine; an S3-compatible store
takes an access key, whose secret is asked for. What goes there is encrypted
with a key in the service's data folder: without a copy of that file elsewhere
nobody can read the store once the machine is gone.

Examples:
  reshard stores add granary --folder /mnt/granary/reshard
  reshard stores add far --s3 https://s3.example --bucket backups --prefix reshard --key-id ID
  reshard stores add granary --folder /mnt/granary/reshard --recover    on a new machine`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "folder", Usage: "a `FOLDER` of the service's machine"},
					&cli.StringFlag{Name: "s3", Usage: "the `ADDRESS` of an S3-compatible store"},
					&cli.StringFlag{Name: "bucket", Usage: "its `BUCKET`"},
					&cli.StringFlag{Name: "prefix", Usage: "what names in it begin with, as `PREFIX`/"},
					&cli.StringFlag{Name: "region", Usage: "its `REGION`, where it has some"},
					&cli.StringFlag{Name: "key-id", Usage: "the access key's `ID`"},
					passwordFlag(),
					&cli.BoolFlag{
						Name:  "private",
						Usage: "its address may be one of a private network or of the service's machine",
					},
					&cli.BoolFlag{Name: "plain", Usage: "do not encrypt what goes there"},
					&cli.BoolFlag{
						Name:  "recover",
						Usage: "it holds what another vault has sent there: to bring that back here",
					},
					&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do not ask"},
				},
				Action: a.addStore,
			},
			a.showStoreCommand(), a.takeStoreOverCommand(), a.tidyStoreCommand(), a.confirmStoreCommand(),
			{
				Name: "check", Usage: "read a whole store back now, and send again what is damaged there",
				ArgsUsage: "STORE",
				Description: "A share of every store, and of the vault, is read back each day by itself, all within " +
					"a month.\n\n" +
					"Examples:\n  reshard stores check granary",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "STORE")
					if err != nil {
						return err
					}
					a.status("reading all of %s back …", names[0])
					got, err := api.CheckStore(ctx, names[0])
					a.endProgress()
					if err != nil {
						return err
					}
					return a.show(got, func() {
						a.print("%s read back (%s).\n", count(got.Packs, "pack", "packs"), bytesText(got.Bytes))
						for _, f := range got.Findings {
							mark := "! "
							if f.Mended {
								mark = "✓ mended: "
							}
							a.wrapped("  "+mark, "pack "+f.Pack[:12]+": "+f.What)
						}
						if len(got.Findings) == 0 {
							a.print("Everything is as it was sent.\n")
						}
					})
				},
			},
			{
				Name: "remove", Usage: "forget a store; what is in it stays there", ArgsUsage: "STORE",
				Description: "Examples:\n  reshard stores remove granary",
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "STORE")
					if err == nil {
						err = api.RemoveStore(ctx, names[0])
					}
					if err != nil {
						return err
					}
					return a.show(
						struct{}{}, func() {
							a.print("Nothing goes to %s any more. What is in it stays there.\n", names[0])
						})
				},
			},
			{
				Name: "key", Usage: "tell where the keys are that stores are encrypted with, or make a new one",
				Description: `The keys are age identities (age-encryption.org/v1) in a file of the service's data
folder; they are never shown. Keep a copy of the file elsewhere. A new key counts from then
on, and what stores have is encrypted for it anew, by and by; an old one is needed as long
as packs are counted beside it.

Examples:
  reshard stores key
  reshard stores key --new`,
				Flags: []cli.Flag{&cli.BoolFlag{Name: "new", Usage: "make a new key, which counts from now on"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					_, api, err := a.ready(c)
					if err != nil {
						return err
					}
					ask := api.StoreKeys
					if c.Bool("new") {
						ask = api.RotateStoreKey
					}
					k, err := ask(ctx)
					if err != nil {
						return err
					}
					return a.show(k, func() { a.printStoreKeys(k, c.Bool("new")) })
				},
			},
		},
	}
}

func (a *app) printStoreKeys(k wire.StoreKeys, fresh bool) {
	if len(k.Keys) == 0 {
		a.print("There is no key yet: it is made with the first store.\n")
		return
	}
	for _, one := range k.Keys {
		counts := "older"
		if one.Counts {
			counts = "counts"
		}
		a.print("  %-7s %s   %s\n", counts, one.Public, count(one.Packs, "pack needs it", "packs need it"))
	}
	a.wrapped("", "They are in "+k.File+
		". Keep a copy of that file where the machine's loss does not reach it: without it "+
		"nobody, you and Reshard included, can read the stores.")
	if k.Unread > 0 {
		a.print("%s not been read here yet, so their key is unknown.\n",
			count(k.Unread, "pack in stores has", "packs in stores have"))
	}
	if fresh {
		a.print("Copy it again now: there is a new key in it.\n")
	}
}

func (a *app) addStore(ctx context.Context, c *cli.Command) error {
	names, api, err := a.ready(c, "NAME")
	if err != nil {
		return err
	}
	in := wire.NewStore{
		Name: names[0], Kind: "files", Folder: c.String("folder"), Endpoint: c.String("s3"), Bucket: c.String("bucket"),
		Prefix: c.String("prefix"), Region: c.String("region"), User: c.String("key-id"), Private: c.Bool("private"),
		Plain: c.Bool("plain"), Recover: c.Bool("recover"),
	}
	switch {
	case (in.Folder == "") == (in.Endpoint == ""):
		return usage("say where it is: --folder FOLDER, or --s3 ADDRESS with --bucket and --key-id")
	case in.Endpoint != "":
		in.Kind = "s3"
		if in.Secret, err = a.password(c, "Secret of the access key: "); err != nil {
			return err
		}
	}
	if !c.Bool("yes") && !in.Recover {
		a.wrapped("", "Everything in the vault, and whatever comes, is copied to "+in.Name+".")
		if !in.Plain {
			a.wrapped("", "It is encrypted before it leaves, with a key in a file of the service's data folder. Lose "+
				"that file with the "+
				"machine, and nobody can read the store: copy it elsewhere at once (reshard stores key says where it "+
				"is).")
		}
		sure, err := a.confirm("Add it?")
		if err != nil || !sure {
			return err
		}
	}
	s, err := api.AddStore(ctx, in)
	if err != nil {
		return err
	}
	return a.show(s, func() {
		a.printStore(s)
		switch {
		case in.Recover:
			a.print("The store is read-only. Next: reshard vault recover %s\n", s.Name)
		case !s.Plain:
			a.print("Next: copy the key elsewhere; where it is: reshard stores key\n")
		}
	})
}

func (a *app) listStores(list []wire.Store) {
	if len(list) == 0 {
		a.print("No stores: the vault is in one place only. Next: reshard stores add NAME --folder FOLDER\n")
		return
	}
	for _, s := range list {
		a.printStore(s)
	}
}
