package observe_test

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/games"
	"reshard/internal/control"
	running "reshard/internal/control/memory"
	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/memory"
	"reshard/internal/observe"
)

// still is a game that is never started.
type still struct{}

func (still) Begin(func(string)) int                { return 0 }
func (still) Hear(string, func(string)) int         { return 0 }
func (still) Feel(control.Signal, func(string)) int { return 0 }

// watched is a server on a disk in memory, of which every opening of a file is noted.
type watched struct {
	*observe.Observer
	disk *memory.Files

	mu     sync.Mutex
	opened map[string]int
	away   bool
}

// worlds gives the folders below worlds in which a file was opened since the last time.
func (w *watched) worlds() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := map[string]bool{}
	for name := range w.opened {
		if rest, ok := strings.CutPrefix(name, "worlds/"); ok {
			world, _, _ := strings.Cut(rest, "/")
			out[world] = true
		}
	}
	w.opened = map[string]int{}
	return slices.Sorted(maps.Keys(out))
}

// setup makes a server with some worlds, all of whose files are an hour old.
func setup(t *testing.T, worlds int) *watched {
	t.Helper()
	root := t.TempDir()
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "w0", 1, 1))
	for i := range worlds {
		require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", fmt.Sprintf("w%d", i)),
			quarrymoss.Options{Title: fmt.Sprintf("World %d", i), Seed: int64(i), Tiles: 2}))
	}
	old := time.Now().Add(-time.Hour)
	require.NoError(t, filepath.WalkDir(root, func(name string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Chtimes(name, old, old)
	}))
	w := &watched{disk: memory.New(), opened: map[string]int{}}
	require.NoError(t, w.disk.Load(os.DirFS(root)))
	seen := w.disk.Behind()
	seen.Before = func(op, name string) error {
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.away {
			return fault.New(fault.Unreachable, "", "", "no answer")
		}
		if op == "open" {
			w.opened[name]++
		}
		return nil
	}
	profile, err := games.Find("quarrymoss")
	require.NoError(t, err)
	w.Observer = &observe.Observer{
		Name: "north", ID: 1, Files: hostfs.New("north", seen),
		Control: control.New("north", running.New(still{}), profile),
		Profile: profile, Machine: server.Machine{Kind: "plain"}, Memory: observe.NewMemory(), Now: time.Now,
	}
	return w
}

func (w *watched) heads(t *testing.T) *observe.Heads {
	t.Helper()
	h, err := w.Heads(t.Context())
	require.NoError(t, err)
	return &h
}

func TestHeadsOpenNoWorld(t *testing.T) {
	t.Parallel()
	w := setup(t, 3)
	h := w.heads(t)
	assert.Empty(t, w.worlds())
	assert.Equal(t, "w0", h.State.Active)
	assert.Equal(t, []string{"w0", "w1", "w2"}, h.State.Folders)
	require.Len(t, h.State.Worlds, 3)
	assert.Equal(t, "w1", h.State.Worlds[1].Folder)
	assert.Empty(t, h.State.Worlds[1].Title, "nobody has looked into it")
	assert.Contains(t, h.Documents, "quarry.properties")
	assert.WithinDuration(t, time.Now(), h.At, time.Minute)
	assert.True(t, h.Status.Known())
}

func TestALookIsTakenOnceUntilSomethingChanges(t *testing.T) {
	t.Parallel()
	w := setup(t, 3)
	ctx := t.Context()
	h := w.heads(t)
	look, err := w.Look(ctx, h, "w1")
	require.NoError(t, err)
	assert.Equal(t, observe.Read, look.Origin)
	assert.Equal(t, "World 1", look.Facts.Title)
	assert.Equal(t, "World 1", h.State.Worlds[1].Title, "the heads have it now")
	assert.Equal(t, []string{"w1"}, w.worlds(), "and no other world was opened")

	h = w.heads(t)
	kept, err := w.Look(ctx, h, "w1")
	require.NoError(t, err)
	assert.Equal(t, observe.Kept, kept.Origin)
	assert.Equal(t, look.At, kept.At, "it is as old as it is")
	assert.Equal(t, look.Facts, kept.Facts)
	require.NoError(t, w.LookAtAll(ctx, h))
	assert.Equal(t, []string{"w0", "w2"}, w.worlds())
	require.NoError(t, w.LookAtAll(ctx, w.heads(t)))
	assert.Empty(t, w.worlds())

	w.disk.Put("worlds/w2/held.lock", []byte("x")) // as the game does when it opens it
	h = w.heads(t)
	require.NoError(t, w.LookAtAll(ctx, h))
	assert.Equal(t, []string{"w2"}, w.worlds(), "only what has changed is read again")
	assert.Equal(t, []string{"held.lock"}, h.State.Worlds[2].Locks)
	require.NoError(t, w.LookAtAll(ctx, w.heads(t)))
	assert.Equal(t, []string{"w2"}, w.worlds(), "a time that is so young vouches for nothing")
	assert.Empty(t, h.State.Worlds[0].Locks)

	_, err = w.Look(ctx, h, "W1")
	assert.ErrorIs(t, err, fault.NotFound.As(), "names count exactly")
}

func TestAnotherProfileLooksAnew(t *testing.T) {
	t.Parallel()
	w := setup(t, 1)
	_, err := w.Look(t.Context(), w.heads(t), "w0")
	require.NoError(t, err)
	w.worlds()
	other := *w.Profile
	w.Profile = &other
	look, err := w.Look(t.Context(), w.heads(t), "w0")
	require.NoError(t, err)
	assert.Equal(t, observe.Read, look.Origin)
}

func TestAHostThatKeepsTimesCoarselyIsReadAgain(t *testing.T) {
	t.Parallel()
	w := setup(t, 1)
	h := w.heads(t)
	h.Can.TimePrecision = 2 * time.Hour
	for range 2 {
		look, err := w.Look(t.Context(), h, "w0")
		require.NoError(t, err)
		assert.Equal(t, observe.Read, look.Origin)
	}
}

// Half an answer is no observation: what was known before is not replaced by it, and not
// taken for fresh either.
func TestAHostThatIsAwayIsNoObservation(t *testing.T) {
	t.Parallel()
	w := setup(t, 2)
	ctx := context.Background()
	h := w.heads(t)
	_, err := w.Look(ctx, h, "w0")
	require.NoError(t, err)
	w.mu.Lock()
	w.away = true
	w.mu.Unlock()
	_, err = w.Heads(ctx)
	require.True(t, fault.Passing(err), "%v", err)
	for _, name := range []string{"w0", "w1"} {
		_, err = w.Look(ctx, h, name)
		assert.True(t, fault.Passing(err), "%s: %v", name, err)
	}
	assert.True(t, fault.Passing(w.LookAtAll(ctx, h)))
	w.mu.Lock()
	w.away = false
	w.mu.Unlock()
	look, err := w.Look(ctx, h, "w0")
	require.NoError(t, err)
	assert.Equal(t, observe.Kept, look.Origin)
}
