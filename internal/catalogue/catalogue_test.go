package catalogue_test

import (
	"context"
	"io"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/catalogue"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/records"
)

// book keeps profiles in memory.
type book struct {
	saved   []records.Profile
	servers []records.Server
}

func (b *book) CurrentProfiles(context.Context) ([]records.Profile, error) {
	newest := map[string]records.Profile{}
	for _, p := range b.saved {
		newest[p.Game] = p
	}
	out := []records.Profile{}
	for _, p := range newest {
		out = append(out, p)
	}
	return out, nil
}

func (b *book) Profiles(_ context.Context, id string) (out []records.Profile, _ error) {
	for _, p := range b.saved {
		if p.Game == id {
			out = append([]records.Profile{p}, out...)
		}
	}
	return out, nil
}

func (b *book) AddProfile(_ context.Context, id, document, by string) (records.Profile, error) {
	p := records.Profile{Game: id, Version: len(b.saved) + 1, Document: document, CreatedBy: by}
	b.saved = append(b.saved, p)
	return p, nil
}

func (b *book) WithdrawProfiles(_ context.Context, id string) error {
	kept := []records.Profile{}
	for _, p := range b.saved {
		if p.Game != id {
			kept = append(kept, p)
		}
	}
	b.saved = kept
	return nil
}

func (b *book) Servers(context.Context) ([]records.Server, error) { return b.servers, nil }

// users note what they are asked and told, and may refuse.
type users struct {
	refuse error
	told   []*game.Profile
}

func (u *users) Under(context.Context, string, *game.Profile) (func(*game.Profile), error) {
	if u.refuse != nil {
		return nil, u.refuse
	}
	return func(now *game.Profile) { u.told = append(u.told, now) }, nil
}

func setup(t *testing.T) (*catalogue.Catalogue, *book, *users) {
	t.Helper()
	b, u := &book{}, &users{}
	var shipped []game.Document
	for _, p := range games.All() {
		source, err := games.Source(p.ID)
		require.NoError(t, err)
		shipped = append(shipped, game.Document{Profile: p, Source: source, Origin: game.OriginShipped})
	}
	c := catalogue.New(shipped, b, slog.New(slog.NewTextHandler(io.Discard, nil)))
	c.Used = u
	require.NoError(t, c.Load(t.Context()))
	return c, b, u
}

func mine(t *testing.T, id string) string {
	t.Helper()
	page, err := games.Source("quarrymoss")
	require.NoError(t, err)
	return strings.Replace(string(page), "id: quarrymoss", "id: "+id, 1)
}

func TestAProfileIsSavedAsTheNextVersion(t *testing.T) {
	t.Parallel()
	c, b, u := setup(t)
	ctx := t.Context()
	_, err := c.Profile("mine")
	require.ErrorIs(t, err, fault.NotFound.As())
	g, err := c.Save(ctx, mine(t, "mine"), false, "ada")
	require.NoError(t, err)
	assert.Equal(t, game.OriginUploaded, g.Origin)
	assert.Equal(t, "ada", g.SavedBy)
	now, err := c.Profile("mine")
	require.NoError(t, err)
	require.Len(t, u.told, 1)
	assert.Same(t, now, u.told[0], "whoever works with it is told the one that counts now")

	_, err = c.Save(ctx, mine(t, "mine"), false, "bryn")
	require.NoError(t, err)
	versions, err := c.Versions(ctx, "mine")
	require.NoError(t, err)
	assert.Len(t, versions, 2)

	b.servers = []records.Server{{Name: "north", Game: "mine"}}
	require.ErrorIs(t, c.Withdraw(ctx, "mine"), fault.WrongState.As(), "a server is of this game")
	b.servers = nil
	require.NoError(t, c.Withdraw(ctx, "mine"))
	_, err = c.Profile("mine")
	require.ErrorIs(t, err, fault.NotFound.As())
	assert.Nil(t, u.told[len(u.told)-1], "there is none any more")
}

func TestAShippedProfileIsReplacedOnlyOnPurpose(t *testing.T) {
	t.Parallel()
	c, _, _ := setup(t)
	ctx := t.Context()
	_, err := c.Save(ctx, mine(t, "quarrymoss"), false, "ada")
	require.ErrorIs(t, err, fault.Exists.As())
	g, err := c.Save(ctx, mine(t, "quarrymoss"), true, "ada")
	require.NoError(t, err)
	assert.NotEmpty(t, g.Overrides)
	require.NoError(t, c.Withdraw(ctx, "quarrymoss"))
	for _, g := range c.Games() {
		assert.NotEqual(t, game.OriginUploaded, g.Origin)
	}
	require.ErrorIs(t, c.Withdraw(ctx, "quarrymoss"), fault.NotFound.As(), "what ships stays")
}

func TestWhileSomethingIsAtWorkNothingChanges(t *testing.T) {
	t.Parallel()
	c, b, u := setup(t)
	u.refuse = fault.New(fault.Busy, "change", "profile", "a changeover holds a server")
	before, err := c.Profile("quarrymoss")
	require.NoError(t, err)
	_, err = c.Save(t.Context(), mine(t, "quarrymoss"), true, "ada")
	require.ErrorIs(t, err, fault.Busy.As())
	after, err := c.Profile("quarrymoss")
	require.NoError(t, err)
	assert.Same(t, before, after)
	assert.Empty(t, b.saved)
	assert.Empty(t, u.told)
}

func TestAnUploadedProfileThatDoesNotReadIsLeftOut(t *testing.T) {
	t.Parallel()
	c, b, _ := setup(t)
	b.saved = []records.Profile{{Game: "old", Version: 1, Document: "reshard: game/0\n"}}
	require.NoError(t, c.Load(t.Context()))
	_, err := c.Profile("old")
	require.ErrorIs(t, err, fault.NotFound.As())
	assert.NotEmpty(t, c.Games())
	assert.NotEmpty(t, c.Lint("reshard: game/0\n"))
}
