package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/local"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

func (a *app) sendCommand() *cli.Command {
	return &cli.Command{
		Name: "send", Usage: "store worlds in the library", ArgsUsage: "PATH…",
		Description: `Sends worlds (folders or archives) to the service, which stores each as an
immutable copy. The source is never changed; only the world's own files go. What
the library has already is not sent again, and a connection that breaks is taken
up where it was.

Examples:
  reshard send ~/saves/"Fen Garden"
  reshard send fen-garden.zip orchard.7z
  reshard send two-plots.zip --root "plots/East Plot"`,
		Flags: []cli.Flag{rootFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			paths := c.Args().Slice()
			if len(paths) == 0 {
				return usage("send needs PATH; see reshard send --help")
			}
			api, err := a.client()
			if err != nil {
				return err
			}
			// Recognised here first: what is no world is not sent at all.
			profiles, err := servedProfiles(ctx, api)
			if err != nil {
				return err
			}
			arrivals := make([]wire.Arrival, 0, len(paths))
			var failed error
			for i, p := range paths {
				arrival, err := a.send(ctx, api, p, c.String("root"), profiles)
				a.endProgress()
				if err != nil && len(paths) > 1 && ctx.Err() == nil && fault.CodeOf(err) != fault.Unreachable {
					failed = err // the others may do
					a.complain(err)
					continue
				}
				if err != nil {
					return err
				}
				if i > 0 && !a.json {
					a.print("\n")
				}
				arrivals = append(arrivals, arrival)
				if !a.json {
					a.describeArrival(arrival)
				}
			}
			if failed != nil {
				return fault.New(fault.CodeOf(failed), "send",
					fmt.Sprintf("%d of %d", len(paths)-len(arrivals), len(paths)),
					"they were not stored; the reasons stand above")
			}
			if len(paths) == 1 {
				return a.show(arrivals[0], func() {})
			}
			return a.show(arrivals, func() {})
		},
	}
}

// send recognises a world and sends what of it the service lacks; root chooses among
// several.
func (a *app) send(ctx context.Context, api *client.Client, file, root string,
	profiles []*game.Profile) (wire.Arrival, error) {
	w, err := local.Open(file, root, profiles)
	if err != nil {
		return wire.Arrival{}, err
	}
	defer w.Close()
	a.warnWhenOpen(w)
	s, err := a.newSending(api, w)
	if err != nil {
		return wire.Arrival{}, err
	}
	if err := s.read(ctx); err != nil {
		return wire.Arrival{}, err
	}
	for again := false; ; again = true {
		if err := s.sendLacking(ctx); err != nil {
			return wire.Arrival{}, err
		}
		arrival, err := api.Assemble(ctx, s.world)
		if fault.CodeOf(err) == fault.Changed && !again {
			continue // some have been collected since they were asked for
		}
		if len(w.Ignored) > 0 {
			arrival.Ignored = w.Ignored
		}
		return arrival, err
	}
}

// warnWhenOpen says that a world seems to be open in the game: what is sent may be half
// written. A change while it is read is an error of its own.
func (a *app) warnWhenOpen(w local.World) {
	if a.json || w.Archive {
		return
	}
	if why := world.SeemsOpen(w.Tree, w.Found, w.World, time.Now()); why != "" {
		a.endProgress()
		fmt.Fprintf(a.Err, "! %s seems to be open in the game (%s). Quit the game first, or what is sent may be half "+
			"written.\n", w.Found.Folder, why)
	}
}

// sending is a world on its way to the service.
type sending struct {
	a       *app
	api     *client.Client
	local   local.World
	world   wire.Assembly
	sources []string        // of world.Files, in the tree; "" for an empty folder
	glanced map[string]bool // sources of which only world.Glance goes along
	bytes   int64
	mu      sync.Mutex
	lacking map[string]bool // chunks that the service lacks and nobody is sending yet
}

// sendersAtOnce is how many files are read, and bundles sent, at a time.
const sendersAtOnce = 2

func (a *app) newSending(api *client.Client, l local.World) (*sending, error) {
	s := &sending{a: a, api: api, local: l, world: wire.Assembly{Name: filepath.Base(l.Path)},
		glanced: map[string]bool{}}
	entries, err := world.Parts(l.Tree, l.Found)
	if err != nil {
		return nil, err
	}
	// Locks are no part of the world, and what they say of it must arrive: it was open.
	for _, lock := range l.World.Locks {
		source := path.Join(l.Found.Root, lock)
		if info, err := fs.Stat(l.Tree, source); err == nil && info.Mode().IsRegular() {
			entries = append(entries, world.Entry{
				Path:    lock,
				Source:  source,
				Size:    info.Size(),
				ModTime: info.ModTime(),
			})
		}
	}
	// What is left behind must be told there, too.
	for _, name := range l.Found.LeftOut {
		source := path.Join(l.Found.Root, name)
		if info, err := fs.Stat(l.Tree, source); err == nil {
			s.glanced[source] = true
			entries = append(entries, world.Entry{
				Path: name, Source: source, Size: min(info.Size(), world.Glance), ModTime: info.ModTime(),
			})
		}
	}
	if !l.Archive {
		s.world.Name = l.Found.Folder
	}
	for _, e := range entries {
		name, source := nameOnTheWay(l, e), e.Source
		if e.Dir {
			source = ""
		}
		s.world.Files = append(s.world.Files, wire.AssembledFile{Path: name, Modified: e.ModTime})
		s.sources = append(s.sources, source)
		s.bytes += e.Size
	}
	return s, nil
}

