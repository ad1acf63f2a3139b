package plan_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/world"
)

// input is what a changeover of a kind is drafted from; the world is one that stands
// on the server.
func (s scene) input(t *testing.T, profile *game.Profile, purpose fit.Purpose, name string,
	choices fit.Choices) plan.Input {
	t.Helper()
	if choices == nil {
		choices = fit.Choices{}
	}
	in := fit.Input{
		Profile: profile, Server: s.read(t), Purpose: purpose, Choices: choices,
		Live: fit.Live{
			State:          s.state,
			FreeBytes:      -1,
			SameFilesystem: true,
			Can:            capability.All(),
			Players:        -1,
			Roots:          []string{s.root},
		},
	}
	found, err := world.Direct(s.tree(), "worlds", profile)
	require.NoError(t, err)
	for _, f := range found {
		if f.Folder == name {
			in.World, err = world.Read(s.tree(), f)
			require.NoError(t, err)
		}
	}
	return plan.Input{
		Fit:       in,
		Sheet:     fit.Compare(in),
		Server:    "north",
		Work:      ".reshard/7",
		Documents: documents(t, s.tree(), profile, server.Machine{Kind: "plain"}),
		Window:    plan.Window{Stopping: 10, Starting: 20},
	}
}

// told writes a plan's steps as brief does, with what is said and to whom.
func told(p plan.Plan) []string {
	out := brief(p)
	for n, s := range p.Steps {
		for _, more := range []string{s.Server, s.Tell, s.Until, s.Title} {
			if more != "" {
				out[n] += " " + more
			}
		}
		if s.Pass {
			out[n] += " first pass"
		}
		if s.Again {
			out[n] += " again"
		}
	}
	return out
}

func quarry(t *testing.T, change func(*game.Profile)) *game.Profile {
	t.Helper()
	shipped, err := games.Find("quarrymoss")
	require.NoError(t, err)
	p := *shipped
	if change != nil {
		change(&p)
	}
	return &p
}

