package bench

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/wire"
)

// freshServer makes a server whose world is 500 MB in 1,000 files that nothing else has.
func (s *bundle) freshServer(name string, seed byte) {
	s.b.Helper()
	root := filepath.Join(s.dir, "servers", name)
	require.NoError(s.b, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "fen", 3, 0))
	world := filepath.Join(root, "worlds", "fen")
	require.NoError(s.b, quarrymoss.Make(world, quarrymoss.Options{Title: "Fen", Seed: 3, Tiles: 1}))
	random, data := rand.NewChaCha8([32]byte{seed}), make([]byte, size(500_000, 5_000))
	at := time.Now().Add(-time.Hour)
	for i := range size(1000, 10) {
		_, _ = random.Read(data)
		file := filepath.Join(world, "ground", fmt.Sprintf("fresh.%d.qt", i))
		require.NoError(s.b, os.WriteFile(file, data, 0o644))
		require.NoError(s.b, os.Chtimes(file, at, at))
	}
	_, err := s.api.AddServer(context.Background(), wire.NewServer{
		Name: name, Game: "quarrymoss", Kind: "plain", Root: root,
		Command: []string{s.tool, "quarrymoss", "serve", "."},
	})
	require.NoError(s.b, err)
}

// whole waits until no store lacks anything.
func (s *bundle) whole() {
	s.b.Helper()
	for end := time.Now().Add(3 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		all, err := s.api.Stores(context.Background())
		require.NoError(s.b, err)
		lacks := 0
		for _, store := range all {
			lacks += store.Lacks
		}
		if lacks == 0 {
			return
		}
		require.True(s.b, time.Now().Before(end), "%+v", all)
	}
}

// BenchmarkFirstBackupWithStores compares the first backup of a world of 500 MB in 1,000 files, until it is on record,
// with two stores that get it too and without any, in turn; and says how long it takes until both lack nothing.
func BenchmarkFirstBackupWithStores(b *testing.B) {
	alone, beside := setup(b), setup(b)
	for _, name := range []string{"granary", "barn"} {
		_, err := beside.api.AddStore(context.Background(), wire.NewStore{
			Name: name, Kind: "files", Folder: filepath.Join(beside.dir, name),
		})
		require.NoError(b, err)
	}
	var without, with, ratios, sent []float64
	for b.Loop() {
		for i := range rounds {
			for _, s := range []*bundle{alone, beside} {
				name := fmt.Sprintf("north-%d", i)
				s.freshServer(name, byte(i))
				shell(b, `sync -f "$1"`, s.dir)
				begun := time.Now()
				_, _, made := s.backup(name)
				took := made.Ended.Sub(made.Begun).Seconds()
				if s == alone {
					without = append(without, took)
					continue
				}
				with = append(with, took)
				s.whole()
				sent = append(sent, time.Since(begun).Seconds())
			}
			ratios = append(ratios, with[i]/without[i])
		}
	}
	b.ReportMetric(median(without), "without-s")
	b.ReportMetric(median(with), "with-s")
	b.ReportMetric(median(ratios), "ratio")
	b.ReportMetric(median(sent), "until-stores-lack-nothing-s")
	b.ReportMetric(0, "ns/op")
}

// largestPack makes the largest pack that a store gets, of chunks that do not compress, as docs/vault.md describes.
func largestPack(b *testing.B, vault string) {
	b.Helper()
	const magic = "reshard pack/1\n\x00"
	id := uuid.New()
	name := hex.EncodeToString(id[:])
	file := filepath.Join(vault, "packs", name[:2], name)
	require.NoError(b, os.MkdirAll(filepath.Dir(file), 0o700))
	out, err := os.Create(file)
	require.NoError(b, err)
	defer out.Close() //nolint:errcheck // Write has told all there is to tell
	random, chunk, directory := rand.NewChaCha8([32]byte{9}), make([]byte, size(4<<20, 4<<10)), []byte{}
	_, err = out.WriteString(magic)
	require.NoError(b, err)
	const chunks = 63
	for range chunks {
		_, _ = random.Read(chunk)
		sum := blake3.Sum256(chunk)
		header := binary.LittleEndian.AppendUint32([]byte{1, 0, 0, 0}, uint32(len(chunk)))
		header = append(binary.LittleEndian.AppendUint64(header, uint64(len(chunk))), sum[:]...)
		directory = append(directory, header...)
		_, err = out.Write(append(header, chunk...))
		require.NoError(b, err)
	}
	sum := blake3.Sum256(directory)
	_, err = out.Write(append(binary.LittleEndian.AppendUint32(append(directory, sum[:]...), chunks), magic...))
	require.NoError(b, err)
}

// failingGateway is an S3-compatible server that refuses each request that writes the first time.
func failingGateway(b *testing.B) string {
	b.Helper()
	program, err := filepath.Abs("../../bin/versitygw")
	require.NoError(b, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	address := l.Addr().String()
	require.NoError(b, l.Close())
	dir := filepath.Join(b.TempDir(), "objects")
	require.NoError(b, os.MkdirAll(filepath.Join(dir, "backups"), 0o755))
	cmd := exec.Command(program, "--port", address, "--access", "ada", "--secret", "marrows-and-leeks", "posix",
		"--sidecar", b.TempDir(), dir)
	require.NoError(b, cmd.Start(), "make setup-test builds it")
	b.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	to, err := url.Parse("http://" + address)
	require.NoError(b, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to); r.Out.Host = r.In.Host }}
	var mu sync.Mutex
	seen := map[string]bool{}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		key := r.Method + r.URL.String()
		again := seen[key]
		seen[key] = true
		mu.Unlock()
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "packs/") && !again {
			_, _ = io.Copy(io.Discard, r.Body)
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, `<Error><Code>SlowDown</Code><Message>Later</Message></Error>`)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	b.Cleanup(front.Close)
	require.Eventually(b, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	return front.URL
}

// BenchmarkStoresMemory says by how much the service's memory grows beyond what it is when idle while the largest
// pack goes to three S3-compatible stores at the same time, each of which refuses each part once.
func BenchmarkStoresMemory(b *testing.B) {
	s := setup(b)
	ctx := context.Background()
	largestPack(b, filepath.Join(s.dir, "data", "vault"))
	work, err := s.api.WorkOnVault(ctx, "rebuild")
	require.NoError(b, err)
	for work.Work.Ended == nil {
		time.Sleep(50 * time.Millisecond)
		work, err = s.api.Vault(ctx)
		require.NoError(b, err)
	}
	require.Nil(b, work.Work.Failure)
	gateway := failingGateway(b)
	for b.Loop() {
		time.Sleep(2 * time.Second)
		pid := s.cmd.Process.Pid
		require.NoError(b, os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0o200)) // proc(5)
		idle, begun := peakMemory(b, pid), time.Now()
		for i := range 3 {
			_, err := s.api.AddStore(ctx, wire.NewStore{
				Name: fmt.Sprintf("far-%d", i), Kind: "s3", Endpoint: gateway, Bucket: "backups",
				Prefix: fmt.Sprint(i), User: "ada", Secret: "marrows-and-leeks", Private: true,
			})
			require.NoError(b, err)
		}
		s.whole()
		b.ReportMetric(peakMemory(b, pid)-idle, "above-idle-MB")
		b.ReportMetric(idle, "idle-MB")
		b.ReportMetric(time.Since(begun).Seconds(), "until-stores-lack-nothing-s")
	}
	b.ReportMetric(0, "ns/op")
}
