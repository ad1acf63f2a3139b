package executor

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/capability"
	"reshard/internal/core/plan"
	"reshard/internal/vault"
)

// Files that arrive while others are still being begun: what is known of them is written and
// read by many at once. Go ends the whole service where that is not guarded.
func TestManyFilesArriveWhileOthersAreBegun(t *testing.T) {
	t.Parallel()
	r := &Runner{Report: func(plan.Progress) {}}
	r.staged = &staging{whole: map[string]bool{}, sums: map[string][]byte{}, begun: map[string]bool{}}
	s := &stager{Runner: r, can: capability.Set{AtOnce: 64}, half: func() {}}
	var files []stagedFile
	for i := range 30_000 {
		files = append(files, stagedFile{vault.File{Size: 1}, fmt.Sprintf("staged/%d", i)})
	}
	r.staged.whole[files[7].to] = true
	require.NoError(t, s.each(context.Background(), files, func(_ context.Context, f stagedFile) (bool, error) {
		assert.NotEqual(t, files[7].to, f.to, "it stands there")
		return true, nil
	}))
	assert.Len(t, r.staged.whole, len(files))
	assert.Empty(t, s.missing(files))
}

func TestNamesThatAHostCannotHold(t *testing.T) {
	t.Parallel()
	staged := func(names ...string) (out []stagedFile) {
		for _, n := range names {
			out = append(out, stagedFile{to: "w/" + n})
		}
		return out
	}
	windows := capability.Set{}
	for name, why := range map[string]string{
		"a:b": "one of the characters", "dot.": "ends in a dot", "blank ": "ends in a dot or a blank",
		"NUL": "a device", "con.txt": "a device", "a/b?/c": "one of the characters", "\x01": "a control character",
	} {
		assert.ErrorContains(t, namesHeld(staged("good", name), windows), why, name)
		assert.NoError(t, namesHeld(staged("good", name), capability.Set{AnyName: true}), name)
	}
	for _, name := range []string{"console", ".hidden", "a b", "ö", "nulla.dat"} {
		assert.NoError(t, namesHeld(staged(name), windows), name)
	}
	assert.ErrorContains(t, namesHeld(staged("Fen.dat", "fen.DAT"), windows), "one file on the host")
	assert.NoError(t, namesHeld(staged("Fen.dat", "fen.DAT"), capability.All()))
}
