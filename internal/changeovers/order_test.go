package changeovers

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/plan"
	"reshard/internal/records"
)

// The order of undoing: what is on top can be taken off, an undo takes off, the
// undo of an undo puts on again under its own number.
func TestLastStanding(t *testing.T) {
	t.Parallel()
	put := func(id int64) records.Ended { return records.Ended{ID: id} }
	undo := func(id, of int64) records.Ended { return records.Ended{ID: id, Undoes: &of} }
	for name, c := range map[string]struct {
		done []records.Ended
		want int64
	}{
		"nothing":                   {nil, 0},
		"one put":                   {[]records.Ended{put(1)}, 1},
		"two puts":                  {[]records.Ended{put(1), put(2)}, 2},
		"second undone":             {[]records.Ended{put(1), put(2), undo(3, 2)}, 1},
		"both undone":               {[]records.Ended{put(1), put(2), undo(3, 2), undo(4, 1)}, 0},
		"undo undone":               {[]records.Ended{put(1), undo(2, 1), undo(3, 2)}, 3},
		"undo of the undo's undo":   {[]records.Ended{put(1), undo(2, 1), undo(3, 2), undo(4, 3)}, 0},
		"put after an undo":         {[]records.Ended{put(1), undo(2, 1), put(3)}, 3},
		"redone below a second put": {[]records.Ended{put(1), undo(2, 1), undo(3, 2), put(4), undo(5, 4)}, 3},
	} {
		assert.Equal(t, c.want, lastStanding(c.done), name)
	}
}

func TestStanding(t *testing.T) {
	t.Parallel()
	two := int64(2)
	history := []records.Ended{{ID: 1}, {ID: 2}}
	for name, c := range map[string]struct {
		c    records.Changeover
		done []records.Ended
		want bool
		why  string
	}{
		"the last one": {records.Changeover{Kind: plan.Put, ID: 2, State: plan.Done}, history, true, ""},
		"one below": {
			records.Changeover{Kind: plan.Put, ID: 1, State: plan.Done},
			history,
			false,
			"changeover 2 came after it",
		},
		"undone already": {
			records.Changeover{Kind: plan.Put, ID: 1, State: plan.Done, UndoneBy: &two},
			history,
			false,
			"changeover 2 has undone it",
		},
		"a draft": {records.Changeover{Kind: plan.Put, ID: 3, State: plan.Drafted}, history, false, "it is drafted"},
		"held": {
			records.Changeover{Kind: plan.Put, ID: 3, State: plan.Held},
			history,
			false,
			"tries to go back once more",
		},
		"an undo can be undone": {
			records.Changeover{Kind: plan.Put, ID: 3, State: plan.Done},
			append(history, records.Ended{ID: 3, Undoes: &two}),
			true,
			"",
		},
		"no history": {records.Changeover{Kind: plan.Put, ID: 9, State: plan.Done}, nil, false, "came after"},
	} {
		ok, why := standing(c.c, c.done, nil)
		assert.Equal(t, c.want, ok, name)
		assert.Contains(t, why, c.why, name)
	}
}
