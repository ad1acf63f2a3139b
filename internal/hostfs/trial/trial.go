// Package trial tries what can be done on a host, over its driver of files: in a folder of its own
// that it removes. What it finds is what an account's findings hold.
package trial

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/account"
	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
)

// measured is how much is sent to measure the line, in bytes.
const measured = 4 << 20

// Trial tries what can be done in one folder. What fails is not promised; only a host that does not
// answer is an error.
type Trial struct {
	Files hostfs.Driver
	Found *account.Findings
}

// Place is where may be tried.
type Place struct {
	// Folders are tried in order; "" and those that are not there or cannot be written are
	// passed over.
	Folders []string
	// Root gives a folder in the host's own form, Open its files.
	Root func(ctx context.Context, folder string) (string, error)
	Open func(root string) hostfs.Driver
}

// In does something in a folder of its own that is made in the first place where that can be, and
// removed. Findings say which that was; where there is none they say that nothing can be written.
func In(ctx context.Context, p Place, found *account.Findings, do func(context.Context, *Trial) error) error {
	var id [6]byte
	_, _ = rand.Read(id[:]) // it never fails (crypto/rand)
	name := ".reshard-check-" + hex.EncodeToString(id[:])
	found.ReadOnly = true
	for _, dir := range p.Folders {
		if dir == "" {
			continue
		}
		root, err := p.Root(ctx, dir)
		if err == nil {
			err = p.Open(root).Mkdir(ctx, name)
		}
		if fault.Passing(err) {
			return err
		}
		if err != nil {
			continue
		}
		found.ReadOnly, found.Tried = false, root
		err = do(ctx, &Trial{Files: p.Open(path.Join(root, name)), Found: found})
		// It is ours, and empty but for what was tried.
		cctx, done := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer done()
		return errors.Join(err, clearAll(cctx, p.Open(root), name))
	}
	return nil
}

// All tries one thing after the other.
func All(ctx context.Context, tries ...func(context.Context) error) error {
	for _, try := range tries {
		if err := try(ctx); fault.Passing(err) || ctx.Err() != nil {
			return err
		}
	}
	return nil
}

