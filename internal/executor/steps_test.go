package executor

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/life"
	"reshard/internal/core/plan"
)

func TestEveryKindOfStepHasAnEntry(t *testing.T) {
	t.Parallel()
	assert.ElementsMatch(t, plan.StepKinds(), slices.Collect(maps.Keys(stepKinds())))
	for name, k := range stepKinds() {
		assert.Equal(t, name != plan.Wait, k.act != nil, name)
		if k.prepare != nil {
			assert.NotNil(t, k.back, "%s prepares what nobody takes back", name)
		}
	}
}

func TestWhatAStepSaysOfItself(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		step plan.Step
		left Detail
		note string
		size int64
	}{
		{plan.Step{Kind: plan.Stage, StageStep: plan.StageStep{Bytes: 7}}, Detail{}, "", 7},
		{plan.Step{Kind: plan.Copy}, Detail{Read: 9}, "", 9},
		{plan.Step{Kind: plan.Wait}, Detail{By: "ada"}, "The word came from ada.", 0},
		{plan.Step{Kind: plan.Stop}, Detail{Clean: true}, "", 0},
		{plan.Step{Kind: plan.Stop}, Detail{}, "without saying", 0},
		{plan.Step{Kind: plan.Stop}, Detail{Already: true, Clean: true}, "had been stopped before", 0},
		{plan.Step{Kind: plan.Stop}, Detail{Already: true}, "had ended before", 0},
		{plan.Step{Kind: plan.Stop}, Detail{Evidence: life.Word, Word: "bryn"}, "word of bryn", 0},
		{plan.Step{Kind: plan.Prove}, Detail{}, "", 0},
		{plan.Step{Kind: "of a build to come"}, Detail{}, "", 0},
	} {
		note, size := Says(c.step, c.left)
		assert.Equal(t, c.size, size, c.step.Kind)
		if c.note == "" {
			assert.Empty(t, note, c.step.Kind)
		} else {
			assert.Contains(t, note, c.note)
		}
	}
}
