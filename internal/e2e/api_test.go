package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/api"
	"reshard/internal/cli"
	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// Nothing answers without a session or a token, except health and the sign-in
// itself. The list of addresses comes from the API's own description.
func TestNothingAnswersWithoutASignIn(t *testing.T) {
	t.Parallel()
	b := setup(t)
	raw, err := api.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		OpenAPI string                                `json:"openapi"`
		Paths   map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	assert.True(t, strings.HasPrefix(doc.OpenAPI, "3.1"))
	require.Greater(t, len(doc.Paths), 15)
	for path, methods := range doc.Paths {
		for method := range methods {
			res := ask(t, b, strings.ToUpper(method), "/api"+path, "", "")
			switch {
			case path == "/v1/health":
				assert.Equal(t, 200, res.StatusCode)
			case path == "/v1/sign-in":
				assert.Equal(t, 400, res.StatusCode, "it answers, and wants a body")
			default:
				assert.Equal(t, 401, res.StatusCode, method+" "+path)
				assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
			}
		}
	}
	assert.Equal(t, 401, ask(t, b, "GET", "/api/openapi.json", "", "").StatusCode)
	assert.Equal(t, 401, ask(t, b, "GET", "/api/v1/servers", "Bearer wrong", "").StatusCode)
}

func ask(t *testing.T, b *bundle, method, path, auth, body string) *http.Response {
	t.Helper()
	req, err := http.NewRequest(method, b.daemon.Address+path, strings.NewReader(body))
	require.NoError(t, err)
	if auth != "" {
		req.Header.Set("Authorization", auth)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { _ = res.Body.Close() })
	return res
}

func TestSessionCookieAndOtherSites(t *testing.T) {
	t.Parallel()
	b := setup(t)
	res := ask(t, b, "POST", "/api/v1/sign-in", "", `{"name":"WARDEN","password":"`+password+`"}`)
	require.Equal(t, 200, res.StatusCode)
	cookie := res.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.NotContains(t, string(body), cookie.Value, "the secret stays in the cookie")
	do := func(method, path, origin string) int {
		req, err := http.NewRequest(method, b.daemon.Address+path, nil)
		require.NoError(t, err)
		req.AddCookie(cookie)
		if origin != "" {
			req.Header.Set("Origin", origin)
			req.Header.Set("Sec-Fetch-Site", "cross-site")
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close() //nolint:errcheck // only the status is wanted
		return res.StatusCode
	}
	assert.Equal(t, 200, do("GET", "/api/v1/servers", ""))
	assert.Equal(t, 403, do("POST", "/api/v1/sign-out", "https://elsewhere.example"))
	assert.Equal(t, 204, do("POST", "/api/v1/sign-out", ""))
	assert.Equal(t, 401, do("GET", "/api/v1/servers", ""))
}

func TestGuessingIsSlowedDown(t *testing.T) {
	t.Parallel()
	b := setup(t)
	api, err := client.New(b.daemon.Address, "")
	require.NoError(t, err)
	for range 10 {
		_, err = api.SignIn(context.Background(), userName, "wrong", "x")
		assert.ErrorContains(t, err, "the name or the password is wrong")
	}
	_, err = api.SignIn(context.Background(), userName, password, "x")
	assert.ErrorContains(t, err, "too many wrong passwords")
	_, err = api.SignIn(context.Background(), "nobody", password, "x")
	assert.ErrorContains(t, err, "the name or the password is wrong")
}

func TestUsers(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	require.NoError(t, b.api.AddUser(ctx, "bryn", "leeks and marrows"))
	assert.ErrorIs(t, b.api.AddUser(ctx, "BRYN", "leeks and marrows"), fault.Exists.As())
	assert.ErrorIs(t, b.api.AddUser(ctx, "carys", "short"), fault.Invalid.As())
	other, err := client.New(b.daemon.Address, "")
	require.NoError(t, err)
	token, err := other.SignIn(ctx, "Bryn", "leeks and marrows", "x")
	require.NoError(t, err)
	other, err = client.New(b.daemon.Address, token.Secret)
	require.NoError(t, err)
	_, err = other.Servers(ctx, wire.ServerQuery{})
	require.NoError(t, err)
	require.NoError(t, b.api.SetPassword(ctx, "bryn", "another password", ""))
	_, err = other.Servers(ctx, wire.ServerQuery{})
	assert.ErrorIs(t, err, fault.Denied.As(), "a new password ends old tokens")
	assert.ErrorIs(t, b.api.RemoveUser(ctx, userName), fault.Invalid.As(), "nobody removes themselves")
	assert.ErrorIs(t, b.api.SetPassword(ctx, userName, "another password", ""), fault.NotAllowed.As(),
		"one's own needs the present one")
	assert.ErrorIs(t, b.api.SetPassword(ctx, userName, "another password", "wrong"), fault.NotAllowed.As())
	me, err := b.api.Me(ctx)
	require.NoError(t, err)
	assert.Equal(t, userName, me.Name)
	assert.WithinDuration(t, time.Now(), me.CreatedAt, time.Hour)
	require.NoError(t, b.api.AddUser(ctx, "carys", "leeks and marrows"))
	require.NoError(t, b.api.RemoveUser(ctx, "Carys"))
	assert.ErrorIs(t, b.api.RemoveUser(ctx, "carys"), fault.NotFound.As())
	code, out, _ := b.cli("users")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "bryn")
	code, out, errs := b.cliReading(password+"\nanother password\n", "users", "password", userName, "--password-stdin")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "is changed")
	_, err = b.api.Me(ctx)
	assert.ErrorIs(t, err, fault.Denied.As())
	token, err = b.api.SignIn(ctx, userName, "another password", "x")
	require.NoError(t, err)
	b.api, err = client.New(b.daemon.Address, token.Secret) // it ends what runs
	require.NoError(t, err)
}

