package plan_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
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

// scene is a server's tree and a world to be put there.
type scene struct {
	root  string
	kind  string
	world world.Facts
	state life.State
}

func setup(t *testing.T, kind string) scene {
	t.Helper()
	dir := t.TempDir()
	root := filepath.Join(dir, "server")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: kind}, "winter", 1, 7000))
	split := kind == "terrace"
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "Winter", Seed: 1, Tiles: 1, Realms: []string{"caverns"}, Split: split}))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{
			Title:   "Fen",
			Seed:    2,
			Tiles:   1,
			Version: "2.5.1",
			Realms:  []string{"aurora"},
			Split:   split,
		}))
	w, _, err := world.Inspect(os.DirFS(dir), "fen", "fen", "", games.All())
	require.NoError(t, err)
	return scene{root: root, kind: kind, world: w, state: life.Running}
}

func (s scene) tree() fs.FS { return os.DirFS(s.root) }

func (s scene) read(t *testing.T) server.State {
	t.Helper()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	state, err := server.Read(s.tree(), p, server.Machine{Kind: s.kind})
	require.NoError(t, err)
	return state
}

func (s scene) put(t *testing.T, choices fit.Choices) (plan.Plan, error) {
	t.Helper()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	in := fit.Input{
		Profile: p,
		World:   s.world,
		Server:  s.read(t),
		Choices: choices,
		Live: fit.Live{
			State:          s.state,
			FreeBytes:      -1,
			SameFilesystem: true,
			Can:            capability.All(),
			Players:        -1,
			Roots:          []string{s.root},
		},
	}
	parts := []string{""}
	if s.world.Layout == "split" {
		parts = append(parts, "aurora")
	}
	return plan.DraftPut(plan.Input{
		Kind:      plan.Put,
		Fit:       in,
		Sheet:     fit.Compare(in),
		Server:    "north",
		Copy:      "c0ffee",
		Parts:     parts,
		Work:      ".reshard/7",
		Documents: documents(t, s.tree(), p, server.Machine{Kind: "plain"}),
		Window:    plan.Window{Stopping: 10, Starting: 20},
	})
}

// brief writes a plan's steps as lines to compare with.
func brief(p plan.Plan) (out []string) {
	for _, s := range p.Steps {
		line := s.Kind
		switch s.Kind {
		case plan.Move:
			line += " " + s.From + " > " + s.To
		case plan.Write:
			for _, e := range s.Edits {
				line += " " + e.Key + "=" + e.Value
			}
		case plan.Sample:
			line += " " + s.Dir
		}
		if s.Switch {
			line = "| " + line
		}
		out = append(out, line)
	}
	return out
}

func TestPutSteps(t *testing.T) {
	t.Parallel()
	plain := setup(t, "plain")
	p, err := plain.put(t, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"stage", "sample .reshard/7/staged/fen", "| stop",
		"| move worlds/winter > .reshard/7/aside/winter", "| move .reshard/7/staged/fen > worlds/fen",
		"| write world.folder=fen world.seed=2", "| start", "prove",
	}, brief(p))
	assert.Equal(t, []string{"worlds/winter"}, p.SetAside)
	assert.Contains(t, p.Diffs[0].Text, "-world.seed=1\n+world.seed=2")
	assert.Equal(t, []string{"fen"}, p.Expect.Folders)
	assert.Contains(t, p.Expect.Opened, filepath.Join(plain.root, "worlds/fen"))
	assert.Equal(t, plan.Window{Stopping: 10, Ours: 50, Starting: 20}, p.Window)
	again, err := plain.put(t, nil)
	require.NoError(t, err)
	assert.Equal(t, p, again, "a draft is pure")
}

func TestSiblingRealmsAndLeftoversAreSetAside(t *testing.T) {
	t.Parallel()
	s := setup(t, "terrace")
	// A leftover of an earlier world of the new one's name, without its world.
	require.NoError(t, os.Mkdir(filepath.Join(s.root, "worlds", "fen~caverns"), 0o755))
	p, err := s.put(t, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"worlds/fen~caverns", "worlds/winter", "worlds/winter~caverns"}, p.SetAside)
	assert.Contains(t, brief(p), "| move .reshard/7/staged/fen~aurora > worlds/fen~aurora")
}

func TestAStoppedServerIsNotStopped(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	s.state = life.Stopped
	p, err := s.put(t, fit.Choices{"folder-name": "winter"})
	require.NoError(t, err)
	for _, line := range brief(p) {
		assert.NotContains(t, line, "stop")
	}
	assert.Contains(t, brief(p), "| write world.seed=2", "the name is right already")
}

func TestAnUnsettledSheetMakesNoPlan(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	_, err := s.put(t, fit.Choices{"folder-name": "not allowed"})
	assert.ErrorIs(t, err, fault.NeedsChoice.As())
	_, next := fault.Words(err)
	assert.Contains(t, next, "--choose folder-name=not-allowed")
	s.state = life.Starting
	_, err = s.put(t, nil)
	assert.ErrorIs(t, err, fault.Blocked.As())
}

