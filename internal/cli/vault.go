package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

func (a *app) vaultCommand() *cli.Command {
	return &cli.Command{
		Name: "vault", Usage: "show what the vault holds, and check or clean it",
		Description: "Examples:\n  reshard vault\n  reshard vault check\n  reshard vault collect",
		Action: listing(a, func(ctx context.Context, api *client.Client, _ *cli.Command) (wire.Vault, error) {
			return api.Vault(ctx)
		}, a.describeVault),
		Commands: []*cli.Command{
			a.vaultWorkCommand("check", "read everything back",
				"Names the copies and files that damage touches. It takes about as long as copying all\nof it; "+
					"servers and changeovers go on meanwhile."),
			a.vaultWorkCommand("collect", "remove what no copy of the library needs",
				"It happens by itself each day. Copies that are set aside count as needed until they\ngo."),
			a.vaultWorkCommand("rebuild", "make the index anew from the packs",
				"For after a loss of the database, or damage in it. Copies that the library does not\nknow come back "+
					"into it."),
			{
				Name: "recover", Usage: "bring everything back that a store has", ArgsUsage: "STORE",
				Description: `For after a loss of the service's machine: the worlds, and the backups with what each
server was, come back into the library.

Examples:
  reshard stores add granary --folder /mnt/granary/reshard --recover
  reshard vault recover granary`,
				Action: func(ctx context.Context, c *cli.Command) error {
					names, api, err := a.ready(c, "STORE")
					if err != nil {
						return err
					}
					v, err := api.RecoverVault(ctx, names[0])
					if err != nil {
						return err
					}
					return a.followVaultWork(ctx, api, "recover", v)
				},
			},
		},
	}
}

func (a *app) vaultWorkCommand(kind, what, more string) *cli.Command {
	return &cli.Command{
		Name: kind, Usage: what, Description: more + "\n\nExamples:\n  reshard vault " + kind,
		Action: func(ctx context.Context, c *cli.Command) error {
			_, api, err := a.ready(c)
			if err != nil {
				return err
			}
			v, err := api.WorkOnVault(ctx, kind)
			if err != nil {
				return err
			}
			return a.followVaultWork(ctx, api, kind, v)
		},
	}
}

// followVaultWork shows how work on the vault goes on, to its end.
func (a *app) followVaultWork(ctx context.Context, api *client.Client, kind string, v wire.Vault) (err error) {
	see := a.progressOf(map[string]string{"check": "reading"}[kind], -1)
	for v.Work.Ended == nil {
		select {
		case <-ctx.Done():
			a.endProgress()
			return fault.New(fault.Interrupted, "watch", "the vault", "it goes on by itself").
				With("reshard vault shows how far it is.")
		case <-time.After(200 * time.Millisecond):
		}
		if v, err = api.Vault(ctx); err != nil {
			return err
		}
		switch {
		case kind == "check" && v.Work.All > 0:
			see = a.progressTo(see, "reading", v.Work.All)
			see(v.Work.Done)
		case v.Work.All > 0:
			a.status("%s: pack %d of %d", kind, v.Work.Done, v.Work.All)
		}
	}
	a.endProgress()
	if f := v.Work.Failure; f != nil {
		return (&fault.Error{Code: fault.Code(f.Code), What: f.What}).With(f.Next)
	}
	if err := a.show(v, func() { a.describeWork(*v.Work) }); err != nil {
		return err
	}
	if got := v.Work.Checked; got != nil && len(got.Damaged)+len(got.Touched) > 0 {
		return fault.New(fault.Damaged, "check", "the vault", "%s, %s touched",
			count(len(got.Damaged), "damaged entry", "damaged entries"),
			count(len(got.Touched), "copy is", "copies are")).
			With("No store has that whole. Bring those worlds again from where they came from: that stores what is " +
				"damaged anew. If a store that has it answers again, the next check mends it.")
	}
	return nil
}

// progressTo gives a progress line its total once that is known.
func (a *app) progressTo(see func(int64), verb string, total int64) func(int64) {
	if a.total == total {
		return see
	}
	a.total = total
	return a.progressOf(verb, total)
}