// Errors are problem documents with a stable code and a next step, whoever
// found them; nothing of the inside goes out.
func TestProblems(t *testing.T) {
	t.Parallel()
	b := setup(t)
	auth := "Bearer " + signInToken(t, b)
	root := t.TempDir()
	for _, c := range []struct {
		method, path, body string
		status             int
		code, words        string
	}{
		{"GET", "/api/v1/servers/nowhere", "", 404, "not-found", "nowhere"},
		{"GET", "/api/v1/changeovers/999", "", 404, "not-found", "changeover 999"},
		{"GET", "/api/v1/changeovers/x", "", 422, "invalid", ""},
		{"GET", "/api/v1/nothing", "", 404, "not-found", "no such address"},
		{"DELETE", "/api/v1/servers", "", 405, "invalid", "does not take this method"},
		{"POST", "/api/v1/changeovers", `{"kind":"explode"}`, 422, "invalid", ""},
		{"POST", "/api/v1/changeovers", `{"kind":"put"}`, 422, "invalid", "server and world are missing"},
		{"POST", "/api/v1/changeovers", `{"kind":"undo","undoes":77}`, 404, "not-found", "changeover 77"},
		{"POST", "/api/v1/changeovers", `{`, 400, "invalid", ""},
		{"GET", "/api/v1/fit?world=a&server=b&choose=c", "", 422, "invalid", "key=value"},
		{"GET", "/api/v1/fit?world=a&server=b", "", 404, "not-found", "no server"},
		{"POST", "/api/v1/servers", `{"name":"a","game":"chess","root":"/","command":["x"]}`, 404, "not-found",
			"chess"},
		{"POST", "/api/v1/servers",
			`{"name":"a","game":"quarrymoss","root":"/nowhere","kind":"plain","command":["sh"]}`,
			422, "invalid", "absolute path of a folder"},
		{"POST", "/api/v1/servers", `{"name":"a","game":"quarrymoss","root":"ROOT","kind":"odd","command":["sh"]}`, 422,
			"invalid", "none of them"},
		{"POST", "/api/v1/servers",
			`{"name":"a","game":"quarrymoss","root":"ROOT","kind":"plain","command":["/no/such/program"]}`,
			422, "invalid", "is not there"},
		{"POST", "/api/v1/servers", `{"name":"A b","game":"quarrymoss","root":"ROOT","command":["sh"]}`, 422, "invalid",
			""},
	} {
		res := ask(t, b, c.method, c.path, auth, strings.ReplaceAll(c.body, "ROOT", root))
		var p wire.Problem
		require.NoError(t, json.NewDecoder(res.Body).Decode(&p), c.path)
		assert.Equal(t, c.status, res.StatusCode, c.path+c.body)
		assert.Equal(t, c.code, p.Code, c.path)
		assert.Contains(t, p.Detail, c.words)
		assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"), c.path)
	}
}

func signInToken(t *testing.T, b *bundle) string {
	t.Helper()
	api, err := client.New(b.daemon.Address, "")
	require.NoError(t, err)
	token, err := api.SignIn(context.Background(), userName, password, "x")
	require.NoError(t, err)
	return token.Secret
}

