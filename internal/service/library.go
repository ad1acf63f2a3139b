package service

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"syscall"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/pack"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Incoming is an arriving archive.
type Incoming struct {
	Name string // the file's name, for messages and for a world at its top
	Root string // which world, when there are several
	By   string // the user
	Size int64  // bytes announced; -1 unknown
	Body io.Reader
	// Source says where it came from, when that is not Name.
	Source string
}

// Receive takes an archive in: it is written to disk as it comes, checked,
// recognised, and only then stored as a copy. Memory stays bounded whatever its
// size.
func (s *Service) Receive(ctx context.Context, in Incoming) (wire.Arrival, error) {
	if err := s.Room(in.Name, in.Size, 2); err != nil {
		return wire.Arrival{}, err
	}
	f, err := os.CreateTemp(s.ArrivalsFolder(), "*.part")
	if err != nil {
		return wire.Arrival{}, fault.Wrap(fault.Internal, "receive", in.Name, err)
	}
	defer os.Remove(f.Name()) //nolint:errcheck // the next start clears what is left
	n, err := io.Copy(f, in.Body)
	if err = errors.Join(err, f.Close()); err != nil {
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
	archive, err := s.openArrival(f.Name(), in.Name)
	if err != nil {
		return wire.Arrival{}, err
	}
	// Removed as soon as it has been read: what is never synced costs no disk.
	drop := sync.OnceFunc(func() {
		_ = archive.Close() // only read
		_ = os.Remove(f.Name())
	})
	defer drop()
	return s.keep(ctx, in, archive, drop)
}

// openArrival opens an archive, or a file that is a world itself.
func (s *Service) openArrival(file, name string) (*pack.Archive, error) {
	if world.IsFile(path.Base(name), s.games.profiles()) {
		return pack.OpenFile(file, path.Base(name))
	}
	return pack.Open(file, name, filepath.Dir(file), s.config.Limits)
}

func (s *Service) keep(ctx context.Context, in Incoming, archive *pack.Archive, allRead func()) (wire.Arrival, error) {
	arrival, err := s.keepTree(ctx, in, archive, allRead, nil)
	if archive.Ignored != nil {
		arrival.Ignored = archive.Ignored
	}
	return arrival, err
}

// keepTree recognises the world in a tree and stores it; known, which may be nil, gives
// the chunks of files that need not be read.
func (s *Service) keepTree(ctx context.Context, in Incoming, tree fs.FS, allRead func(),
	known func(world.Entry) []vault.Chunk) (wire.Arrival, error) {
	folder := world.Label(in.Name, s.games.profiles())
	w, found, err := world.Inspect(tree, ".", folder, in.Root, s.games.profiles())
	if err != nil {
		var e *fault.Error
		if errors.As(err, &e) {
			e.Path = in.Name
		}
		return wire.Arrival{}, err
	}
	entries, err := world.Parts(tree, found)
	if err != nil {
		return wire.Arrival{}, err
	}
	files := sources(tree, entries)
	for i := range files {
		if known != nil {
			files[i].Known = known(entries[i])
		}
	}
	c, err := s.vault.Store(ctx, files, allRead)
	if err != nil {
		return wire.Arrival{}, damagedArchive(err, in.Name)
	}
	source := in.Source
	if source == "" {
		source = in.Name
	}
	rec, isNew, err := s.records.AddCopy(ctx, records.Copy{
		ID: c.ID, Kind: "arrival", Facts: records.JSON[world.World]{V: w},
		Bytes: c.Bytes, Files: int64(len(c.Files)), Source: source, CreatedBy: in.By,
	})
	if err != nil {
		return wire.Arrival{}, err
	}
	arrival := wire.Arrival{Copy: s.wireCopy(rec), New: isNew, Ignored: []string{}}
	if isNew {
		arrival.Same, err = s.sameAs(ctx, rec)
	}
	return arrival, err
}

// damagedArchive names the archive when reading an entry failed: that is the
// archive's fault and not the vault's.
func damagedArchive(err error, name string) error {
	if c := fault.CodeOf(err); c != fault.Internal {
		return err
	}
	return &fault.Error{Code: fault.BadArchive, Op: "unpack", Path: name, Err: err}
}

func sources(tree fs.FS, entries []world.Entry) []vault.Source {
	out := make([]vault.Source, 0, len(entries))
	for _, e := range entries {
		src := vault.Source{Part: e.Part, Path: e.Path, Modified: e.ModTime}
		if !e.Dir {
			src.Open = func() (io.ReadCloser, error) { return tree.Open(e.Source) }
		}
		out = append(out, src)
	}
	return out
}

// Worlds lists the worlds of the library that are looked for, each with its copies,
// newest first.
func (s *Service) Worlds(ctx context.Context, q Search) ([]wire.World, error) {
	copies, err := s.records.Copies(ctx)
	if err != nil {
		return nil, err
	}
	copies = slices.DeleteFunc(copies, func(c records.Copy) bool { return q.Aside != (c.AsideAt != nil) })
	worlds, err := s.byWorld(ctx, copies)
	return slices.DeleteFunc(worlds, func(w wire.World) bool { return !q.finds(w) }), err
}

// byWorld gathers copies under their worlds, both in the order that they come in.
func (s *Service) byWorld(ctx context.Context, copies []records.Copy) ([]wire.World, error) {
	told, err := s.records.Worlds(ctx)
	if err != nil {
		return nil, err
	}
	servers, err := s.records.WorldServers(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.World{}
	at := map[int64]int{}
	for _, c := range copies {
		i, ok := at[c.WorldID]
		if !ok {
			i = len(out)
			at[c.WorldID] = i
			w := told[c.WorldID]
			out = append(out, wire.World{
				Name:    c.World,
				Game:    c.Facts.V.Game,
				Title:   c.Facts.V.Title,
				Note:    w.Note,
				Tags:    w.Tags.V,
				Servers: append([]string{}, servers[c.WorldID]...),
			})
		}
		out[i].Copies = append(out[i].Copies, s.wireCopy(c))
	}
	return out, nil
}

// World gives one world of the library with all its copies, those that are set aside
// last, and with what may be the same one.
func (s *Service) World(ctx context.Context, ref string) (wire.World, error) {
	c, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.World{}, err
	}
	copies, err := s.records.CopiesOf(ctx, c.WorldID)
	if err != nil {
		return wire.World{}, err
	}
	slices.SortStableFunc(copies, func(a, b records.Copy) int { return asideLast(a) - asideLast(b) })
	worlds, err := s.byWorld(ctx, copies)
	if err != nil {
		return wire.World{}, err
	}
	if len(worlds) == 0 {
		return wire.World{}, fault.New(fault.NotFound, "find world", ref, "it is gone")
	}
	w := worlds[0]
	w.Same, err = s.sameAs(ctx, c)
	if code := fault.CodeOf(err); code == fault.NotFound || code == fault.Damaged {
		return w, nil // what it is like cannot be told, and all else can
	}
	return w, err
}

func asideLast(c records.Copy) int {
	if c.AsideAt != nil {
		return 1
	}
	return 0
}

// VerifyCopy reads a whole copy back from the vault.
func (s *Service) VerifyCopy(ctx context.Context, ref string) (wire.Copy, error) {
	rec, err := s.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.Copy{}, err
	}
	c, err := s.vault.Load(ctx, rec.ID)
	if err != nil {
		return wire.Copy{}, err
	}
	return s.wireCopy(rec), s.vault.Verify(ctx, c)
}

func (s *Service) wireCopy(c records.Copy) wire.Copy {
	profile, err := s.profile(c.Facts.V.Game)
	out := wire.Copy{
		Drawn: err == nil && profile.World.Picture != nil,
		ID:    c.ID, World: c.World, Kind: c.Kind, Facts: c.Facts.V, Bytes: c.Bytes, Files: c.Files,
		Source: c.Source, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt,
		Note: c.Note, Pinned: c.Pinned, AsideAt: c.AsideAt, AsideBy: c.AsideBy,
	}
	if c.Server != nil {
		out.Server = *c.Server
	}
	if c.AsideAt != nil && s.config.KeepAside > 0 {
		goes := c.AsideAt.Add(s.config.KeepAside)
		out.Goes = &goes
	}
	return out
}
