// Package hostfstest is the suite that every driver of package hostfs has to pass.
package hostfstest

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/blake2b"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
)

// Harness is a driver under test.
type Harness struct {
	// Open gives a driver over an empty tree of its own.
	Open func(t *testing.T) hostfs.Driver
	// Can is what the driver must say that it can do.
	Can capability.Set
	// Untold are odd names that cannot be told to the host: they are Invalid.
	Untold []string
	// Pipe makes a named pipe in the tree; nil where there are none.
	Pipe func(t *testing.T, d hostfs.Driver, name string)
	// Away makes the host go away, and come back when back is called; nil where a
	// driver has no host that could.
	Away func(t *testing.T, d hostfs.Driver) (back func())
}

type suite struct {
	Harness
	*testing.T
	driver hostfs.Driver
	place  *hostfs.FS
	ctx    context.Context
}

// Run runs the whole suite.
func Run(t *testing.T, h Harness) {
	for name, check := range map[string]func(s *suite){
		"what it can do is declared":                (*suite).capabilities,
		"the read side is a file system":            (*suite).readSide,
		"an observation":                            (*suite).observed,
		"what is not there is not found":            (*suite).missing,
		"absence is shown by a whole list":          (*suite).absence,
		"names outside are refused":                 (*suite).outside,
		"odd names":                                 (*suite).oddNames,
		"replace is whole and leaves nothing":       (*suite).replace,
		"a prepared file is committed or forgotten": (*suite).prepared,
		"a replace that was cut is mended":          (*suite).mended,
		"writing goes on":                           (*suite).appended,
		"a replaced file keeps its modes":           (*suite).keepsModes,
		"move refuses a name that is taken":         (*suite).moveTaken,
		"one winner among many movers":              (*suite).manyMovers,
		"one winner of one name":                    (*suite).oneName,
		"a file that is read while it is replaced":  (*suite).readWhileReplaced,
		"reading from the midst of a file":          (*suite).midst,
		"what is done over there":                   (*suite).overThere,
		"what is copied over there":                 (*suite).copied,
		"a large file":                              (*suite).large,
		"a full folder is not removed":              (*suite).fullFolder,
		"discard keeps to staging folders":          (*suite).discard,
		"times":                                     (*suite).times,
		"changes are told":                          (*suite).events,
		"sync":                                      (*suite).sync,
		"an ended context ends a call":              (*suite).cancelled,
		"a pipe is not waited for":                  (*suite).pipe,
		"a host that goes away and comes back":      (*suite).away,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := h.Open(t)
			check(&suite{Harness: h, T: t, driver: d, place: hostfs.New("host", d), ctx: context.Background()})
		})
	}
}

func (s *suite) write(name, text string) {
	s.Helper()
	require.NoError(s, s.place.MkdirAll(s.ctx, dirOf(name), hostfs.Attributes{}))
	_, err := s.place.Write(s.ctx, name, strings.NewReader(text), hostfs.Attributes{})
	require.NoError(s, err)
}

func dirOf(name string) string {
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		return name[:i]
	}
	return "."
}

func (s *suite) text(name string) string {
	s.Helper()
	data, err := s.place.ReadFile(s.ctx, name, 1<<20)
	require.NoError(s, err)
	return string(data)
}

