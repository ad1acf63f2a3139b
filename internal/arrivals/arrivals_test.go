package arrivals

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"reshard/internal/archive"
	"reshard/internal/catalogue"
	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/feed"
	"reshard/internal/library"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// hall is a library that keeps the names of what came, and refuses when it is told to.
type hall struct {
	kept  []library.Incoming
	names [][]string
	fails error
	// during is called while it keeps something.
	during func()
}

func (h *hall) Keep(_ context.Context, in library.Incoming, tree fs.FS, allRead func(),
	_ func(world.Entry) []vault.Chunk) (wire.Arrival, error) {
	var names []string
	err := fs.WalkDir(tree, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, name)
		}
		return err
	})
	if allRead != nil {
		allRead()
	}
	if h.during != nil {
		h.during()
	}
	if err != nil || h.fails != nil {
		return wire.Arrival{}, h.fails
	}
	h.kept, h.names = append(h.kept, in), append(h.names, names)
	return wire.Arrival{New: true}, nil
}

var noon = time.Date(2026, 11, 14, 12, 0, 0, 0, time.UTC)

func arriving(t *testing.T, limits archive.Limits) (*Arrivals, *hall) {
	t.Helper()
	h, quiet := &hall{}, slog.New(slog.NewTextHandler(io.Discard, nil))
	arr := New(Config{
		Library: h, Games: catalogue.New(nil, nil, quiet), Log: quiet, Folder: t.TempDir(), Limits: limits,
		Feed: &feed.Feed{},
		Age:  func(_ context.Context, _ string, since time.Time) (time.Duration, error) { return noon.Sub(since), nil },
	})
	arr.now = func() time.Time { return noon }
	return arr, h
}

