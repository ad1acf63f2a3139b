package stores

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/records/recordstest"
	"reshard/internal/secrets"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// house is a service's vault with its stores.
type house struct {
	t       *testing.T
	data    string
	records *records.Records
	vault   *vault.Vault
	stores  *Stores
	leap    atomic.Int64
	trace   func(point string)
}

func newHouse(t *testing.T) *house {
	t.Helper()
	h := &house{t: t, data: t.TempDir()}
	ctx := context.Background()
	var err error
	h.records, err = records.Open(ctx, recordstest.Database(t), records.Claim{Who: "test"})
	require.NoError(t, err)
	t.Cleanup(h.records.Close)
	blobs, err := vault.Files(filepath.Join(h.data, "vault"))
	require.NoError(t, err)
	h.vault, err = vault.Open(ctx, blobs, h.records.VaultIndex())
	require.NoError(t, err)
	keeper, _, err := secrets.Open(h.data)
	require.NoError(t, err)
	counted, err := h.records.Counted(ctx, func() time.Time { return time.Now().Add(time.Duration(h.leap.Load())) })
	require.NoError(t, err)
	h.stores, err = Open(Config{
		Records: h.records, Vault: h.vault, Secrets: keeper, Counted: counted, Log: slog.New(slog.DiscardHandler),
		Data: h.data, Name: "osier",
		Identity: h.data, Life: ctx, Trace: func(p string) {
			if h.trace != nil {
				h.trace(p)
			}
		},
	})
	require.NoError(t, err)
	return h
}

// keep stores a copy of some small files, and has it kept.
func (h *house) keep(seed uint64, files int) string {
	h.t.Helper()
	return h.keepBytes(seed, files, 200_000)
}

// keepBytes stores a copy of some files of up to, or for large ones about, so many bytes, and has it kept.
func (h *house) keepBytes(seed uint64, files, most int) string {
	h.t.Helper()
	r := rand.New(rand.NewPCG(seed, 1))
	var sources []vault.Source
	for i := range files {
		data := make([]byte, max(most-400_000, 1000)+r.IntN(min(most, 400_000)))
		for j := range data {
			data[j] = byte(r.Uint32())
		}
		sources = append(sources, vault.Source{
			Path: fmt.Sprintf("f%d", i), Open: func() (io.ReadCloser, error) {
				return io.NopCloser(bytes.NewReader(data)), nil
			},
		})
	}
	c, err := h.vault.Store(context.Background(), sources, nil)
	require.NoError(h.t, err)
	_, _, err = h.records.AddCopy(context.Background(), records.Copy{
		ID: c.ID, Kind: "backup", CreatedBy: "ada",
		Facts: records.JSON[world.Facts]{V: world.Facts{Title: c.ID[:6], Game: "g"}},
	})
	require.NoError(h.t, err)
	return c.ID
}

// granary adds a store that is a folder, and gives it.
func (h *house) granary(name string) string {
	h.t.Helper()
	dir := filepath.Join(h.t.TempDir(), name)
	_, err := h.stores.Add(context.Background(), wire.NewStore{Name: name, Kind: KindFiles, Folder: dir}, "ada")
	require.NoError(h.t, err)
	return dir
}

// recovered brings everything that a folder has into a vault of its own, with the keys of the first.
func (h *house) recovered(dir string) *house {
	h.t.Helper()
	n := newHouse(h.t)
	n.keysOf(h)
	ctx := context.Background()
	_, err := n.stores.Add(ctx, wire.NewStore{Name: "left", Kind: KindFiles, Folder: dir, Recover: true}, "ada")
	require.NoError(h.t, err)
	got, err := n.stores.Recover(ctx, "left", func(_, _ int64) {})
	require.NoError(h.t, err)
	require.Empty(h.t, got.Damaged)
	require.NoError(h.t, n.stores.Recovered(ctx, "left"))
	return n
}

