package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/internal/hostile"
	"reshard/internal/sshlink"
	"reshard/internal/wire"
)

// A host that sends a listing without an end raises an alert, and is left alone for a while: who asks for it is told at
// once.
func TestAHostThatMisbehaves(t *testing.T) {
	t.Parallel()
	b := setup(t)
	all := hostile.Peers()
	liar := all[slices.IndexFunc(all, func(p hostile.Peer) bool { return p.Name == "sftp/a listing without an end" })]
	port, end, err := liar.Listen()
	require.NoError(t, err)
	defer end() //nolint:errcheck // the test has ended
	for _, r := range liar.Asks(port) {
		body, err := json.Marshal(r.Body)
		require.NoError(t, err)
		status, answer := b.raw(r.Method, "/api/v1"+r.Path, string(body))
		require.Equal(t, 200, status, answer)
	}
	name := fmt.Sprintf("liar%d", port)
	alert := b.alertOf("host")
	assert.Equal(t, name, alert.Of)
	assert.Contains(t, alert.Says, "it sends a listing of more than 200000 names")
	assert.Contains(t, alert.Next, "reshard hosts check "+name)
	out := strings.Join(strings.Fields(b.must("servers", "show", name)), " ")
	assert.Contains(t, out, "it sends a listing of more than 200000 names")
	b.must("hosts", "check", name) // it lists no folder that it has not made

	// A provider is a peer as well.
	liar = all[slices.IndexFunc(all, func(p hostile.Peer) bool {
		return p.Name == "provider/an answer without an end"
	})]
	port, end, err = liar.Listen()
	require.NoError(t, err)
	defer end() //nolint:errcheck // the test has ended
	for _, r := range liar.Asks(port) {
		body, err := json.Marshal(r.Body)
		require.NoError(t, err)
		status, answer := b.raw(r.Method, "/api/v1"+r.Path, string(body))
		require.Equal(t, 200, status, answer)
	}
	alerts, err := b.api.Alerts(context.Background())
	require.NoError(t, err)
	of := fmt.Sprintf("liar%d provider", port)
	i := slices.IndexFunc(alerts, func(a wire.Alert) bool { return a.Of == of })
	require.GreaterOrEqual(t, i, 0, alerts)
	assert.Contains(t, alerts[i].Says, "it sends an answer of more than 4 MB")
	assert.Contains(t, alerts[i].Next, fmt.Sprintf("reshard hosts try liar%d MACHINE", port))
}

// A password goes only where it was given for: at another address, or with another key, it is asked for again, and
// until then nothing is sent there. A private key is not revealed by signing in.
func TestAPasswordGoesOnlyWhereItWasGivenFor(t *testing.T) {
	t.Parallel()
	b := setup(t)
	h, err := farhost.Start(t.TempDir(), farhost.Shape{FilesOnly: true})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	ctx := context.Background()
	password := "plain words"
	_, err = b.api.AddHost(ctx, wire.NewHost{
		Name: "moor", Address: fmt.Sprintf("sftp://%s@127.0.0.1:%d", h.User, h.Port), Folder: b.dir,
		SignIn: wire.SignIn{PrivateKey: &h.ClientKey, Password: &password}, AcceptKey: sshlink.Fingerprint(h.HostKey),
	})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // the test has ended
	var reached atomic.Int64
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			reached.Add(1)
			_ = c.Close()
		}
	}()
	code, _, told := b.cli("hosts", "change", "moor", "--address", "sftp://"+h.User+"@"+l.Addr().String())
	assert.Equal(t, 4, code)
	told = strings.Join(strings.Fields(told), " ")
	assert.Contains(t, told, fmt.Sprintf("its password was given for 127.0.0.1:%d, and the address changes", h.Port))
	assert.Contains(t, told, "--password")
	code, _, told = b.cli("hosts", "change", "moor", "--accept-key", "SHA256:another")
	assert.Equal(t, 4, code)
	assert.Contains(t, strings.Join(strings.Fields(told), " "), "the key or certificate changes")
	assert.Zero(t, reached.Load(), "nothing was sent there")
	b.must("hosts", "change", "moor", "--folder", b.dir)

	// The service's own agent is all that may sign in, and only when the service was started with it.
	code, _, told = b.cli("hosts", "change", "moor", "--agent")
	assert.NotZero(t, code)
	assert.Contains(t, strings.Join(strings.Fields(told), " "), "the service uses no SSH agent")
}
