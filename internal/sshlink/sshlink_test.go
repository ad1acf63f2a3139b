package sshlink_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"reshard/cmd/standin/farhost"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/sshlink"
)

// peer is a host that speaks SSH as a test wants it: OpenSSH's own server would want accounts of
// the machine for passwords.
type peer struct {
	config   *ssh.ServerConfig
	listener net.Listener
	tries    atomic.Int64 // connections
}

func startPeer(t *testing.T, c *ssh.ServerConfig, keys ...ssh.Signer) *peer {
	t.Helper()
	for _, k := range keys {
		c.AddHostKey(k)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	p := &peer{config: c, listener: l}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			p.tries.Add(1)
			go p.serve(conn)
		}
	}()
	return p
}

func (p *peer) serve(conn net.Conn) {
	defer conn.Close() //nolint:errcheck // the test has its end
	_, channels, requests, err := ssh.NewServerConn(conn, p.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		ch, reqs, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range reqs {
				_ = r.Reply(r.Type == "subsystem", nil)
				if r.Type == "subsystem" {
					if s, err := sftp.NewServer(ch); err == nil {
						go func() { _ = s.Serve() }()
					}
				}
			}
		}()
	}
}

func newKey(t *testing.T) (ed25519.PrivateKey, ssh.Signer) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return private, s
}

func line(k ssh.PublicKey) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))) }

func (p *peer) account(key ssh.PublicKey, s account.Secrets) account.Account {
	return account.Account{
		Name: "moor", Host: "127.0.0.1", Port: p.listener.Addr().(*net.TCPAddr).Port, User: "ada", Key: line(key),
		Secrets: s,
	}
}

func open(t *testing.T, a account.Account) *sshlink.Link {
	t.Helper()
	l := sshlink.New(a)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return l
}

func TestWaysToSignIn(t *testing.T) {
	t.Parallel()
	_, hostKey := newKey(t)
	private, mine := newKey(t)
	plain, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("marrow"))
	require.NoError(t, err)
	socket := filepath.Join(t.TempDir(), "agent")
	keys := agent.NewKeyring()
	require.NoError(t, keys.Add(agent.AddedKey{PrivateKey: private}))
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(keys, c) }()
		}
	}()

	password := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, got []byte) (*ssh.Permissions, error) {
		if string(got) != "hunter2" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	keyboard := &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata,
		ask ssh.KeyboardInteractiveChallenge,
	) (*ssh.Permissions, error) {
		got, err := ask("", "", []string{"Password: "}, []bool{false})
		if err == nil {
			_, err = ask("", "", nil, nil) // some ask once more, for nothing
		}
		if err != nil || len(got) != 1 || got[0] != "hunter2" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	byKey := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
		if line(k) != line(mine.PublicKey()) {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	for name, c := range map[string]struct {
		config  *ssh.ServerConfig
		secrets account.Secrets
	}{
		"password":             {password, account.Secrets{Password: "hunter2"}},
		"keyboard-interactive": {keyboard, account.Secrets{Password: "hunter2"}},
		"key":                  {byKey, account.Secrets{PrivateKey: string(pem.EncodeToMemory(plain))}},
		"key with passphrase": {
			byKey,
			account.Secrets{PrivateKey: string(pem.EncodeToMemory(locked)), Passphrase: "marrow"},
		},
		"a passphrase too many": {
			byKey,
			account.Secrets{PrivateKey: string(pem.EncodeToMemory(plain)), Passphrase: "x"},
		},
		"agent": {byKey, account.Secrets{Agent: socket}},
		"password beside a key": {
			password,
			account.Secrets{PrivateKey: string(pem.EncodeToMemory(plain)), Password: "hunter2"},
		},
		"agent and a wrong pass": {byKey, account.Secrets{Agent: socket, Password: "wrong"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			config := *c.config
			p := startPeer(t, &config, hostKey)
			files, err := open(t, p.account(hostKey.PublicKey(), c.secrets)).Files(context.Background())
			require.NoError(t, err)
			_, err = files.Lstat("/")
			assert.NoError(t, err)
		})
	}
	for name, c := range map[string]struct {
		secrets account.Secrets
		says    string
	}{
		"no key at all": {account.Secrets{PrivateKey: "marrows"}, "no private key that is known"},
		"passphrase missing": {
			account.Secrets{PrivateKey: string(pem.EncodeToMemory(locked))},
			"it has a passphrase",
		},
		"another passphrase": {
			account.Secrets{PrivateKey: string(pem.EncodeToMemory(locked)), Passphrase: "leek"},
			"is another one",
		},
		"the public half only": {account.Secrets{PrivateKey: line(mine.PublicKey())}, "no private key that is known"},
	} {
		err := sshlink.Check(c.secrets)
		assert.ErrorIs(t, err, fault.Invalid.As(), name)
		assert.ErrorContains(t, err, c.says, name)
	}
}

// Hosts lock accounts out that try again and again: a refusal rests, until somebody wants to know.
func TestARefusalRests(t *testing.T) {
	t.Parallel()
	_, hostKey := newKey(t)
	p := startPeer(t, &ssh.ServerConfig{
		PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, errors.New("no") },
	}, hostKey)
	l := open(t, p.account(hostKey.PublicKey(), account.Secrets{Password: "hunter2"}))
	for range 5 {
		_, err := l.Files(context.Background())
		require.ErrorIs(t, err, fault.Unreachable.As())
		assert.True(t, sshlink.Refused(err))
		what, next := fault.Words(err)
		assert.Contains(t, what, "the host does not accept ada with password")
		assert.Contains(t, next, "reshard hosts change moor --password")
		assert.NotContains(t, what+next, "hunter2")
	}
	assert.EqualValues(t, 1, p.tries.Load())
	l.Again()
	_, err := l.Files(context.Background())
	require.Error(t, err)
	assert.EqualValues(t, 2, p.tries.Load())
}

