package vault_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
	"reshard/internal/vault"
)

func source(path string, data []byte) vault.Source {
	return vault.Source{
		Path:     path,
		Modified: time.Now(),
		Open:     func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
	}
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(b)
	return b
}

// open opens a vault in a folder; its index is made from the packs, as after a loss.
func open(t *testing.T, dir string) *vault.Vault {
	t.Helper()
	v, _ := openWith(t, dir)
	return v
}

func openWith(t *testing.T, dir string) (*vault.Vault, *vault.Memory) {
	t.Helper()
	blobs, err := vault.Files(dir)
	require.NoError(t, err)
	index := vault.NewMemory()
	v, err := vault.Open(context.Background(), blobs, index)
	require.NoError(t, err)
	_, err = v.Rebuild(context.Background(), nil)
	require.NoError(t, err)
	return v, index
}

func packFiles(t *testing.T, dir string) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, p)
		}
		return err
	}))
	return names
}

func stored(t *testing.T, dir string) (bytes int64) {
	t.Helper()
	for _, p := range packFiles(t, dir) {
		info, err := os.Stat(p)
		require.NoError(t, err)
		bytes += info.Size()
	}
	return bytes
}

func TestStoreGivesBackTheSameBytes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v := open(t, dir)
	contents := map[string][]byte{
		"empty":  {},
		"small":  []byte("hello"),
		"zeros":  make([]byte, 9<<20),
		"random": random(11 << 20),
	}
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
	loaded, err := v.Load(context.Background(), c.ID)
	require.NoError(t, err)
	for _, f := range loaded.Files {
		if f.Dir() {
			continue
		}
		got, err := io.ReadAll(v.Read(context.Background(), f))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(contents[filepath.Base(f.Path)], got), f.Path)
	}
	require.NoError(t, v.Verify(context.Background(), loaded))
}

func TestAChangeInTheMiddleStoresLittleNew(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v := open(t, dir)
	data := random(24 << 20)
	_, err := v.Store(context.Background(), []vault.Source{source("a", data)}, nil)
	require.NoError(t, err)
	before := stored(t, dir)
	changed := append(append(append([]byte{}, data[:12<<20]...), "inserted"...), data[12<<20:]...)
	_, err = v.Store(context.Background(), []vault.Source{source("a", changed)}, nil)
	require.NoError(t, err)
	assert.Greater(t, before, int64(24<<20))
	assert.Less(t, stored(t, dir)-before, int64(6<<20))
	before = stored(t, dir)
	_, err = v.Store(context.Background(), []vault.Source{source("a", changed)}, nil)
	require.NoError(t, err)
	assert.Equal(t, before, stored(t, dir), "the same again stores nothing")
}

func TestDamageIsSeenAndMendedBySendingAgain(t *testing.T) {
	t.Parallel()
	for name, harm := range map[string]func(t *testing.T, file string){
		"a flipped bit": func(t *testing.T, file string) {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			data[1000] ^= 1
			require.NoError(t, os.WriteFile(file, data, 0o600))
		},
		"cut short": func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 100)) },
		"emptied":   func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 0)) },
		"gone":      func(t *testing.T, file string) { require.NoError(t, os.Remove(file)) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			dir := t.TempDir()
			v := open(t, dir)
			files := []vault.Source{source("a", random(3000))}
			c, err := v.Store(ctx, files, nil)
			require.NoError(t, err)
			packs, err := v.Packs(ctx)
			require.NoError(t, err)
			require.Len(t, packs, 1)
			assert.Equal(t, 2, packs[0].Entries)
			good, err := v.DropDamaged(ctx, packs[0].ID)
			require.NoError(t, err)
			assert.Empty(t, good)
			harm(t, packFiles(t, dir)[0])
			assert.ErrorIs(t, v.Verify(ctx, c), fault.Damaged.As())
			bad, err := v.DropDamaged(ctx, packs[0].ID)
			require.NoError(t, err)
			assert.NotEmpty(t, bad)
			touched, err := v.Touched(ctx, []string{c.ID})
			require.NoError(t, err)
			require.Len(t, touched, 1)
			_, err = v.Collect(ctx, nil, time.Now(), nil)
			require.NoError(t, err)
			again, err := v.Store(ctx, files, nil)
			require.NoError(t, err)
			assert.Equal(t, c.ID, again.ID)
			require.NoError(t, v.Verify(ctx, again))
		})
	}
}