// RoundTrip gives the middle one of some questions' times.
func RoundTrip(ctx context.Context, ask func(context.Context) error) (time.Duration, error) {
	var took []time.Duration
	for range 5 {
		begun := time.Now()
		if err := ask(ctx); err != nil {
			return 0, err
		}
		took = append(took, time.Since(begun))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

func clearAll(ctx context.Context, at hostfs.Driver, name string) error {
	entries, err := at.List(ctx, name)
	for _, e := range entries {
		sub := path.Join(name, e.Name())
		if e.IsDir() {
			err = errors.Join(err, clearAll(ctx, at, sub))
		} else {
			err = errors.Join(err, at.Remove(ctx, sub))
		}
	}
	return errors.Join(err, at.Remove(ctx, name))
}

func (t *Trial) put(ctx context.Context, name string, from io.Reader) error {
	w, err := t.Files.Create(ctx, name)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, from)
	return errors.Join(err, w.Close())
}

// Throughput measures the line with bytes that do not pack.
func (t *Trial) Throughput(ctx context.Context) error {
	data := make([]byte, measured)
	_, _ = rand.Read(data) // it never fails (crypto/rand)
	begun := time.Now()
	if err := t.put(ctx, "throughput", bytes.NewReader(data)); err != nil {
		return err
	}
	t.Found.Up = int64(measured / time.Since(begun).Seconds())
	begun = time.Now()
	f, err := t.Files.Open(ctx, "throughput")
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // only read
	n, err := io.Copy(io.Discard, f)
	t.Found.Down = int64(float64(n) / time.Since(begun).Seconds())
	return err
}

// Owner is who owns what is made there.
func (t *Trial) Owner(ctx context.Context) error {
	info, err := t.Files.Stat(ctx, "throughput")
	if err == nil {
		t.Found.Set.Account = info.Account
		t.Found.Set.Owners = strings.HasPrefix(info.Account, "0:")
	}
	if err == nil && !t.Found.Set.Commands {
		// Times are kept to the second, so that less than two tells nothing.
		if off := time.Until(info.Modified).Round(time.Second); off.Abs() > 2*time.Second {
			t.Found.Clock = off
		}
	}
	return err
}

// Replace tries whether a file takes another's place.
func (t *Trial) Replace(ctx context.Context) error {
	if !t.Found.Set.AtomicReplace {
		return nil
	}
	err := errors.Join(t.put(ctx, "old", strings.NewReader("old")), t.put(ctx, "new", strings.NewReader("new")))
	if err == nil {
		err = t.Files.Rename(ctx, "new", "old", true)
	}
	t.Found.Set.AtomicReplace = err == nil
	return err
}

// Folders tries whether a full folder is renamed, and whether a name that is taken is left
// alone.
func (t *Trial) Folders(ctx context.Context) error {
	err := t.Files.Mkdir(ctx, "full")
	if err == nil {
		err = t.put(ctx, "full/file", strings.NewReader("x"))
	}
	if err == nil {
		err = t.Files.Rename(ctx, "full", "moved", false)
	}
	t.Found.Set.RenameFolders = err == nil
	if fault.Passing(err) {
		return err
	}
	err = errors.Join(t.put(ctx, "one", strings.NewReader("1")), t.put(ctx, "two", strings.NewReader("2")))
	if err != nil {
		return err
	}
	err = t.Files.Rename(ctx, "one", "two", false)
	t.Found.Set.Exclusive = errors.Is(err, fs.ErrExist)
	if fault.Passing(err) {
		return err
	}
	err = t.Files.Rename(ctx, "one", "three", false)
	t.Found.Set.NoRename = err != nil && !fault.Passing(err)
	return err
}

func (t *Trial) Cases(ctx context.Context) error {
	if err := t.put(ctx, "capitals", strings.NewReader("x")); err != nil {
		return err
	}
	_, err := t.Files.Stat(ctx, "CAPITALS")
	t.Found.Set.ExactCase = errors.Is(err, fs.ErrNotExist)
	return err
}

// Names tries whether a name is kept that Windows does not take.
func (t *Trial) Names(ctx context.Context) error {
	const odd = "a name: is it kept? "
	err := t.put(ctx, odd, strings.NewReader("x"))
	if fault.Passing(err) {
		return err
	}
	entries, lerr := t.Files.List(ctx, ".")
	t.Found.Set.AnyName = err == nil && slices.ContainsFunc(entries,
		func(e fs.DirEntry) bool { return e.Name() == filename.Encode(odd) })
	t.Found.Strict = !t.Found.Set.AnyName
	return lerr
}

// Times finds the smallest difference of times that is kept: some hosts keep whole seconds,
// some two, some none that is set.
func (t *Trial) Times(ctx context.Context) error {
	want := time.Date(2024, 5, 1, 12, 0, 1, 0, time.UTC)
	if err := t.Files.Set(ctx, "capitals", hostfs.Attributes{Modified: want}); err != nil {
		return err
	}
	info, err := t.Files.Stat(ctx, "capitals")
	if err != nil {
		return err
	}
	switch off := info.Modified.Sub(want).Abs(); {
	case off == 0:
		t.Found.Set.TimePrecision = time.Second
	case off <= 2*time.Second:
		t.Found.Set.TimePrecision = 2 * time.Second
	default:
		t.Found.Set.TimePrecision = capability.NoTimes // they cannot be set, and tell nothing
	}
	return nil
}

// mostHandles is how many files are opened at once to find how many may be.
const mostHandles = 256

// Handles finds how many files may be open at once, and leaves a quarter of them free.
func (t *Trial) Handles(ctx context.Context) error {
	var mu sync.Mutex
	var open []hostfs.Content
	var all sync.WaitGroup
	for range mostHandles {
		all.Go(func() {
			f, err := t.Files.Open(ctx, "capitals")
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
	t.Found.Set.AtOnce = max(1, len(open)*3/4)
	return ctx.Err()
}

func (t *Trial) Syncs(ctx context.Context) error {
	if !t.Found.Set.Sync {
		return nil
	}
	err := t.Files.Sync(ctx, "capitals", ".")
	t.Found.Set.Sync, t.Found.NoSync = err == nil, err != nil
	return err
}

func (t *Trial) Space(ctx context.Context) error {
	if !t.Found.Set.FreeSpace {
		return nil
	}
	spacer, ok := t.Files.(hostfs.Spacer)
	if !ok {
		return nil
	}
	free, _, err := spacer.Space(ctx, ".")
	t.Found.Set.FreeSpace, t.Found.NoSpace = err == nil, err != nil
	if err == nil {
		t.Found.Free = free
	}
	return err
}

// Step is a part of a check, and what a person is told while it goes on.
type Step struct {
	Say string
	Do  func(context.Context) error
}

// Run does the steps of a check in their order.
func Run(ctx context.Context, say func(string), steps ...Step) error {
	for _, s := range steps {
		say(s.Say)
		if err := s.Do(ctx); err != nil {
			return err
		}
	}
	return nil
}
