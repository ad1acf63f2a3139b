package e2e

import (
	"context"
	"image/png"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// A copy and a server's world are drawn from above, the same bytes each time; a game
// whose profile draws nothing says so.
func TestPictures(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 2, Tiles: 16})
	var files []string
	for _, name := range []string{"one.png", "two.png"} {
		files = append(files, filepath.Join(b.dir, name))
		b.must("worlds", "picture", "fen", "--to", files[len(files)-1])
	}
	first, err := os.ReadFile(files[0])
	require.NoError(t, err)
	second, err := os.ReadFile(files[1])
	require.NoError(t, err)
	assert.Equal(t, first, second)
	f, err := os.Open(files[0])
	require.NoError(t, err)
	defer f.Close() //nolint:errcheck // only read
	img, err := png.Decode(f)
	require.NoError(t, err)
	assert.Equal(t, 64, img.Bounds().Dx(), "4 by 4 tiles of 16 by 16 colours")
	kept, err := filepath.Glob(filepath.Join(b.dir, "data", "pictures", "*.png"))
	require.NoError(t, err)
	assert.Len(t, kept, 1, "it is drawn once and kept")
	code, _, errs := b.cli("worlds", "picture", "fen", "--to", files[0])
	assert.Equal(t, 1, code, errs)

	auth := "Bearer " + signInToken(t, b)
	get := func(path string) *http.Response {
		return ask(t, b, http.MethodGet, path, auth, "")
	}
	res := get("/api/v1/servers/north/picture")
	assert.Equal(t, "image/png", res.Header.Get("Content-Type"))
	_, err = png.Decode(res.Body)
	require.NoError(t, err, "the server's world, while it runs")
	assert.Equal(t, http.StatusNotFound, get("/api/v1/servers/north/picture?world=none").StatusCode)
	require.NoError(t, os.RemoveAll(filepath.Join(root, "worlds", "winter", "ground")))
	assert.Equal(t, http.StatusNoContent, get("/api/v1/servers/north/picture").StatusCode,
		"there is nothing to draw yet")

	made := filepath.Join(b.dir, "own")
	own, err := saltmarch.Make(made, saltmarch.Options{Name: "Sedge", Seed: 1})
	require.NoError(t, err)
	b.must("send", filepath.Join(made, own))
	_, err = b.api.Picture(context.Background(), "sedge", false)
	assert.ErrorIs(t, err, fault.NotFound.As())
	assert.ErrorContains(t, err, "does not say how to draw")
}

// The files of a copy are listed as in a world that was played alone, and each can be
// fetched as it was stored.
func TestFilesOfACopy(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.quarry("terraces", plot{
		kind:   "terrace",
		folder: "top",
		world:  quarrymoss.Options{Title: "Top", Seed: 3, Realms: []string{"caverns"}},
	})
	taken := b.do(wire.Wish{Kind: plan.TakeAway, Server: "terraces"})
	out := b.must("worlds", "files", taken.Copy[:12])
	assert.Contains(t, out, "heart.cbor.gz")
	assert.Contains(t, out, "realms/caverns/t.", "split on the server, nested here")
	ctx := context.Background()
	list, err := b.api.Files(ctx, taken.Copy)
	require.NoError(t, err)
	for _, f := range list {
		body, err := b.api.File(ctx, taken.Copy, f.Path)
		require.NoError(t, err, f.Path)
		data, err := io.ReadAll(body)
		require.NoError(t, err)
		assert.Len(t, data, int(f.Size), f.Path)
	}
	code, _, errs := b.cli("worlds", "files", taken.Copy[:12], "heart.cbor.gz")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is no text")
	for _, wrong := range []string{"none", "../server.json", "/etc/passwd", "realms"} {
		_, err := b.api.File(ctx, taken.Copy, wrong)
		assert.ErrorIs(t, err, fault.NotFound.As(), wrong)
	}
	own := filepath.Join(b.dir, "heart")
	b.must("worlds", "files", taken.Copy[:12], "heart.cbor.gz", "--to", own)
	assert.FileExists(t, own)
}

// A world arrives in a tar archive, and in an archive within another; what is none is
// explained.
func TestArrivalsInOtherArchives(t *testing.T) {
	t.Parallel()
	b := setup(t)
	dir := filepath.Join(b.dir, "own")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "fen"), quarrymoss.Options{Title: "Fen", Seed: 2}))
	packed := filepath.Join(b.dir, "from ada.backup")
	out, err := exec.Command("tar", "-czf", packed, "-C", dir, "fen").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, b.must("inspect", packed), "“Fen”")
	assert.Contains(t, b.must("send", packed), "Stored “Fen”")
	again := filepath.Join(b.dir, "again.tar")
	out, err = exec.Command("tar", "-cf", again, "-C", b.dir, "from ada.backup").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.NotContains(t, b.must("send", again), "Stored “Fen”", "the library has this content already")
	left, err := os.ReadDir(filepath.Join(b.dir, "data", "arrivals"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays where archives arrive")
	none := filepath.Join(b.dir, "none.tar.gz")
	require.NoError(t, os.WriteFile(none, []byte("minutes of the meeting"), 0o644))
	code, _, errs := b.cli("send", none)
	assert.Equal(t, 1, code)
	assert.Contains(t, strings.Join(strings.Fields(errs), " "), "no archive that can be read")
}

// The library is searched by what a person remembers.
func TestSearchInTheLibrary(t *testing.T) {
	t.Parallel()
	b := setup(t)
	b.send("fen", quarrymoss.Options{Title: "Fen Garden", Seed: -4713582209, Folk: []string{"Ada"}})
	b.send("bog", quarrymoss.Options{Title: "Bog Garden", Seed: 7, Folk: []string{"Bryn"}})
	out := b.must("worlds", "--search", "-4713582209")
	assert.Contains(t, out, "fen-garden")
	assert.NotContains(t, out, "bog-garden")
	out = b.must("worlds", "--search", "GARDEN bryn", "--game", "quarrymoss")
	assert.Contains(t, out, "bog-garden")
	assert.NotContains(t, out, "fen-garden")
	code, _, errs := b.cli("worlds", "--search", "ada", "--game", "saltmarch")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "no world of the library has all of that")
}