func (s *suite) names(dir string) []string {
	s.Helper()
	entries, err := s.place.List(s.ctx, dir)
	require.NoError(s, err)
	out := []string{}
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func (s *suite) capabilities() {
	got, err := s.place.Capabilities(s.ctx)
	require.NoError(s, err)
	assert.Equal(s, s.Can, got)
	assert.Positive(s, got.TimePrecision)
	assert.Positive(s, got.Pace, "how often it may be asked is part of the contract")
	_, spacer := s.driver.(hostfs.Spacer)
	assert.True(s, !got.FreeSpace || spacer, "free space is said to be known, and there is no way to ask")
	if got.FreeSpace {
		assert.Positive(s, s.place.Free(s.ctx, "."))
		assert.True(s, s.place.SameFilesystem(s.ctx, ".", "not/yet/there"))
	}
}

// events looks whether a host that says so tells of every kind of change in a folder, and of
// none once nobody wants to know any more.
func (s *suite) events() {
	heard := make(chan struct{}, 1)
	told := func() {
		select {
		case heard <- struct{}{}:
		default:
		}
	}
	s.write("w/old", "x")
	s.write("deep/in/it", "x")
	cancel, err := s.place.Watch(s.ctx, []string{".", "w", "not-there-yet"}, told)
	if !s.Can.Events {
		require.ErrorIs(s, err, fault.Unsupported.As())
		return
	}
	require.NoError(s, err)
	for _, change := range []struct {
		what string
		do   func()
	}{
		{"a file is made", func() { s.write("w/new", "x") }},
		{"a file is written", func() { s.write("w/new", "xyz") }},
		{"a file is replaced", func() { require.NoError(s, s.place.Replace(s.ctx, "w/old", []byte("y"))) }},
		{"a file is renamed", func() { require.NoError(s, s.place.Move(s.ctx, "w/new", "w/newer")) }},
		{"a file is removed", func() { require.NoError(s, s.driver.Remove(s.ctx, "w/newer")) }},
		{"a folder is made", func() { s.write("top/x", "x") }},
		{"a folder is renamed", func() { require.NoError(s, s.place.Move(s.ctx, "w", "v")) }},
	} {
		for len(heard) > 0 {
			<-heard
		}
		change.do()
		select {
		case <-heard:
		case <-time.After(10 * time.Second):
			assert.Fail(s, "nothing was told", change.what)
		}
		time.Sleep(20 * time.Millisecond) // what belongs to this change has come
	}
	cancel()
	cancel()
	for len(heard) > 0 {
		<-heard
	}
	s.write("another", "x")
	time.Sleep(50 * time.Millisecond)
	assert.Empty(s, heard, "nobody wants to know any more")
	_, err = s.place.Watch(s.ctx, []string{"../out"}, told)
	assert.Error(s, err)
}

func (s *suite) readSide() {
	s.write("a/b/c.txt", "hello")
	s.write("a/empty", "")
	require.NoError(s, fstest.TestFS(s.place.At(s.ctx), "a/b/c.txt", "a/empty"))
	info, err := fs.Stat(s.place.At(s.ctx), "a/b/c.txt")
	require.NoError(s, err)
	own, err := hostfs.InfoOf(info)
	require.NoError(s, err)
	assert.EqualValues(s, 5, own.Bytes)
	entries, err := fs.ReadDir(s.place.At(s.ctx), "a")
	require.NoError(s, err)
	for _, e := range entries {
		info, err := e.Info()
		require.NoError(s, err)
		_, err = hostfs.InfoOf(info)
		assert.NoError(s, err, "entries tell as much as a look does")
	}
}

// observed: what one observation sees is the same file system, and what it concludes is settled.
func (s *suite) observed() {
	s.write("a/b/c.txt", "hello")
	s.write("a/empty", "")
	for range 2 { // the second knows what the first has asked for
		files, settled := s.place.Observe(s.ctx)
		require.NoError(s, fstest.TestFS(files, "a/b/c.txt", "a/empty"))
		for _, name := range []string{"nope", "a/nope", "nope/nope", "a/b/c.txt/below"} {
			_, err := fs.Stat(files, name)
			assert.ErrorIs(s, err, fs.ErrNotExist, name)
			_, err = fs.ReadFile(files, name)
			assert.ErrorIs(s, err, fs.ErrNotExist, name)
			_, err = fs.ReadDir(files, name)
			assert.ErrorIs(s, err, fs.ErrNotExist, name)
		}
		assert.NoError(s, settled(nil))
	}
	s.write("a/new", "x")
	files, _ := s.place.Observe(s.ctx)
	_, err := fs.Stat(files, "a/new")
	assert.NoError(s, err, "another observation sees what has changed")
}

func (s *suite) missing() {
	s.write("a/file", "x")
	for _, name := range []string{"nope", "nope/nope", "a/nope", "a/file/below"} {
		_, err := s.place.Stat(s.ctx, name)
		assert.ErrorIs(s, err, fs.ErrNotExist, name)
		assert.ErrorIs(s, err, fault.NotFound.As(), name)
		assert.ErrorContains(s, err, "host/"+name)
		_, err = s.place.ReadFile(s.ctx, name, 10)
		assert.ErrorIs(s, err, fs.ErrNotExist, name)
		assert.ErrorIs(s, s.place.Move(s.ctx, name, "b"), fs.ErrNotExist, name)
	}
	_, err := s.place.List(s.ctx, "nope")
	assert.ErrorIs(s, err, fs.ErrNotExist, "a folder that is missing is no empty one")
	_, err = s.place.List(s.ctx, "a/file")
	assert.Error(s, err, "a file is no folder")
	assert.ErrorIs(s, s.place.Move(s.ctx, "a", "nope/a"), fs.ErrNotExist, "no folder to move it to")
}

func (s *suite) absence() {
	s.write("a/file", "x")
	for name, want := range map[string]bool{
		".":            true,
		"a":            true,
		"a/file":       true,
		"b":            false,
		"a/b":          false,
		"b/c/d":        false,
		"a/file/below": false,
		"a/file/b/c":   false,
	} {
		there, err := s.place.Exists(s.ctx, name)
		require.NoError(s, err, name)
		assert.Equal(s, want, there, name)
	}
}

func (s *suite) outside() {
	for _, name := range []string{"../x", "/x", "a/../../x", "", "a//b", "a/\x00b"} {
		_, err := s.place.Write(s.ctx, name, strings.NewReader(""), hostfs.Attributes{})
		assert.ErrorIs(s, err, fault.Invalid.As(), name)
		assert.ErrorIs(s, s.place.Move(s.ctx, name, "b"), fault.Invalid.As(), name)
		assert.ErrorIs(s, s.place.Replace(s.ctx, name, nil), fault.Invalid.As(), name)
		_, err = s.place.At(s.ctx).Open(name)
		assert.Error(s, err, name)
	}
}

func (s *suite) oddNames() {
	long := strings.Repeat("n", 255)
	names := []string{"-rf", " leading", "trailing ", "new\nline", "back\\slash", "star*", "ünï", "u\u0308n\u0131",
		"quote'\"", "colon:", long, "..."}
	names = slices.DeleteFunc(names, func(name string) bool { return slices.Contains(s.Untold, name) })
	for _, name := range s.Untold {
		_, err := s.place.Write(s.ctx, name, strings.NewReader("x"), hostfs.Attributes{})
		assert.ErrorIs(s, err, fault.Invalid.As(), name)
		assert.ErrorIs(s, s.driver.Mkdir(s.ctx, name), fault.Invalid.As(), name)
	}
	for _, name := range names {
		require.NoError(s, s.place.Replace(s.ctx, name, []byte(name)), name)
		require.NoError(s, s.place.Replace(s.ctx, name, []byte(name+" again")), name)
		assert.Equal(s, name+" again", s.text(name))
		require.NoError(s, s.place.Move(s.ctx, name, "moved"), name)
		require.NoError(s, s.place.Move(s.ctx, "moved", name), name)
	}
	slices.Sort(names)
	assert.Equal(s, names, s.names("."), "all of them are listed, and nothing else")
	_, err := s.place.Write(s.ctx, long+"n", strings.NewReader(""), hostfs.Attributes{})
	assert.ErrorIs(s, err, fault.Invalid.As(), "longer than the host allows")
}

func (s *suite) replace() {
	require.NoError(s, s.place.Replace(s.ctx, "conf", []byte("one")))
	require.NoError(s, s.place.Replace(s.ctx, "conf", []byte("two")))
	assert.Equal(s, "two", s.text("conf"))
	assert.Equal(s, []string{"conf"}, s.names("."))
	require.NoError(s, s.place.MkdirAll(s.ctx, "folder", hostfs.Attributes{}))
	assert.Error(s, s.place.Replace(s.ctx, "folder", []byte("x")), "a folder is not replaced by a file")
	assert.Equal(s, []string{"conf", "folder"}, s.names("."), "what it began is gone")
}

func (s *suite) prepared() {
	s.write("conf", "old")
	require.NoError(s, s.place.Prepare(s.ctx, "conf", []byte("first try")))
	require.NoError(s, s.place.Prepare(s.ctx, "conf", []byte("new")))
	assert.Equal(s, "old", s.text("conf"))
	require.NoError(s, s.place.Commit(s.ctx, "conf", []byte("new")))
	assert.Equal(s, "new", s.text("conf"))
	assert.ErrorIs(s, s.place.Commit(s.ctx, "conf", []byte("new")), fs.ErrNotExist, "it has been done")
	require.NoError(s, s.place.Prepare(s.ctx, "conf", []byte("never")))
	require.NoError(s, s.place.Forget(s.ctx, "conf"))
	require.NoError(s, s.place.Forget(s.ctx, "conf"), "twice is fine")
	assert.Equal(s, []string{"conf"}, s.names("."))
}

// mended: a crash between the two renames of a replace leaves the file as it was.
func (s *suite) mended() {
	s.write("conf", "old")
	require.NoError(s, s.place.Mend(s.ctx, "conf"), "there is nothing to mend")
	assert.Equal(s, "old", s.text("conf"))
	require.NoError(s, s.place.Mend(s.ctx, "not-there"))
	if s.Can.AtomicReplace {
		return
	}
	require.NoError(s, s.place.Replace(s.ctx, "conf", []byte("new")))
	names := s.names(".")
	assert.Equal(s, []string{"conf"}, names)
	// The name that the file has in between is found by watching a replace that is cut there.
	cut := &cutting{Driver: s.driver, after: 1}
	place := hostfs.New("host", cut)
	require.NoError(s, place.Prepare(s.ctx, "conf", []byte("newer")))
	require.Error(s, place.Commit(s.ctx, "conf", []byte("newer")))
	there, err := s.place.Exists(s.ctx, "conf")
	require.NoError(s, err)
	require.False(s, there, "this is the moment in which it is not there")
	require.NoError(s, s.place.Mend(s.ctx, "conf"))
	assert.Equal(s, "new", s.text("conf"))
	require.NoError(s, s.place.Forget(s.ctx, "conf"))
	assert.Equal(s, []string{"conf"}, s.names("."), "nothing is left")
}

// cutting is a host that has gone after so many renames.
type cutting struct {
	hostfs.Driver
	after, renames int
}

func (c *cutting) Rename(ctx context.Context, from, to string, replace bool) error {
	if c.renames++; c.renames > c.after {
		return fault.New(fault.Unreachable, "", "", "it has gone")
	}
	return c.Driver.Rename(ctx, from, to, replace)
}

// appended: a file whose writing was cut is gone on with.
func (s *suite) appended() {
	s.write("big", "0123456789 and what is wrong")
	n, err := s.place.Append(s.ctx, "big", 10, strings.NewReader("abcdefghijklmnopqrstuvwxyz"), hostfs.Attributes{})
	if _, can := s.driver.(hostfs.Appender); !can {
		require.ErrorIs(s, err, fault.Unsupported.As())
		return
	}
	require.NoError(s, err)
	assert.EqualValues(s, 26, n)
	assert.Equal(s, "0123456789abcdefghijklmnopqrstuvwxyz", s.text("big"))
}

func (s *suite) keepsModes() {
	if !s.Can.Modes {
		return
	}
	for _, mode := range []fs.FileMode{0o400, 0o444, 0o600, 0o664} {
		name := fmt.Sprintf("settings-%o", mode)
		_, err := s.place.Write(s.ctx, name, strings.NewReader("a"), hostfs.Attributes{Mode: mode})
		require.NoError(s, err)
		for _, text := range []string{"b", "c"} {
			require.NoError(s, s.place.Replace(s.ctx, name, []byte(text)))
			info, err := s.place.Stat(s.ctx, name)
			require.NoError(s, err)
			assert.Equal(s, mode, info.Modes.Perm())
			assert.Equal(s, text, s.text(name))
		}
		require.NoError(s, s.place.Prepare(s.ctx, name, []byte("left by a crash")))
		require.NoError(s, s.place.Replace(s.ctx, name, []byte("d")))
	}
	require.NoError(s, s.place.MkdirAll(s.ctx, "x/y", hostfs.Attributes{Mode: 0o750}))
	for _, dir := range []string{"x", "x/y"} {
		info, err := s.place.Stat(s.ctx, dir)
		require.NoError(s, err)
		assert.Equal(s, fs.FileMode(0o750), info.Modes.Perm(), dir)
	}
}

func (s *suite) moveTaken() {
	s.write("a/inside", "a")
	s.write("b/inside", "b")
	require.NoError(s, s.place.MkdirAll(s.ctx, "empty", hostfs.Attributes{}))
	s.write("file", "file")
	s.write("other", "other")
	for _, pair := range [][2]string{
		{"a", "b"},
		{"a", "empty"},
		{"a", "file"},
		{"file", "other"},
		{"file", "a"},
		{"file", "empty"},
	} {
		err := s.place.Move(s.ctx, pair[0], pair[1])
		assert.ErrorIs(s, err, fault.Exists.As(), "%v", pair)
	}
	assert.Equal(s, "other", s.text("other"))
	assert.Equal(s, "b", s.text("b/inside"))
	require.NoError(s, s.place.Move(s.ctx, "a", "c"))
	assert.Equal(s, "a", s.text("c/inside"))
	assert.ErrorIs(s, s.place.Move(s.ctx, "a", "d"), fault.NotFound.As())
	assert.Error(s, s.place.Move(s.ctx, "c", "c/below"), "a folder into itself")
	assert.Equal(s, "a", s.text("c/inside"))
}

// manyMovers move one folder to many names.
func (s *suite) manyMovers() {
	s.write("prize/inside", "x")
	wins := s.race(func(i int) error { return s.place.Move(s.ctx, "prize", fmt.Sprintf("won-%d", i)) })
	assert.Len(s, wins, 1)
	assert.Len(s, s.names("."), 1)
}

// oneName is what many files are moved to.
func (s *suite) oneName() {
	for i := range 16 {
		s.write(fmt.Sprintf("from/%d", i), fmt.Sprint(i))
	}
	wins := s.race(func(i int) error { return s.place.Move(s.ctx, fmt.Sprintf("from/%d", i), "prize") })
	if !s.Can.Exclusive {
		return
	}
	require.Len(s, wins, 1)
	assert.Equal(s, fmt.Sprint(wins[0]), s.text("prize"))
	assert.Len(s, s.names("from"), 15, "the others are where they were")
}

func (s *suite) race(act func(i int) error) (wins []int) {
	var wg sync.WaitGroup
	var mu sync.Mutex
	for i := range 16 {
		wg.Go(func() {
			if err := act(i); err == nil {
				mu.Lock()
				wins = append(wins, i)
				mu.Unlock()
			} else {
				assert.True(s, errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist), "%v", err)
			}
		})
	}
	wg.Wait()
	return wins
}

