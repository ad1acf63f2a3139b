package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/archive"
	"reshard/internal/archive/archivetest"
	"reshard/internal/cli"
	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/wire"
)

// zipOf packs folders that stand in dir.
func zipOf(t *testing.T, dir string, folders ...string) []byte {
	t.Helper()
	var items []archive.Item
	for _, folder := range folders {
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, folder), func(p string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			info, err := d.Info()
			rel, _ := filepath.Rel(dir, p)
			items = append(items, archive.Item{
				Name:     rel,
				Open:     archive.From(os.DirFS(dir), rel),
				Size:     info.Size(),
				Modified: info.ModTime(),
			})
			return err
		}))
	}
	var out bytes.Buffer
	require.NoError(t, archive.WriteZip(&out, items, nil))
	return out.Bytes()
}

// What the library has is not sent again, from a folder or out of an archive.
func TestOnlyWhatIsNewIsSent(t *testing.T) {
	t.Parallel()
	b := setup(t)
	dir := filepath.Join(b.dir, "made")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"),
		quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 20, TileBytes: 300_000}))
	packs := func() (n int64) {
		for _, size := range sizes(t, filepath.Join(b.dir, "data", "vault")) {
			n += size
		}
		return n
	}
	b.must("send", filepath.Join(dir, "fen"))
	first := packs()
	assert.Greater(t, first, int64(3<<20))
	archive := filepath.Join(b.dir, "fen.zip")
	require.NoError(t, os.WriteFile(archive, zipOf(t, dir, "fen"), 0o644))
	out := b.must("send", archive)
	assert.Contains(t, out, "Stored", "the archive has no empty folders: it is another copy")
	assert.Less(t, packs()-first, int64(5_000), "of the same content")
	assert.Contains(t, b.must("send", archive), "The library has this content already")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fen", "ground", "t.9.9.qt"), []byte("a new tile"), 0o644))
	out = b.must("send", filepath.Join(dir, "fen"))
	assert.Contains(t, out, "Stored")
	assert.Less(t, packs()-first, int64(20_000), "one small tile and the list of files")
	b.must("worlds", "verify", "fen")
}

func sizes(t *testing.T, dir string) map[string]int64 {
	t.Helper()
	out := map[string]int64{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		out[p] = info.Size()
		return err
	}))
	return out
}

