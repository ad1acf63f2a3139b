package service

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKernelAddresses(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"0100007F:1F90":                         "127.0.0.1:8080",
		"00000000:0050":                         "0.0.0.0:80",
		"0000000000000000FFFF00000100007F:1F90": "127.0.0.1:8080",
		"00000000000000000000000001000000:1F90": "[::1]:8080",
	} {
		ip, port, ok := kernelAddress(text)
		require.True(t, ok, text)
		assert.Equal(t, want, netip.AddrPortFrom(ip, port).String())
	}
	for _, bad := range []string{"", "0100007F", "xx:1", "0100:1F90", "0100007F:zz"} {
		_, _, ok := kernelAddress(bad)
		assert.False(t, ok, bad)
	}
}

// Where a server can be joined is what it really listens on.
func TestWhereAServerListens(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // only listened
	port := uint16(l.Addr().(*net.TCPAddr).Port)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("127.0.0.1")}, listening(port))
	p, err := net.ListenPacket("udp4", "0.0.0.0:0")
	require.NoError(t, err)
	defer p.Close() //nolint:errcheck // only listened
	open := listening(uint16(p.LocalAddr().(*net.UDPAddr).Port))
	require.Len(t, open, 1)
	assert.True(t, open[0].IsUnspecified())
	for text, words := range map[string]string{"192.168.4.5": "local network", "203.0.113.7": "firewall", "169.254.1.1": "local network"} {
		address, note := outward(netip.MustParseAddr(text), "30000")
		assert.Equal(t, text+":30000", address)
		assert.Contains(t, note, words)
	}
}
