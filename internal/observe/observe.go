// Package observe looks at servers, at two depths. Heads are what tells a server's state
// without opening a world: its settings, the names in its worlds folder, its process. A
// look is what one of its worlds says of itself. Every observation has its time and says
// where it comes from; a look is remembered, and taken again only when something that it
// has seen is not as it was.
package observe

import (
	"context"
	"maps"
	"path"
	"slices"
	"strconv"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/errgroup"

	"reshard/internal/control"
	"reshard/internal/core/budget"
	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/trail"
	"reshard/internal/core/world"
	"reshard/internal/hostfs"
)

// Origin says where an observation comes from.
type Origin string

// Where observations come from.
const (
	Read Origin = "read" // the server was asked
	Kept Origin = "kept" // it was asked before, and nothing that was seen then has changed
)

// Heads are what tells a server's state without opening a world.
type Heads struct {
	At time.Time
	server.Heads
	Status control.Status
	Can    capability.Set
}

// Look is what a world says of itself. At is when it was read; with origin Kept it has
// been seen since then that nothing has changed.
type Look struct {
	At     time.Time
	Origin Origin
	Found  world.Found
	Facts  world.Facts
}

// mostKept bounds how many looks are remembered, mostMarked how many files one of them
// may have seen to be remembered at all.
const (
	mostKept   = 4096
	mostMarked = 50_000
)

// Memory remembers looks, of many servers. It is safe for concurrent use.
type Memory struct{ looks *lru.Cache[string, kept] }

type kept struct {
	look    Look
	profile *game.Profile
	trail   *trail.Trail
}

// NewMemory gives a memory that is empty.
func NewMemory() *Memory {
	looks, err := lru.New[string, kept](mostKept)
	if err != nil {
		panic(err) // the size is right
	}
	return &Memory{looks: looks}
}

// Observer looks at one server. It is safe for concurrent use.
type Observer struct {
	Name    string
	Files   *hostfs.FS
	Control *control.Control
	Profile *game.Profile
	Machine server.Machine
	Memory  *Memory
	// ID tells servers apart in the memory.
	ID  int64
	Now func() time.Time
}

// Heads looks at a server, but not into its worlds. A host that did not answer is an
// error: what was read before that is no observation. Of a process that cannot be seen the
// status says so.
func (o *Observer) Heads(ctx context.Context) (Heads, error) {
	h := Heads{At: o.Now()}
	// Process and files are asked at once: far away each costs some round trips.
	var status errgroup.Group
	status.Go(func() error {
		return fault.Safely(func() error {
			h.Status = o.Control.Status(ctx)
			return nil
		})
	})
	var err error
	if h.Can, err = o.Files.Capabilities(ctx); err == nil {
		h.Heads, err = o.files(ctx)
	}
	if serr := status.Wait(); err == nil {
		err = serr
	}
	return h, err
}

// State reads a server's files, but not its worlds; errors are as with Heads.
func (o *Observer) State(ctx context.Context) (server.State, error) {
	h, err := o.files(ctx)
	return h.State, err
}

func (o *Observer) files(ctx context.Context) (server.Heads, error) {
	files, settled := o.Files.Observe(ctx)
	h, err := server.ReadHeads(files, o.Profile, o.Machine)
	return h, fault.Wrap(fault.Unreachable, "read", o.Name, settled(err))
}

// With reads what a server would be with other bytes in some of its settings documents.
func (o *Observer) With(ctx context.Context, documents map[string][]byte) (server.Heads, error) {
	files, settled := o.Files.Observe(ctx)
	h, err := server.ReadHeads(server.With(files, documents), o.Profile, o.Machine)
	return h, fault.Wrap(fault.Unreachable, "read", o.Name, settled(err))
}

// World tells where the world of exactly that name stands. The error has code NotFound when
// there is none.
func (h *Heads) World(name string) (world.Found, error) {
	i := slices.IndexFunc(h.Found, func(f world.Found) bool { return f.Folder == name })
	if i < 0 {
		return world.Found{}, fault.New(fault.NotFound, "find world", path.Join(h.State.WorldsFolder, name),
			"there is no world of that name")
	}
	return h.Found[i], nil
}

// Look looks into the world of exactly that name. The error has code NotFound when the
// heads know none.
func (o *Observer) Look(ctx context.Context, h *Heads, name string) (Look, error) {
	f, err := h.World(name)
	if err != nil {
		return Look{}, err
	}
	look, err := o.look(ctx, h, f, budget.World())
	if err == nil {
		h.take(name, look.Facts)
	}
	return look, err
}

// take puts what a look has found into the state: a copy, since others may have it.
func (h *Heads) take(name string, facts world.Facts) {
	h.State.Worlds = slices.Clone(h.State.Worlds)
	for i := range h.State.Worlds {
		if h.State.Worlds[i].Folder == name {
			h.State.Worlds[i].Take(facts)
		}
	}
}

// LookAtAll takes into the heads what looks at all their worlds find. A world that cannot
// be listed keeps its name only.
func (o *Observer) LookAtAll(ctx context.Context, h *Heads) error {
	h.State.Worlds = slices.Clone(h.State.Worlds)
	all := budget.Request()
	for i, f := range h.Found {
		look, err := o.look(ctx, h, f, all.Part())
		switch {
		case err == nil:
			h.State.Worlds[i].Take(look.Facts)
		case fault.Passing(err), ctx.Err() != nil:
			return err
		}
	}
	return nil
}

func (o *Observer) look(ctx context.Context, h *Heads, f world.Found, b *budget.Budget) (Look, error) {
	key := strconv.FormatInt(o.ID, 10) + "/" + path.Join(h.State.WorldsFolder, f.Folder)
	files, settled := o.Files.Observe(ctx)
	was, known := o.Memory.looks.Get(key)
	if known && was.profile == o.Profile && same(was.look.Found, f) && was.trail.Fresh(files) &&
		settled(nil) == nil {
		look := was.look
		look.Origin = Kept
		return look, nil
	}
	begun := o.Now()
	followed, seen := trail.Follow(files, begun, h.Can.TimePrecision)
	facts, err := world.ReadWithin(b, followed, f)
	if err = settled(err); err != nil {
		return Look{}, err
	}
	look := Look{At: begun, Origin: Read, Found: f, Facts: facts}
	if seen.Len() <= mostMarked && !b.Cut() {
		o.Memory.looks.Add(key, kept{look: look, profile: o.Profile, trail: seen})
	}
	return look, nil
}

// same reports whether a world was found as it is found now, so that reading it would
// begin from the same.
func same(a, b world.Found) bool {
	return a.Root == b.Root && a.Layout == b.Layout && slices.Equal(a.Files, b.Files) &&
		maps.Equal(a.Realms, b.Realms) && slices.Equal(a.Missing, b.Missing)
}
