package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/plan"
)

// A story tells each of its parts, of every state; what is done, or was not begun, has none.
func TestStory(t *testing.T) {
	t.Parallel()
	p := plan.Plan{Kind: plan.Put, Server: "north", World: "Fen", Work: ".reshard/7", Steps: []plan.Step{
		{Kind: plan.Stage, Say: "Stage it."},
		{Kind: plan.Stop, Switch: true, Say: "Stop it."},
		{
			Kind: plan.Move, Switch: true, Say: "Move it.",
			MoveStep: plan.MoveStep{From: "worlds/a", To: ".reshard/7/aside/a"},
		},
		{Kind: plan.Start, Switch: true, Say: "Start it."},
	}}
	for state, want := range map[plan.State][]string{
		plan.Undone: {"To put “Fen” on north.", "the disk is full", "What was there before is there again.",
			"Free some.", "reshard tidy north", "make it again"},
		plan.Held: {"Begun, and how far it came cannot be told: Move it.", "Not begun: Start it.",
			"worlds/a was to go to .reshard/7/aside/a: look in both.", "may be down", "reshard undo 7", "settle 7"},
		plan.Undoing: {"It is going back"},
	} {
		told := plan.Told{
			ID: 7, Plan: p, State: state, What: "the disk is full", Next: "Free some.",
			Steps: []plan.StepState{plan.StepDone, plan.StepDone, plan.StepIntended, plan.StepPlanned},
			Notes: map[int]string{0: "5 files."},
		}
		story := told.Story()
		require.Len(t, story, 5)
		var text strings.Builder
		for _, part := range story {
			require.NotEmpty(t, part.Says, part.Title)
			text.WriteString(part.Title + ": " + strings.Join(part.Says, " ") + "\n")
		}
		for _, w := range want {
			assert.Contains(t, text.String(), w, state)
		}
		assert.Contains(t, text.String(), "Done: Stage it. 5 files.")
	}
	for _, state := range []plan.State{
		plan.Done, plan.Drafted, plan.Staging, plan.Waiting, plan.Switching, plan.Proving,
	} {
		assert.Empty(t, plan.Told{State: state, Plan: p}.Story(), state)
	}
}