func TestNothingIsLoadedThatIsNoCopy(t *testing.T) {
	t.Parallel()
	v := open(t, t.TempDir())
	for _, id := range []string{"../../etc/passwd", "", strings.Repeat("0", 64)} {
		_, err := v.Load(context.Background(), id)
		assert.ErrorIs(t, err, fault.NotFound.As())
	}
}

func TestAFailedStoreLeavesNoCopyAndItsPacksGo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	v := open(t, dir)
	broken := vault.Source{Path: "b", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(io.MultiReader(bytes.NewReader(random(40<<20)), failing{})), nil
	}}
	_, err := v.Store(context.Background(), []vault.Source{source("a", []byte("x")), broken}, nil)
	require.Error(t, err)
	assert.Len(t, packFiles(t, dir), 1, "the pack that was full stays as a stray, the open one is gone")
	_, err = v.Collect(context.Background(), nil, time.Now(), nil)
	require.NoError(t, err)
	assert.Empty(t, packFiles(t, dir))
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the cable is out") }

// The index holds nothing that the packs do not say, also where a pack has lost its end.
func TestRebuild(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	v := open(t, dir)
	var copies []vault.Copy
	for i := range 3 {
		c, err := v.Store(ctx, []vault.Source{source("a", random(70_000)), source("b", random(9_000+i))}, nil)
		require.NoError(t, err)
		copies = append(copies, c)
	}
	fresh := open(t, dir)
	for _, c := range copies {
		got, err := fresh.Load(context.Background(), c.ID)
		require.NoError(t, err)
		require.NoError(t, fresh.Verify(ctx, got))
	}
	for _, p := range packFiles(t, dir) {
		info, err := os.Stat(p)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(p, info.Size()-10))
	}
	cut := open(t, dir)
	for _, c := range copies {
		require.NoError(t, cut.Verify(ctx, c))
	}
}

// What no copy needs goes, what one needs stays, and a pack that is mostly waste is
// written anew.
func TestCollect(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	v := open(t, dir)
	keep, err := v.Store(ctx, []vault.Source{source("shared", random(500_000)), source("k", random(10_000))}, nil)
	require.NoError(t, err)
	gone, err := v.Store(ctx, []vault.Source{source("shared", random(500_000)), source("g", random(3_000_000))}, nil)
	require.NoError(t, err)
	mixed, err := v.Store(ctx, []vault.Source{source("m", random(700_001)), source("n", random(700_002))}, nil)
	require.NoError(t, err)
	half, err := v.Store(ctx, []vault.Source{source("n", random(700_002))}, nil)
	require.NoError(t, err)

	young, err := v.Collect(ctx, []string{keep.ID, half.ID}, time.Now().Add(-time.Hour), nil)
	require.NoError(t, err)
	assert.Zero(t, young, "what is young may belong to a copy that is still arriving")

	held := make(chan struct{})
	storing := make(chan error)
	go func() {
		_, err := v.Store(ctx, []vault.Source{{Path: "s", Open: func() (io.ReadCloser, error) {
			held <- struct{}{}
			<-held
			return io.NopCloser(bytes.NewReader(random(700_001))), nil
		}}}, nil)
		storing <- err
	}()
	<-held
	_, err = v.Collect(ctx, []string{keep.ID, half.ID}, time.Now(), nil)
	require.ErrorIs(t, err, fault.Busy.As(), "what a store has found must stay until it ends")
	held <- struct{}{}
	require.NoError(t, <-storing)

	before := stored(t, dir)
	got, err := v.Collect(ctx, []string{keep.ID, half.ID}, time.Now().Add(time.Second), nil)
	require.NoError(t, err)
	assert.Equal(t, 1, got.Rewritten)
	assert.Equal(t, before-got.Bytes, stored(t, dir))
	assert.Greater(t, got.Bytes, int64(3_500_000))
	require.NoError(t, v.Verify(ctx, keep))
	require.NoError(t, v.Verify(ctx, half))
	require.Error(t, v.Verify(ctx, gone))
	require.Error(t, v.Verify(ctx, mixed))
	after := open(t, dir)
	require.NoError(t, after.Verify(ctx, keep), "the packs alone say the same")
	require.NoError(t, after.Verify(ctx, half))

	_, err = v.Collect(ctx, []string{keep.ID, mixed.ID}, time.Now().Add(time.Second), nil)
	require.ErrorIs(t, err, fault.Damaged.As(), "a copy that does not read: nothing is removed")
	require.NoError(t, v.Verify(ctx, half))
}