// An upload by the tus protocol goes on where it was, is checked by its hash, is listed
// while it is no copy, and is kept for a person who must choose among its worlds.
func TestUploads(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	dir := filepath.Join(b.dir, "made")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "plots"), 0o755))
	for i, folder := range []string{"plots/east", "plots/west"} {
		require.NoError(t, quarrymoss.Make(filepath.Join(dir, folder),
			quarrymoss.Options{Title: folder, Seed: int64(i), Tiles: 4, TileBytes: 200_000}))
	}
	data := zipOf(t, dir, "plots")
	assert.Equal(t, "Nothing is on its way.", b.must("arrivals"))

	auth := map[string]string{"Authorization": "Bearer " + signInToken(t, b), "Tus-Resumable": "1.0.0"}
	created := raw(t, b, "POST", "/api/v1/uploads/", auth,
		map[string]string{"Upload-Length": fmt.Sprint(len(data)), "Upload-Metadata": "name cGxvdHMuemlw"}, nil)
	require.Equal(t, 201, created.StatusCode)
	id := created.Header.Get("Location")[len(created.Header.Get("Location"))-32:]
	half := len(data) / 2
	patch := func(at int, part []byte) int {
		return raw(t, b, "PATCH", "/api/v1/uploads/"+id, auth,
			map[string]string{"Upload-Offset": fmt.Sprint(at), "Content-Type": "application/offset+octet-stream"},
			part).StatusCode
	}
	require.Equal(t, 204, patch(0, data[:half]))
	assert.Equal(t, 409, patch(7, data[half:]), "not where it was")
	assert.Contains(t, b.must("arrivals"), "plots.zip")
	_, err := b.api.TakeArrival(ctx, id, "", "")
	require.ErrorIs(t, err, fault.WrongState.As())

	require.NoError(t, b.daemon.Close())
	b.start() // the service's next life goes on with it
	auth["Authorization"] = "Bearer " + signInToken(t, b)
	head := raw(t, b, "HEAD", "/api/v1/uploads/"+id, auth, nil, nil)
	assert.Equal(t, fmt.Sprint(half), head.Header.Get("Upload-Offset"))
	require.Equal(t, 204, patch(half, data[half:]))

	_, err = b.api.TakeArrival(ctx, id, "", "blake3:"+strings.Repeat("0", 64))
	require.ErrorIs(t, err, fault.Interrupted.As(), "another hash")
	_, err = b.api.TakeArrival(ctx, id, "", "md5:0")
	require.ErrorIs(t, err, fault.Invalid.As())
	sum := blake3.Sum256(data)
	_, err = b.api.TakeArrival(ctx, id, "", "blake3:"+hex.EncodeToString(sum[:]))
	require.ErrorIs(t, err, fault.ManyWorlds.As())
	piece := sha256.Sum256(data)
	pieces := sha256.Sum256(piece[:])
	arrival, err := b.api.TakeArrival(ctx, id, "plots/west", "sha256-4m:"+hex.EncodeToString(pieces[:]))
	require.NoError(t, err, "it is still there, and is not sent again")
	lost, err := b.api.TakeArrival(ctx, id, "plots/west", "")
	require.NoError(t, err, "an answer that was lost on its way is given again")
	assert.Equal(t, arrival, lost)
	assert.Equal(t, "plots/west", arrival.Copy.Facts.Title)
	assert.Equal(t, "Nothing is on its way.", b.must("arrivals"))

	again, err := b.api.Upload(ctx, "more.zip", "", bytes.NewReader(data), int64(len(data)), nil)
	require.NoError(t, err)
	assert.Contains(t, b.must("arrivals", "take", again[:6], "--root", "plots/east"), "plots/east")
	last, err := b.api.Upload(ctx, "more.zip", "", bytes.NewReader(data), int64(len(data)), nil)
	require.NoError(t, err)
	assert.Contains(t, b.must("arrivals", "remove", last[:6]), "Removed what had come of more.zip")
	code, _, errs := b.cli("arrivals", "remove", last[:6])
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "reshard arrivals lists them")

	// What cannot fit is refused before its first byte, and what is no pack of chunks
	// does not become one.
	refused := raw(t, b, "POST", "/api/v1/uploads/", auth,
		map[string]string{"Upload-Length": "99999999999999", "Upload-Metadata": "name cGxvdHMuemlw"}, nil)
	assert.Contains(t, []int{413, 507}, refused.StatusCode)
	assert.Equal(t, "Nothing is on its way.", b.must("arrivals"))
	res := raw(t, b, "POST", "/api/v1/uploads/", auth, map[string]string{"Upload-Length": "5"}, nil)
	assert.Equal(t, 422, res.StatusCode, "without a name")
	_, err = b.api.Upload(ctx, "x", "chunks", strings.NewReader("no chunks at all"), 16, nil)
	require.ErrorIs(t, err, fault.BadArchive.As())
	for _, path := range []string{
		"/api/v1/uploads/../../first-sign-in.txt",
		"/api/v1/uploads/" + strings.Repeat("0", 32),
		"/api/v1/uploads/..%2f..%2fx",
	} {
		assert.Contains(t, []int{404, 405}, raw(t, b, "HEAD", path, auth, nil, nil).StatusCode, path)
	}
	_, err = b.api.Assemble(ctx, wire.Assembly{Name: "x", Files: []wire.AssembledFile{{Path: "../up"}}})
	require.ErrorIs(t, err, fault.UnsafeArchive.As())
	_, err = b.api.Assemble(ctx, wire.Assembly{Name: "x", Files: []wire.AssembledFile{{Path: "a"}, {Path: "a"}}})
	require.ErrorIs(t, err, fault.UnsafeArchive.As())
}

// The service is killed again and again while a world is being sent: the sender goes on
// each time, and what arrives is whole.
func TestTheServiceIsKilledWhileAWorldArrives(t *testing.T) {
	t.Parallel()
	b := setup(t)
	dir := filepath.Join(b.dir, "made", "fen")
	require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
	require.NoError(t, quarrymoss.Make(dir, quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 120, TileBytes: 500_000}))
	token := signInToken(t, b)
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	listen := fmt.Sprintf("127.0.0.1:%d", freePort(t))
	var cmd *exec.Cmd
	live := func() {
		_, _, cmd = b.mortalAt(listen, 0)
	}
	live()
	var out, errs bytes.Buffer
	sent := make(chan int)
	go func() {
		sent <- cli.Run(context.Background(), []string{"send", dir},
			cli.IO{In: strings.NewReader(""), Out: &out, Err: &errs, Env: func(name string) string {
				return map[string]string{
					"RESHARD_ADDRESS": "http://" + listen,
					"RESHARD_TOKEN":   token,
					"HOME":            b.dir,
				}[name]
			}})
	}()
	// A service that is not there at all is told at once; it is killed once sending has begun.
	require.Eventually(t, func() bool {
		begun, err := filepath.Glob(filepath.Join(b.dir, "data", "arrivals", "*.info"))
		return err == nil && len(begun) > 0
	}, 30*time.Second, 2*time.Millisecond)
	kills, code := 0, -1
	for code < 0 {
		select {
		case code = <-sent:
		case <-time.After(150 * time.Millisecond):
			if kills < 6 {
				require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
				_ = cmd.Wait() // it was killed
				kills++
				live()
			}
		}
	}
	require.Equal(t, 0, code, errs.String())
	assert.GreaterOrEqual(t, kills, 2)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
	b.start()
	worlds, err := b.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	require.Len(t, worlds, 1)
	require.Len(t, worlds[0].Copies, 1)
	_, err = b.api.VerifyWorld(context.Background(), "fen")
	require.NoError(t, err)
	files, err := b.api.Files(context.Background(), "fen")
	require.NoError(t, err)
	want := sizes(t, dir)
	assert.Len(t, files, len(want))
	for _, f := range files {
		assert.Equal(t, want[filepath.Join(dir, f.Path)], f.Size, f.Path)
	}
}

