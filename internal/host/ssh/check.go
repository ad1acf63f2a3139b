package ssh

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/blake2b"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/sftp"
	"reshard/internal/sshlink"
)

// How much a check sends to measure the line, in bytes, and how many connections it tries.
const (
	measured        = 4 << 20
	mostConnections = 4
)

// check is one check of an account.
type check struct {
	m      *machine
	others []string
	found  account.Findings
	files  *sftp.Files // of the folder in which it tries
}

// Check implements host.Checker. It signs in anew, tries what can be done in a folder of its own
// that it removes, and says what it is doing.
func (m *machine) Check(ctx context.Context, others []string, say func(string)) (account.Findings, error) {
	m.doubted.Store(false)
	m.link.Again()
	m.link.Cut() // what is found is found on a new connection, with what is known now
	c := check{m: m, others: others, found: account.Findings{At: time.Now().UTC(), Free: -1, Programs: []string{}}}
	for _, step := range []struct {
		say string
		do  func(context.Context) error
	}{
		{"signing in", c.signIn},
		{"measuring the round trip", c.roundTrip},
		{"trying commands", c.commands},
		{"trying what can be written", c.write},
		{"counting connections", c.connections},
	} {
		say(step.say)
		if err := step.do(ctx); err != nil {
			return c.found, err
		}
	}
	return c.found, nil
}

func (c *check) signIn(ctx context.Context) (err error) {
	c.found.Home, err = sftp.Root(ctx, c.m.link, ".")
	return err
}