// Each kind of changeover is a list of the same few steps.
func TestEveryKindIsAPlan(t *testing.T) {
	t.Parallel()
	plain, split := setup(t, "plain"), setup(t, "terrace")
	for _, s := range []scene{plain, split} {
		require.NoError(t, quarrymoss.Make(filepath.Join(s.root, "worlds", "old"),
			quarrymoss.Options{Title: "Old", Seed: 9, Tiles: 1, Version: "2.5.1"}))
	}
	require.NoError(t, os.Mkdir(filepath.Join(split.root, "worlds", "spring~aurora"), 0o755))
	stopped := plain
	stopped.state = life.Stopped
	noHold := func(p *game.Profile) {
		p.Server.Console.Hold, p.Server.Console.Release = game.Exchange{}, game.Exchange{}
	}
	for name, c := range map[string]struct {
		s     scene
		draft func() (plan.Plan, error)
		want  []string
	}{
		"reset, same name": {plain, func() (plan.Plan, error) {
			return plan.DraftReset(plain.input(t, quarry(t, nil), fit.ForReset, "winter", fit.Choices{"seed": "-5"}))
		}, []string{"sample worlds/winter", "| stop", "| move worlds/winter > .reshard/7/aside/winter",
			"| write world.seed=-5", "| start", "prove"}},
		"reset, other name, realms lie about": {split, func() (plan.Plan, error) {
			return plan.DraftReset(
				split.input(t, quarry(t, nil), fit.ForReset, "winter",
					fit.Choices{"seed": "as-set", "folder-name": "spring"}))
		}, []string{"sample worlds/winter", "| stop", "| move worlds/spring~aurora > .reshard/7/aside/spring~aurora",
			"| write world.folder=spring", "| start", "prove"}},
		"reset of a server that names worlds by itself": {plain, func() (plan.Plan, error) {
			own := quarry(t, func(p *game.Profile) { p.Server.NewWorld.Named = "own"; noWriteBack(p) })
			return plan.DraftReset(plain.input(t, own, fit.ForReset, "winter", fit.Choices{"seed": "-5"}))
		}, []string{"sample worlds/winter", "| stop", "| move worlds/winter > .reshard/7/aside/winter",
			"| write world.seed=-5", "| start", "write world.folder=", "prove"}},
		"reset of a server that keeps a new world in memory": {stopped, func() (plan.Plan, error) {
			saves := quarry(t, func(p *game.Profile) { p.Server.NewWorld.Save = game.Exchange{Say: "save {name}"} })
			return plan.DraftReset(stopped.input(t, saves, fit.ForReset, "winter", fit.Choices{"seed": "-5"}))
		}, []string{"sample worlds/winter", "| move worlds/winter > .reshard/7/aside/winter", "| write world.seed=-5",
			"| start", "tell save", "prove"}},
		"switch": {plain, func() (plan.Plan, error) {
			return plan.DraftSwitch(plain.input(t, quarry(t, nil), fit.ForSwitch, "old", nil))
		}, []string{"sample worlds/old", "| stop", "| write world.folder=old world.seed=9", "| start", "prove"}},
		"switch by a load, of a game whose stop loses": {plain, func() (plan.Plan, error) {
			loads := quarry(t, func(p *game.Profile) {
				noWriteBack(p)
				p.Server.Console.Load, p.Server.Console.Stop.Loses = game.Exchange{Say: "load {name}"}, true
			})
			return plan.DraftSwitch(plain.input(t, loads, fit.ForSwitch, "old", nil))
		}, []string{"sample worlds/old", "| write world.folder=old world.seed=9", "| tell flush", "| tell load",
			"prove"}},
		"rename": {split, func() (plan.Plan, error) {
			return plan.DraftRename(
				split.input(t, quarry(t, nil), fit.ForRename, "winter", fit.Choices{"folder-name": "spring"}))
		}, []string{
			"| stop", "| sample worlds/winter", "| move worlds/spring~aurora > .reshard/7/aside/spring~aurora",
			"| move worlds/winter > worlds/spring",
			"| move worlds/winter~caverns > worlds/spring~caverns", "| write world.folder=spring", "| start", "prove",
		}},
		"take away": {plain, func() (plan.Plan, error) {
			in := plain.input(t, quarry(t, nil), fit.ForPut, "winter", nil)
			in.Sheet = fit.Sheet{}
			return plan.DraftTakeAway(in)
		}, []string{"copy first pass", "tell hold", "tell flush", "copy", "tell release", "prove"}},
		"take away with a stop": {plain, func() (plan.Plan, error) {
			in := plain.input(t, quarry(t, noHold), fit.ForPut, "winter", nil)
			in.Sheet = fit.Sheet{}
			return plan.DraftTakeAway(in)
		}, []string{"copy first pass", "| stop", "| copy", "| start again", "prove"}},
		"take away another world than the active one": {plain, func() (plan.Plan, error) {
			in := plain.input(t, quarry(t, nil), fit.ForPut, "old", nil)
			in.Sheet = fit.Sheet{}
			return plan.DraftTakeAway(in)
		}, []string{"copy", "prove"}},
		"clone": {plain, func() (plan.Plan, error) {
			return plan.DraftPut(
				clone(plain.input(t, quarry(t, nil), fit.ForPut, "old", fit.Choices{"folder-name": "copy"})))
		}, []string{
			"copy south first pass", "tell south hold", "tell south flush", "copy south", "tell south release", "stage",
			"sample .reshard/7/staged/copy", "| stop",
			"| move worlds/winter > .reshard/7/aside/winter", "| move .reshard/7/staged/copy > worlds/copy",
			"| write world.folder=copy world.seed=9", "| start", "prove",
		}},
		"clone with a stop of the source": {plain, func() (plan.Plan, error) {
			return plan.DraftPut(
				clone(plain.input(t, quarry(t, noHold), fit.ForBeside, "old", fit.Choices{"folder-name": "copy"})))
		}, []string{"copy south first pass", "stop south", "copy south", "start south again", "stage",
			"sample .reshard/7/staged/copy", "| move .reshard/7/staged/copy > worlds/copy", "prove"}},
		"put with a title, when told": {plain, func() (plan.Plan, error) {
			return plain.put(t, fit.Choices{"title": "Fen, newly titled", "switch": "when-told"})
		}, []string{
			"stage", "retitle Fen, newly titled", "sample .reshard/7/staged/fen", "wait word", "| stop",
			"| move worlds/winter > .reshard/7/aside/winter",
			"| move .reshard/7/staged/fen > worlds/fen", "| write world.folder=fen world.seed=2", "| start", "prove",
		}},
	} {
		p, err := c.draft()
		if !assert.NoError(t, err, name) {
			continue
		}
		assert.Equal(t, c.want, told(p), name)
		for _, step := range p.Steps {
			assert.NotEmpty(t, step.Say, name)
			assert.NotEqual(t, "worlds", step.From, "the folder of all worlds is never moved")
			if step.Kind == plan.Move {
				for _, end := range []string{step.From, step.To} {
					assert.True(t, strings.HasPrefix(end, "worlds/") || strings.HasPrefix(end, ".reshard/7/"), "%s: %s",
						name, end)
				}
			}
		}
		assert.Equal(t, strings.Contains(strings.Join(told(p), ";"), "| start"), p.LocksOut(), name)
		if !p.LocksOut() {
			assert.Equal(t, plan.Window{}, p.Window, name)
		}
	}
}