// Who asks for a collection lists what is to be kept first; what is stored after that
// stays, even where it is made of what nothing needed until then.
func TestWhatIsStoredMeanwhileIsNotCollected(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	v := open(t, t.TempDir())
	garbage := []vault.Source{source("a", random(300_000)), source("b", random(5_000))}
	old, err := v.Store(ctx, garbage, nil)
	require.NoError(t, err)
	other, err := v.Store(ctx, []vault.Source{source("c", random(40_000))}, nil)
	require.NoError(t, err)
	before := time.Now()
	var keep []string // as it was listed
	again, err := v.Store(ctx, garbage, nil)
	require.NoError(t, err)
	require.Equal(t, old.ID, again.ID)
	part, err := v.Store(ctx, []vault.Source{
		{Path: "z", Known: old.Files[0].Chunks, Open: func() (io.ReadCloser, error) { return nil, errCut }},
	}, nil)
	require.NoError(t, err)
	got, err := v.Collect(ctx, keep, before, nil)
	require.NoError(t, err)
	assert.Positive(t, got.Entries)
	require.NoError(t, v.Verify(ctx, again))
	require.NoError(t, v.Verify(ctx, part))
	require.Error(t, v.Verify(ctx, other))
	_, err = v.Collect(ctx, keep, time.Now().Add(time.Second), nil)
	require.NoError(t, err)
	require.Error(t, v.Verify(ctx, again), "in time it is in keep, or nobody wants it")
}

// Many hands store, read and collect at once, from a small pool of contents, so that
// they share much; what was confirmed always reads.
func TestManyHandsAtOnce(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	v := open(t, dir)
	var mu sync.Mutex
	wanted := map[string]vault.Copy{}
	begun := map[int]time.Time{} // of what somebody is storing and has not noted
	listed := func() (ids []string, copies []vault.Copy) {
		mu.Lock()
		defer mu.Unlock()
		for id, c := range wanted {
			ids, copies = append(ids, id), append(copies, c)
		}
		return ids, copies
	}
	group, gctx := errgroup.WithContext(ctx)
	done := make(chan struct{})
	var hands sync.WaitGroup
	for hand := range 3 {
		hands.Add(1)
		group.Go(func() error {
			defer hands.Done()
			r := rand.New(rand.NewPCG(uint64(hand), 7)) //nolint:gosec // a test's
			for range 40 {
				var files []vault.Source
				for i := range 1 + r.IntN(4) {
					files = append(files, source(string(rune('a'+i)), random(20_000+1_000*r.IntN(12))))
				}
				mu.Lock()
				begun[hand] = time.Now()
				mu.Unlock()
				c, err := v.Store(gctx, files, nil)
				if err != nil {
					return err
				}
				time.Sleep(time.Duration(r.IntN(3)) * time.Millisecond) // until somebody notes it
				mu.Lock()
				wanted[c.ID] = c
				delete(begun, hand)
				for id := range wanted { // and another one is wanted no more
					if id != c.ID && len(wanted) > 10 {
						delete(wanted, id)
						break
					}
				}
				mu.Unlock()
			}
			return nil
		})
	}
	go func() { hands.Wait(); close(done) }()
	meanwhile := func(do func() error) {
		group.Go(func() error {
			for {
				select {
				case <-done:
					return nil
				case <-gctx.Done():
					return nil
				case <-time.After(time.Millisecond):
				}
				if err := do(); err != nil {
					return err
				}
			}
		})
	}
	collected := 0
	meanwhile(func() error {
		before := time.Now()
		mu.Lock()
		for _, at := range begun {
			if at.Before(before) {
				before = at
			}
		}
		mu.Unlock()
		keep, _ := listed()
		got, err := v.Collect(gctx, keep, before, nil)
		collected += got.Entries
		if errors.Is(err, fault.Busy.As()) {
			return nil
		}
		return err
	})
	meanwhile(func() error {
		_, copies := listed()
		for _, c := range copies {
			err := v.Verify(gctx, c)
			mu.Lock()
			_, still := wanted[c.ID]
			mu.Unlock()
			if err != nil && still && gctx.Err() == nil {
				return fmt.Errorf("copy %s: %w", c.ID, err)
			}
		}
		return nil
	})
	require.NoError(t, group.Wait())
	assert.Positive(t, collected)
	fresh := open(t, dir)
	_, copies := listed()
	for _, c := range copies {
		require.NoError(t, v.Verify(ctx, c))
		require.NoError(t, fresh.Verify(ctx, c), "from the packs alone")
	}
}

