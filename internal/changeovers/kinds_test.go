package changeovers

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/plan"
	"reshard/internal/records"
)

func TestEveryKindHasAnEntry(t *testing.T) {
	t.Parallel()
	assert.ElementsMatch(t, slices.Collect(maps.Keys(plan.Kinds)), slices.Collect(maps.Keys(allKinds())))
	for name, k := range allKinds() {
		wished := len(plan.Kinds[name].Needs) > 0 && name != plan.Undo
		assert.Equal(t, wished, k.prepare != nil, name)
		assert.Equal(t, wished, k.draft != nil, name)
	}
}

// Which world of the library a name on a server stands for is played through its history.
func TestWhatIsLeftAfterEachKind(t *testing.T) {
	t.Parallel()
	entry := func(kind string, p plan.Plan, world int64) records.HistoryEntry {
		p.Kind, p.Worlds = kind, "worlds"
		c := records.HistoryEntry{Kind: kind, Plan: records.JSON[plan.Plan]{V: p}}
		if world != 0 {
			c.WorldID = &world
		}
		return c
	}
	fen := map[string]int64{"fen": 1, "old": 2}
	moved := plan.Step{Kind: plan.Move, MoveStep: plan.MoveStep{From: "worlds/fen", To: "worlds/marsh"}}
	for name, c := range map[string]struct {
		entry  records.HistoryEntry
		before map[string]int64
		want   map[string]int64
	}{
		"a put": {entry(plan.Put, plan.Plan{Folder: "new"}, 3), nil, map[string]int64{"fen": 1, "old": 2, "new": 3}},
		"beside": {
			entry(plan.Put, plan.Plan{Folder: "fen", Expect: plan.Expect{Placed: "x"}}, 3), nil,
			map[string]int64{"fen": 1, "old": 2, "x": 3},
		},
		"a world of nowhere": {entry(plan.Clone, plan.Plan{Folder: "fen"}, 0), nil, map[string]int64{"old": 2}},
		"a reset":            {entry(plan.Reset, plan.Plan{Folder: "fen"}, 0), nil, map[string]int64{"old": 2}},
		"a switch":           {entry(plan.Switch, plan.Plan{Folder: "old"}, 0), nil, fen},
		"a rename": {
			entry(plan.Rename, plan.Plan{Folder: "marsh", Steps: []plan.Step{moved}}, 0), nil,
			map[string]int64{"fen": 1, "old": 2, "marsh": 1},
		},
		"an undo": {
			entry(plan.Undo, plan.Plan{}, 0),
			map[string]int64{"was": 9},
			map[string]int64{"was": 9},
		},
		"an undo of the unknown": {entry(plan.Undo, plan.Plan{}, 0), nil, fen},
	} {
		now := maps.Clone(fen)
		if left := kindOf(c.entry.Kind).left; left != nil {
			now = left(now, c.entry, c.before)
		}
		assert.Equal(t, c.want, now, name)
	}
}