func (s *suite) readWhileReplaced() {
	if !s.Can.AtomicReplace {
		return
	}
	one, two := bytes.Repeat([]byte("1"), 9000), bytes.Repeat([]byte("2"), 9000)
	require.NoError(s, s.place.Replace(s.ctx, "conf", one))
	f, err := s.place.At(s.ctx).Open("conf")
	require.NoError(s, err)
	head := make([]byte, 100)
	_, err = io.ReadFull(f, head)
	require.NoError(s, err)
	require.NoError(s, s.place.Replace(s.ctx, "conf", two))
	rest, err := io.ReadAll(f)
	require.NoError(s, err)
	require.NoError(s, f.Close())
	assert.Equal(s, one, append(head, rest...), "an open file is the old one to its end")
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for range 50 {
				data, err := s.place.ReadFile(s.ctx, "conf", 1<<20)
				if assert.NoError(s, err) {
					assert.True(s, bytes.Equal(data, one) || bytes.Equal(data, two), "never a mixture")
				}
			}
		})
	}
	for i := range 20 {
		assert.NoError(s, s.place.Replace(s.ctx, "conf", [][]byte{one, two}[i%2]))
	}
	wg.Wait()
}

// midst: samples of files are read from any place in them, and in any order.
func (s *suite) midst() {
	text := strings.Repeat("0123456789", 1000)
	s.write("f", text)
	f, err := s.place.At(s.ctx).Open("f")
	require.NoError(s, err)
	defer func() { assert.NoError(s, f.Close()) }()
	at, ok := f.(io.ReaderAt)
	require.True(s, ok, "the proof compares pieces of files")
	for _, from := range []int64{9990, 3, 5000, 0} {
		buf := make([]byte, 10)
		_, err := at.ReadAt(buf, from)
		require.NoError(s, err, from)
		assert.Equal(s, text[from:from+10], string(buf))
	}
	n, err := at.ReadAt(make([]byte, 10), 9995)
	assert.ErrorIs(s, err, io.EOF)
	assert.Equal(s, 5, n)
	_, err = at.ReadAt(make([]byte, 10), 20000)
	assert.ErrorIs(s, err, io.EOF)
}