// roundTrip takes the middle one of some questions.
func (c *check) roundTrip(ctx context.Context) error {
	f := sftp.Open(c.m.link, c.found.Home, nil)
	var took []time.Duration
	for range 5 {
		begun := time.Now()
		if _, err := f.Stat(ctx, "."); err != nil {
			return err
		}
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	c.found.RoundTrip = took[len(took)/2]
	return nil
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

// write tries what can be done with files, in the account's folder, where one arrives, or in
// another of those that it was given.
func (c *check) write(ctx context.Context) error {
	var id [6]byte
	_, _ = rand.Read(id[:]) // it never fails (crypto/rand)
	name := ".reshard-check-" + hex.EncodeToString(id[:])
	c.found.ReadOnly = true
	for _, dir := range append([]string{c.m.now().Account.Folder, c.found.Home}, c.others...) {
		if dir == "" {
			continue
		}
		root, err := sftp.Root(ctx, c.m.link, dir)
		if err != nil {
			if fault.Passing(err) {
				return err
			}
			continue
		}
		at := sftp.Open(c.m.link, root, nil)
		if err := at.Mkdir(ctx, name); err != nil {
			if fault.Passing(err) {
				return err
			}
			continue
		}
		c.found.ReadOnly, c.found.Tried = false, root
		c.files = sftp.Open(c.m.link, path.Join(root, name), nil)
		err = c.tryAll(ctx)
		// It is ours, and empty but for what was tried.
		cctx, done := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer done()
		return errors.Join(err, c.clear(cctx, at, name))
	}
	announced, err := sftp.Open(c.m.link, c.found.Home, nil).Capabilities(ctx)
	announced.Commands = c.found.Set.Commands
	c.found.Set = announced
	return err
}

func (c *check) clear(ctx context.Context, at *sftp.Files, name string) error {
	entries, err := at.List(ctx, name)
	for _, e := range entries {
		sub := path.Join(name, e.Name())
		if e.IsDir() {
			err = errors.Join(err, c.clear(ctx, at, sub))
		} else {
			err = errors.Join(err, at.Remove(ctx, sub))
		}
	}
	return errors.Join(err, at.Remove(ctx, name))
}

// tryAll tries one thing after the other. What fails is not promised; only a host that does not
// answer ends it.
func (c *check) tryAll(ctx context.Context) error {
	commands := c.found.Set.Commands
	set, err := c.files.Capabilities(ctx)
	if err != nil {
		return err
	}
	set.Commands = commands
	c.found.Set = set
	for _, try := range []func(context.Context) error{
		c.throughput, c.owner, c.replace, c.folders, c.cases, c.names, c.times, c.syncs, c.space, c.handles, c.unpacks,
	} {
		if err := try(ctx); fault.Passing(err) || ctx.Err() != nil {
			return err
		}
	}
	return nil
}

func (c *check) put(ctx context.Context, name string, from io.Reader) error {
	w, err := c.files.Create(ctx, name)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, from)
	return errors.Join(err, w.Close())
}

// throughput measures the line with bytes that do not pack.
func (c *check) throughput(ctx context.Context) error {
	data := make([]byte, measured)
	_, _ = rand.Read(data) // it never fails (crypto/rand)
	begun := time.Now()
	if err := c.put(ctx, "throughput", bytes.NewReader(data)); err != nil {
		return err
	}
	c.found.Up = int64(measured / time.Since(begun).Seconds())
	begun = time.Now()
	f, err := c.files.Open(ctx, "throughput")
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // only read
	n, err := io.Copy(io.Discard, f)
	c.found.Down = int64(float64(n) / time.Since(begun).Seconds())
	return err
}

// owner is who owns what is made there.
func (c *check) owner(ctx context.Context) error {
	info, err := c.files.Stat(ctx, "throughput")
	if err == nil {
		c.found.Set.Account = info.Account
		c.found.Set.Owners = strings.HasPrefix(info.Account, "0:")
	}
	if err == nil && !c.found.Set.Commands {
		// Times are kept to the second, so that less than two tells nothing.
		if off := time.Until(info.Modified).Round(time.Second); off.Abs() > 2*time.Second {
			c.found.Clock = off
		}
	}
	return err
}

// replace tries whether a file takes another's place.
func (c *check) replace(ctx context.Context) error {
	if !c.found.Set.AtomicReplace {
		return nil
	}
	err := errors.Join(c.put(ctx, "old", strings.NewReader("old")), c.put(ctx, "new", strings.NewReader("new")))
	if err == nil {
		err = c.files.Rename(ctx, "new", "old", true)
	}
	c.found.Set.AtomicReplace = err == nil
	return err
}

// folders tries whether a full folder is renamed, and whether a name that is taken is left
// alone.
func (c *check) folders(ctx context.Context) error {
	err := c.files.Mkdir(ctx, "full")
	if err == nil {
		err = c.put(ctx, "full/file", strings.NewReader("x"))
	}
	if err == nil {
		err = c.files.Rename(ctx, "full", "moved", false)
	}
	c.found.Set.RenameFolders = err == nil
	if fault.Passing(err) {
		return err
	}
	err = errors.Join(c.put(ctx, "one", strings.NewReader("1")), c.put(ctx, "two", strings.NewReader("2")))
	if err == nil {
		err = c.files.Rename(ctx, "one", "two", false)
		c.found.Set.Exclusive = errors.Is(err, fs.ErrExist)
	}
	return err
}

func (c *check) cases(ctx context.Context) error {
	if err := c.put(ctx, "capitals", strings.NewReader("x")); err != nil {
		return err
	}
	_, err := c.files.Stat(ctx, "CAPITALS")
	c.found.Set.ExactCase = errors.Is(err, fs.ErrNotExist)
	return err
}

// names tries whether a name is kept that Windows does not take.
func (c *check) names(ctx context.Context) error {
	const odd = "a name: is it kept? "
	err := c.put(ctx, odd, strings.NewReader("x"))
	if fault.Passing(err) {
		return err
	}
	entries, lerr := c.files.List(ctx, ".")
	c.found.Set.AnyName = err == nil && slices.ContainsFunc(entries,
		func(e fs.DirEntry) bool { return e.Name() == filename.Encode(odd) })
	c.found.Strict = !c.found.Set.AnyName
	return lerr
}

// times finds the smallest difference of times that is kept: some hosts keep whole seconds,
// some two, some none that is set.
func (c *check) times(ctx context.Context) error {
	want := time.Date(2024, 5, 1, 12, 0, 1, 0, time.UTC)
	if err := c.files.Set(ctx, "capitals", hostfs.Attributes{Modified: want}); err != nil {
		return err
	}
	info, err := c.files.Stat(ctx, "capitals")
	if err != nil {
		return err
	}
	switch off := info.Modified.Sub(want).Abs(); {
	case off == 0:
		c.found.Set.TimePrecision = time.Second
	case off <= 2*time.Second:
		c.found.Set.TimePrecision = 2 * time.Second
	default:
		c.found.Set.TimePrecision = 24 * time.Hour // they cannot be set, and tell nothing
	}
	return nil
}

// mostHandles is how many files are opened at once to find how many may be.
const mostHandles = 256

// handles finds how many files may be open at once, and leaves a quarter of them free.
func (c *check) handles(ctx context.Context) error {
	var mu sync.Mutex
	var open []hostfs.Content
	var all sync.WaitGroup
	for range mostHandles {
		all.Go(func() {
			f, err := c.files.Open(ctx, "capitals")
			if err == nil {
				mu.Lock()
				defer mu.Unlock()
				open = append(open, f)
			}
		})
	}
	all.Wait()
	for _, f := range open {
		_ = f.Close() // it was only opened
	}
	c.found.Set.AtOnce = max(1, len(open)*3/4)
	return ctx.Err()
}

func (c *check) syncs(ctx context.Context) error {
	if !c.found.Set.Sync {
		return nil
	}
	err := c.files.Sync(ctx, "capitals", ".")
	c.found.Set.Sync, c.found.NoSync = err == nil, err != nil
	return err
}

func (c *check) space(ctx context.Context) error {
	if !c.found.Set.FreeSpace {
		return nil
	}
	free, _, err := c.files.Space(ctx, ".")
	c.found.Set.FreeSpace, c.found.NoSpace = err == nil, err != nil
	if err == nil {
		c.found.Free = free
	}
	return err
}

// unpacks tries whether commands see the same files: they may be outside of the root that SFTP
// shows.
func (c *check) unpacks(ctx context.Context) error {
	if !c.found.Set.Commands {
		return nil
	}
	sees, err := c.m.link.Run(ctx, "sh -c 'cat \"$1/two\"' sh "+sshlink.Quote(path.Join(c.found.Tried, c.files.Base())),
		nil,
		nil)
	if err != nil {
		return err
	}
	if sees.Code != 0 || string(sees.Out) != "2" {
		return nil
	}
	able := sftp.Open(c.m.link, path.Join(c.found.Tried, c.files.Base()), &sftp.Found{Hash: true, Unpack: true})
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
		_, err = c.files.Stat(ctx, "unpacked")
	}
	c.found.Set.Unpack = err == nil
	return err
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
