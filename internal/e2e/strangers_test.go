package e2e

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/archive"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// A named pipe in the place of a file is not waited for: lists, sheets, starts and pictures
// answer, and say what is wrong.
func TestAPipeHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true, world: quarrymoss.Options{Tiles: 4}})
	b.quarry("south", plot{stopped: true})
	world := b.send("Fen", quarrymoss.Options{Title: "Fen", Seed: 5})
	tiles, err := filepath.Glob(filepath.Join(root, "worlds/winter/ground/*"))
	require.NoError(t, err)
	require.NotEmpty(t, tiles)
	for _, file := range append(tiles[:1:1], filepath.Join(root, "quarry.properties"),
		filepath.Join(root, "server.json"), filepath.Join(root, "worlds/winter/heart.cbor.gz")) {
		require.NoError(t, os.Remove(file))
		require.NoError(t, syscall.Mkfifo(file, 0o644))
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	list, err := b.api.Servers(ctx, wire.ServerQuery{})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	facts, err := b.api.Server(ctx, "north")
	require.NoError(t, err)
	require.Len(t, facts.Facts.Settings, 1)
	assert.Contains(t, facts.Facts.Settings[0].Why, "no regular file")
	_, err = b.api.Sheet(ctx, wire.Wish{Kind: "put", World: world.World, Server: "north"})
	require.NoError(t, err)
	_, err = b.api.Server(ctx, "south")
	require.NoError(t, err, "and others are answered as ever")
	require.NoError(t, ctx.Err())
}

// What a world's files are called is the world's own business: names that are no text, or
// that a terminal would take for commands, come back byte for byte.
func TestAWorldWithNamesOfAnyBytes(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := b.quarry("north", plot{stopped: true})
	made := filepath.Join(b.dir, "made", "Fen")
	require.NoError(t, os.MkdirAll(filepath.Dir(made), 0o755))
	require.NoError(t, quarrymoss.Make(made, quarrymoss.Options{Title: "Fen", Seed: 5}))
	odd := map[string]string{
		"G\xe4rten": "latin", "line\nbreak": "newline", "\x1b[2J": "escape", "own \U0010ffe4": "private",
		"Gärten": "utf",
	}
	for name, text := range odd {
		require.NoError(t, os.WriteFile(filepath.Join(made, name), []byte(text), 0o644))
	}
	before := snapshot(t, made)
	code, _, errs := b.cli("send", made)
	require.Zero(t, code, errs)
	code, out, errs := b.cli("worlds", "files", "fen")
	require.Zero(t, code, errs)
	assert.Contains(t, out, `G\xe4rten`)
	assert.Contains(t, out, `line\nbreak`)
	assert.NotContains(t, out, "\x1b[2J")
	worlds, err := b.api.Worlds(t.Context(), wire.WorldQuery{})
	require.NoError(t, err)
	require.Len(t, worlds, 1)
	c := b.put(worlds[0].Name, "north", map[string]string{"folder-name": "winter", "seed": "world"})
	require.Equal(t, "done", string(c.State), "%+v", c.Failure)
	there := snapshot(t, filepath.Join(root, "worlds", "winter"))
	for name := range odd {
		assert.Equal(t, before[name], there[name], "%q", name)
		assert.NotEmpty(t, there[name], "%q", name)
	}

	for _, as := range []string{"zip", "tar.zst"} {
		body, _, err := b.api.Archive(t.Context(), worlds[0].Name, as)
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "w."+as)
		data, err := io.ReadAll(body)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		code, _, errs := b.cli("send", file)
		require.Zero(t, code, "%s: %s", as, errs)
	}
	again, err := b.api.World(t.Context(), worlds[0].Name)
	require.NoError(t, err)
	assert.Len(t, again.Copies, 1, "both archives are the content that is there already")
}

// Room is promised once: of many large uploads no more are begun than fit. Each belongs to
// whoever began it, and has a name that can be shown.
func TestUploadsAreAdmittedWhileThereIsRoom(t *testing.T) {
	t.Parallel()
	b := setup(t, func(b *bundle) { b.limits = archive.Limits{Bytes: 1 << 60} })
	ctx := context.Background()
	var st syscall.Statfs_t
	require.NoError(t, syscall.Statfs(b.dir, &st))
	size := int64(st.Bavail) * st.Bsize / 7 // each is there twice
	var ids []string
	for i := range 20 {
		if at, status := b.begin(b.token(), fmt.Sprintf("w%d.zip", i), size); status == http.StatusCreated {
			ids = append(ids, at)
		} else {
			assert.Equal(t, http.StatusInsufficientStorage, status)
		}
	}
	assert.Len(t, ids, 1, "together they may keep half of the room")

	require.NoError(t, b.api.AddUser(ctx, "bryn", "leeks and marrows"))
	other := signInAs(t, b.daemon.Address, "bryn", "leeks and marrows")
	theirs, status := b.begin(other, "theirs.zip", size)
	assert.Equal(t, http.StatusCreated, status, "another has room")
	for _, method := range []string{http.MethodHead, http.MethodPatch} {
		status := b.tus(method, ids[0], other, nil)
		assert.Equal(t, http.StatusForbidden, status, method)
	}
	assert.Equal(t, http.StatusOK, b.tus(http.MethodHead, ids[0], b.token(), nil))
	assert.Equal(t, http.StatusNoContent, b.tus(http.MethodDelete, theirs, b.token(), nil), "anybody may remove it")
	long := "/api/v1/uploads/" + strings.Repeat("x", 5000)
	assert.Equal(t, http.StatusNotFound, b.tus(http.MethodHead, long, other, nil))
	for _, name := range []string{"a\x1b[2J.zip", "a\nb.zip", "a\x00.zip"} {
		_, status := b.begin(b.token(), name, 10)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%q", name)
		_, err := b.api.Send(ctx, name, "", strings.NewReader("x"), 1)
		assert.Error(t, err, "%q", name)
	}
}