// large: a file of several blocks is read as it was written, from its beginning and in parts.
func (s *suite) large() {
	data := make([]byte, 3<<20+12345)
	for i := range data {
		data[i] = byte(i>>12) ^ byte(i)
	}
	_, err := s.place.Write(s.ctx, "large", bytes.NewReader(data), hostfs.Attributes{})
	require.NoError(s, err)
	back, err := s.place.ReadFile(s.ctx, "large", 1<<30)
	require.NoError(s, err)
	assert.True(s, bytes.Equal(data, back))
	f, err := s.place.At(s.ctx).Open("large")
	require.NoError(s, err)
	head := make([]byte, 1<<20+1)
	_, err = io.ReadFull(f, head)
	require.NoError(s, err)
	assert.True(s, bytes.Equal(data[:len(head)], head))
	require.NoError(s, f.Close(), "and nobody reads the rest")
}

// there: what a host says that it can do by itself, it does as it is done from here.
func (s *suite) overThere() {
	odd := "new\nline 'and\" \\ more"
	if len(s.Untold) > 0 {
		odd = "'and\" \\ more"
	}
	s.write("a/one", "1")
	s.write("a/"+odd, "odd")
	got, err := s.place.Hash(s.ctx, []string{"a/one", "a/nope", "a/" + odd}, 10)
	if s.Can.Hash {
		require.NoError(s, err)
		one, two := blake2b.Sum256([]byte("1")), blake2b.Sum256([]byte("odd"))
		assert.Equal(s, map[string][]byte{"a/one": one[:], "a/" + odd: two[:]}, got)
	} else {
		assert.ErrorIs(s, err, fault.Unsupported.As())
	}
	when := time.Date(2024, 5, 1, 12, 0, 0, 0, time.UTC)
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, name := range []string{"a/two", "a/" + strings.Repeat("n", 200), "a/-x", "a/\xff\xfe", "a/one"} {
		require.NoError(s, w.WriteHeader(&tar.Header{
			Name: name, Size: 3, Mode: 0o640, ModTime: when, Format: tar.FormatGNU,
		}))
		_, err := w.Write([]byte("new"))
		require.NoError(s, err)
	}
	require.NoError(s, w.Close())
	cut := bytes.NewReader(archive.Bytes()[:700])
	sums, err := s.place.Unpack(s.ctx, &archive, "a", 15)
	if !s.Can.Unpack {
		assert.ErrorIs(s, err, fault.Unsupported.As())
		return
	}
	require.NoError(s, err)
	sum := blake2b.Sum256([]byte("new"))
	assert.Len(s, sums, 6)
	assert.Equal(s, sum[:], sums["a/"+filename.Encode("\xff\xfe")])
	assert.Equal(s, []string{"-x", odd, strings.Repeat("n", 200), "one", "two", filename.Encode("\xff\xfe")},
		s.names("a"))
	assert.Equal(s, "new", s.text("a/one"))
	info, err := s.place.Stat(s.ctx, "a/two")
	require.NoError(s, err)
	assert.Equal(s, when, info.Modified.UTC())
	assert.Equal(s, fs.FileMode(0o640), info.Modes.Perm())
	_, err = s.place.Unpack(s.ctx, cut, "a", 15)
	assert.Error(s, err, "half an archive")
}

