package sshlink

import (
	"context"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// pace bounds what goes over a line, each way; nil bounds nothing.
type pace struct{ in, out *rate.Limiter }

// burst is how much goes at once, in bytes.
const burst = 64 << 10

func newPace(bytesASecond int64) *pace {
	if bytesASecond <= 0 {
		return nil
	}
	limit := rate.Limit(bytesASecond)
	return &pace{in: rate.NewLimiter(limit, burst), out: rate.NewLimiter(limit, burst)}
}

// pacedConn is a connection at a pace, which knows when something last came.
type pacedConn struct {
	net.Conn
	pace  *pace
	heard atomic.Int64 // in nanoseconds
}

func (c *pacedConn) Read(p []byte) (int, error) {
	if c.pace != nil {
		p = p[:min(len(p), burst)]
	}
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.heard.Store(time.Now().UnixNano())
	}
	if n > 0 && c.pace != nil {
		_ = c.pace.in.WaitN(context.Background(), n) // n is within the burst
	}
	return n, err
}

func (c *pacedConn) Write(p []byte) (n int, err error) {
	if c.pace == nil {
		return c.Conn.Write(p)
	}
	for len(p) > 0 && err == nil {
		part := p[:min(len(p), burst)]
		_ = c.pace.out.WaitN(context.Background(), len(part)) // it is within the burst
		m, werr := c.Conn.Write(part)
		n, p, err = n+m, p[m:], werr
	}
	return n, err
}
