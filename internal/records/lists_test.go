package records_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fact"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/world"
	"reshard/internal/records"
)

// pages reads a list page by page.
func pages[T any](t *testing.T, read func(records.Page) ([]T, string, error)) (all []T) {
	t.Helper()
	at := records.Page{Limit: 3}
	for {
		list, next, err := read(at)
		require.NoError(t, err)
		require.LessOrEqual(t, len(list), 3)
		all = append(all, list...)
		if next == "" {
			return all
		}
		require.Len(t, list, 3, "only the last page is short")
		at.After = next
	}
}

func TestServersPageByPage(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := t.Context()
	for i := range 10 {
		game := "quarrymoss"
		if i%2 == 0 {
			game = "saltmarch"
		}
		_, err := r.AddServer(ctx, records.Server{
			Name: fmt.Sprintf("s%d", 9-i), Host: "local", Game: game, Kind: "plain",
			Root: fmt.Sprintf("/srv/plot %d", i),
		})
		require.NoError(t, err)
	}
	names := func(q records.ServerQuery) (out []string) {
		for _, s := range pages(t, func(p records.Page) ([]records.Listed, string, error) {
			q.Page = p
			return r.ServerPage(ctx, q)
		}) {
			out = append(out, s.Name)
		}
		return out
	}
	assert.Equal(t, []string{"s0", "s1", "s2", "s3", "s4", "s5", "s6", "s7", "s8", "s9"}, names(records.ServerQuery{}))
	assert.Equal(t, []string{"s9", "s7", "s5", "s3", "s1"},
		names(records.ServerQuery{Game: "saltmarch", Order: "-name"}))
	assert.Equal(t, []string{"s9", "s8", "s7"}, names(records.ServerQuery{Order: "added"})[:3])
	assert.Equal(t, []string{"s0", "s1", "s2"}, names(records.ServerQuery{Order: "-added"})[:3])
	assert.Equal(t, []string{"s7"}, names(records.ServerQuery{Search: "SALT s7"}))
	assert.Empty(t, names(records.ServerQuery{Search: "%"}), "nothing of a pattern gets through")
	assert.Empty(t, names(records.ServerQuery{Host: "elsewhere"}))

	_, next, err := r.ServerPage(ctx, records.ServerQuery{Page: records.Page{Limit: 2}})
	require.NoError(t, err)
	_, _, err = r.ServerPage(ctx, records.ServerQuery{Page: records.Page{After: next}, Order: "-name"})
	require.ErrorIs(t, err, fault.Invalid.As(), "a cursor belongs to its order")
	for _, bad := range []string{"x", "bm90IGpzb24", "e30"} {
		_, _, err = r.ServerPage(ctx, records.ServerQuery{Page: records.Page{After: bad}})
		require.ErrorIs(t, err, fault.Invalid.As(), bad)
	}
	_, _, err = r.ServerPage(ctx, records.ServerQuery{Order: "root; DROP TABLE servers"})
	require.ErrorIs(t, err, fault.Invalid.As())
}