// copied: what is copied over there is a file of its own, and what is no file is left out.
func (s *suite) copied() {
	large := strings.Repeat("0123456789", 90_000)
	s.write("from/one", large)
	s.write("from/none", "")
	require.NoError(s, s.place.MkdirAll(s.ctx, "to", hostfs.Attributes{}))
	s.write("to/one", "what is written over, and is longer than nothing")
	when := time.Date(2024, 5, 1, 12, 0, 0, 0, time.UTC)
	like := hostfs.Attributes{Modified: when, Mode: 0o640}
	var files []hostfs.Copying
	for _, name := range []string{"one", "nope", "none", "."} {
		files = append(files, hostfs.Copying{
			From:       path.Join("from", name),
			To:         path.Join("to", name),
			Attributes: like,
		})
	}
	files[3].To = "to/folder"
	var mu sync.Mutex
	whole := map[int]bool{}
	err := s.place.CopyThere(s.ctx, files, func(i int, w bool) {
		mu.Lock()
		defer mu.Unlock()
		whole[i] = w
	})
	if !s.Can.Copy {
		assert.ErrorIs(s, err, fault.Unsupported.As())
		return
	}
	require.NoError(s, err)
	assert.Equal(s, map[int]bool{0: true, 2: true}, whole)
	assert.Equal(s, large, s.text("to/one"))
	assert.Empty(s, s.text("to/none"))
	info, err := s.place.Stat(s.ctx, "to/one")
	require.NoError(s, err)
	assert.Equal(s, when, info.Modified.UTC())
	if s.Can.Modes {
		assert.Equal(s, fs.FileMode(0o640), info.Modes.Perm())
	}
	s.write("to/one", "another")
	assert.Equal(s, large, s.text("from/one"), "nothing is linked")
	assert.Error(s, s.place.CopyThere(s.ctx, []hostfs.Copying{{From: "../x", To: "to/x"}}, func(int, bool) {}))
}

