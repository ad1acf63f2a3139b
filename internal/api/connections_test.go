package api

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
)

// serve has a server with bounded connections answer; it gives its address. A request for /in signs in.
func serve(t *testing.T, proxies []netip.Prefix) (address string, c *Connections) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c = &Connections{Listener: l, Proxies: proxies}
	s := &http.Server{ConnContext: Remember, ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(
		func(_ http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/in" {
				signedInOver(r.Context())
			}
		})}
	go func() { _ = s.Serve(c) }()
	t.Cleanup(func() { _ = s.Close() })
	return l.Addr().String(), c
}

// stalled opens connections that say nothing.
func stalled(t *testing.T, address string, n int) (out []net.Conn) {
	t.Helper()
	for range n {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		out = append(out, conn)
	}
	return out
}

func ask(t *testing.T, conn net.Conn, path string) {
	t.Helper()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	_, err := fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
	require.NoError(t, err)
	answer := make([]byte, 12)
	_, err = io.ReadFull(conn, answer)
	require.NoError(t, err)
	assert.Equal(t, "HTTP/1.1 200", string(answer))
}

func TestWhoHoldsConnectionsKeepsNobodyOut(t *testing.T) {
	t.Parallel()
	address, c := serve(t, nil)
	mine := stalled(t, address, 1)[0]
	ask(t, mine, "/in")
	held := stalled(t, address, mostStrangers+20)
	ask(t, stalled(t, address, 1)[0], "/") // somebody new is answered all the same
	require.NoError(t, held[0].SetReadDeadline(time.Now().Add(10*time.Second)))
	_, err := held[0].Read(make([]byte, 1))
	assert.Error(t, err, "the oldest has gone")
	_, err = fmt.Fprint(mine, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	require.NoError(t, err)
	_, err = mine.Read(make([]byte, 1))
	require.NoError(t, err, "whoever has signed in stays")
	c.mu.Lock()
	defer c.mu.Unlock()
	assert.LessOrEqual(t, len(c.from[netip.MustParseAddr("127.0.0.1")]), mostStrangers)
}

func TestAProxyHasAllConnections(t *testing.T) {
	t.Parallel()
	address, c := serve(t, []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")})
	stalled(t, address, mostStrangers+20)
	require.Eventually(t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.all == mostStrangers+20
	}, 10*time.Second, 10*time.Millisecond)
}

func TestShares(t *testing.T) {
	t.Parallel()
	s := shares{what: "event stream", most: 2}
	first, err := s.take("ada")
	require.NoError(t, err)
	_, err = s.take("ada")
	require.NoError(t, err)
	_, err = s.take("ada")
	require.ErrorIs(t, err, fault.Busy.As())
	_, err = s.take("bryn")
	require.NoError(t, err)
	first()
	first() // once counts
	_, err = s.take("ada")
	require.NoError(t, err)
	_, err = s.take("ada")
	require.Error(t, err)
}

func TestOnlyTrustedProxiesSayWhereARequestComesFrom(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		proxies []netip.Prefix
		said    string
		from    string
		host    string
	}{
		"nobody is trusted": {nil, "203.0.113.9", "192.0.2.1:1234", ""},
		"a proxy is": {
			[]netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}, "6.6.6.6, 203.0.113.9", "203.0.113.9:0", "h",
		},
		"it says no address": {
			[]netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}, strings.Repeat("x", 5000), "192.0.2.1:1234", "h",
		},
		"another is": {[]netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}, "203.0.113.9", "192.0.2.1:1234", ""},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = "192.0.2.1:1234"
		r.Header.Set("X-Forwarded-For", c.said)
		r.Header.Set("X-Forwarded-Host", "h")
		behindProxy(c.proxies, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			assert.Equal(t, c.from, r.RemoteAddr, name)
			assert.Equal(t, c.host, r.Header.Get("X-Forwarded-Host"), name)
		})).ServeHTTP(httptest.NewRecorder(), r)
	}
}
