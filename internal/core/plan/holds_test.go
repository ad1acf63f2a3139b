package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/plan"
)

// What a working folder holds shows whose it is: every name in it must come from a step that was begun.
func TestWhatAWorkingFolderHolds(t *testing.T) {
	t.Parallel()
	p := plan.Plan{Work: ".reshard/6", Worlds: "worlds", Steps: []plan.Step{
		{Kind: plan.Stage},
		{Kind: plan.Stop, Switch: true},
		{Kind: plan.Move, Switch: true, MoveStep: plan.MoveStep{From: "worlds/alpha", To: ".reshard/6/aside/alpha"}},
		{Kind: plan.Move, Switch: true, MoveStep: plan.MoveStep{From: ".reshard/6/staged/beta", To: "worlds/beta"}},
		{Kind: plan.Write, Switch: true, WriteStep: plan.WriteStep{
			File: "quarry.properties", Keep: ".reshard/6/settings/quarry.properties",
		}},
		{Kind: plan.Start, Switch: true},
	}}
	done := func(n int) []plan.StepState {
		out := make([]plan.StepState, len(p.Steps))
		for i := range out {
			out[i] = plan.StepPlanned
			if i < n {
				out[i] = plan.StepDone
			}
		}
		return out
	}
	whole := []string{
		"aside", "aside/alpha", "settings", "settings/quarry.properties", "settings/quarry.properties.taken-back",
		"staged", "strays", "strays/x", "reserve", "moving-0a", "failed/beta", plan.MarkFile,
	}
	assert.True(t, p.Holds(whole, done(6)))
	assert.True(t, p.Holds([]string{"staged", "staged/beta", "aside", "settings"}, done(1)))
	assert.True(t, p.Holds(nil, done(0)))
	assert.False(t, p.Holds([]string{"aside/beta"}, done(6)), "another world")
	assert.False(t, p.Holds([]string{"aside/alphabet"}, done(6)))
	assert.False(t, p.Holds([]string{"aside/alpha"}, done(2)), "it had not come so far")
	assert.False(t, p.Holds([]string{"settings/other.yaml"}, done(6)))
	assert.False(t, p.Holds([]string{"strays/x"}, done(1)))
	assert.False(t, p.Holds([]string{"staged/beta"}, done(0)))
	assert.False(t, p.Holds([]string{"notes.txt"}, done(6)))
}