func (h *house) verify(ids ...string) {
	h.t.Helper()
	for _, id := range ids {
		c, err := h.vault.Load(context.Background(), id)
		require.NoError(h.t, err, id)
		require.NoError(h.t, h.vault.Verify(context.Background(), c), id)
	}
}

// gateway is a real S3-compatible server (scripts/s3server), and what stands between it and the stores.
type gateway struct {
	*httputil.ReverseProxy
	address string
	// cut ends the connection with the request that takes what was written over that many bytes, and every later one.
	cut atomic.Int64
	// drop says that all is written, and writes nothing; spoil gives other bytes than were written; hang takes what is
	// written and never answers; keepAll allows no deletion; endless gives packs that do not end.
	drop, spoil, hang, keepAll, endless atomic.Bool
	// refuse is a pack that is not taken; hanging counts writes that hang, parts those of parts.
	refuse         atomic.Value
	hanging, parts atomic.Int64
	// folder is where the objects are.
	folder string
}

// objects lists the packs that are there.
func (g *gateway) objects(t *testing.T) []string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(g.folder, "backups", "reshard", "packs", "*", "*"))
	require.NoError(t, err)
	return found
}

func denied(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(http.StatusForbidden)
	_, _ = io.WriteString(w, `<Error><Code>AccessDenied</Code><Message>Access Denied</Message></Error>`)
}

const accessKey, secretKey = "ada", "marrows-and-leeks"

func newGateway(t *testing.T) *gateway {
	t.Helper()
	program, err := filepath.Abs("../../bin/versitygw")
	require.NoError(t, err)
	if _, err := os.Stat(program); err != nil {
		t.Fatal("the S3-compatible server for tests is not built: make setup-test does it")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "backups"), 0o755))
	beside := t.TempDir()
	cmd := exec.Command(program, "--port", address, "--access", accessKey, "--secret", secretKey, "posix", "--sidecar",
		beside, dir)
	out := &bytes.Buffer{}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "%s", out)
	to, err := url.Parse("http://" + address)
	require.NoError(t, err)
	g := &gateway{
		folder:       dir,
		ReverseProxy: &httputil.ReverseProxy{ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)},
	}
	g.Rewrite = func(r *httputil.ProxyRequest) { r.SetURL(to); r.Out.Host = r.In.Host }
	g.ModifyResponse = func(res *http.Response) error {
		if g.spoil.Load() && res.Request.Method == http.MethodGet && strings.Contains(res.Request.URL.Path, "packs/") {
			data, err := io.ReadAll(res.Body)
			if err != nil || len(data) == 0 {
				return err
			}
			data[len(data)/2] ^= 1
			res.Body = io.NopCloser(bytes.NewReader(data))
		}
		return nil
	}
	front, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g.address = "http://" + front.Addr().String()
	server := &http.Server{Handler: g, ErrorLog: g.ErrorLog}
	go server.Serve(front) //nolint:errcheck // it ends with the test
	t.Cleanup(func() { _ = server.Close() })
	return g
}

func (g *gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	pack := strings.Contains(r.URL.Path, "packs/")
	writes := r.Method == http.MethodPut && pack
	if r.URL.Query().Has("partNumber") {
		g.parts.Add(1)
	}
	refuse, _ := g.refuse.Load().(string)
	switch {
	case writes && g.drop.Load():
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("ETag", `"0"`)
	case writes && g.hang.Load():
		_, _ = io.Copy(io.Discard, r.Body)
		g.hanging.Add(1)
		<-r.Context().Done()
	case writes && refuse != "" && strings.Contains(r.URL.Path, refuse),
		r.Method == http.MethodDelete && g.keepAll.Load():
		_, _ = io.Copy(io.Discard, r.Body)
		denied(w)
	case pack && r.Method == http.MethodGet && g.endless.Load():
		for more := make([]byte, 1<<20); ; {
			if _, err := w.Write(more); err != nil {
				return
			}
		}
	case writes && g.cut.Load() > 0:
		// What fits before the cut gets through: parts of a larger one.
		if left := g.cut.Add(-r.ContentLength); left > 0 {
			g.ReverseProxy.ServeHTTP(w, r)
			return
		}
		g.cut.Store(1)
		_, _ = io.CopyN(io.Discard, r.Body, 1000)
		panic(http.ErrAbortHandler)
	default:
		g.ReverseProxy.ServeHTTP(w, r)
	}
}

