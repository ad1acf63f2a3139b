package local

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What listens at a port is found in both ways in which the kernel tells it, and only that.
func TestWhatListens(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	var config net.ListenConfig
	tcp, err := config.Listen(ctx, "tcp4", "127.0.0.2:0")
	require.NoError(t, err)
	defer tcp.Close() //nolint:errcheck // the test is over
	port := uint16(tcp.Addr().(*net.TCPAddr).Port)
	udp, err := config.ListenPacket(ctx, "udp4", netip.AddrPortFrom(netip.MustParseAddr("127.0.0.3"), port).String())
	require.NoError(t, err)
	defer udp.Close()                                    //nolint:errcheck // the test is over
	dialed, err := net.Dial("tcp4", tcp.Addr().String()) // a connection is not something that listens
	require.NoError(t, err)
	defer dialed.Close() //nolint:errcheck // the test is over

	found, err := bound(port)
	require.NoError(t, err)
	slices.SortFunc(found, netip.Addr.Compare)
	want := []netip.Addr{netip.MustParseAddr("127.0.0.2"), netip.MustParseAddr("127.0.0.3")}
	assert.Equal(t, want, found)
	for i, table := range []int{0, 2} {
		got, err := tabled(tables[table].file, tables[table].state, port)
		require.NoError(t, err)
		assert.Equal(t, want[i:i+1], got, tables[table].file)
		asked, err := diagnose(tables[table].family, tables[table].protocol, tables[table].state, port)
		t.Log(tables[table].file, asked, err)
		if err == nil { // a kernel may lack it
			assert.Equal(t, want[i:i+1], asked, tables[table].file)
		}
	}
	mine := uint16(dialed.LocalAddr().(*net.TCPAddr).Port)
	found, err = bound(mine)
	require.NoError(t, err)
	assert.Empty(t, found)
}

func BenchmarkBound(b *testing.B) {
	for b.Loop() {
		_, err := bound(1)
		require.NoError(b, err)
	}
}
