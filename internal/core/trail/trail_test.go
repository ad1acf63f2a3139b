package trail_test

import (
	"errors"
	"io/fs"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/trail"
)

var (
	now = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	old = now.Add(-time.Hour)
)

func file(text string, at time.Time) *fstest.MapFile {
	return &fstest.MapFile{Data: []byte(text), ModTime: at}
}

func tree() fstest.MapFS {
	return fstest.MapFS{
		"w/facts": file("seed 1", old), "w/ground/a": file("aaaa", old), "w/ground/b": file("bbbb", old),
		"other/x": file("x", old),
	}
}

// look reads as a reader of worlds does: one file whole, one that is not there, and a
// folder's list with sizes.
func look(t *testing.T, fsys fs.FS, precision time.Duration) *trail.Trail {
	t.Helper()
	followed, tr := trail.Follow(fsys, now, precision)
	_, err := fs.ReadFile(followed, "w/facts")
	require.NoError(t, err)
	_, err = fs.Stat(followed, "w/lock")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, fs.WalkDir(followed, "w/ground", func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			_, err = d.Info()
		}
		return err
	}))
	return tr
}

func TestWhatWasLookedAtIsKnownToBeAsItWas(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(fstest.MapFS){
		"a file that was read has another size":   func(m fstest.MapFS) { m["w/facts"] = file("seed 11", old) },
		"a file that was read has another time":   func(m fstest.MapFS) { m["w/facts"] = file("seed 2", old.Add(1)) },
		"a file that was read is gone":            func(m fstest.MapFS) { delete(m, "w/facts") },
		"a file that was missing is there":        func(m fstest.MapFS) { m["w/lock"] = file("", old) },
		"a file that was listed has another time": func(m fstest.MapFS) { m["w/ground/a"] = file("aaaa", old.Add(1)) },
		"a file more in a folder":                 func(m fstest.MapFS) { m["w/ground/c"] = file("", old) },
		"a file less in a folder":                 func(m fstest.MapFS) { delete(m, "w/ground/b") },
		"another name in a folder": func(m fstest.MapFS) {
			m["w/ground/c"] = m["w/ground/b"]
			delete(m, "w/ground/b")
		},
		"a folder where a file was": func(m fstest.MapFS) {
			delete(m, "w/facts")
			m["w/facts/in"] = file("", old)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := tree()
			tr := look(t, m, time.Millisecond)
			require.True(t, tr.Fresh(m), "nothing has changed")
			m["other/x"] = file("changed", now)
			require.True(t, tr.Fresh(m), "what was not looked at does not count")
			change(m)
			assert.False(t, tr.Fresh(m))
		})
	}
}

func TestYoungAndCoarseTimesVouchForNothing(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		age, precision time.Duration
		fresh          bool
	}{
		{3 * time.Second, time.Millisecond, true},
		{1900 * time.Millisecond, time.Millisecond, false},
		{-time.Hour, time.Millisecond, false}, // of a clock that is ahead
		{30 * time.Second, time.Minute, false},
		{2 * time.Minute, time.Minute, true},
		{time.Hour, 0, false}, // not known
	} {
		m := tree()
		m["w/ground/b"] = file("bbbb", now.Add(-c.age))
		assert.Equal(t, c.fresh, look(t, m, c.precision).Fresh(m), "%s old, to %s", c.age, c.precision)
	}
}

// away is a tree that stops answering.
type away struct {
	fs.FS
	gone bool
}

func (a *away) Open(name string) (fs.File, error) {
	if a.gone {
		return nil, errors.New("no answer")
	}
	return a.FS.Open(name)
}

func TestATreeThatDoesNotAnswerVouchesForNothing(t *testing.T) {
	t.Parallel()
	a := &away{FS: tree()}
	tr := look(t, a, time.Millisecond)
	require.True(t, tr.Fresh(a))
	a.gone = true
	assert.False(t, tr.Fresh(a))
	followed, blind := trail.Follow(a, now, time.Millisecond)
	_, err := fs.Stat(followed, "w/facts")
	require.Error(t, err)
	a.gone = false
	assert.False(t, blind.Fresh(a), "what could not be looked at then may be anything now")
}
