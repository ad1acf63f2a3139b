// Package line is what ways to a far machine have in common, whatever is spoken over them: a bound
// on what goes over it, an end to what cannot be bounded by itself, and words for why nobody answers.
package line

import (
	"context"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// Pace bounds what goes over a line, each way; nil bounds nothing.
type Pace struct{ in, out *rate.Limiter }

// burst is how much goes at once, in bytes.
const burst = 64 << 10

// NewPace lets so many bytes go each way in a second; 0 gives nil.
func NewPace(bytesASecond int64) *Pace {
	if bytesASecond <= 0 {
		return nil
	}
	limit := rate.Limit(bytesASecond)
	return &Pace{in: rate.NewLimiter(limit, burst), out: rate.NewLimiter(limit, burst)}
}

// Conn is a connection at a pace, which knows when something last came.
type Conn struct {
	net.Conn
	Pace  *Pace
	Heard atomic.Int64 // in nanoseconds since 1970
}

func (c *Conn) Read(p []byte) (int, error) {
	if c.Pace != nil {
		p = p[:min(len(p), burst)]
	}
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.Heard.Store(time.Now().UnixNano())
	}
	if n > 0 && c.Pace != nil {
		_ = c.Pace.in.WaitN(context.Background(), n) // n is within the burst
	}
	return n, err
}

func (c *Conn) Write(p []byte) (n int, err error) {
	if c.Pace == nil {
		return c.Conn.Write(p)
	}
	for len(p) > 0 && err == nil {
		part := p[:min(len(p), burst)]
		_ = c.Pace.out.WaitN(context.Background(), len(part)) // it is within the burst
		m, werr := c.Conn.Write(part)
		n, p, err = n+m, p[m:], werr
	}
	return n, err
}
