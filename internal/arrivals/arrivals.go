// Package arrivals takes worlds in: archives in one piece, uploads that go on after a
// break, and chunks that a sender puts together.
package arrivals

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"reshard/internal/archive"
	"reshard/internal/catalogue"
	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/feed"
	"reshard/internal/library"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Library is where what has arrived is recognised and kept; library.Library is one.
type Library interface {
	Keep(ctx context.Context, in library.Incoming, tree fs.FS, allRead func(),
		known func(world.Entry) []vault.Chunk) (wire.Arrival, error)
}

// Vault is where chunks go that come before the world that is made of them; vault.Vault
// is one.
type Vault interface {
	// Take stores a bundle of chunks, each verified against its name.
	Take(ctx context.Context, from io.ReaderAt, size int64) (chunks int, err error)
	Lacking(ctx context.Context, hashes []string) ([]string, error)
	Expect(ctx context.Context, c vault.Copy)
	Tree(ctx context.Context, c vault.Copy, at func(part, name string) string) fs.FS
}

// Config is what arrivals need.
type Config struct {
	Library Library
	Vault   Vault
	Games   *catalogue.Catalogue
	Log     *slog.Logger
	// Folder is where uploads are kept until they have arrived.
	Folder string
	Limits archive.Limits
	// Feed is told what is arriving.
	Feed *feed.Feed
	// Age tells how old something is that is removed for its age; see records.Counted.
	Age func(ctx context.Context, what string, since time.Time) (time.Duration, error)
}

// Arrivals is what comes in. It is safe for concurrent use.
type Arrivals struct {
	library Library
	vault   Vault
	games   *catalogue.Catalogue
	log     *slog.Logger
	now     func() time.Time
	dir     string
	limits  archive.Limits
	feed    *feed.Feed
	age     func(ctx context.Context, what string, since time.Time) (time.Duration, error)
	// underWay are the uploads that are being taken in, answers what became of others, for
	// as long as a sender may ask again.
	underWay sync.Map
	// held is the room that is promised to what is not in the folder yet, by who holds it.
	held      sync.Map
	admitting sync.Mutex
	answers   *expirable.LRU[string, wire.Arrival]
}

// New makes arrivals.
func New(c Config) *Arrivals {
	return &Arrivals{
		library: c.Library, vault: c.Vault, games: c.Games, log: c.Log, now: time.Now, dir: c.Folder, limits: c.Limits,
		feed: c.Feed, age: c.Age,
		answers: expirable.NewLRU[string, wire.Arrival](mostAnswered, nil, askedAgain),
	}
}

// Incoming is an arriving archive.
type Incoming struct {
	library.Incoming
	Size int64 // bytes announced; -1 unknown
	Body io.Reader
}

func (arr *Arrivals) keep(ctx context.Context, in library.Incoming, archive *archive.Archive, allRead func()) (
	wire.Arrival, error,
) {
	arrival, err := arr.library.Keep(ctx, in, archive, allRead, nil)
	if archive.Ignored != nil {
		arrival.Ignored = archive.Ignored
	}
	return arrival, err
}

// Receive takes an archive in: it is written to disk as it comes, checked,
// recognised, and only then stored as a copy. Memory stays bounded whatever its
// size.
func (arr *Arrivals) Receive(ctx context.Context, in Incoming) (wire.Arrival, error) {
	if err := plainName(in.Name); err != nil {
		return wire.Arrival{}, err
	}
	forget, err := arr.admit(in)
	if err != nil {
		return wire.Arrival{}, err
	}
	defer forget()
	f, err := os.CreateTemp(arr.dir, "*.part")
	if err != nil {
		return wire.Arrival{}, fault.Wrap(fault.Internal, "receive", in.Name, err)
	}
	defer os.Remove(f.Name()) //nolint:errcheck // the next start clears what is left
	n, err := io.Copy(f, &measured{Reader: in.Body, arr: arr, name: in.Name})
	if err = errors.Join(err, f.Close()); err != nil {
		var coded *fault.Error
		if errors.As(err, &coded) {
			return wire.Arrival{}, err
		}
		code := fault.Interrupted
		if errors.Is(err, syscall.ENOSPC) {
			code = fault.NoSpace
		}
		return wire.Arrival{}, fault.Wrap(code, "receive", in.Name, err)
	}
	if in.Size >= 0 && n != in.Size {
		return wire.Arrival{}, fault.New(fault.Interrupted, "receive", in.Name, "%d bytes were announced and %d came",
			in.Size, n)
	}
	archive, err := arr.openArrival(f.Name(), in.Name)
	if err != nil {
		return wire.Arrival{}, err
	}
	// Removed as soon as it has been read: what is never synced costs no disk.
	drop := sync.OnceFunc(func() {
		_ = archive.Close() // only read
		_ = os.Remove(f.Name())
	})
	defer drop()
	return arr.keep(ctx, in.Incoming, archive, drop)
}

// admit keeps room for an archive that comes in one piece.
func (arr *Arrivals) admit(in Incoming) (forget func(), err error) {
	arr.admitting.Lock()
	defer arr.admitting.Unlock()
	if err := arr.Room(in.Name, max(0, in.Size), inAll); err != nil {
		return nil, err
	}
	return arr.hold(in.By, max(0, in.Size)*inAll), nil
}

// measured looks for room again and again while an archive comes of which nobody has said
// how long it is.
type measured struct {
	io.Reader
	arr   *Arrivals
	name  string
	since int64
	all   int64
}

// lookAgain is how many bytes come between two looks.
const lookAgain = 64 << 20

func (m *measured) Read(p []byte) (int, error) {
	if m.since >= lookAgain {
		m.since = 0
		if err := m.arr.Room(m.name, 0, 1); err != nil {
			return 0, err
		}
	}
	n, err := m.Reader.Read(p)
	m.since += int64(n)
	if m.all += int64(n); m.all > m.arr.limits.Defaults().Bytes {
		return n, fault.New(fault.TooLarge, "receive", m.name, "more than %d bytes have come", m.all)
	}
	return n, err
}

// openArrival opens an archive, or a file that is a world itself.
func (arr *Arrivals) openArrival(file, name string) (*archive.Archive, error) {
	if world.IsFile(path.Base(name), arr.games.Profiles()) {
		return archive.OpenFile(file, path.Base(name))
	}
	return archive.Open(file, name, filepath.Dir(file), arr.limits)
}

// Clear removes what was being received in one piece, or unpacked, when an
// earlier life ended: the sender has been told that it did not arrive. Uploads that can
// be gone on with stay.
func (arr *Arrivals) Clear(context.Context) error {
	left, err := filepath.Glob(filepath.Join(arr.dir, "*"))
	for _, f := range left {
		if uploadID.MatchString(strings.TrimSuffix(filepath.Base(f), ".info")) {
			continue
		}
		err = errors.Join(err, os.RemoveAll(f))
	}
	return fault.Wrap(fault.Internal, "clear", arr.dir, err)
}

// Watch tells those who watch what is arriving, until ctx ends.
func (arr *Arrivals) Watch(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var told []wire.Unfinished
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if !arr.feed.Watched(feed.Arrivals, "") {
			told = nil
			continue
		}
		now, err := arr.List(ctx)
		if err == nil && (told == nil || !reflect.DeepEqual(told, now)) {
			told = now
			arr.feed.Tell(feed.Event{Kind: feed.Arrivals, Value: now})
		}
	}
}