func (g *gateway) at() wire.NewStore {
	return wire.NewStore{
		Name: "far", Kind: KindS3, Endpoint: g.address, Bucket: "backups", Prefix: "reshard", User: accessKey,
		Secret: secretKey, Private: true,
	}
}

func TestEverythingGoesToEveryStore(t *testing.T) {
	h, g := newHouse(t), newGateway(t)
	ctx := context.Background()
	ids := []string{h.keep(1, 3), h.keep(2, 40)}
	dir := h.granary("granary")
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	all, err := h.stores.Stores(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, s := range all {
		assert.Zero(t, s.Lacks, s.Name)
		assert.Positive(t, s.Packs, s.Name)
		assert.Empty(t, s.Trouble)
	}
	h.recovered(dir).verify(ids...)

	// What is there is encrypted, each time otherwise, and in a form that other programs read.
	file := firstPack(t, dir)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(data, []byte("age-encryption.org/v1\n")))
	keys, err := os.ReadFile(filepath.Join(h.data, KeyFile))
	require.NoError(t, err)
	identities, err := age.ParseIdentities(bytes.NewReader(keys))
	require.NoError(t, err)
	_, err = age.Decrypt(bytes.NewReader(data), identities...)
	require.NoError(t, err)

	// The other one tells of its own: it is not taken for an empty place by another vault.
	other := newHouse(t)
	_, err = other.stores.Add(ctx, wire.NewStore{Name: "granary", Kind: KindFiles, Folder: dir}, "bryn")
	require.ErrorContains(t, err, "another service's store")
	_, err = other.stores.Add(ctx, wire.NewStore{Name: "new", Kind: KindFiles, Folder: t.TempDir(), Recover: true},
		"bryn")
	require.ErrorContains(t, err, "there is no Reshard store here")
	far := other.stores
	in := g.at()
	in.Recover = true
	_, err = far.Add(ctx, in, "bryn")
	require.NoError(t, err)
	_, err = far.Recover(ctx, "far", func(_, _ int64) {})
	require.ErrorIs(t, err, fault.Refused.As(), "without the key nobody can")
}

func firstPack(t *testing.T, dir string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "packs", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, found)
	return found[0]
}

func TestAStoreThatIsNotWhatItShouldBe(t *testing.T) {
	h, g := newHouse(t), newGateway(t)
	ctx := context.Background()
	for name, c := range map[string]struct {
		change func(*wire.NewStore)
		words  string
	}{
		"a wrong secret": {func(s *wire.NewStore) { s.Secret = "peas" }, "does not accept the access key"},
		"a wrong key":    {func(s *wire.NewStore) { s.User = "bryn" }, "does not accept"},
		"no such bucket": {func(s *wire.NewStore) { s.Bucket = "sheds" }, "there is no such bucket"},
		"nobody there":   {func(s *wire.NewStore) { s.Endpoint = "http://127.0.0.1:1" }, "does not answer"},
		"not meant":      {func(s *wire.NewStore) { s.Private = false }, "not encrypted"},
		"a folder of who": {
			func(s *wire.NewStore) { *s = wire.NewStore{Name: "f", Kind: KindFiles, Folder: "here"} },
			"no absolute path",
		},
		"odd": {func(s *wire.NewStore) { s.Kind = "tape" }, "no kind of store"},
	} {
		in := g.at()
		c.change(&in)
		_, err := h.stores.Add(ctx, in, "ada")
		what, next := fault.Words(err)
		assert.Contains(t, what, c.words, name)
		assert.NotEmpty(t, next, name)
	}
	all, err := h.stores.Stores(ctx)
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was added")
}

