package line

import (
	"context"
	"errors"
	"net"
	"strconv"
	"strings"
	"time"

	"reshard/internal/core/fault"
)

// DialPatience is how long a machine may take to answer, and to sign in.
const DialPatience = 10 * time.Second

// Bounded does what cannot be bounded by itself, and returns when it is done or ctx has ended,
// whichever comes first. What goes on after that ends with the connection at the latest; what it
// gives is dropped.
func Bounded[T any](ctx context.Context, do func() (T, error)) (T, error) {
	type outcome struct {
		got T
		err error
	}
	var none T
	if err := ctx.Err(); err != nil {
		return none, err
	}
	done := make(chan outcome, 1)
	go func() {
		var o outcome
		defer func() { done <- o }()
		defer fault.Catch(&o.err)
		o.got, o.err = do()
	}()
	select {
	case o := <-done:
		return o.got, o.err
	case <-ctx.Done():
		return none, ctx.Err()
	}
}

// Words is why nothing answers, without addresses and numbers.
func Words(err error) string {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return "the name is not known"
	case errors.Is(err, ErrPrivate):
		return ErrPrivate.Error()
	case errors.Is(err, ErrNever):
		return ErrNever.Error()
	case errors.Is(err, context.DeadlineExceeded):
		return "no answer within " + DialPatience.String()
	case strings.Contains(err.Error(), "refused"):
		return "the port is closed"
	case strings.Contains(err.Error(), "unreachable"), strings.Contains(err.Error(), "no route"):
		return "there is no way to it from here"
	}
	return "the connection failed"
}

// Listens reports whether something takes connections at a TCP port of a machine. One that refuses
// is known not to; that nothing answers at all may be a firewall's doing, and tells nothing.
func Listens(ctx context.Context, machine string, port uint16) (listens, known bool) {
	ctx, done := context.WithTimeout(ctx, 2*time.Second)
	defer done()
	conn, err := Dialer(true).DialContext(ctx, "tcp", net.JoinHostPort(machine, strconv.Itoa(int(port))))
	if err == nil {
		_ = conn.Close() // it was only tried
		return true, true
	}
	return false, strings.Contains(err.Error(), "refused")
}
