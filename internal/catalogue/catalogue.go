// Package catalogue knows the games: the profiles that are in use, and their versions.
package catalogue

import (
	"context"
	"log/slog"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/sketch"
	"reshard/internal/local"
	"reshard/internal/records"
	"reshard/internal/wire"
)

// Records is what the catalogue needs of the records; see records.Records.
type Records interface {
	CurrentProfiles(ctx context.Context) ([]records.Profile, error)
	Profiles(ctx context.Context, game string) ([]records.Profile, error)
	AddProfile(ctx context.Context, game, document, by string) (records.Profile, error)
	WithdrawProfiles(ctx context.Context, game string) error
	Servers(ctx context.Context) ([]records.Server, error)
}

// Users are those who work with profiles: they are asked before one changes. Under is
// refused while something is at work under the game's profile; after lets them take up
// the new one, nil when there is none any more.
type Users interface {
	Under(ctx context.Context, game string, next *game.Profile) (after func(now *game.Profile), err error)
}

// Catalogue holds the profiles in use: those that the service was started with, under
// what users have uploaded. It is safe for concurrent use.
type Catalogue struct {
	records Records
	log     *slog.Logger
	base    map[string]wire.Game
	// Used is asked before a profile changes; nil: nobody.
	Used Users
	// MayLook is asked before examples on the service's host are looked at; nil: all may be.
	MayLook func(path string) error

	mu    sync.Mutex // held for moments only
	inUse map[string]wire.Game
	read  map[string]*game.Profile
}

// New makes a catalogue of documents; Load takes in what users have uploaded.
func New(docs []game.Document, r Records, log *slog.Logger) *Catalogue {
	c := &Catalogue{records: r, log: log, base: map[string]wire.Game{}}
	for _, d := range docs {
		c.base[d.Profile.ID] = wire.Game{
			ID:      d.Profile.ID,
			Title:   d.Profile.Title,
			Kinds:   d.Profile.KindNames(),
			Profile: string(d.Source),
			Origin:  d.Origin,
		}
	}
	return c
}

