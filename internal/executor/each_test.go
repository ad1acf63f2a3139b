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
