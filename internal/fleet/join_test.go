package fleet

import (
	"context"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/fault"
)

// net plays a host's network.
type net struct {
	bound []string
	err   error
}

func (n net) Bound(context.Context, uint16) (out []netip.Addr, err error) {
	for _, a := range n.bound {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, n.err
}

func (net) Addresses(context.Context) ([]netip.Addr, error) {
	return []netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("203.0.113.7")}, nil
}

func TestWhereToJoin(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		net            net
		address, words string
	}{
		"nothing":        {net{}, "127.0.0.1:30000", "nothing listens"},
		"itself":         {net{bound: []string{"127.0.0.1"}}, "127.0.0.1:30000", "nobody can join from elsewhere"},
		"everywhere":     {net{bound: []string{"127.0.0.1", "0.0.0.0"}}, "203.0.113.7:30000", "firewall"},
		"one address":    {net{bound: []string{"192.168.4.5"}}, "192.168.4.5:30000", "local network"},
		"link-local":     {net{bound: []string{"169.254.1.1"}}, "169.254.1.1:30000", "local network"},
		"another kind":   {net{bound: []string{"2001:db8::7"}}, "[2001:db8::7]:30000", "firewall"},
		"cannot be seen": {net{err: fault.New(fault.Unreachable, "", "", "away")}, "", "cannot be seen"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			address, note := joinAt(context.Background(), c.net, 30000)
			assert.Equal(t, c.address, address)
			assert.Contains(t, note, c.words)
		})
	}
	assert.Equal(t, "30000", portIn("0.0.0.0:30000"))
	assert.Equal(t, "30000", portIn("30000"))
}