// A host is known by its accepted key, also when it has others; another key is told, and nothing
// is signed in to.
func TestAHostIsKnownByItsKey(t *testing.T) {
	t.Parallel()
	_, one := newKey(t)
	_, other := newKey(t)
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	old, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	var signedIn atomic.Int64
	config := func() *ssh.ServerConfig {
		return &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
			signedIn.Add(1)
			return nil, nil
		}}
	}
	p := startPeer(t, config(), one, old)
	ctx := context.Background()
	for name, key := range map[string]ssh.PublicKey{"ed25519": one.PublicKey(), "rsa": old.PublicKey()} {
		_, err := open(t, p.account(key, account.Secrets{Password: "x"})).Files(ctx)
		assert.NoError(t, err, name)
	}
	before := signedIn.Load()
	_, err = open(t, p.account(other.PublicKey(), account.Secrets{Password: "x"})).Files(ctx)
	var shown *sshlink.KeyError
	require.ErrorAs(t, err, &shown)
	assert.Equal(t, ssh.FingerprintSHA256(one.PublicKey()), shown.Fingerprint)
	assert.Equal(t, ssh.FingerprintSHA256(other.PublicKey()), shown.Accepted)
	_, next := fault.Words(err)
	assert.Contains(t, next, "reshard hosts change moor --accept-key "+shown.Fingerprint)

	nobody := p.account(one.PublicKey(), account.Secrets{Password: "x"})
	nobody.Key = ""
	_, err = open(t, nobody).Files(ctx)
	require.ErrorAs(t, err, &shown)
	assert.Empty(t, shown.Accepted)
	known, err := sshlink.Shown(ctx, nobody)
	require.NoError(t, err)
	assert.Equal(t, known.Fingerprint, sshlink.Fingerprint(known.Key))
	assert.Equal(t, before, signedIn.Load(), "nothing was sent to a host that is not known")
}

