package vault_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/vault"
)

func source(path string, data []byte) vault.Source {
	return vault.Source{Path: path, Modified: time.Now(), Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(b)
	return b
}

func chunkFiles(t *testing.T, dir string) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, "chunks"), func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, p)
		}
		return err
	}))
	return names
}

func TestStoreGivesBackTheSameBytes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	contents := map[string][]byte{"empty": {}, "small": []byte("hello"), "zeros": make([]byte, 9<<20), "random": random(11 << 20)}
	var files []vault.Source
	for name, data := range contents {
		files = append(files, source("d/"+name, data))
	}
	files = append(files, vault.Source{Path: "folk/"})
	c, err := v.Store(context.Background(), files, nil)
	require.NoError(t, err)
	again, err := v.Store(context.Background(), files, nil)
	require.NoError(t, err)
	assert.Equal(t, c.ID, again.ID, "the same content is the same copy")
	loaded, err := v.Load(c.ID)
	require.NoError(t, err)
	for _, f := range loaded.Files {
		if f.Dir() {
			continue
		}
		got, err := io.ReadAll(v.Read(f))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(contents[filepath.Base(f.Path)], got), f.Path)
	}
	require.NoError(t, v.Verify(context.Background(), loaded))
}

func TestAChangeInTheMiddleStoresLittleNew(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	data := random(24 << 20)
	_, err = v.Store(context.Background(), []vault.Source{source("a", data)}, nil)
	require.NoError(t, err)
	before := len(chunkFiles(t, dir))
	changed := append(append(append([]byte{}, data[:12<<20]...), "inserted"...), data[12<<20:]...)
	_, err = v.Store(context.Background(), []vault.Source{source("a", changed)}, nil)
	require.NoError(t, err)
	assert.Greater(t, before, 8)
	assert.LessOrEqual(t, len(chunkFiles(t, dir))-before, 3)
}

func TestDamageIsSeen(t *testing.T) {
	t.Parallel()
	for name, harm := range map[string]func(t *testing.T, file string){
		"a flipped bit": func(t *testing.T, file string) {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			data[len(data)/2] ^= 1
			require.NoError(t, os.WriteFile(file, data, 0o600))
		},
		"cut short": func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 100)) },
		"emptied":   func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 0)) },
		"gone":      func(t *testing.T, file string) { require.NoError(t, os.Remove(file)) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			v, err := vault.Open(dir)
			require.NoError(t, err)
			c, err := v.Store(context.Background(), []vault.Source{source("a", random(3000))}, nil)
			require.NoError(t, err)
			harm(t, chunkFiles(t, dir)[0])
			assert.ErrorIs(t, v.Verify(context.Background(), c), fault.Damaged.As())
		})
	}
}

func TestManifestMustMatchItsID(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	c, err := v.Store(context.Background(), []vault.Source{source("level", []byte("x"))}, nil)
	require.NoError(t, err)
	file := filepath.Join(dir, "copies", c.ID+".json")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bytes.Replace(data, []byte("level"), []byte("../up"), 1), 0o600))
	_, err = v.Load(c.ID)
	assert.ErrorIs(t, err, fault.Damaged.As())
	_, err = v.Load("../../etc/passwd")
	assert.ErrorIs(t, err, fault.NotFound.As())
}

func TestAFailedStoreLeavesNoCopy(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	broken := vault.Source{Path: "b", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(io.MultiReader(bytes.NewReader(random(1<<20)), failing{})), nil
	}}
	_, err = v.Store(context.Background(), []vault.Source{source("a", []byte("x")), broken}, nil)
	require.Error(t, err)
	copies, err := os.ReadDir(filepath.Join(dir, "copies"))
	require.NoError(t, err)
	assert.Empty(t, copies)
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the cable is out") }

// After a power cut a chunk may be there by name and empty: the next start
// drops it, and a new store of the same content writes it anew.
func TestOpenDropsChunksThatACrashCutShort(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v, err := vault.Open(dir)
	require.NoError(t, err)
	files := []vault.Source{source("a", random(5000))}
	c, err := v.Store(context.Background(), files, nil)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(chunkFiles(t, dir)[0], 0))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "open", "store-1"), nil, 0o600))
	v, err = vault.Open(dir)
	require.NoError(t, err)
	assert.Empty(t, chunkFiles(t, dir))
	_, err = v.Store(context.Background(), files, nil)
	require.NoError(t, err)
	require.NoError(t, v.Verify(context.Background(), c))
}

// A file that is known and has not changed is not read again, and is in the copy as if
// it had been.
func TestAKnownFileIsNotReadAgain(t *testing.T) {
	t.Parallel()
	v, err := vault.Open(t.TempDir())
	require.NoError(t, err)
	ctx := context.Background()
	first, err := v.Store(ctx, []vault.Source{{Path: "a", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("marrows")), nil }}}, nil)
	require.NoError(t, err)
	again, err := v.Store(ctx, []vault.Source{{Path: "a", Known: first.Files[0].Chunks, Open: func() (io.ReadCloser, error) { return nil, errors.New("it was read") }}}, nil)
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID)
	require.NoError(t, v.Verify(ctx, again))
}

// A copy reads as a tree like any other.
func TestTree(t *testing.T) {
	t.Parallel()
	v, err := vault.Open(t.TempDir())
	require.NoError(t, err)
	source := func(part, name, content string) vault.Source {
		return vault.Source{Part: part, Path: name, Modified: time.Unix(1e9, 0), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }}
	}
	c, err := v.Store(context.Background(), []vault.Source{
		source("", "heart", "beats"), source("", "ground/t.0.0.qt", strings.Repeat("g", 300_000)), source("", "ground/t.1.0.qt", "x"),
		source("caverns", "c.qt", "deep"), source("aurora", "a.qt", "out"), {Path: "folk/"},
	}, nil)
	require.NoError(t, err)
	tree := v.Tree(c, func(part, name string) string {
		switch part {
		case "":
			return name
		case "caverns":
			return "realms/caverns/" + name
		}
		return ""
	})
	require.NoError(t, fstest.TestFS(tree, "heart", "ground/t.0.0.qt", "ground/t.1.0.qt", "realms/caverns/c.qt", "folk"))
	_, err = fs.Stat(tree, "a.qt")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}
