package place_test

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/place"
)

// harness declares a driver under test; every driver runs the whole suite.
type harness struct {
	name string
	// open gives a place over an empty folder of this machine, and that folder.
	open func(t *testing.T) (*place.Place, string)
}

var harnesses = []harness{{name: "local", open: func(t *testing.T) (*place.Place, string) {
	dir := t.TempDir()
	p, closer, err := place.Local(dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, closer.Close()) })
	return p, dir
}}}

func TestConformance(t *testing.T) {
	t.Parallel()
	cases := map[string]func(t *testing.T, p *place.Place, dir string){
		"read side is a file system": func(t *testing.T, p *place.Place, dir string) {
			require.NoError(t, p.MkdirAll("a/b"))
			_, err := p.Write("a/b/c.txt", strings.NewReader("hello"), time.Time{})
			require.NoError(t, err)
			require.NoError(t, fstest.TestFS(p.FS(), "a/b/c.txt"))
		},
		"missing names are not found": func(t *testing.T, p *place.Place, _ string) {
			_, err := p.ReadFile("nope", 10)
			assert.ErrorIs(t, err, fs.ErrNotExist)
			assert.ErrorIs(t, err, fault.NotFound.As())
			there, err := p.Exists("nope")
			assert.NoError(t, err)
			assert.False(t, there)
		},
		"names outside are refused": func(t *testing.T, p *place.Place, _ string) {
			for _, name := range []string{"../x", "/x", "a/../../x", "", "a//b"} {
				_, err := p.Write(name, strings.NewReader(""), time.Time{})
				assert.ErrorIs(t, err, fault.Invalid.As(), name)
				assert.Error(t, p.Move(name, "b"), name)
			}
		},
		"links do not lead out": func(t *testing.T, p *place.Place, dir string) {
			secret := filepath.Join(t.TempDir(), "secret")
			require.NoError(t, os.WriteFile(secret, []byte("x"), 0o600))
			require.NoError(t, os.Symlink(secret, filepath.Join(dir, "way-out")))
			_, err := p.ReadFile("way-out", 10)
			assert.Error(t, err)
			_, err = p.Write("way-out", strings.NewReader("y"), time.Time{})
			assert.Error(t, err)
			kept, err := os.ReadFile(secret)
			require.NoError(t, err)
			assert.Equal(t, "x", string(kept))
		},
		"replace is whole and leaves nothing behind": func(t *testing.T, p *place.Place, dir string) {
			require.NoError(t, p.Replace("conf", []byte("one")))
			require.NoError(t, p.Replace("conf", []byte("two")))
			data, err := p.ReadFile("conf", 100)
			require.NoError(t, err)
			assert.Equal(t, "two", string(data))
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Len(t, entries, 1)
		},
		"move refuses a taken name": func(t *testing.T, p *place.Place, _ string) {
			require.NoError(t, p.MkdirAll("a"))
			require.NoError(t, p.MkdirAll("b"))
			assert.ErrorIs(t, p.Move("a", "b"), fault.Exists.As())
			require.NoError(t, p.Move("a", "c"))
			assert.ErrorIs(t, p.Move("a", "d"), fault.NotFound.As())
		},
		"one winner among many movers": func(t *testing.T, p *place.Place, _ string) {
			require.NoError(t, p.MkdirAll("prize"))
			var wg sync.WaitGroup
			wins := make(chan int, 16)
			for i := range 16 {
				wg.Go(func() {
					if p.Move("prize", fmt.Sprintf("won-%d", i)) == nil {
						wins <- i
					}
				})
			}
			wg.Wait()
			assert.Len(t, wins, 1)
		},
		"discard keeps to staging folders": func(t *testing.T, p *place.Place, _ string) {
			require.NoError(t, p.MkdirAll("worlds/live"))
			require.NoError(t, p.MkdirAll(".reshard/4/staged/x/y"))
			require.NoError(t, p.MkdirAll(".reshard/4/aside/x"))
			for _, name := range []string{"worlds/live", ".reshard", ".reshard/4", ".reshard/4/aside/x", "staged"} {
				assert.Error(t, p.Discard(name), name)
			}
			require.NoError(t, p.Discard(".reshard/4/staged"))
			there, _ := p.Exists(".reshard/4/staged")
			assert.False(t, there)
			assert.NoError(t, p.Discard(".reshard/4/staged"), "twice is fine")
			// A working folder goes only once it has been renamed so.
			require.NoError(t, p.Move(".reshard/4", ".reshard/going-4"))
			require.NoError(t, p.Discard(".reshard/going-4"))
			there, _ = p.Exists(".reshard/going-4")
			assert.False(t, there)
			require.NoError(t, p.MkdirAll("going-5/x"))
			assert.Error(t, p.Discard("going-5"), "not in the working folder")
		},
		"times are kept": func(t *testing.T, p *place.Place, dir string) {
			when := time.Date(2024, 5, 1, 12, 0, 0, 0, time.UTC)
			_, err := p.Write("f", strings.NewReader("x"), when)
			require.NoError(t, err)
			info, err := os.Stat(filepath.Join(dir, "f"))
			require.NoError(t, err)
			assert.True(t, info.ModTime().Equal(when))
		},
	}
	for _, h := range harnesses {
		for name, check := range cases {
			t.Run(h.name+"/"+name, func(t *testing.T) {
				t.Parallel()
				p, dir := h.open(t)
				check(t, p, dir)
			})
		}
	}
}

func TestFullDiskHasItsOwnCode(t *testing.T) {
	t.Parallel()
	p := place.New("host", fullDisk{})
	_, err := p.Write("f", strings.NewReader("x"), time.Time{})
	assert.ErrorIs(t, err, fault.NoSpace.As())
	assert.Contains(t, err.Error(), "host/f")
}

type fullDisk struct{ place.Driver }

func (fullDisk) Create(string) (io.WriteCloser, error) {
	return nil, errors.Join(errors.New("driver"), syscall.ENOSPC)
}

// A settings file that is replaced stays as readable, and as read-only, as it was.
func TestReplaceKeepsPermissions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p, closer, err := place.Local(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = closer.Close() })
	for _, mode := range []os.FileMode{0o400, 0o444, 0o600, 0o664} {
		file := filepath.Join(dir, "settings")
		_ = os.Remove(file)
		require.NoError(t, os.WriteFile(file, []byte("a"), 0o600))
		require.NoError(t, os.Chmod(file, mode))
		require.NoError(t, p.Replace("settings", []byte("b")))
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm())
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, "b", string(data))
	}
	require.NoError(t, p.Replace("new", []byte("c")))
	assert.True(t, p.Standing())
	require.NoError(t, os.Rename(dir, dir+".away"))
	assert.False(t, p.Standing())
	require.NoError(t, os.Mkdir(dir, 0o755))
	assert.False(t, p.Standing(), "another folder of that name is not the one that was opened")
}
