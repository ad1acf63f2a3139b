package ssh

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/blake2b"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/sftp"
	"reshard/internal/hostfs/trial"
	"reshard/internal/sqlite"
	"reshard/internal/sshlink"
)

// mostConnections is how many connections a check tries.
const mostConnections = 4

// check is one check of an account.
type check struct {
	m      *machine
	others []string
	found  account.Findings
}

// Check implements host.Checker. It signs in anew, tries what can be done in a folder of its own
// that it removes, and says what it is doing.
func (m *machine) Check(ctx context.Context, others []string, say func(string)) (account.Findings, error) {
	m.doubted.Store(false)
	m.link.Again()
	m.link.Cut() // what is found is found on a new connection, with what is known now
	c := check{m: m, others: others, found: account.Findings{At: time.Now().UTC(), Free: -1, Programs: []string{}}}
	err := trial.Run(ctx, say,
		trial.Step{Say: "signing in", Do: c.signIn},
		trial.Step{Say: "measuring the round trip", Do: c.roundTrip},
		trial.Step{Say: "trying commands", Do: c.commands},
		trial.Step{Say: "trying what can be written", Do: c.write},
		trial.Step{Say: "counting connections", Do: c.connections},
	)
	if err == nil {
		m.link.Rest().Well()
	}
	return c.found, err
}

// Misbehaves implements host.Misbehaver.
func (m *machine) Misbehaves() (since time.Time, err error) { return m.link.Rest().Told() }

func (c *check) open(root string) *sftp.Files { return sftp.Open(c.m.link, root, nil) }

func (c *check) signIn(ctx context.Context) (err error) {
	c.found.Home, err = sftp.Root(ctx, c.m.link, ".")
	return err
}

func (c *check) roundTrip(ctx context.Context) (err error) {
	f := c.open(c.found.Home)
	c.found.RoundTrip, err = trial.RoundTrip(ctx, func(ctx context.Context) error {
		_, err := f.Stat(ctx, ".")
		return err
	})
	return err
}

// write tries what can be done with files, in the account's folder, where one arrives, or in
// another of those that it was given.
func (c *check) write(ctx context.Context) error {
	err := trial.In(ctx, trial.Place{
		Folders: append([]string{c.m.now().Account.Folder, c.found.Home}, c.others...),
		Root:    func(ctx context.Context, dir string) (string, error) { return sftp.Root(ctx, c.m.link, dir) },
		Open:    func(root string) hostfs.Driver { return c.open(root) },
	}, &c.found, c.tryAll)
	if err != nil || !c.found.ReadOnly {
		return err
	}
	announced, err := c.open(c.found.Home).Capabilities(ctx)
	announced.Commands = c.found.Set.Commands
	c.found.Set = announced
	return err
}

func (c *check) tryAll(ctx context.Context, t *trial.Trial) error {
	set, err := t.Files.Capabilities(ctx)
	if err != nil {
		return err
	}
	set.Commands = c.found.Set.Commands
	c.found.Set = set
	return trial.All(ctx, t.Throughput, t.Owner, t.Replace, t.Folders, t.Cases, t.Names, t.Times, t.Syncs, t.Space,
		t.Handles, func(ctx context.Context) error { return c.byCommands(ctx, t.Files.(*sftp.Files)) })
}

// answered begins what a command that was really run prints: some hosts answer anything.
const answered = "reshard-commands-run"

func (c *check) commands(ctx context.Context) error {
	ctx, done := context.WithTimeout(ctx, 20*time.Second)
	defer done()
	script := "echo " + answered + "; date +%s.%N; for p in " + strings.Join(account.Wanted(), " ") +
		`; do command -v "$p" > /dev/null 2>&1 && echo "$p"; done; exit 0`
	begun := time.Now()
	r, err := c.m.link.Run(ctx, "sh -c '"+script+"'", nil, nil)
	if err != nil && ctx.Err() == nil && fault.CodeOf(err) != fault.Unreachable {
		return err
	}
	lines := strings.Split(strings.TrimSpace(string(r.Out)), "\n")
	if err != nil || r.Code != 0 || len(lines) < 2 || lines[0] != answered {
		return nil //nolint:nilerr // that commands do not run is what was found
	}
	c.found.Set.Commands = true
	c.found.Programs = append(c.found.Programs, lines[2:]...)
	if s, err := strconv.ParseFloat(lines[1], 64); err == nil {
		half := begun.Add(time.Since(begun) / 2)
		c.found.Clock = time.Unix(0, int64(s*1e9)).Sub(half).Round(time.Millisecond)
	}
	return nil
}

// byCommands tries whether commands see the same files, and what they do with them: they may be outside of
// the root that SFTP shows.
func (c *check) byCommands(ctx context.Context, files *sftp.Files) error {
	if !c.found.Set.Commands {
		return nil
	}
	sees, err := c.m.link.Run(ctx, "sh -c 'cat \"$1/two\"' sh "+sshlink.Quote(path.Join(c.found.Tried, files.Base())),
		nil,
		nil)
	if err != nil {
		return err
	}
	if sees.Code != 0 || string(sees.Out) != "2" {
		return nil
	}
	able := sftp.Open(c.m.link, path.Join(c.found.Tried, files.Base()), &sftp.Found{
		Hash: true, Unpack: true, Databases: true,
	})
	got, err := able.Hash(ctx, []string{"two"})
	want := blake2b.Sum256([]byte("2"))
	c.found.Set.Hash = err == nil && bytes.Equal(got["two"], want[:])
	if fault.Passing(err) {
		return err
	}
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	err = errors.Join(w.WriteHeader(&tar.Header{Name: "unpacked", Size: 1, Mode: 0o644, Format: tar.FormatGNU}))
	if err == nil {
		_, err = w.Write([]byte("u"))
	}
	if err = errors.Join(err, w.Close()); err == nil {
		_, err = able.Unpack(ctx, &archive, "")
	}
	if err == nil {
		_, err = files.Stat(ctx, "unpacked")
	}
	c.found.Set.Unpack = err == nil
	if err != nil {
		return err
	}
	return c.takesDatabases(ctx, files, able)
}

// takesDatabases tries whether a database is taken over there, with a small one.
func (c *check) takesDatabases(ctx context.Context, files, able *sftp.Files) error {
	const name = "database"
	w, err := files.Create(ctx, name)
	if err != nil {
		return err
	}
	want := sqlite.Empty()
	_, err = w.Write(want)
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	f, err := able.Snapshot(ctx, name)
	if err != nil {
		if fault.Passing(err) {
			return err
		}
		return nil // that it does not work is what was found
	}
	defer f.Close() //nolint:errcheck // only read
	got, err := io.ReadAll(io.LimitReader(f, int64(len(want))+1))
	c.found.Set.Databases = err == nil && len(got) == len(want)
	return nil
}

// connections counts how many there may be at once.
func (c *check) connections(ctx context.Context) error {
	c.found.Connections = 1
	var mu sync.Mutex
	var all sync.WaitGroup
	for range mostConnections - 1 {
		all.Go(func() {
			l := sshlink.New(c.m.now().Account)
			defer l.Close() //nolint:errcheck // it was only tried
			if _, err := l.Files(ctx); err == nil {
				mu.Lock()
				c.found.Connections++
				mu.Unlock()
				select { // all of them at once
				case <-time.After(300 * time.Millisecond):
				case <-ctx.Done():
				}
			}
		})
	}
	all.Wait()
	return ctx.Err()
}