func zipped(t *testing.T, names ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range names {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(name))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// upload leaves one in the folder as the tus handler does, of which all but missing
// bytes have come.
func uploaded(t *testing.T, arr *Arrivals, id string, content []byte, missing int, last time.Time) string {
	t.Helper()
	id = strings.Repeat(id, 32)
	file := filepath.Join(arr.dir, id)
	info, err := json.Marshal(upload{
		ID: id, Size: int64(len(content)), MetaData: map[string]string{"name": "fen.zip", "by": "bryn"},
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file+".info", info, 0o600))
	require.NoError(t, os.WriteFile(file, content[:len(content)-missing], 0o600))
	require.NoError(t, os.Chtimes(file, last, last))
	return id
}

// left are the names of the files that stay in the folder of arrivals.
func left(t *testing.T, arr *Arrivals) int {
	t.Helper()
	entries, err := os.ReadDir(arr.dir)
	require.NoError(t, err)
	return len(entries)
}

func TestReceivingInOnePiece(t *testing.T) {
	t.Parallel()
	fen := zipped(t, "fen/heart", "fen/ground/1")
	for name, c := range map[string]struct {
		body  []byte
		size  int
		fails error
		code  fault.Code
	}{
		"whole":                      {body: fen, size: len(fen)},
		"of unknown size":            {body: fen, size: -1},
		"fewer bytes than were said": {body: fen[:50], size: len(fen), code: fault.Interrupted},
		"no archive":                 {body: []byte("marrows"), size: 7, code: fault.BadArchive},
		"cut short":                  {body: fen[:len(fen)-9], size: -1, code: fault.BadArchive},
		"larger than the limit":      {body: fen, size: 1 << 20, code: fault.TooLarge},
		"no world": {
			body: fen, size: -1, fails: fault.New(fault.NotFound, "", "", "no world"), code: fault.NotFound,
		},
	} {
		arr, h := arriving(t, archive.Limits{Bytes: 1 << 16})
		h.fails = c.fails
		_, err := arr.Receive(context.Background(), Incoming{
			Incoming: library.Incoming{Name: "fen.zip", By: "bryn"}, Size: int64(c.size), Body: bytes.NewReader(c.body),
		})
		assert.Zero(t, left(t, arr), "%s: nothing stays", name)
		if c.code != "" {
			assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
			assert.Empty(t, h.kept, name)
			continue
		}
		require.NoError(t, err, name)
		assert.ElementsMatch(t, []string{"fen/heart", "fen/ground/1"}, h.names[0], name)
		assert.Equal(t, "bryn", h.kept[0].By, name)
	}
}

// An upload is taken once, whole and as it was sent; what is refused stays, to be asked
// for again, and an answer that was lost is given again.
func TestTakingAnUpload(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	fen := zipped(t, "fen/heart")
	sum := blake3.Sum256(fen)
	arr, h := arriving(t, archive.Limits{})
	whole, half := uploaded(t, arr, "a", fen, 0, noon), uploaded(t, arr, "b", fen, 7, noon.Add(-time.Hour))

	list, err := arr.List(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{whole, half}, []string{list[0].ID, list[1].ID}, "newest first")
	assert.Equal(t, int64(len(fen)-7), list[1].Received)
	assert.Equal(t, noon.Add(-time.Hour).Add(Kept), list[1].Goes.UTC())

	for name, c := range map[string]struct {
		id, sum string
		code    fault.Code
	}{
		"of no id":           {"../../etc/passwd", "", fault.NotFound},
		"that there is not":  {strings.Repeat("c", 32), "", fault.NotFound},
		"half of it":         {half, "", fault.WrongState},
		"changed on its way": {whole, "blake3:" + strings.Repeat("0", 64), fault.Interrupted},
		"hashed oddly":       {whole, "rot13:x", fault.Invalid},
	} {
		_, err := arr.Take(ctx, c.id, "", c.sum, "bryn")
		assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
	}
	_, err = arr.Take(ctx, whole, "", "", "ada")
	require.ErrorIs(t, err, fault.NotAllowed.As(), "it is bryn's")
	h.fails = fault.New(fault.ManyWorlds, "", "", "it holds two worlds")
	_, err = arr.Take(ctx, whole, "", "", "bryn")
	require.ErrorIs(t, err, fault.ManyWorlds.As())
	assert.Equal(t, 4, left(t, arr), "it stays, so that a person can choose")

	h.fails = nil
	h.during = func() {
		_, err := arr.Take(ctx, whole, "", "", "bryn")
		assert.ErrorIs(t, err, fault.Busy.As(), "not twice at once")
	}
	first, err := arr.Take(ctx, whole, "fen", "blake3:"+hex.EncodeToString(sum[:]), "bryn")
	require.NoError(t, err)
	again, err := arr.Take(ctx, whole, "fen", "", "bryn")
	require.NoError(t, err)
	assert.Equal(t, first, again)
	require.Len(t, h.kept, 1)
	assert.Equal(t, library.Incoming{Name: "fen.zip", Root: "fen", By: "bryn"}, h.kept[0])
	assert.Equal(t, 2, left(t, arr))
}

func TestWhatNobodyGoesOnWithIsRemoved(t *testing.T) {
	t.Parallel()
	arr, _ := arriving(t, archive.Limits{})
	fen := zipped(t, "fen/heart")
	uploaded(t, arr, "a", fen, 1, noon.Add(-Kept-time.Second))
	kept := uploaded(t, arr, "b", fen, 1, noon.Add(-Kept+time.Second))
	leapt := true // the machine's clock has gone on, and nobody has watched
	arr.age = func(_ context.Context, what string, since time.Time) (time.Duration, error) {
		assert.Contains(t, what, "upload ")
		if leapt {
			return 0, nil
		}
		return noon.Sub(since), nil
	}
	arr.Tidy(context.Background())
	all, err := arr.List(context.Background())
	require.NoError(t, err)
	require.Len(t, all, 2, "nothing goes for a leap")
	assert.True(t, all[0].Goes.After(noon), "and it is said to go later")
	leapt = false
	arr.Tidy(context.Background())
	list, err := arr.List(context.Background())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, kept, list[0].ID)
	require.NoError(t, arr.Drop(context.Background(), kept, "bryn"))
	assert.Zero(t, left(t, arr))
	assert.ErrorIs(t, arr.Drop(context.Background(), kept, "bryn"), fault.NotFound.As())
}