func (a *app) describeVault(v wire.Vault) {
	a.print("%s in %s, %s of %s\n", bytesText(v.Bytes), count(v.Packs, "pack", "packs"),
		count(v.Copies, "copy", "copies"), bytesText(v.Content))
	if v.Bytes > 0 && v.Bytes < v.Content { // of a few small worlds the lists of files take more than is saved
		a.print("Stored in %.0f %% of their size: what copies share is stored once, and packed.\n",
			100*float64(v.Bytes)/float64(v.Content))
	}
	if v.Work != nil {
		a.print("\n")
		a.describeWork(*v.Work)
	}
}

func (a *app) describeWork(w wire.VaultWork) {
	what := map[string]string{
		"check":   "Check",
		"collect": "Collection",
		"rebuild": "Rebuild",
		"recover": "Recovery",
	}[w.Kind]
	switch {
	case w.Ended == nil:
		a.print("%s by %s, under way since %s.\n", what, w.By, when(w.Begun))
	case w.Failure != nil:
		a.print("%s of %s failed: %s\n", what, when(*w.Ended), w.Failure.What)
	case w.Checked != nil:
		a.print("%s of %s: %s in %s read back (%s).\n", what, when(*w.Ended),
			count(w.Checked.Entries, "entry", "entries"), count(w.Checked.Packs, "pack", "packs"),
			bytesText(w.Checked.Bytes))
		for i, m := range w.Checked.Mended {
			if i == 10 {
				a.print("  and %d more\n", len(w.Checked.Mended)-i)
				break
			}
			a.wrapped("  ", fmt.Sprintf("pack %s was damaged (%s): it is whole again, from store %s", m.Pack[:12],
				m.Why, m.Store))
		}
		a.describeDamage(w.Checked.Damaged)
		for _, t := range w.Checked.Touched {
			files := "its list of files does not read"
			if t.Count > 0 {
				files = fmt.Sprintf("%s: %s", count(t.Count, "file", "files"), someText(t.Files))
			}
			a.print("  ! copy %s: %s\n", t.Copy[:12], files)
		}
		switch {
		case len(w.Checked.Damaged)+len(w.Checked.Touched) > 0:
		case len(w.Checked.Mended) > 0:
			a.print("Everything that was damaged is whole again.\n")
		default:
			a.print("Everything is as it was stored.\n")
		}
	case w.Collected != nil:
		g := w.Collected
		a.print("%s of %s: %s freed; %s removed, %s written anew, %s joined.\n", what, when(*w.Ended),
			bytesText(g.Bytes), count(g.Removed, "pack", "packs"), count(g.Rewritten, "pack", "packs"),
			count(g.Joined, "small pack", "small packs"))
		if g.Strays > 0 {
			a.print("  ! %s that the index does not know: reshard vault rebuild\n", count(g.Strays, "pack", "packs"))
		}
	case w.Rebuilt != nil:
		if r := w.Recovered; r != nil {
			a.print("%s brought back (%s), %s here already.\n", count(r.Packs, "pack", "packs"), bytesText(r.Bytes),
				count(r.There, "was", "were"))
			for _, d := range r.Damaged {
				a.wrapped("  ! ", "pack "+d.Pack[:12]+": "+d.What)
			}
			if r.NoKey > 0 {
				a.wrapped("  ! ", count(r.NoKey, "pack needs", "packs need")+" a missing key. Restore your copy of "+
					"the key file (reshard stores key shows its place), restart the service, then recover again.")
			}
		}
		a.print("%s of %s: %s in %s, %s.\n", what, when(*w.Ended), count(w.Rebuilt.Entries, "entry", "entries"),
			count(w.Rebuilt.Packs, "pack", "packs"), count(len(w.Rebuilt.Copies), "copy", "copies"))
		a.describeDamage(w.Rebuilt.Damaged)
		if w.Store != "" && w.Failure == nil {
			a.wrapped("", "The store is still read-only. If its former service is gone for good: "+
				"reshard stores take-over "+w.Store)
		}
	}
}

func (a *app) describeDamage(list []wire.VaultDamage) {
	for i, d := range list {
		if i == 10 {
			a.print("  ! and %d more\n", len(list)-i)
			return
		}
		name := "the whole pack"
		if d.Name != "" {
			name = d.Name[:12]
		}
		a.print("  ! pack %s, %s: %s\n", d.Pack[:12], name, d.Why)
	}
}