// A peer that falls silent, without a packet or a reset, is found within fifteen seconds: whatever
// waits for it ends then, and the next call dials again.
func TestASilentPeerIsFound(t *testing.T) {
	t.Parallel()
	h, err := farhost.Start(t.TempDir(), farhost.Shape{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	way, err := farhost.NewLine(h.Address(), 0)
	require.NoError(t, err)
	t.Cleanup(way.Close)
	l := open(t, h.Account(way.Port()))
	ctx := context.Background()
	files, err := l.Files(ctx)
	require.NoError(t, err)
	way.Stall(true)
	begun := time.Now()
	_, err = files.Lstat("/")
	assert.Error(t, err)
	_, err = l.Short(ctx, "true", "")
	assert.ErrorIs(t, err, fault.Unreachable.As())
	assert.Less(t, time.Since(begun), 30*time.Second, "the second one has its own limit for dialling")
	way.Stall(false)
	r, err := l.Short(ctx, "echo back", "")
	require.NoError(t, err)
	assert.Equal(t, "back\n", string(r.Out))
}

// More wait for a session than a host allows; each gets one.
func TestSessionsAreShared(t *testing.T) {
	t.Parallel()
	h, err := farhost.Start(t.TempDir(), farhost.Shape{Sessions: 3})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	a := h.Account(h.Port)
	a.Sessions = 3
	l := open(t, a)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			r, err := l.Run(context.Background(), "cat", strings.NewReader("marrow"), nil)
			assert.NoError(t, err)
			assert.Equal(t, "marrow", string(r.Out))
		})
	}
	all.Wait()
}

// What goes over a line is bounded.
func TestARateIsKept(t *testing.T) {
	t.Parallel()
	h, err := farhost.Start(t.TempDir(), farhost.Shape{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	a := h.Account(h.Port)
	a.BytesASecond = 400 << 10
	l := open(t, a)
	begun := time.Now()
	_, err = l.Run(context.Background(), "cat > /dev/null", io.LimitReader(zeros{}, 600<<10), nil)
	require.NoError(t, err)
	assert.Greater(t, time.Since(begun), time.Second)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// What a kept shell gives is what the command printed, and how it ended, whatever that was.
func TestTheKeptShell(t *testing.T) {
	t.Parallel()
	h, err := farhost.Start(t.TempDir(), farhost.Shape{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	l := open(t, h.Account(h.Port))
	ctx := context.Background()
	for command, want := range map[string]sshlink.Result{
		"printf abc":                            {Out: []byte("abc")},
		"sh -c 'printf abc; exit 7'":            {Out: []byte("abc"), Code: 7},
		"sh -c 'echo sorry >&2; exit 3'":        {Out: []byte{}, Err: "sorry", Code: 3},
		"sh -c 'kill -9 $$'":                    {Out: []byte{}, Code: -1},
		"cat":                                   {Out: []byte("in 'quotes' \\ $HOME")},
		`printf '\nreshard-0 0\n'`:              {Out: []byte("\nreshard-0 0\n")},
		"head -c 200000 /dev/zero":              {Out: make([]byte, 200000)},
		"no-such-program-anywhere 2> /dev/null": {Out: []byte{}, Code: 127},
	} {
		in := ""
		if command == "cat" {
			in = "in 'quotes' \\ $HOME"
		}
		got, err := l.Short(ctx, command, in)
		require.NoError(t, err, command)
		if len(got.Out) == 0 {
			got.Out = []byte{}
		}
		got.Err = strings.TrimSuffix(got.Err, "Killed")
		assert.Equal(t, want, got, command)
	}
	short, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	_, err = l.Short(short, "sleep 20", "")
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	got, err := l.Short(ctx, "echo next", "")
	require.NoError(t, err, "one that took too long does not keep the next waiting")
	assert.Equal(t, "next\n", string(got.Out))
}