func (s *suite) fullFolder() {
	s.write("full/file", "x")
	err := s.driver.Remove(s.ctx, "full")
	assert.ErrorIs(s, err, fault.NotEmpty.As())
	assert.Equal(s, "x", s.text("full/file"))
	assert.ErrorIs(s, s.driver.Mkdir(s.ctx, "full"), fs.ErrExist)
	_, err = s.driver.Create(s.ctx, "full")
	assert.Error(s, err)
	assert.Error(s, s.driver.Mkdir(s.ctx, "no/parent"))
}

func (s *suite) discard() {
	for _, dir := range []string{"worlds/live", ".reshard/4/staged/x/y", ".reshard/4/aside/x"} {
		require.NoError(s, s.place.MkdirAll(s.ctx, dir, hostfs.Attributes{}))
	}
	s.write(".reshard/4/staged/x/file", "x")
	for _, name := range []string{"worlds/live", ".reshard", ".reshard/4", ".reshard/4/aside/x", "staged"} {
		assert.Error(s, s.place.Discard(s.ctx, name), name)
	}
	require.NoError(s, s.place.Discard(s.ctx, ".reshard/4/staged"))
	assert.Equal(s, []string{"aside"}, s.names(".reshard/4"))
	assert.NoError(s, s.place.Discard(s.ctx, ".reshard/4/staged"), "twice is fine")
	// A working folder goes only once it has been renamed so.
	require.NoError(s, s.place.Move(s.ctx, ".reshard/4", ".reshard/going-4"))
	require.NoError(s, s.place.Discard(s.ctx, ".reshard/going-4"))
	assert.Empty(s, s.names(".reshard"))
	require.NoError(s, s.place.MkdirAll(s.ctx, "going-5/x", hostfs.Attributes{}))
	assert.Error(s, s.place.Discard(s.ctx, "going-5"), "not in the working folder")
}