// Names and sizes of a listing that a sender makes up are refused before the vault is
// asked for anything: there is none here.
func TestAssemblyRefusesWhatIsNoTree(t *testing.T) {
	t.Parallel()
	arr, _ := arriving(t, archive.Limits{Bytes: 100, Entries: 2, Name: 20})
	file := func(name string, size int64) wire.AssembledFile {
		return wire.AssembledFile{Path: name, Chunks: []wire.Chunk{{Size: size}}}
	}
	for name, c := range map[string]struct {
		files []wire.AssembledFile
		code  fault.Code
	}{
		"out of it":     {[]wire.AssembledFile{file("../heart", 1)}, fault.UnsafeArchive},
		"from the root": {[]wire.AssembledFile{file("/heart", 1)}, fault.UnsafeArchive},
		"backwards":     {[]wire.AssembledFile{file(`fen\heart`, 1)}, fault.UnsafeArchive},
		"the folder":    {[]wire.AssembledFile{file(".", 1)}, fault.UnsafeArchive},
		"with a zero":   {[]wire.AssembledFile{file("fen\x00", 1)}, fault.UnsafeArchive},
		"twice":         {[]wire.AssembledFile{file("fen", 1), file("fen/", 1)}, fault.UnsafeArchive},
		"too long":      {[]wire.AssembledFile{file(strings.Repeat("f", 21), 1)}, fault.UnsafeArchive},
		"of minus size": {[]wire.AssembledFile{file("fen", -1)}, fault.Invalid},
		"too large":     {[]wire.AssembledFile{file("fen", 60), file("heart", 60)}, fault.TooLarge},
		"too many":      {[]wire.AssembledFile{file("a", 1), file("b", 1), file("c", 1)}, fault.TooLarge},
	} {
		_, err := arr.Assemble(context.Background(), wire.Assembly{Name: "fen", Files: c.files}, "bryn")
		assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
	}
}

func TestWhatMayBegin(t *testing.T) {
	t.Parallel()
	arr, _ := arriving(t, archive.Limits{Bytes: 1 << 16})
	for name, c := range map[string]struct {
		meta  map[string]string
		size  int64
		code  fault.Code
		noted map[string]string
	}{
		"an archive": {
			meta: map[string]string{"name": "worlds/fen.zip"}, size: 9,
			noted: map[string]string{"name": "fen.zip", "by": "bryn"},
		},
		"chunks": {
			meta: map[string]string{"kind": "chunks"}, size: 9,
			noted: map[string]string{"name": ".", "by": "bryn", "kind": "chunks"},
		},
		"another kind": {meta: map[string]string{"kind": "marrow", "name": "a"}, code: fault.Invalid},
		"no name":      {meta: map[string]string{}, code: fault.Invalid},
		"a long name":  {meta: map[string]string{"name": strings.Repeat("f", 256)}, code: fault.Invalid},
		"too much":     {meta: map[string]string{"name": "a"}, size: 1<<16 + 1, code: fault.TooLarge},
	} {
		noted, _, err := arr.Admit(c.meta, c.size, "bryn")
		if c.code != "" {
			assert.Equal(t, c.code, fault.CodeOf(err), name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.noted, noted, name)
	}
}

// Uploads that are announced and do not come keep nobody else out: of one person they have at most half of the room,
// after an hour without a byte no room is kept for them, and anybody may remove them.
func TestAnnouncedUploads(t *testing.T) {
	t.Parallel()
	arr, _ := arriving(t, archive.Limits{})
	ctx := context.Background()
	half := uploaded(t, arr, "a", []byte("some"), 2, noon.Add(-2*time.Hour))
	_, theirs := arr.promised("bryn")
	assert.Zero(t, theirs, "two hours without a byte")
	var st unix.Statfs_t
	require.NoError(t, unix.Statfs(arr.dir, &st))
	room := (int64(st.Bavail)*st.Bsize - spare) / 2
	forget := arr.hold("bryn", room-1000)
	require.ErrorIs(t, arr.roomFor("w.zip", 1<<20, inAll, "bryn"), fault.NoSpace.As())
	require.NoError(t, arr.roomFor("w.zip", 1<<20, inAll, "ada"))
	forget()
	require.NoError(t, arr.roomFor("w.zip", 1<<20, inAll, "bryn"), "one may have all")
	require.NoError(t, arr.Drop(ctx, half, "ada"), "anybody may remove it")
}
