package records_test

import (
	"io"
	"net"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// proxy stands between a service and the database, and can be cut: connections are then
// closed, and new ones refused.
type proxy struct {
	url    string
	target string
	mu     sync.Mutex
	off    bool
	conns  map[net.Conn]bool
}

func newProxy(t *testing.T, database string) *proxy {
	t.Helper()
	u, err := url.Parse(database)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{target: u.Host, conns: map[net.Conn]bool{}}
	u.Host = l.Addr().String()
	p.url = u.String()
	t.Cleanup(func() { _ = l.Close(); p.cut(true) })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go p.pass(conn)
		}
	}()
	return p
}

func (p *proxy) pass(from net.Conn) {
	to, err := net.Dial("tcp", p.target)
	p.mu.Lock()
	if err != nil || p.off {
		p.mu.Unlock()
		_ = from.Close()
		return
	}
	p.conns[from], p.conns[to] = true, true
	p.mu.Unlock()
	go func() { _, _ = io.Copy(to, from); _ = to.Close() }()
	_, _ = io.Copy(from, to)
	_ = from.Close()
}

func (p *proxy) cut(off bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.off = off
	for c := range p.conns {
		_ = c.Close()
		delete(p.conns, c)
	}
}
