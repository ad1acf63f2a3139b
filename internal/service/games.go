package service

import (
	"context"
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

// catalogue holds the profiles in use: those of the start, under what users have
// uploaded.
type catalogue struct {
	mu    sync.Mutex
	base  map[string]wire.Game
	inUse map[string]wire.Game
	read  map[string]*game.Profile
}

func newCatalogue(docs []game.Document) *catalogue {
	c := &catalogue{base: map[string]wire.Game{}}
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
func (c *catalogue) load(uploaded []records.Profile) (left []error) {
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

// profiles gives all profiles in use, in the order of their ids.
func (c *catalogue) profiles() []*game.Profile {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]*game.Profile, 0, len(c.read))
	for _, p := range c.read {
		out = append(out, p)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

func (c *catalogue) game(id string) (wire.Game, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	g, ok := c.inUse[id]
	return g, ok
}

// Games lists the games that the service knows.
func (s *Service) Games() []wire.Game {
	out := []wire.Game{}
	for _, p := range s.games.profiles() {
		if g, ok := s.games.game(p.ID); ok {
			out = append(out, g)
		}
	}
	return out
}

// profile gives a game's profile by its id.
func (s *Service) profile(id string) (*game.Profile, error) {
	var ids []string
	for _, p := range s.games.profiles() {
		if p.ID == id {
			return p, nil
		}
		ids = append(ids, p.ID)
	}
	return nil, fault.New(fault.NotFound, "find game", id, "there is no profile of that name; there is %s",
		strings.Join(ids, ", "))
}

// SaveGame makes a document the profile of its game, as the next version. A game
// that the service was started with is only replaced when override says so.
func (s *Service) SaveGame(ctx context.Context, document string, override bool, by string) (wire.Game, error) {
	p, err := game.Parse("the document", []byte(document))
	if err != nil {
		return wire.Game{}, err
	}
	if base, there := s.games.base[p.ID]; there && !override {
		if now, _ := s.games.game(p.ID); now.Origin != game.OriginUploaded {
			return wire.Game{}, fault.New(fault.Exists, "save profile", p.ID,
				"a profile of that id is there already (%s)", base.Origin).
				With("Give it another id, or say that it may override that one (--override).")
		}
	}
	if err := s.refresh(ctx, p.ID, p, func() error {
		_, err := s.records.AddProfile(ctx, p.ID, document, by)
		return err
	}); err != nil {
		return wire.Game{}, err
	}
	g, _ := s.games.game(p.ID)
	return g, nil
}

// WithdrawGame takes what users have uploaded for a game out of use; what it was
// over counts again.
func (s *Service) WithdrawGame(ctx context.Context, id string) error {
	g, ok := s.games.game(id)
	if !ok || g.Origin != game.OriginUploaded {
		return fault.New(fault.NotFound, "withdraw profile", id, "no profile of that name has been uploaded").
			With("reshard games lists where each comes from.")
	}
	base, there := s.games.base[id]
	var p *game.Profile
	if there {
		var err error
		if p, err = game.Parse(id, []byte(base.Profile)); err != nil {
			return err
		}
	} else {
		servers, err := s.records.Servers(ctx)
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
	return s.refresh(ctx, id, p, func() error { return s.records.WithdrawProfiles(ctx, id) })
}

// refresh records a change of a game's profile, and has its servers opened anew
// with it. It is refused while something is at work on one of them: what has begun
// under one profile ends under it.
func (s *Service) refresh(ctx context.Context, id string, p *game.Profile, record func() error) error {
	holding, err := s.records.Holders(ctx)
	if err != nil {
		return err
	}
	for _, l := range s.inHand() {
		if l.profile.ID != id {
			continue
		}
		if c := holding[l.name]; c != 0 {
			return fault.New(fault.Busy, "change profile", id, "changeover %d holds the server %s", c, l.name)
		}
		if p != nil {
			if _, ok := p.Server.Kinds[l.machine.Kind]; !ok {
				return fault.New(fault.WrongState, "change profile", id,
					"the server %s is of the kind %s, which the profile does not have", l.name, l.machine.Kind)
			}
		}
		release, err := l.claim("change profile")
		if err != nil {
			return err
		}
		defer release()
	}
	if err := record(); err != nil {
		return err
	}
	if err := s.loadGames(ctx); err != nil {
		return err
	}
	now, _ := s.profile(id) //nolint:errcheck // there may be none any more
	for _, l := range s.inHand() {
		if l.profile.ID != id || l.profile == now {
			continue
		}
		if err := s.letGo(l); err != nil {
			s.log.Warn("a server's folder did not close", "server", l.name, "error", err)
		}
	}
	return nil
}

func (s *Service) loadGames(ctx context.Context) error {
	uploaded, err := s.records.CurrentProfiles(ctx)
	if err != nil {
		return err
	}
	for _, err := range s.games.load(uploaded) {
		s.log.Error("an uploaded profile does not read and is left out", "error", err)
	}
	return nil
}

// GameVersions lists every version that was uploaded for a game, newest first.
func (s *Service) GameVersions(ctx context.Context, id string) ([]wire.GameVersion, error) {
	list, err := s.records.Profiles(ctx, id)
	if err != nil {
		return nil, err
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

// LintGame gives what is wrong with a document, empty when nothing is.
func (s *Service) LintGame(document string) []game.Complaint {
	_, complaints := game.Lint([]byte(document))
	if complaints == nil {
		complaints = []game.Complaint{}
	}
	return complaints
}

// TryGame runs a document against examples on the service's host.
func (s *Service) TryGame(document string, e local.Examples) (local.Tried, error) {
	if err := hostPaths(e); err != nil {
		return local.Tried{}, err
	}
	p, err := game.Parse("the document", []byte(document))
	if err != nil {
		return local.Tried{}, err
	}
	return local.Try(p, e, nil)
}

// SketchGame proposes a first profile from examples on the service's host.
func (s *Service) SketchGame(e local.Examples, id string) (sketch.Proposal, error) {
	if err := hostPaths(e); err != nil {
		return sketch.Proposal{}, err
	}
	return local.Sketch(e, id)
}

func hostPaths(e local.Examples) error {
	if e.World == "" && e.Server == "" {
		return fault.New(fault.Invalid, "look at", "examples", "a world or a server is needed")
	}
	for _, p := range []string{e.World, e.Server} {
		if p != "" && !filepath.IsAbs(p) {
			return fault.New(fault.Invalid, "look at", p, "give the whole path, as it is on the service's host")
		}
	}
	return nil
}