func TestALineToAStoreThatIsCut(t *testing.T) {
	h, g := newHouse(t), newGateway(t)
	ctx := context.Background()
	h.keep(1, 30)
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	g.cut.Store(1000)
	require.Error(t, h.stores.Send(ctx))
	s, err := h.stores.Store(ctx, "far")
	require.NoError(t, err)
	assert.NotEmpty(t, s.Trouble)
	assert.Positive(t, s.Lacks)
	alerts, err := h.stores.Alerts(ctx)
	require.NoError(t, err)
	require.Len(t, alerts, 1)
	g.cut.Store(0)
	require.NoError(t, h.stores.Send(ctx))
	s, err = h.stores.Store(ctx, "far")
	require.NoError(t, err)
	assert.Empty(t, s.Trouble)
	assert.Zero(t, s.Lacks)
}

func TestAStoreThatLies(t *testing.T) {
	h, g := newHouse(t), newGateway(t)
	ctx := context.Background()
	h.keep(1, 30)
	_, err := h.stores.Add(ctx, g.at(), "ada")
	require.NoError(t, err)
	g.drop.Store(true)
	require.NoError(t, h.stores.Send(ctx), "it says that all is well")
	g.drop.Store(false)
	got, err := h.stores.Check(ctx, "far")
	require.NoError(t, err)
	require.NotEmpty(t, got.Findings)
	assert.True(t, got.Findings[0].Mended)
	g.spoil.Store(true)
	got, err = h.stores.Check(ctx, "far")
	require.NoError(t, err)
	require.NotEmpty(t, got.Findings)
	assert.Contains(t, got.Findings[0].What, "not what was sent there")
	g.spoil.Store(false)
	got, err = h.stores.Check(ctx, "far")
	require.NoError(t, err)
	assert.Empty(t, got.Findings)
}

func TestDamageIsMendedFromTheOther(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	id := h.keep(1, 30)
	dir := h.granary("granary")
	require.NoError(t, h.stores.Send(ctx))
	spoil := func(file string) {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(file, data, 0o600))
	}
	spoil(firstPack(t, filepath.Join(h.data, "vault")))
	got, err := h.stores.Standing(ctx, round)
	require.NoError(t, err)
	require.Len(t, got.Findings, 1)
	assert.Contains(t, got.Findings[0].What, "mended from store granary")
	h.verify(id)
	require.NoError(t, os.Remove(firstPack(t, filepath.Join(h.data, "vault"))))
	got, err = h.stores.Standing(ctx, round)
	require.NoError(t, err)
	require.Len(t, got.Findings, 1)
	h.verify(id)

	spoil(firstPack(t, dir))
	got, err = h.stores.Standing(ctx, round)
	require.NoError(t, err)
	require.Len(t, got.Findings, 1)
	assert.Contains(t, got.Findings[0].What, "sent again")
	h.recovered(dir).verify(id)

	// Both are damaged: nobody can mend that, and it is told.
	far := firstPack(t, dir)
	whole, err := os.ReadFile(far)
	require.NoError(t, err)
	spoil(far)
	spoil(firstPack(t, filepath.Join(h.data, "vault")))
	got, err = h.stores.Standing(ctx, round)
	require.NoError(t, err)
	require.NotEmpty(t, got.Findings)
	assert.False(t, got.Findings[0].Mended)
	alerts, err := h.stores.Alerts(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, alerts)
	assert.Contains(t, alerts[0].Says, "nothing could mend")

	// A check by hand says so, as often as it is asked, until a store has it whole again.
	check := func() wire.VaultChecked {
		out, err := h.stores.CheckVault(ctx, func(int64, int64) {})
		require.NoError(t, err)
		return out
	}
	for range 2 {
		out := check()
		assert.NotEmpty(t, out.Damaged, "the pack is named")
		assert.NotEmpty(t, out.Touched)
		assert.Empty(t, out.Mended)
	}
	require.NoError(t, os.WriteFile(far, whole, 0o600))
	out := check()
	require.Len(t, out.Mended, 1)
	assert.Equal(t, "granary", out.Mended[0].Store)
	assert.Empty(t, out.Damaged)
	assert.Empty(t, out.Touched)
	h.verify(id)
	alerts, err = h.stores.Alerts(ctx)
	require.NoError(t, err)
	for _, a := range alerts {
		assert.NotContains(t, a.Says, "nothing could mend", "it ends with the damage")
	}
	assert.Empty(t, check().Mended)
}

