package filetree_test

import (
	"io"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/filetree"
)

func TestATreeReadsLikeAnyOther(t *testing.T) {
	t.Parallel()
	tree := filetree.New()
	file := func(text string) filetree.File {
		return filetree.File{
			Size:     int64(len(text)),
			Modified: time.Unix(1e9, 0),
			Open:     func() io.Reader { return strings.NewReader(text) },
		}
	}
	assert.True(t, tree.Add("b/c/two", file("two")))
	assert.True(t, tree.Add("b/a", file(strings.Repeat("x", 5000))))
	assert.True(t, tree.Add("top", file("")))
	tree.Folder("empty/deep")
	for _, name := range []string{"top", "../up", "/abs", ".", "", "a//b"} {
		assert.False(t, tree.Add(name, file("x")), name)
	}
	tree.Sort()
	require.NoError(t, fstest.TestFS(tree, "b/c/two", "b/a", "top", "empty/deep"))
}