func noWriteBack(p *game.Profile) {
	main := p.Server.Settings["main"]
	main.WritesBack = false
	p.Server.Settings = map[string]game.Settings{"main": main}
}

// clone makes the input of a put that of a clone from a server that runs.
func clone(in plan.Input) plan.Input {
	in.Kind, in.Parts = plan.Clone, []string{""}
	in.Source = &plan.Source{Server: "south", Worlds: "worlds", Running: true}
	return in
}

// A sheet that is not settled gives no plan, of any kind.
func TestAnUnsettledSheetGivesNoPlan(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	_, err := plan.DraftReset(s.input(t, quarry(t, nil), fit.ForReset, "winter", nil))
	assert.ErrorIs(t, err, fault.NeedsChoice.As(), "the settings hold the old world's seed")
	_, err = plan.DraftSwitch(s.input(t, quarry(t, nil), fit.ForSwitch, "winter", nil))
	assert.ErrorIs(t, err, fault.Blocked.As(), "it is the active one")
	_, err = plan.DraftRename(s.input(t, quarry(t, nil), fit.ForRename, "winter", fit.Choices{"folder-name": "winter"}))
	assert.ErrorIs(t, err, fault.Blocked.As())
	s.state = life.Starting
	_, err = plan.DraftRename(s.input(t, quarry(t, nil), fit.ForRename, "winter", fit.Choices{"folder-name": "spring"}))
	assert.ErrorIs(t, err, fault.Blocked.As())
}

// What a first start makes is what its proof looks for, and what was wanted follows it.
func TestFirstStart(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	s.state = life.Stopped
	in := s.input(t, quarry(t, nil), fit.ForPut, "winter", fit.Choices{"first-start": "make"})
	in.Fit.Server.NotYet = []string{"worlds/"}
	in.Sheet = fit.Compare(in.Fit)
	assert.Len(t, in.Sheet.Rows, 4, "nothing else can be compared yet")
	p, err := plan.DraftFirstStart(in, plan.Wish{Kind: plan.Put, World: "fen"})
	require.NoError(t, err)
	assert.Equal(t, []string{"| start", "| stop", "prove"}, told(p))
	assert.Equal(t, []string{"worlds/"}, p.Expect.There)
	assert.Equal(t, "fen", p.Then.World)
	assert.False(t, plan.Lasting(p.Kind))
}