func TestAKeyIsRotated(t *testing.T) {
	h := newHouse(t)
	ctx := context.Background()
	id := h.keep(1, 30)
	dir := h.granary("granary")
	require.NoError(t, h.stores.Send(ctx))
	before, err := h.stores.Keys(ctx)
	require.NoError(t, err)
	require.Len(t, before.Keys, 1)
	_, err = h.stores.Rotate(ctx)
	require.NoError(t, err)
	require.NoError(t, h.stores.Send(ctx))
	after, err := h.stores.Keys(ctx)
	require.NoError(t, err)
	require.Len(t, after.Keys, 2)
	assert.Zero(t, after.Keys[1].Packs, "nothing needs the old one any more")
	assert.Equal(t, before.Keys[0].Packs, after.Keys[0].Packs)
	h.recovered(dir).verify(id)
}

func TestAShareIsReadBackEachDay(t *testing.T) {
	for _, c := range []struct {
		all  int
		days time.Duration
		want int
	}{{280, 1, 10}, {280, 28, 280}, {280, 400, 280}, {1, 1, 1}, {29, 1, 2}} {
		assert.Equal(t, c.want, share(c.all, c.days*24*time.Hour), "%+v", c)
	}
}

// A life of a vault with a store: copies come and go, collections, sends that are cut off at any point, standing
// checks, clocks that leap. Whatever was confirmed to be in the store comes back whole from it alone.
func TestNothingConfirmedIsLost(t *testing.T) {
	for seed := range uint64(4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 3))
			h := newHouse(t)
			ctx := context.Background()
			dir := h.granary("granary")
			kept, confirmed := map[string]bool{}, map[string]bool{}
			cut := errors.New("cut off")
			for range 60 {
				switch r.IntN(8) {
				case 0, 1, 2:
					kept[h.keep(r.Uint64N(30), 1+r.IntN(6))] = true
				case 3: // one goes
					for id := range kept {
						delete(kept, id)
						delete(confirmed, id)
						h.gone(id)
						break
					}
				case 4:
					var keep []string
					for id := range kept {
						keep = append(keep, id)
					}
					_, err := h.vault.Collect(ctx, keep, time.Now(), nil)
					require.NoError(t, err)
				case 5:
					at := r.IntN(6)
					h.trace = func(string) {
						if at--; at == 0 {
							panic(cut)
						}
					}
					err := fault.Safely(func() error { return h.stores.Send(ctx) })
					h.trace = nil
					if err == nil {
						for id := range kept {
							confirmed[id] = true
						}
					}
				case 6:
					_, err := h.stores.Standing(ctx, time.Duration(r.Int64N(int64(round))))
					require.NoError(t, err)
				case 7:
					h.leap.Store(r.Int64N(int64(400*24*time.Hour)) - int64(90*24*time.Hour))
				}
			}
			var ids []string
			for id := range confirmed {
				ids = append(ids, id)
			}
			h.recovered(dir).verify(ids...)
			for id := range kept {
				h.verify(id)
			}
		})
	}
}

// gone lets a copy go for good.
func (h *house) gone(id string) {
	h.t.Helper()
	_, err := h.records.Pool().Exec(context.Background(), `UPDATE copies SET gone_at = now() WHERE id = $1`, id)
	require.NoError(h.t, err)
}