// The service is killed while it collects: every copy reads in its next life, and the
// collection that is let end does the work.
func TestTheServiceIsKilledWhileItCollects(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	var names []string
	for i := range 12 {
		names = append(names, b.send(fmt.Sprintf("w%02d", i),
			quarrymoss.Options{Title: fmt.Sprint("World ", i), Seed: int64(i + 1), Tiles: 30, TileBytes: 4000}).ID)
	}
	before, err := b.api.Vault(ctx)
	require.NoError(t, err)
	assert.Greater(t, before.Packs, 12)
	require.NoError(t, b.daemon.Close())
	b.daemon = nil
	for _, wait := range []time.Duration{2, 8, 20, 40, 80} {
		address, _, cmd := b.mortal(0)
		api := signIn(t, address)
		_, err := api.WorkOnVault(ctx, "collect")
		require.NoError(t, err)
		time.Sleep(wait * time.Millisecond)
		require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
		_ = cmd.Wait() // it was killed
	}
	b.start()
	b.must("vault", "collect")
	for _, id := range names {
		_, err := b.api.VerifyWorld(ctx, id)
		require.NoError(t, err)
	}
	after, err := b.api.Vault(ctx)
	require.NoError(t, err)
	assert.Less(t, after.Packs, 4)
	assert.Equal(t, 12, after.Copies)
	assert.Contains(t, b.must("vault", "check"), "Everything is as it was stored.")
	packs, err := filepath.Glob(filepath.Join(b.dir, "data", "vault", "packs", "*", "*"))
	require.NoError(t, err)
	// a pack's beginning goes after a day
	packs = slices.DeleteFunc(packs, func(p string) bool { return strings.HasSuffix(p, ".tmp") })
	assert.Len(t, packs, after.Packs, "nothing is left over")
}

// Limits are settings, and hold for archives, folders and listings.
func TestLimitsOfArrivals(t *testing.T) {
	t.Parallel()
	b := &bundle{t: t, dir: t.TempDir(), database: newDatabase(t), limits: archive.Limits{Entries: 30, Bytes: 1 << 20}}
	b.start()
	t.Cleanup(b.end)
	dir := filepath.Join(b.dir, "made")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "many"), quarrymoss.Options{Title: "Many", Tiles: 40}))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "large"),
		quarrymoss.Options{Title: "Large", Tiles: 9, TileBytes: 300_000}))
	for _, name := range []string{"many", "large"} {
		code, _, errs := b.cli("send", filepath.Join(dir, name))
		assert.Equal(t, 1, code, name)
		assert.Contains(t, errs, "are the limit", name)
		data := zipOf(t, dir, name)
		res := raw(t, b, "POST", "/api/v1/worlds?name=x.zip",
			map[string]string{"Authorization": "Bearer " + signInToken(t, b), "Content-Type": "application/zip"}, nil,
			data)
		assert.Equal(t, 413, res.StatusCode, name)
	}
	worlds, err := b.api.Worlds(context.Background(), wire.WorldQuery{})
	require.NoError(t, err)
	assert.Empty(t, worlds)
}

// listed lists a folder's files as a browser does: names, sizes and dates.
func listed(files []archivetest.File) (out []world.Listed, content map[string][]byte) {
	content = map[string][]byte{}
	for _, f := range files {
		content[f.Name] = f.Content
		out = append(out, world.Listed{Path: f.Name, Size: int64(len(f.Content)), Modified: time.Now().Add(-time.Hour)})
	}
	return out, content
}