func (s *suite) times() {
	when := time.Date(2024, 5, 1, 12, 0, 0, 123456789, time.UTC)
	_, err := s.place.Write(s.ctx, "f", strings.NewReader("x"), hostfs.Attributes{Modified: when})
	require.NoError(s, err)
	info, err := s.place.Stat(s.ctx, "f")
	require.NoError(s, err)
	if s.Can.TimePrecision < capability.NoTimes { // else they tell nothing
		assert.WithinDuration(s, when, info.Modified, s.Can.TimePrecision)
	}
	before := time.Now()
	s.write("g", "x")
	info, err = s.place.Stat(s.ctx, "g")
	require.NoError(s, err)
	assert.WithinDuration(s, before, info.Modified, s.Can.TimePrecision+2*time.Second)
}

func (s *suite) sync() {
	s.write("a/f", "x")
	assert.NoError(s, s.driver.Sync(s.ctx, "a/f", "a", "."))
	assert.NoError(s, s.place.SyncAll(s.ctx))
}

func (s *suite) cancelled() {
	s.write("a/f", "x")
	ctx, cancel := context.WithCancelCause(s.ctx)
	f, err := s.place.At(ctx).Open("a/f")
	require.NoError(s, err)
	cancel(fault.New(fault.Interrupted, "", "", "a person said so"))
	_, err = f.Read(make([]byte, 1))
	assert.ErrorIs(s, err, fault.Interrupted.As())
	assert.NoError(s, f.Close())
	_, err = s.place.Stat(ctx, "a/f")
	assert.ErrorContains(s, err, "a person said so", "why it ended is told")
	assert.ErrorIs(s, s.place.Move(ctx, "a", "b"), fault.Interrupted.As())
	assert.ErrorIs(s, s.place.Replace(ctx, "a/f", nil), fault.Interrupted.As())
	late, done := context.WithTimeout(s.ctx, -time.Second)
	defer done()
	assert.ErrorIs(s, s.place.Move(late, "a", "b"), fault.TooSlow.As(), "a limit of time is not a cancellation")
	assert.Equal(s, "x", s.text("a/f"), "nothing was done")
	assert.Equal(s, []string{"f"}, s.names("a"), "nothing is left")
}

