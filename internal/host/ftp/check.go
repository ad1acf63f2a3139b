package ftp

import (
	"context"
	"time"

	"reshard/internal/core/account"
	"reshard/internal/core/capability"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/ftp"
	"reshard/internal/hostfs/trial"
)

// check is one check of an account.
type check struct {
	m      *machine
	others []string
	found  account.Findings
}

// Check implements host.Checker.
func (m *machine) Check(ctx context.Context, others []string, say func(string)) (account.Findings, error) {
	m.link.Again()
	m.link.Cut() // what is found is found on a new connection, with what is known now
	c := check{m: m, others: others, found: account.Findings{At: time.Now().UTC(), Free: -1, Programs: []string{}}}
	err := trial.Run(ctx, say,
		trial.Step{Say: "signing in", Do: c.signIn},
		trial.Step{Say: "counting connections", Do: c.connections},
		trial.Step{Say: "measuring the round trip", Do: c.roundTrip},
		trial.Step{Say: "trying what can be written", Do: c.write},
	)
	if err == nil {
		m.link.Rest().Well()
	}
	return c.found, err
}

// Misbehaves implements host.Misbehaver.
func (m *machine) Misbehaves() (since time.Time, err error) { return m.link.Rest().Told() }

// Doubted implements host.Checker: nothing that goes on contradicts what was found, but by an error
// of its own.
func (m *machine) Doubted() bool { return false }

// open gives a folder of the account, to try everything in it.
func (c *check) open(root string) *ftp.Files {
	precision := capability.NoTimes
	if c.found.Precise {
		precision = time.Second
	}
	return ftp.Open(c.m.link, root, &ftp.Found{AtomicReplace: true, RenameFolders: true, TimePrecision: precision})
}

func (c *check) signIn(ctx context.Context) (err error) {
	if c.found.Home, err = ftp.Root(ctx, c.m.link, "."); err == nil {
		c.found.Precise, err = c.m.link.Precise(ctx)
	}
	return err
}

func (c *check) roundTrip(ctx context.Context) (err error) {
	c.found.RoundTrip, err = trial.RoundTrip(ctx, c.m.link.Ask)
	return err
}

// connections finds how many there may be at once: the line keeps to that from now on.
func (c *check) connections(ctx context.Context) (err error) {
	c.found.Connections, err = c.m.link.Count(ctx)
	return err
}

// clock compares the host's with the service's, by a file that was made a moment ago.
func (c *check) clock(ctx context.Context, files *ftp.Files) error {
	made, err := files.Changed(ctx, "two")
	// Times are kept to the second, so that less than two tells nothing.
	if off := time.Until(made).Round(time.Second); err == nil && off.Abs() > 2*time.Second {
		c.found.Clock = off
	}
	return err
}

// write tries what can be done with files, in the account's folder, where one arrives, or in
// another of those that it was given.
func (c *check) write(ctx context.Context) error {
	err := trial.In(ctx, trial.Place{
		Folders: append([]string{c.m.now().Account.Folder, c.found.Home}, c.others...),
		Root:    func(ctx context.Context, dir string) (string, error) { return ftp.Root(ctx, c.m.link, dir) },
		Open:    func(root string) hostfs.Driver { return c.open(root) },
	}, &c.found, func(ctx context.Context, t *trial.Trial) (err error) {
		if c.found.Set, err = t.Files.Capabilities(ctx); err != nil {
			return err
		}
		err = trial.All(ctx, t.Throughput, t.Replace, t.Folders, t.Cases, t.Names, t.Times,
			func(ctx context.Context) error { return c.clock(ctx, t.Files.(*ftp.Files)) })
		c.found.Set.Exclusive = false // a name is looked at before: that is no promise
		return err
	})
	if err == nil && c.found.ReadOnly {
		c.found.Set, err = c.open(c.found.Home).Capabilities(ctx)
	}
	c.found.Set.AtOnce = c.found.Connections
	return err
}