// load takes the uploaded profiles in. One that no longer reads, because the
// language has changed, is left out and told.
func (c *Catalogue) load(uploaded []records.Profile) (left []error) {
	inUse, read := map[string]wire.Game{}, map[string]*game.Profile{}
	take := func(g wire.Game) error {
		p, err := game.Parse(g.ID, []byte(g.Profile))
		if err != nil {
			return err
		}
		inUse[g.ID], read[g.ID] = g, p
		return nil
	}
	for _, g := range c.base {
		if err := take(g); err != nil {
			left = append(left, err)
		}
	}
	for _, u := range uploaded {
		p, err := game.Parse(u.Game, []byte(u.Document))
		if err != nil {
			left = append(left, err)
			continue
		}
		at := u.CreatedAt
		err = take(wire.Game{
			ID: u.Game, Title: p.Title, Kinds: p.KindNames(), Profile: u.Document, Origin: game.OriginUploaded,
			Version: u.Version, SavedBy: u.CreatedBy, SavedAt: &at, Overrides: c.base[u.Game].Origin,
		})
		if err != nil {
			left = append(left, err)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.inUse, c.read = inUse, read
	return left
}

// Profiles gives all profiles in use, in the order of their ids.
func (c *Catalogue) Profiles() []*game.Profile {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]*game.Profile, 0, len(c.read))
	for _, p := range c.read {
		out = append(out, p)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

func (c *Catalogue) game(id string) (wire.Game, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	g, ok := c.inUse[id]
	return g, ok
}

// Games lists the games that the service knows.
func (c *Catalogue) Games() []wire.Game {
	out := []wire.Game{}
	for _, p := range c.Profiles() {
		if g, ok := c.game(p.ID); ok {
			out = append(out, g)
		}
	}
	return out
}

// Profile gives a game's profile by its id.
func (c *Catalogue) Profile(id string) (*game.Profile, error) {
	var ids []string
	for _, p := range c.Profiles() {
		if p.ID == id {
			return p, nil
		}
		ids = append(ids, p.ID)
	}
	return nil, fault.New(fault.NotFound, "find game", id, "there is no profile of that name; there is %s",
		strings.Join(ids, ", "))
}

// Save makes a document the profile of its game, as the next version. A game
// that the service was started with is only replaced when override says so.
func (c *Catalogue) Save(ctx context.Context, document string, override bool, by string) (wire.Game, error) {
	p, err := game.Parse("the document", []byte(document))
	if err != nil {
		return wire.Game{}, err
	}
	if base, there := c.base[p.ID]; there && !override {
		if now, _ := c.game(p.ID); now.Origin != game.OriginUploaded {
			return wire.Game{}, fault.New(fault.Exists, "save profile", p.ID,
				"a profile of that id is there already (%s)", base.Origin).
				With("Give it another id, or say that it may override that one (--override).")
		}
	}
	if err := c.refresh(ctx, p.ID, p, func() error {
		_, err := c.records.AddProfile(ctx, p.ID, document, by)
		return err
	}); err != nil {
		return wire.Game{}, err
	}
	g, _ := c.game(p.ID)
	return g, nil
}

// Withdraw takes what users have uploaded for a game out of use; what it was
// over counts again.
func (c *Catalogue) Withdraw(ctx context.Context, id string) error {
	g, ok := c.game(id)
	if !ok || g.Origin != game.OriginUploaded {
		return fault.New(fault.NotFound, "withdraw profile", id, "no profile of that name has been uploaded").
			With("reshard games lists where each comes from.")
	}
	base, there := c.base[id]
	var p *game.Profile
	if there {
		var err error
		if p, err = game.Parse(id, []byte(base.Profile)); err != nil {
			return err
		}
	} else {
		servers, err := c.records.Servers(ctx)
		if err != nil {
			return err
		}
		for _, rec := range servers {
			if rec.Game == id {
				return fault.New(fault.WrongState, "withdraw profile", id, "the server %s is of this game", rec.Name).
					With("Remove the server first: reshard servers remove " + rec.Name + ".")
			}
		}
	}
	return c.refresh(ctx, id, p, func() error { return c.records.WithdrawProfiles(ctx, id) })
}

// refresh records a change of a game's profile, and has its servers opened anew
// with it. It is refused while something is at work on one of them: what has begun
// under one profile ends under it.
func (c *Catalogue) refresh(ctx context.Context, id string, p *game.Profile, record func() error) error {
	after := func(*game.Profile) {}
	if c.Used != nil {
		var err error
		if after, err = c.Used.Under(ctx, id, p); err != nil {
			return err
		}
	}
	// Whoever was asked is told in any case: what it holds back goes on then.
	defer func() {
		now, _ := c.Profile(id) //nolint:errcheck // there may be none any more
		after(now)
	}()
	if err := record(); err != nil {
		return err
	}
	return c.Load(ctx)
}

// Load takes in what users have uploaded. A profile that does not read any more is left
// out and logged.
func (c *Catalogue) Load(ctx context.Context) error {
	uploaded, err := c.records.CurrentProfiles(ctx)
	if err != nil {
		return err
	}
	for _, err := range c.load(uploaded) {
		c.log.Error("an uploaded profile does not read and is left out", "error", err)
	}
	return nil
}

// Versions lists every version that was uploaded for a game, newest first: also of one
// that was withdrawn, none for one that nobody uploaded. A game that there never was is
// fault.NotFound.
func (c *Catalogue) Versions(ctx context.Context, id string) ([]wire.GameVersion, error) {
	list, err := c.records.Profiles(ctx, id)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		if _, err := c.Profile(id); err != nil {
			return nil, err
		}
	}
	out := make([]wire.GameVersion, 0, len(list))
	for _, p := range list {
		out = append(out, wire.GameVersion{
			Version:     p.Version,
			Profile:     p.Document,
			SavedBy:     p.CreatedBy,
			SavedAt:     p.CreatedAt,
			WithdrawnAt: p.WithdrawnAt,
		})
	}
	return out, nil
}

// Lint gives what is wrong with a document, empty when nothing is.
func (c *Catalogue) Lint(document string) []game.Complaint {
	_, complaints := game.Lint([]byte(document))
	if complaints == nil {
		complaints = []game.Complaint{}
	}
	return complaints
}

// Try runs a document against examples on the service's host.
func (c *Catalogue) Try(document string, e local.Examples) (local.Tried, error) {
	if err := c.hostPaths(e); err != nil {
		return local.Tried{}, err
	}
	p, err := game.Parse("the document", []byte(document))
	if err != nil {
		return local.Tried{}, err
	}
	return local.Try(p, e, nil)
}

// Sketch proposes a first profile from examples on the service's host.
func (c *Catalogue) Sketch(e local.Examples, id string) (sketch.Proposal, error) {
	if err := c.hostPaths(e); err != nil {
		return sketch.Proposal{}, err
	}
	return local.Sketch(e, id)
}

func (c *Catalogue) hostPaths(e local.Examples) error {
	if e.World == "" && e.Server == "" {
		return fault.New(fault.Invalid, "look at", "examples", "a world or a server is needed")
	}
	for _, p := range []string{e.World, e.Server} {
		if p != "" && !filepath.IsAbs(p) {
			return fault.New(fault.Invalid, "look at", p, "give the whole path, as it is on the service's host")
		}
		if p != "" && c.MayLook != nil {
			if err := c.MayLook(p); err != nil {
				return err
			}
		}
	}
	return nil
}