// What somebody who is removed was watching ends then.
func TestAStreamEndsWithItsUser(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(t, b.api.AddUser(ctx, "bryn", "leeks and marrows"))
	token := signInAs(t, b.daemon.Address, "bryn", "leeks and marrows")
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.daemon.Address+"/api/v1/events?servers=true", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close() //nolint:errcheck // only read
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, b.api.RemoveUser(ctx, "bryn"))
	begun := time.Now()
	_, _ = io.Copy(io.Discard, res.Body)
	assert.Less(t, time.Since(begun), 5*time.Second)
	require.NoError(t, ctx.Err())
}

// A server's folder is a server's: what belongs to the system or to the service is none. Its
// environment is told by names.
func TestWhatIsNoServersFolder(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	root := b.quarry("north", plot{stopped: true})
	link := filepath.Join(b.dir, "link")
	require.NoError(t, os.Symlink("/etc", link))
	for _, at := range []string{
		"/", "/etc", "/etc/cron.d", "/usr/bin", "/proc/self", "/dev", "/home", "/var/lib", link,
		filepath.Join(b.dir, "data"), filepath.Join(b.dir, "data", "arrivals"), b.dir,
	} {
		if _, err := os.Stat(at); err != nil {
			continue
		}
		_, err := b.api.AddServer(ctx, wire.NewServer{
			Name: "odd", Game: "quarrymoss", Kind: "plain", Root: at, Command: []string{"/bin/true"},
		})
		require.ErrorIs(t, err, fault.Invalid.As(), at)
	}
	require.NoError(t, b.api.RemoveServer(ctx, "north"))
	_, err := b.api.AddServer(ctx, wire.NewServer{
		Name: "north", Game: "quarrymoss", Kind: "plain", Root: root,
		Command: []string{standin, "quarrymoss", "serve", "."},
		Env:     map[string]string{"RCON_PASSWORD": "hunter22"},
	})
	require.NoError(t, err)
	_, text, _ := b.cli("servers", "show", "north", "--json")
	assert.NotContains(t, text, "hunter22")
	now, err := b.api.Server(ctx, "north")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"RCON_PASSWORD": "•••"}, now.Server.Env)
}

// What cannot be stored of what a world says is replaced, and what is long is cut.
func TestWhatAWorldSaysIsBounded(t *testing.T) {
	t.Parallel()
	b := setup(t)
	folk := make([]string, 3_000)
	for i := range folk {
		folk[i] = fmt.Sprintf("Member %d %s", i, strings.Repeat("x", 500))
	}
	got := b.send("Fen", quarrymoss.Options{Title: "Fen\x00Garden\x1b[2J", Seed: 5, Folk: folk})
	assert.Equal(t, "Fen\ufffdGarden\x1b[2J", got.Facts.Title)
	assert.Equal(t, 3_000, got.Facts.PlayerCount)
	assert.Len(t, got.Facts.Players, 2_000)
	list, err := b.api.Worlds(t.Context(), wire.WorldQuery{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 3_000, list[0].Copies[0].Facts.PlayerCount)
	assert.Len(t, list[0].Copies[0].Facts.Players, 20)
}

func (b *bundle) token() string {
	b.t.Helper()
	return signInAs(b.t, b.daemon.Address, userName, password)
}

func signInAs(t *testing.T, address, name, password string) string {
	t.Helper()
	api, err := client.New(address, "")
	require.NoError(t, err)
	token, err := api.SignIn(context.Background(), name, password, "test")
	require.NoError(t, err)
	return token.Secret
}

// begin begins an upload and gives its address.
func (b *bundle) begin(token, name string, size int64) (at string, status int) {
	b.t.Helper()
	req, err := http.NewRequest(http.MethodPost, b.daemon.Address+"/api/v1/uploads/", nil)
	require.NoError(b.t, err)
	req.Header.Set("Tus-Resumable", "1.0.0")
	req.Header.Set("Upload-Length", fmt.Sprint(size))
	req.Header.Set("Upload-Metadata", "name "+base64.StdEncoding.EncodeToString([]byte(name)))
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(b.t, err)
	require.NoError(b.t, res.Body.Close())
	return res.Header.Get("Location"), res.StatusCode
}

// tus asks something of an upload.
func (b *bundle) tus(method, at, token string, body io.Reader) int {
	b.t.Helper()
	if !strings.HasPrefix(at, "http") {
		at = b.daemon.Address + at
	}
	req, err := http.NewRequest(method, at, body)
	require.NoError(b.t, err)
	req.Header.Set("Tus-Resumable", "1.0.0")
	req.Header.Set("Upload-Offset", "0")
	req.Header.Set("Content-Type", "application/offset+octet-stream")
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(b.t, err)
	require.NoError(b.t, res.Body.Close())
	return res.StatusCode
}
