package library

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/fact"
	"reshard/internal/core/world"
	"reshard/internal/wire"
)

func TestSearch(t *testing.T) {
	t.Parallel()
	fen := wire.World{Name: "fen-garden", Game: "quarrymoss", Title: "Fen Gärten", Copies: []wire.Copy{{
		ID: "933026f1", Source: "winter on north-plot (changeover 7)", Facts: world.Facts{
			Folder: "Fen-Garden", Players: []world.Player{{Name: "Ada", ID: "1"}},
			Facts: map[string]fact.Fact{
				"seed": {Name: "seed", Text: "-4713582209"},
				"mods": {Name: "mods", Items: []fact.Item{{Name: "marrow-scales"}}},
			},
		},
	}}}
	for q, want := range map[Search]bool{
		{}:                                 true,
		{Words: "FEN gärten"}:              true,
		{Words: "GÄRTEN ada"}:              true,
		{Words: "4713582209"}:              true,
		{Words: "north-plot"}:              true,
		{Words: "marrow fen"}:              true,
		{Words: "9330"}:                    true,
		{Words: "ada bryn"}:                false,
		{Words: "fen", Game: "quarrymoss"}: true,
		{Words: "fen", Game: "saltmarch"}:  false,
		{Game: "quarry"}:                   false,
		{Words: "fen garden.*"}:            false,
	} {
		assert.Equal(t, want, q.finds(fen), "%+v", q)
	}
}