func TestChangeoversPageByPage(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := t.Context()
	s, err := r.AddServer(ctx, records.Server{Name: "north", Host: "local", Game: "quarrymoss", Root: "/srv/north"})
	require.NoError(t, err)
	var ids []int64
	for i := range 8 {
		id := draft(t, r, s.ID)
		if i%2 == 0 {
			continue
		}
		for _, way := range [][2]plan.State{
			{plan.Drafted, plan.Staging}, {plan.Staging, plan.Undoing}, {plan.Undoing, plan.Undone},
		} {
			require.NoError(t, r.Advance(ctx, id, way[0], way[1], records.Patch{}))
		}
		ids = append([]int64{id}, ids...)
	}
	of := func(q records.ChangeoverQuery) (out []int64) {
		for _, c := range pages(t, func(p records.Page) ([]records.Changeover, string, error) {
			q.Page = p
			return r.ChangeoverPage(ctx, q)
		}) {
			assert.Len(t, c.Steps, 2)
			assert.Equal(t, plan.Stage, c.Steps[0].Kind)
			out = append(out, c.ID)
		}
		return out
	}
	assert.Equal(t, ids, of(records.ChangeoverQuery{}), "newest first, without drafts")
	assert.Equal(t, ids[3], of(records.ChangeoverQuery{Order: "started"})[0])
	assert.Len(t, of(records.ChangeoverQuery{State: "drafted"}), 4)
	assert.Empty(t, of(records.ChangeoverQuery{Kind: "reset"}))
	assert.Empty(t, of(records.ChangeoverQuery{Server: "south"}))

	gone, err := r.RemoveDrafts(ctx, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.Zero(t, gone, "they are young")
	gone, err = r.RemoveDrafts(ctx, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.EqualValues(t, 4, gone)
	assert.Equal(t, ids, of(records.ChangeoverQuery{}), "what was started stays")
}

func TestWorldsAreFoundByWhatIsToldOfThem(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := t.Context()
	fen := copyOf(1, "Fen Gärten")
	fen.Source = "winter on north-plot (changeover 7)"
	fen.Facts.V = world.Facts{
		Game: "quarrymoss", Title: "Fen Gärten", Folder: "Fen-Garden", Players: []world.Player{{Name: "Ada", ID: "1"}},
		Facts: map[string]fact.Fact{
			"seed": {Name: "seed", Text: "-4713582209"}, "version": {Name: "version", Text: "2.4.0"},
			"mods": {Name: "mods", Items: []fact.Item{{Name: "marrow-scales"}}},
		},
	}
	_, _, err := r.AddCopy(ctx, fen)
	require.NoError(t, err)
	_, _, err = r.AddCopy(ctx, copyOf(2, "Somewhere"))
	require.NoError(t, err)
	for want, queries := range map[bool][]records.WorldQuery{
		true: {
			{}, {Search: "FEN gärten"}, {Search: "GÄRTEN ada"}, {Search: "4713582209"}, {Search: "north-plot"},
			{Search: "marrow fen"}, {Search: "0101"}, {Search: "fen", Game: "quarrymoss"}, {Seed: "-4713582209"},
			{Version: "2.4.0"}, {Player: "ADA"}, {Player: "1"},
		},
		false: {
			{Search: "ada bryn"}, {Search: "fen", Game: "saltmarch"}, {Game: "quarry"}, {Search: "fen garden.*"},
			{Search: "f%n"}, {Seed: "4"}, {Player: "bryn"}, {Tag: "winter"}, {Server: "north"}, {Aside: true},
		},
	} {
		for _, q := range queries {
			list, next, err := r.WorldPage(ctx, q)
			require.NoError(t, err)
			assert.Empty(t, next)
			found := false
			for _, w := range list {
				found = found || w.Title == "Fen Gärten"
			}
			assert.Equal(t, want, found, "%+v", q)
		}
	}
	names := func(order string) (out []string) {
		list, _, err := r.WorldPage(ctx, records.WorldQuery{Order: order})
		require.NoError(t, err)
		for _, w := range list {
			out = append(out, w.Name)
		}
		return out
	}
	assert.Equal(t, []string{"fen-garten", "somewhere"}, names("name"))
	assert.Equal(t, []string{"somewhere", "fen-garten"}, names("-name"))
	assert.Equal(t, []string{"somewhere", "fen-garten"}, names(""), "the newest first")
	assert.Equal(t, []string{"fen-garten", "somewhere"}, names("arrived"))
	large := copyOf(3, "Vast")
	large.Bytes = 1 << 40
	large.Facts.V.LastPlayed = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	_, _, err = r.AddCopy(ctx, large)
	require.NoError(t, err)
	assert.Equal(t, "vast", names("-size")[0])
	assert.Equal(t, "vast", names("size")[2])
	assert.Equal(t, "vast", names("-played")[0])
	assert.Equal(t, "vast", names("played")[2])
	largest, next, err := r.WorldPage(ctx, records.WorldQuery{Page: records.Page{Limit: 1}, Order: "-size"})
	require.NoError(t, err)
	smaller, _, err := r.WorldPage(ctx, records.WorldQuery{Page: records.Page{After: next}, Order: "-size"})
	require.NoError(t, err)
	assert.Equal(t, []string{"vast", "somewhere", "fen-garten"},
		[]string{largest[0].Name, smaller[0].Name, smaller[1].Name}, "of the same size the newer first")
	_, _, err = r.WorldPage(ctx, records.WorldQuery{Order: "weight"})
	require.ErrorIs(t, err, fault.Invalid.As())
	first, next, err := r.WorldPage(ctx, records.WorldQuery{Page: records.Page{Limit: 1}})
	require.NoError(t, err)
	second, end, err := r.WorldPage(ctx, records.WorldQuery{Page: records.Page{Limit: 1, After: next}})
	require.NoError(t, err)
	assert.Equal(t, []string{"vast", "somewhere"}, []string{first[0].Name, second[0].Name})
	assert.NotEmpty(t, end)
}