// cutIndex is an index that stops working after some calls, before or after what it is
// asked to do: as a crash there would leave things.
type cutIndex struct {
	vault.Index
	left int
}

var errCut = errors.New("cut off")

func (x *cutIndex) step(do func() error) error {
	x.left -= 2
	switch {
	case x.left < -1:
		return errCut // before it
	case x.left == -1:
		return errors.Join(do(), errCut) // after it
	}
	return do()
}

func (x *cutIndex) Add(ctx context.Context, packs []vault.Pack, made time.Time) error {
	return x.step(func() error { return x.Index.Add(ctx, packs, made) })
}

func (x *cutIndex) Forget(ctx context.Context, keep func(func(vault.Kind, vault.Name) error) error,
	before time.Time) (n int, b int64, err error) {
	err = x.step(func() error { n, b, err = x.Index.Forget(ctx, keep, before); return err })
	return n, b, err
}

func (x *cutIndex) Move(ctx context.Context, from []string, to []vault.Pack) error {
	return x.step(func() error { return x.Index.Move(ctx, from, to) })
}

func (x *cutIndex) Remove(ctx context.Context, pack string) error {
	return x.step(func() error { return x.Index.Remove(ctx, pack) })
}

// A collection that is cut off at any of its steps loses nothing, and the next one ends
// the work: a pack is removed, one is written anew, and small ones are joined.
func TestCollectCutOffAnywhere(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for cut := 1; ; cut++ {
		dir := t.TempDir()
		v, index := openWith(t, dir)
		var keep []string
		var copies []vault.Copy
		for i := range 12 {
			c, err := v.Store(ctx, []vault.Source{source("a", random(2_000+i)), source("b", random(900_000+1_000*i))},
				nil)
			require.NoError(t, err)
			if i%3 != 0 {
				keep, copies = append(keep, c.ID), append(copies, c)
			}
		}
		half, err := v.Store(ctx, []vault.Source{source("m", random(700_001)), source("n", random(700_002))}, nil)
		require.NoError(t, err)
		kept, err := v.Store(ctx, []vault.Source{
			{Path: "n", Known: half.Files[1].Chunks, Open: func() (io.ReadCloser, error) { return nil, errCut }},
		}, nil)
		require.NoError(t, err)
		keep, copies = append(keep, kept.ID), append(copies, kept)

		blobs, err := vault.Files(dir)
		require.NoError(t, err)
		dying, err := vault.Open(ctx, blobs, &cutIndex{index, cut})
		require.NoError(t, err)
		_, failed := dying.Collect(ctx, keep, time.Now().Add(time.Second), nil)
		next, err := vault.Open(ctx, blobs, index)
		require.NoError(t, err)
		for _, c := range copies {
			require.NoError(t, next.Verify(ctx, c), "cut at %d", cut)
		}
		_, err = next.Collect(ctx, keep, time.Now().Add(time.Second), nil)
		require.NoError(t, err)
		needed := int64(0)
		for _, c := range copies {
			needed += c.Bytes
		}
		assert.Less(t, stored(t, dir), needed+60_000, "cut at %d: nothing but what is needed is left", cut)
		fresh := open(t, dir)
		for _, c := range copies {
			require.NoError(t, fresh.Verify(ctx, c), "cut at %d", cut)
		}
		if failed == nil {
			assert.Greater(t, cut, 8, "it was cut off at every step before")
			return
		}
		require.ErrorIs(t, failed, errCut)
	}
}

// With an index that has been lost, everything looks like a stray: nothing goes.
func TestCollectAfterALossRemovesNothing(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	v, index := openWith(t, dir)
	c, err := v.Store(ctx, []vault.Source{source("a", random(40<<20))}, nil)
	require.NoError(t, err)
	require.NoError(t, index.Clear(ctx))
	got, err := v.Collect(ctx, nil, time.Now().Add(time.Hour), nil)
	require.NoError(t, err)
	assert.Equal(t, 2, got.Strays)
	_, err = v.Rebuild(ctx, nil)
	require.NoError(t, err)
	require.NoError(t, v.Verify(ctx, c))
}

