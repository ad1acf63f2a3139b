package api

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"reshard/internal/core/fault"
)

// How many connections there may be: in all, and from one address while nobody has signed in over them. One more
// closes the oldest of these, so that idle connections lock nobody out.
const (
	mostConnections = 4096
	mostStrangers   = 256
)

// Connections bounds the connections of a listener. It is safe for concurrent use.
type Connections struct {
	net.Listener
	// Proxies may have as many as they like, within all.
	Proxies []netip.Prefix

	mu   sync.Mutex // held for moments only
	all  int
	from map[netip.Addr][]*connection // of strangers, the oldest first
}

// connection is one of a listener.
type connection struct {
	net.Conn
	of   *Connections
	addr netip.Addr
	// known: somebody has signed in over it, or a proxy has it.
	known atomic.Bool
	once  sync.Once
}

// Accept implements net.Listener.
func (c *Connections) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	if err != nil {
		return nil, err
	}
	one := &connection{Conn: conn, of: c}
	if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
		one.addr = at.Addr().Unmap().WithZone("")
	}
	one.known.Store(trusted(c.Proxies, conn.RemoteAddr().String()))
	if old := c.enter(one); old != nil {
		_ = old.Close() // nobody has signed in over it
	}
	return one, nil
}

// enter counts a connection, and gives one that has to go for it; nil: none has.
func (c *Connections) enter(one *connection) (old *connection) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.from == nil {
		c.from = map[netip.Addr][]*connection{}
	}
	c.all++
	switch {
	case !one.known.Load() && len(c.from[one.addr]) >= mostStrangers:
		old = c.from[one.addr][0]
	case c.all > mostConnections: // of those who have most
		for _, list := range c.from {
			if old == nil || len(list) > len(c.from[old.addr]) {
				old = list[0]
			}
		}
		if old == nil {
			old = one
		}
	}
	if !one.known.Load() {
		c.from[one.addr] = append(c.from[one.addr], one)
	}
	return old
}

// leave takes a connection out of those of strangers.
func (c *Connections) leave(one *connection) {
	list := c.from[one.addr]
	i := slices.Index(list, one)
	switch {
	case i < 0:
	case len(list) == 1:
		delete(c.from, one.addr)
	default:
		c.from[one.addr] = slices.Delete(list, i, i+1)
	}
}

// Close implements net.Conn.
func (c *connection) Close() error {
	c.once.Do(func() {
		c.of.mu.Lock()
		defer c.of.mu.Unlock()
		c.of.all--
		c.of.leave(c)
	})
	return c.Conn.Close()
}

// CloseWrite lets the server end an answer before the connection: whoever still sends gets to read it.
func (c *connection) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// signedIn says that somebody has signed in over the connection.
func (c *connection) signedIn() {
	if c.known.Swap(true) {
		return
	}
	c.of.mu.Lock()
	defer c.of.mu.Unlock()
	c.of.leave(c)
}

type connectionKey struct{}

// Remember has requests know their connection; it is http.Server's ConnContext.
func Remember(ctx context.Context, conn net.Conn) context.Context {
	return context.WithValue(ctx, connectionKey{}, conn)
}

// signedInOver notes that a request's connection is somebody's.
func signedInOver(ctx context.Context) {
	if c, ok := ctx.Value(connectionKey{}).(*connection); ok {
		c.signedIn()
	}
}

// How many event streams one person may follow at a time, and how many uploads may be under way.
const (
	mostStreams = 64
	mostUploads = 8
)

// shares bounds how many of something a person may have at a time. It is safe for concurrent use.
type shares struct {
	what string
	most int

	mu  sync.Mutex // held for moments only
	has map[string]int
}

// take takes one more; give gives it back. Code Busy: the person has as many as they may.
func (s *shares) take(name string) (give func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has == nil {
		s.has = map[string]int{}
	}
	if s.has[name] >= s.most {
		return nil, fault.New(fault.Busy, "open another", s.what, "%s has %d open already, and may not have more",
			name, s.most).With("Close some of them, such as pages of the console that are open elsewhere.")
	}
	s.has[name]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.has[name]--; s.has[name] == 0 {
			delete(s.has, name)
		}
	}), nil
}
