// Package library keeps worlds and their copies: what is told of them, where they came
// from, how they look and in what they differ.
package library

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"slices"
	"time"

	"reshard/internal/archive"
	"reshard/internal/catalogue"
	"reshard/internal/core/fault"
	"reshard/internal/core/keep"
	"reshard/internal/core/world"
	"reshard/internal/drawing"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Config is what a library needs.
type Config struct {
	Records *records.Records
	Vault   *vault.Vault
	Games   *catalogue.Catalogue
	Board   *drawing.Board
	Log     *slog.Logger
	// Pictures is the folder in which pictures are kept.
	Pictures string
	// KeepAside is how long a copy that is set aside is kept; 0: until a person removes it.
	KeepAside time.Duration
	Limits    archive.Limits
	// Counted is the time that copies age by; it does not leap.
	Counted func() time.Time
}

// Library is the worlds and their copies. It is safe for concurrent use.
type Library struct {
	records   *records.Records
	vault     *vault.Vault
	games     *catalogue.Catalogue
	board     *drawing.Board
	log       *slog.Logger
	now       func() time.Time
	counted   func() time.Time
	pictures  string
	keepAside time.Duration
	limits    archive.Limits
}

// New makes a library.
func New(c Config) *Library {
	if c.Counted == nil {
		c.Counted = time.Now
	}
	return &Library{
		records: c.Records, vault: c.Vault, games: c.Games, board: c.Board, log: c.Log, now: time.Now,
		pictures: c.Pictures, keepAside: c.KeepAside, limits: c.Limits, counted: c.Counted,
	}
}

// Incoming is what is told of a world that comes in.
type Incoming struct {
	Name string // the file's name, for messages and for a world at its top
	Root string // which world, when there are several
	By   string // the user
	// Source says where it came from, when that is not Name.
	Source string
}

// Keep recognises the world in a tree and stores it; known, which may be nil, gives
// the chunks of files that need not be read.
func (lib *Library) Keep(ctx context.Context, in Incoming, tree fs.FS, allRead func(),
	known func(world.Entry) []vault.Chunk) (wire.Arrival, error) {
	folder := world.Label(in.Name, lib.games.Profiles())
	w, found, err := world.Inspect(tree, ".", folder, in.Root, lib.games.Profiles())
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
	c, err := lib.vault.Store(ctx, files, allRead)
	if err != nil {
		return wire.Arrival{}, damagedArchive(err, in.Name)
	}
	source := in.Source
	if source == "" {
		source = in.Name
	}
	rec, isNew, err := lib.records.AddCopy(ctx, records.Copy{
		ID: c.ID, Kind: "arrival", Facts: records.JSON[world.Facts]{V: w},
		Bytes: c.Bytes, Files: int64(len(c.Files)), Source: source, CreatedBy: in.By,
	})
	if err != nil {
		return wire.Arrival{}, err
	}
	arrival := wire.Arrival{Copy: lib.wireCopy(rec), New: isNew, Ignored: []string{}}
	if isNew {
		arrival.Same, err = lib.sameAs(ctx, rec)
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

// Worlds gives a page of the worlds that are looked for, each with its copies, newest
// first, and where the next page begins; "" after the last.
func (lib *Library) Worlds(ctx context.Context, q wire.WorldQuery) ([]wire.World, string, error) {
	listed, next, err := lib.records.WorldPage(ctx, records.WorldQuery{
		Page: records.Page{After: q.After, Limit: q.Limit}, Search: q.Search, Game: q.Game, Server: q.Server,
		Tag:  q.Tag,
		Seed: q.Seed, Version: q.Version, Player: q.Player, Aside: q.Aside, Order: q.Order,
	})
	if err != nil {
		return nil, "", err
	}
	ids := make([]int64, len(listed))
	for i, w := range listed {
		ids[i] = w.ID
	}
	copies, err := lib.records.CopiesOfAll(ctx, ids, q.Aside)
	if err != nil {
		return nil, "", err
	}
	of := map[int64][]records.Copy{}
	for _, c := range copies {
		of[c.WorldID] = append(of[c.WorldID], c)
	}
	out := make([]wire.World, 0, len(listed))
	for _, w := range listed {
		if len(of[w.ID]) > 0 { // else the last of them has just gone
			out = append(out, lib.wireWorld(w, of[w.ID]))
		}
	}
	return out, next, nil
}

// wireWorld is a world with copies of it, newest first.
func (lib *Library) wireWorld(w records.ListedWorld, copies []records.Copy) wire.World {
	out := wire.World{
		Name: w.Name, Game: copies[0].Facts.V.Game, Title: copies[0].Facts.V.Title, Note: w.Note,
		Tags: append([]string{}, w.Tags.V...), Servers: append([]string{}, w.Servers.V...),
	}
	for _, c := range copies {
		out.Copies = append(out.Copies, lib.wireCopy(c))
	}
	return out
}

// World gives one world of the library with all its copies, those that are set aside
// last, and with what may be the same one.
func (lib *Library) World(ctx context.Context, ref string) (wire.World, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.World{}, err
	}
	copies, err := lib.records.CopiesOf(ctx, c.WorldID)
	if err != nil {
		return wire.World{}, err
	}
	slices.SortStableFunc(copies, func(a, b records.Copy) int { return asideLast(a) - asideLast(b) })
	entry, err := lib.records.WorldByID(ctx, c.WorldID)
	if err != nil {
		return wire.World{}, err
	}
	if len(copies) == 0 {
		return wire.World{}, fault.New(fault.NotFound, "find world", ref, "it is gone")
	}
	w := lib.wireWorld(entry, copies)
	w.Same, err = lib.sameAs(ctx, c)
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
func (lib *Library) VerifyCopy(ctx context.Context, ref string) (wire.Copy, error) {
	rec, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.Copy{}, err
	}
	c, err := lib.vault.Load(ctx, rec.ID)
	if err != nil {
		return wire.Copy{}, err
	}
	return lib.wireCopy(rec), lib.vault.Verify(ctx, c)
}

func (lib *Library) wireCopy(c records.Copy) wire.Copy {
	profile, err := lib.games.Profile(c.Facts.V.Game)
	out := wire.Copy{
		Drawn: err == nil && profile.World.Picture != nil,
		ID:    c.ID, World: c.World, Kind: c.Kind, Facts: c.Facts.V, Bytes: c.Bytes, Files: c.Files,
		Source: c.Source, CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt,
		Note: c.Note, Pinned: c.Pinned, AsideAt: c.AsideAt, AsideBy: c.AsideBy,
	}
	if c.Server != nil {
		out.Server = *c.Server
	}
	if c.AsideAt != nil && lib.keepAside > 0 {
		goes := keep.ByWall(c.AsideAt.Add(lib.keepAside), lib.counted(), lib.now())
		out.Goes = &goes
	}
	return out
}