// nameOnTheWay keeps an archive's names, and of a folder its own name and, beside it,
// those of its realms.
func nameOnTheWay(l local.World, e world.Entry) string {
	if l.Archive {
		if e.Dir {
			return e.Source + "/"
		}
		return e.Source
	}
	if len(l.Found.Files) > 0 {
		return e.Path
	}
	folder := l.Found.Folder
	if e.Part != "" {
		folder = path.Base(l.Found.Realms[e.Part])
	}
	return folder + "/" + e.Path
}

// read cuts every file, so that the service can be asked what it lacks.
func (s *sending) read(ctx context.Context) error {
	var read atomic.Int64
	see := s.a.progressOf("reading", s.bytes)
	err := s.eachFile(ctx, func(int) bool { return true }, func(i int, buf []byte) error {
		var chunks []wire.Chunk
		err := s.cut(i, buf, func(c vault.Chunk, _ []byte) error {
			chunks = append(chunks, wire.Chunk(c))
			s.mu.Lock()
			defer s.mu.Unlock()
			see(read.Add(c.Size))
			return ctx.Err()
		})
		s.world.Files[i].Chunks = chunks
		return err
	})
	if err == nil && read.Load() != s.bytes {
		return s.changed(s.local.Path)
	}
	return err
}

func (s *sending) changed(file string) error {
	return fault.New(fault.Changed, "read", file,
		"it changed while it was being read: the world seems open in the game").
		With("Quit the game, and send the world again.")
}

func (s *sending) cut(i int, buf []byte, see func(vault.Chunk, []byte) error) error {
	f, err := s.local.Tree.Open(s.sources[i])
	if err != nil {
		return fault.Wrap(fault.Changed, "read", s.sources[i], err)
	}
	defer f.Close() //nolint:errcheck // only read
	in := io.Reader(f)
	if s.glanced[s.sources[i]] {
		in = io.LimitReader(f, world.Glance)
	}
	return fault.Wrap(fault.BadArchive, "read", s.sources[i], vault.Cut(in, buf, see))
}

// eachFile goes over the files that are wanted, several at a time.
func (s *sending) eachFile(ctx context.Context, wanted func(int) bool, do func(i int, buf []byte) error) error {
	group, gctx := errgroup.WithContext(ctx)
	next := make(chan int)
	group.Go(func() error {
		defer close(next)
		for i, source := range s.sources {
			if source == "" || !wanted(i) {
				continue
			}
			select {
			case next <- i:
			case <-gctx.Done():
				return context.Cause(gctx)
			}
		}
		return nil
	})
	for range sendersAtOnce {
		group.Go(func() error {
			buf := vault.CutBuffer()
			for i := range next {
				if err := do(i, buf); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// bundleSize is about how much is sent at a time, in bytes.
const bundleSize = 8 << 20

// sendLacking asks what the service lacks, and sends that.
func (s *sending) sendLacking(ctx context.Context) error {
	sizes := map[string]int64{}
	var all []string
	for _, f := range s.world.Files {
		for _, c := range f.Chunks {
			if _, seen := sizes[c.Hash]; !seen {
				sizes[c.Hash] = c.Size
				all = append(all, c.Hash)
			}
		}
	}
	lacking, err := s.api.Lacking(ctx, all)
	if err != nil || len(lacking) == 0 {
		return err
	}
	total := int64(0)
	s.lacking = make(map[string]bool, len(lacking))
	for _, h := range lacking {
		s.lacking[h] = true
		total += sizes[h]
	}
	if err := s.api.Room(ctx, s.world.Name, total); err != nil {
		return err
	}
	verb := "sending"
	if total < s.bytes {
		verb = "sending what is new"
	}
	return s.sendBundles(ctx, s.a.progressOf(verb, total))
}

func (s *sending) sendBundles(ctx context.Context, see func(int64)) error {
	var sent atomic.Int64
	shown := func(n int64) {
		s.mu.Lock()
		defer s.mu.Unlock()
		see(n)
	}
	free := make(chan *vault.Bundle, sendersAtOnce)
	for range sendersAtOnce {
		b, err := vault.NewBundle()
		if err != nil {
			return err
		}
		free <- b
	}
	flush := func(b *vault.Bundle) error {
		packed, content := b.Len()
		if content == 0 {
			return nil
		}
		data := b.Bytes()
		base := sent.Load()
		_, err := s.api.Upload(ctx, s.world.Name, "chunks", bytes.NewReader(data), int64(len(data)),
			func(n int64) { shown(base + content*min(n, packed)/packed) })
		shown(sent.Add(content))
		b.Reset()
		return err
	}
	err := s.eachFile(ctx, s.lacks, func(i int, buf []byte) error {
		b := <-free
		defer func() { free <- b }()
		n := 0
		err := s.cut(i, buf, func(c vault.Chunk, data []byte) error {
			if n >= len(s.world.Files[i].Chunks) || s.world.Files[i].Chunks[n] != wire.Chunk(c) {
				return s.changed(s.sources[i])
			}
			n++
			if !s.claim(c.Hash) {
				return ctx.Err()
			}
			if err := b.Add(c, data); err != nil {
				return err
			}
			if packed, _ := b.Len(); packed >= bundleSize {
				return flush(b)
			}
			return ctx.Err()
		})
		return err
	})
	for range sendersAtOnce {
		if b := <-free; err == nil {
			err = flush(b)
		}
	}
	return err
}

// lacks reports whether a file has a chunk that is to be sent.
func (s *sending) lacks(i int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(s.world.Files[i].Chunks, func(c wire.Chunk) bool { return s.lacking[c.Hash] })
}

func (s *sending) claim(hash string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.lacking[hash]
	delete(s.lacking, hash)
	return was
}
