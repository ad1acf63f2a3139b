package local

import (
	"context"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/host"
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

func open(t *testing.T) host.Driver {
	t.Helper()
	h, err := host.Kinds{Kind: Open}.Open(context.Background(),
		host.Spec{Name: "local", Kind: Kind, Data: t.TempDir(), Identity: "test"})
	require.NoError(t, err)
	return h
}

// Where a server can be joined is what it really listens on.
func TestWhereAServerListens(t *testing.T) {
	t.Parallel()
	h, ctx := open(t), context.Background()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // only listened
	bound, err := h.Bound(ctx, uint16(l.Addr().(*net.TCPAddr).Port))
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("127.0.0.1")}, bound)
	p, err := net.ListenPacket("udp4", "0.0.0.0:0")
	require.NoError(t, err)
	defer p.Close() //nolint:errcheck // only listened
	bound, err = h.Bound(ctx, uint16(p.LocalAddr().(*net.UDPAddr).Port))
	require.NoError(t, err)
	require.Len(t, bound, 1)
	assert.True(t, bound[0].IsUnspecified())
	addresses, err := h.Addresses(ctx)
	require.NoError(t, err)
	assert.Contains(t, addresses, netip.MustParseAddr("127.0.0.1"))
}

func TestRoots(t *testing.T) {
	t.Parallel()
	h, ctx, dir := open(t), context.Background(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "real"), 0o755))
	require.NoError(t, os.Symlink("real", filepath.Join(dir, "link")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	root, others, err := h.Root(ctx, filepath.Join(dir, "link")+"/")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "link"), root)
	assert.Equal(t, []string{filepath.Join(dir, "real")}, others, "a log may name it so")
	for _, bad := range []string{"relative", filepath.Join(dir, "file"), filepath.Join(dir, "missing"), ""} {
		_, _, err := h.Root(ctx, bad)
		assert.ErrorIs(t, err, fault.Invalid.As(), bad)
	}
	_, _, err = h.Files(ctx, filepath.Join(dir, "missing"))
	assert.ErrorIs(t, err, fault.NotFound.As(), "the machine answers, and it is not there")
	_, err = host.Kinds{Kind: Open}.Open(ctx, host.Spec{Name: "loft", Kind: "carrier pigeon"})
	assert.ErrorIs(t, err, fault.Unsupported.As())
	assert.ErrorIs(t, h.(host.Runner).Program(ctx, dir, []string{"./file"}), fault.Invalid.As(), "it cannot be run")
}