func (s *suite) pipe() {
	if s.Pipe == nil {
		return
	}
	s.Pipe(s.T, s.driver, "pipe")
	done := make(chan error, 1)
	go func() {
		_, err := s.place.ReadFile(s.ctx, "pipe", 10)
		done <- err
	}()
	select {
	case err := <-done:
		assert.ErrorIs(s, err, fault.Invalid.As())
	case <-time.After(5 * time.Second):
		assert.Fail(s, "it waits for the pipe")
	}
}

func (s *suite) away() {
	if s.Away == nil {
		return
	}
	s.write("a/f", "x")
	back := s.Away(s.T, s.driver)
	_, err := s.place.Stat(s.ctx, "a/f")
	assert.True(s, fault.Passing(err), "%v", err)
	_, err = s.place.Exists(s.ctx, "nope")
	assert.True(s, fault.Passing(err), "a host that does not answer shows nothing: %v", err)
	assert.True(s, fault.Passing(s.place.Move(s.ctx, "a", "b")))
	assert.True(s, fault.Passing(s.place.Replace(s.ctx, "a/f", []byte("y"))))
	back()
	there, err := s.place.Exists(s.ctx, "a")
	require.NoError(s, err)
	moved, err := s.place.Exists(s.ctx, "b")
	require.NoError(s, err)
	assert.NotEqual(s, there, moved, "one or the other")
	// In the midst of writing.
	r := &leaving{text: strings.NewReader(strings.Repeat("x", 1<<20)), leave: func() { back = s.Away(s.T, s.driver) }}
	_, err = s.place.Write(s.ctx, "big", r, hostfs.Attributes{})
	assert.True(s, fault.Passing(err), "%v", err)
	back()
	s.write("big", "whole")
	assert.Equal(s, "whole", s.text("big"))
}

// leaving has the host go away half-way.
type leaving struct {
	text  io.Reader
	leave func()
	reads int
}

func (l *leaving) Read(p []byte) (int, error) {
	if l.reads++; l.reads == 3 {
		l.leave()
	}
	return l.text.Read(p)
}