// carry moves and writes as the executor would, so that an undo can be drafted
// from what is left.
func (s scene) carry(t *testing.T, p plan.Plan) map[string]string {
	t.Helper()
	after := map[string]string{}
	for _, step := range p.Steps {
		switch step.Kind {
		case plan.Stage:
			for _, route := range step.Routes {
				to := route.To
				require.NoError(t, os.MkdirAll(filepath.Join(s.root, to), 0o755))
				require.NoError(
					t, quarrymoss.WriteHeart(filepath.Join(s.root, to), quarrymoss.Heart{Title: "Fen", Seed: 2}))
			}
		case plan.Move:
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(s.root, step.To)), 0o755))
			require.NoError(t, os.Rename(filepath.Join(s.root, step.From), filepath.Join(s.root, step.To)))
		case plan.Write:
			file := filepath.Join(s.root, step.File)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			next, err := plan.Apply(step.File, step.Syntax, data, step.Edits)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, next, 0o644))
			after[step.File] = server.Hash(next)
		}
	}
	return after
}

func (s scene) undo(t *testing.T, of plan.Plan, work string, after map[string]string) (plan.Plan, error) {
	t.Helper()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	return plan.DraftUndo(plan.UndoInput{
		Of:      of,
		ID:      7,
		Profile: p,
		State:   s.read(t),
		Live: fit.Live{
			State:          life.Running,
			FreeBytes:      -1,
			SameFilesystem: true,
			Can:            capability.All(),
			Players:        -1,
		},
		Server:    "north",
		Work:      work,
		Tree:      s.tree(),
		Documents: documents(t, s.tree(), p, server.Machine{Kind: "plain"}),
		After:     after,
	})
}

func TestUndoAndTheUndoOfAnUndo(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	put, err := s.put(t, nil)
	require.NoError(t, err)
	after := s.carry(t, put)
	undo, err := s.undo(t, put, ".reshard/8", after)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"sample .reshard/7/aside/winter", "| stop", "| move worlds/fen > .reshard/8/aside/fen",
		"| move .reshard/7/aside/winter > worlds/winter", "| write world.folder=winter world.seed=1", "| start",
		"prove",
	}, brief(undo))
	assert.Equal(t, "winter", undo.Expect.Folder)
	assert.Equal(t, "1", undo.Expect.Seed)
	assert.Equal(t, after["quarry.properties"], undo.Steps[4].IfHash)

	redo, err := s.undo(t, undo, ".reshard/9", s.carry(t, undo))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"sample .reshard/8/aside/fen", "| stop", "| move worlds/winter > .reshard/9/aside/winter",
		"| move .reshard/8/aside/fen > worlds/fen", "| write world.folder=fen world.seed=2", "| start", "prove",
	}, brief(redo))
	assert.Equal(t, "2", redo.Expect.Seed)
}

func TestAnUndoWithoutWhatWasSetAsideIsRefused(t *testing.T) {
	t.Parallel()
	s := setup(t, "plain")
	put, err := s.put(t, nil)
	require.NoError(t, err)
	after := s.carry(t, put)
	require.NoError(t, os.RemoveAll(filepath.Join(s.root, ".reshard")))
	_, err = s.undo(t, put, ".reshard/8", after)
	assert.ErrorIs(t, err, fault.Held.As())
	assert.ErrorContains(t, err, "no longer in .reshard/7/aside/winter")
}

// Every state has its ways out, and every open one can come to rest: the test
// reads the source, so that no new state is forgotten.
func TestNoStateIsForgotten(t *testing.T) {
	t.Parallel()
	file, err := parser.ParseFile(token.NewFileSet(), "state.go", nil, 0)
	require.NoError(t, err)
	var declared []plan.State
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok {
			return true
		}
		if id, ok := spec.Type.(*ast.Ident); ok && id.Name == "State" {
			declared = append(declared, plan.State(strings.Trim(spec.Values[0].(*ast.BasicLit).Value, `"`)))
		}
		return true
	})
	assert.ElementsMatch(t, plan.States(), declared)
	for _, s := range plan.States() {
		assert.Equal(t, s.Open(), reaches(s, plan.Undone) && s != plan.Drafted && s != plan.Undone, s)
		assert.False(t, s.May(s), s)
	}
	assert.False(t, plan.Drafted.May(plan.Switching))
	assert.False(t, plan.Done.May(plan.Undoing), "a done changeover is undone by another")
}

func reaches(from, to plan.State) bool {
	for _, s := range plan.States() {
		if from.May(s) && (s == to || (s != from && s != plan.Held && reaches(s, to))) {
			return true
		}
	}
	return from == plan.Held && to == plan.Undone
}

// documents reads a server's settings documents.
func documents(t *testing.T, tree fs.FS, p *game.Profile, m server.Machine) plan.Documents {
	t.Helper()
	h, err := server.ReadHeads(tree, p, m)
	require.NoError(t, err)
	return h.Documents
}