// A whole saves folder is looked into by names and the few bytes that are asked for:
// worlds, one that is damaged, one that is open, and what is none.
func TestAFolderIsRecognisedBeforeItIsSent(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	dir := filepath.Join(b.dir, "saves")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "notes"), 0o755))
	played := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	for i, folder := range []string{"a1", "b2", "c3", "d4"} {
		at := filepath.Join(dir, folder)
		require.NoError(t, quarrymoss.Make(at,
			quarrymoss.Options{
				Title:     "Plot " + folder,
				Seed:      int64(i),
				Tiles:     12,
				TileBytes: 40_000,
				Folk:      []string{"Ada"},
			}))
		heart, err := quarrymoss.ReadHeart(at)
		require.NoError(t, err)
		heart.LastPlayed = played.AddDate(0, 0, i)
		require.NoError(t, quarrymoss.WriteHeart(at, heart))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "c3", "held.lock"), nil, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d4", "heart.cbor.gz"), []byte("no gzip"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes", "seeds.txt"), []byte("parsnips"), 0o644))
	files, content := listed(archivetest.Read(t, dir, ""))
	files = append(files, world.Listed{Path: "a1/huge.log", Size: 1 << 40}) // it is never asked for
	sent, all := 0, 0
	for _, c := range content {
		all += len(c)
	}
	var got wire.Recognised
	for round := 1; ; round++ {
		require.LessOrEqual(t, round, 4, "it ends")
		var err error
		got, err = b.api.Recognise(ctx, wire.Listing{Name: "saves", Files: files})
		require.NoError(t, err)
		if len(got.Needs) == 0 {
			break
		}
		for _, n := range got.Needs {
			i := slices.IndexFunc(files, func(f world.Listed) bool { return f.Path == n.Path })
			require.GreaterOrEqual(t, i, 0, n.Path)
			sent += int(n.Bytes)
			files[i].Begin = content[n.Path][:n.Bytes]
		}
	}
	assert.Less(t, sent, all/10, "of %d bytes", all)
	require.Len(t, got.Worlds, 4)
	by := map[string]world.Sighted{}
	for _, w := range got.Worlds {
		by[w.At] = w
	}
	assert.Equal(t, "Plot b2", by["b2"].World.Title)
	assert.Contains(t, by["c3"].Open, "held.lock")
	assert.NotEmpty(t, by["d4"].Damaged)
	assert.Empty(t, by["a1"].Damaged)
	likely := 0
	for _, w := range got.Worlds {
		if w.Likely != "" {
			likely++
			assert.NotEqual(t, "d4", w.At, "a damaged one is not what is meant")
		}
	}
	assert.Equal(t, 1, likely)
	for _, at := range []string{"a1", "b2", "c3"} {
		data, err := base64.StdEncoding.DecodeString(got.Pictures[at])
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err, at)
		assert.LessOrEqual(t, img.Bounds().Dx(), 256)
	}
	worlds, err := b.api.Worlds(ctx, wire.WorldQuery{})
	require.NoError(t, err)
	assert.Empty(t, worlds, "nothing was stored")

	// Lists that lie are answered in words, or by what of them is none.
	for name, files := range map[string][]world.Listed{
		"nothing": {},
		"paths that escape": {
			{Path: "../a/heart.cbor.gz", Size: 4},
			{Path: "/etc/passwd", Size: 4},
			{Path: "a/../../b", Size: 1},
		},
		"odd names": {
			{Path: "", Size: 1},
			{Path: ".", Size: 1},
			{Path: "a\x00b", Size: 1},
			{Path: "a//b", Size: 1},
			{Path: strings.Repeat("n/", 3000) + "x", Size: 1},
		},
		"a file that is a folder": {
			{Path: "w", Size: 5},
			{Path: "w/heart.cbor.gz", Size: 5},
			{Path: "w/ground/t.0.0.qt", Size: 5},
			{Path: "w/ground", Size: 1},
		},
		"sizes": {{Path: "w/heart.cbor.gz", Size: -5}, {Path: "w/ground/t.0.0.qt", Size: 1 << 62}},
		"more than its size": {
			{Path: "w/heart.cbor.gz", Size: 2, Begin: bytes.Repeat([]byte{0x1f}, 5000)},
			{Path: "w/ground/t.0.0.qt", Size: 0, Begin: []byte("x")},
		},
	} {
		got, err := b.api.Recognise(ctx, wire.Listing{Name: name, Files: files})
		if err != nil {
			assert.NotEqual(t, fault.Internal, fault.CodeOf(err), "%s: %v", name, err)
			continue
		}
		for _, n := range got.Needs {
			assert.Positive(t, n.Bytes, name)
			assert.LessOrEqual(t, n.Bytes, int64(8<<20), name)
		}
	}
}

// raw asks with headers of its own.
func raw(t *testing.T, b *bundle, method, path string, auth, headers map[string]string, body []byte) *http.Response {
	t.Helper()
	req, err := http.NewRequest(method, b.daemon.Address+path, bytes.NewReader(body))
	require.NoError(t, err)
	for _, set := range []map[string]string{auth, headers} {
		for k, v := range set {
			req.Header.Set(k, v)
		}
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { _ = res.Body.Close() })
	return res
}