// A file that is known and has not changed is not read again, and is in the copy as if
// it had been.
func TestAKnownFileIsNotReadAgain(t *testing.T) {
	t.Parallel()
	v := open(t, t.TempDir())
	ctx := context.Background()
	first, err := v.Store(ctx, []vault.Source{
		{Path: "a", Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("marrows")), nil }},
	}, nil)
	require.NoError(t, err)
	again, err := v.Store(ctx, []vault.Source{
		{
			Path:  "a",
			Known: first.Files[0].Chunks,
			Open:  func() (io.ReadCloser, error) { return nil, errors.New("it was read") },
		},
	}, nil)
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID)
	require.NoError(t, v.Verify(ctx, again))
}

// A copy reads as a tree like any other.
func TestTree(t *testing.T) {
	t.Parallel()
	v := open(t, t.TempDir())
	source := func(part, name, content string) vault.Source {
		return vault.Source{
			Part:     part,
			Path:     name,
			Modified: time.Unix(1e9, 0),
			Open:     func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil },
		}
	}
	c, err := v.Store(context.Background(), []vault.Source{
		source("", "heart", "beats"), source("", "ground/t.0.0.qt", strings.Repeat("g", 300_000)),
		source("", "ground/t.1.0.qt", "x"),
		source("caverns", "c.qt", "deep"), source("aurora", "a.qt", "out"), {Path: "folk/"},
	}, nil)
	require.NoError(t, err)
	tree := v.Tree(context.Background(), c, func(part, name string) string {
		switch part {
		case "":
			return name
		case "caverns":
			return "realms/caverns/" + name
		}
		return ""
	})
	require.NoError(t, fstest.TestFS(tree, "heart", "ground/t.0.0.qt", "ground/t.1.0.qt", "realms/caverns/c.qt",
		"folk"))
	_, err = fs.Stat(tree, "a.qt")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

// Chunks travel in a bundle, and only whole and true ones are taken.
func TestBundles(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	v := open(t, t.TempDir())
	content := map[string][]byte{"noise": random(9 << 20), "words": bytes.Repeat([]byte("marrow "), 1<<20)}
	bundle, err := vault.NewBundle()
	require.NoError(t, err)
	chunks := map[string][]vault.Chunk{}
	for name, data := range content {
		require.NoError(t, vault.Cut(bytes.NewReader(data), vault.CutBuffer(), func(c vault.Chunk, part []byte) error {
			chunks[name] = append(chunks[name], c)
			return bundle.Add(c, part)
		}))
	}
	packed := bytes.Clone(bundle.Bytes())
	known := func() []vault.Source {
		return []vault.Source{
			{
				Path:  "noise",
				Known: chunks["noise"],
				Open:  func() (io.ReadCloser, error) { return nil, errors.New("it was read") },
			},
		}
	}
	_, err = v.Store(ctx, known(), nil)
	require.ErrorIs(t, err, fault.Changed.As(), "nobody has sent them")

	for name, harmed := range map[string][]byte{
		"cut short": packed[:len(packed)-1], "nothing": {}, "no pack": []byte(strings.Repeat("x", 200)),
		"a flipped bit": flipped(packed, 5000), "another name": flipped(packed, 16+20),
		"a length that lies": flipped(packed, 16+7), "an end that lies": flipped(packed, len(packed)-20),
	} {
		_, err := v.Take(ctx, bytes.NewReader(harmed), int64(len(harmed)))
		assert.ErrorIs(t, err, fault.BadArchive.As(), name)
	}
	lacking, err := v.Lacking(ctx, []string{chunks["noise"][0].Hash})
	require.NoError(t, err)
	assert.Len(t, lacking, 1, "of a bundle with something wrong nothing is known")

	n, err := v.Take(ctx, bytes.NewReader(packed), int64(len(packed)))
	require.NoError(t, err)
	assert.Equal(t, len(chunks["noise"])+len(chunks["words"]), n)
	c, err := v.Store(ctx, known(), nil)
	require.NoError(t, err)
	require.NoError(t, v.Verify(ctx, c))
	local, err := v.Store(ctx, []vault.Source{source("noise", content["noise"])}, nil)
	require.NoError(t, err)
	assert.Equal(t, c.ID, local.ID)
}

func flipped(data []byte, at int) []byte {
	out := bytes.Clone(data)
	out[at] ^= 1
	return out
}