func TestArrivals(t *testing.T) {
	t.Parallel()
	b := setup(t)
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "East"), quarrymoss.Options{Title: "East"}))
	require.NoError(t, quarrymoss.Make(filepath.Join(dir, "West"), quarrymoss.Options{Title: "West"}))
	before := snapshot(t, dir)
	two := zipDir(t, dir, "plots")
	_, err := b.api.Send(ctx, "two.zip", "", bytes.NewReader(two), int64(len(two)))
	assert.ErrorIs(t, err, fault.ManyWorlds.As())
	assert.ErrorContains(t, err, "two.zip")
	first, err := b.api.Send(ctx, "two.zip", "plots/West", bytes.NewReader(two), int64(len(two)))
	require.NoError(t, err)
	assert.True(t, first.New)
	assert.Equal(t, "west", first.Copy.World)
	again, err := b.api.Send(ctx, "renamed.zip", "plots/West", bytes.NewReader(two), -1)
	require.NoError(t, err)
	assert.False(t, again.New, "the same content is the same copy")
	assert.Equal(t, first.Copy.ID, again.Copy.ID)

	for name, c := range map[string]struct {
		data []byte
		code fault.Code
	}{
		"empty.zip":     {nil, fault.BadArchive},
		"cut.zip":       {two[:len(two)/2], fault.BadArchive},
		"text.zip":      {[]byte("Item 1: the water butt."), fault.BadArchive},
		"pictures.zip":  {zipWith(t, "holiday/beach.jpg", "x"), fault.NotAWorld},
		"escape.zip":    {zipWith(t, "../../beach.jpg", "x"), fault.UnsafeArchive},
		"corrupted.zip": {corrupted(two), fault.BadArchive},
	} {
		root := ""
		if name == "corrupted.zip" {
			root = "plots/West"
		}
		_, err := b.api.Send(ctx, name, root, bytes.NewReader(c.data), int64(len(c.data)))
		assert.Equal(t, c.code, fault.CodeOf(err), "%s: %v", name, err)
		assert.ErrorContains(t, err, name)
	}
	worlds, err := b.api.Worlds(ctx, wire.WorldQuery{})
	require.NoError(t, err)
	assert.Len(t, worlds, 1, "nothing half is listed")
	left, err := os.ReadDir(filepath.Join(b.dir, "data", "arrivals"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = b.api.VerifyWorld(ctx, "west")
	require.NoError(t, err)

	// From the command line: the source is never changed, a folder's lock stays behind.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "East", "held.lock"), nil, 0o600))
	code, out, errs := b.cli("send", filepath.Join(dir, "East"))
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "reshard fit east SERVER")
	require.NoError(t, os.Remove(filepath.Join(dir, "East", "held.lock")))
	assert.Equal(t, before, snapshot(t, dir))
	code, _, errs = b.cli("send", dir)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "holds 2 worlds")
	code, _, errs = b.cli("inspect", t.TempDir())
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Found instead: nothing")
}

func zipDir(t *testing.T, dir, wrapper string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		w, err := z.CreateHeader(&zip.FileHeader{Name: wrapper + "/" + rel, Method: zip.Store})
		if err != nil {
			return err
		}
		data, err := os.ReadFile(p)
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}))
	require.NoError(t, z.Close())
	return b.Bytes()
}

func zipWith(t *testing.T, name, data string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	require.NoError(t, err)
	_, err = io.WriteString(w, data)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

// corrupted flips a byte in the content of one of West's tiles.
func corrupted(data []byte) []byte {
	out := bytes.Clone(data)
	at := bytes.Index(out, []byte("plots/West/ground/t.0.0.qt"))
	out[at+200] ^= 0xff
	return out
}

// The console's page comes with its own nonce in each answer, and with headers
// that keep other sites' scripts out.
func TestConsolePage(t *testing.T) {
	t.Parallel()
	b := setup(t)
	res := ask(t, b, "GET", "/servers/anything", "", "")
	assert.Equal(t, 200, res.StatusCode)
	policy := res.Header.Get("Content-Security-Policy")
	if policy != "" {
		assert.Contains(t, policy, "script-src 'self' 'nonce-")
		assert.NotContains(t, policy, "unsafe")
	}
	assert.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
	other := ask(t, b, "GET", "/", "", "")
	assert.NotEqual(t, policy, other.Header.Get("Content-Security-Policy"))
}

// A game that nobody here has heard of: one YAML page in a folder of the service.
func TestAProfileOfOnesOwn(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	page := `reshard: game/1
id: beanstalk
title: Beanstalk
world:
  shape: folder
  recognise: {require: [stalk.json]}
  facts:
    title: {read: stalk.json, through: [json], pick: /name}
    seed:  {read: stalk.json, through: [json], pick: /bean, type: int64}
server:
  kinds: {giant: {}}
  worlds: stalks/
  settings: {main: {file: giant.properties, format: properties}}
  keys: {active-world: [{in: main, key: stalk}]}
  console: {ready: 'fee fi fo fum', opened: 'climbing (?P<world>\S+)', stop: {say: chop}}
`
	require.NoError(t, os.WriteFile(filepath.Join(folder, "beanstalk.yaml"), []byte(page), 0o600))
	b := &bundle{t: t, dir: t.TempDir(), database: newDatabase(t), games: folder}
	b.start()
	t.Cleanup(b.end)
	code, out, _ := b.cli("games")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Beanstalk")
	dir := filepath.Join(b.dir, "tall")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stalk.json"), []byte(`{"name": "Tall One", "bean": -3}`),
		0o600))
	code, out, errs := b.cli("send", dir)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "“Tall One”")

	// An id that ships already is not replaced unless that is said.
	shipped := strings.Replace(page, "id: beanstalk", "id: quarrymoss", 1)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "mine.yaml"), []byte(shipped), 0o600))
	c := b.config()
	_, err := cli.Serve(context.Background(), c)
	assert.ErrorIs(t, err, fault.Exists.As())
	assert.ErrorContains(t, err, "ships with Reshard")
}
