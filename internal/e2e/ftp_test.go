package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/account"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// quay starts a machine whose files are reached over FTP, at the end of a line, and has the service
// know it as "quay". Servers that are added after that are there, in people's hands.
func (b *bundle) quay(s farhost.FTPShape, roundTrip time.Duration) *moor {
	b.t.Helper()
	if !farhost.FTPAvailable() {
		b.t.Skip("a real FTP server needs vsftpd and root")
	}
	h, err := farhost.StartFTP(b.t.TempDir(), s)
	require.NoError(b.t, err)
	line, err := h.Line(roundTrip)
	require.NoError(b.t, err)
	b.far = &moor{name: "quay", line: line, close: h.Close, byHand: true}
	ctx, a := context.Background(), h.Account(line.Address(), line.Port())
	_, err = b.api.AddHost(ctx, wire.NewHost{
		Name: "quay", Address: "ftp://" + a.String(), Folder: b.dir, TLS: a.TLS, Roots: a.Roots,
		SignIn: wire.SignIn{Password: &h.Password},
	})
	require.NoError(b.t, err)
	_, err = b.api.CheckHost(ctx, "quay")
	require.NoError(b.t, err)
	return b.far
}

// A world is put onto a server whose files are reached over FTP, and taken back.
func TestAPutOverFTP(t *testing.T) {
	t.Parallel()
	for name, shape := range map[string]farhost.FTPShape{
		"plain":          {}, // in crash alone: the matrix of all kinds goes over it
		"explicit TLS":   {TLS: account.Explicit},
		"implicit TLS":   {TLS: account.Implicit}, // likewise: the suite of the driver signs in so
		"one connection": {Connections: 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if !everyPoint && (name == "plain" || name == "implicit TLS") {
				t.Skip("a variant of what others try: make crash")
			}
			b := setup(t)
			b.quay(shape, 10*time.Millisecond)
			host, err := b.api.Host(context.Background(), "quay")
			require.NoError(t, err)
			if shape.Connections > 0 {
				assert.Equal(t, shape.Connections, host.Found.Connections)
			}
			assert.True(t, host.Found.Set.AtomicReplace)
			assert.False(t, host.Found.Set.FreeSpace)
			root := b.quarry("north", plot{})
			b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13, Tiles: 8, TileBytes: 700_000})
			c := b.put("fen", "north", nil)
			require.Equal(t, plan.Done, c.State, c.Failure)
			assert.True(t, c.Proof.Holds())
			s, err := b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "fen", s.Server.Active)
			assert.DirExists(t, filepath.Join(root, c.Plan.Work, "aside", "winter"))
			back := b.undo(c.ID)
			require.Equal(t, plan.Done, back.State, back.Failure)
			s, err = b.api.Server(context.Background(), "north")
			require.NoError(t, err)
			assert.Equal(t, "winter", s.Server.Active)
		})
	}
}

// A host is added over FTP at the command line: nothing is sent to one that shows a certificate which
// nobody vouches for, or that offers no TLS, until a person has said that it may.
func TestAnFTPHostAtTheCommandLine(t *testing.T) {
	t.Parallel()
	if !farhost.FTPAvailable() {
		t.Skip("a real FTP server needs vsftpd and root")
	}
	b := setup(t)
	h, err := farhost.StartFTP(t.TempDir(), farhost.FTPShape{TLS: account.Explicit})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	address := fmt.Sprintf("ftp://%s@127.0.0.1:%d%s", h.User, h.Port, b.dir)
	add := func(name, address string, more ...string) (int, string, string) {
		return b.cliReading(h.Password+"\n", append([]string{"hosts", "add", name, address, "--password-stdin"},
			more...)...)
	}
	written := func(name, text string) string {
		file := filepath.Join(b.dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	code, _, errs := add("quay", address)
	assert.Equal(t, 4, code, errs)
	assert.Contains(t, errs, "shows the certificate")
	assert.Contains(t, strings.Join(strings.Fields(errs), " "),
		"which nobody has accepted yet, and no roots vouch for it: x509: ")
	host, err := b.api.Hosts(context.Background())
	require.NoError(t, err)
	require.Len(t, host, 1, "nothing was recorded")
	code, out, errs := add("quay", address, "--roots", written("roots.pem", h.Roots))
	require.Zero(t, code, errs)
	assert.Contains(t, out, "its certificate is vouched for")
	code, _, errs = add("other", address, "--key", written("key", "x"))
	assert.NotZero(t, code)
	assert.Contains(t, errs, "FTP signs in with a password only")

	plain, err := farhost.StartFTP(t.TempDir(), farhost.FTPShape{})
	require.NoError(t, err)
	t.Cleanup(plain.Close)
	address = fmt.Sprintf("ftp://%s@127.0.0.1:%d%s", h.User, plain.Port, b.dir)
	code, _, errs = add("open", address)
	assert.Equal(t, 4, code)
	assert.Contains(t, errs, "offers no TLS")
	assert.Contains(t, errs, "--tls none")
	code, out, errs = add("open", address, "--tls", "none")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "Nothing is encrypted")
	b.must("hosts", "change", "open", "--rate", "9MB")

	// A wrong password is told from a host that does not answer.
	code, _, errs = b.cliReading("wrong\n", "hosts", "change", "open", "--password-stdin")
	assert.Equal(t, 5, code)
	assert.Contains(t, errs, "does not accept")
}

// People who do what they are asked to and say nothing: that it was done is seen by the game's lock, its
// log or its port, and the proof says by which.
func TestNobodyHasToSayThatItIsDone(t *testing.T) {
	t.Parallel()
	for id, seen := range map[string]string{
		"quarrymoss": "the game's lock is in the world",
		"saltmarch":  "the log names the opened world",
	} {
		t.Run(id, func(t *testing.T) {
			t.Parallel()
			b := setup(t)
			b.quay(farhost.FTPShape{}, 0)
			e := entrants[id](b)
			b.far.silent = true
			c := b.do(wire.Wish{Kind: plan.Put, World: e.world, Server: "one", Choices: e.choices})
			var down, opened plan.Check
			for _, check := range c.Proof.Checks {
				switch check.What {
				case "the server was down before the switch":
					down = check
				case seen:
					opened = check
				}
			}
			assert.True(t, down.OK, "%+v", c.Proof)
			assert.Contains(t, down.Seen, "seen by its")
			assert.True(t, opened.OK, "%+v", c.Proof)
			require.Equal(t, plan.Done, b.undo(c.ID).State)
		})
	}
}

// A person is asked to stop a server, the service goes away, they stop it, and the service comes back:
// it sees what was done meanwhile.
func TestWhatWasDoneWhileTheServiceWasAway(t *testing.T) {
	t.Parallel()
	b := setup(t)
	far := b.quay(farhost.FTPShape{}, 0)
	b.quarry("north", plot{})
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	far.silent = true
	person := far.people[0]
	person.hold(true)
	ctx := context.Background()
	draft, err := b.api.Draft(ctx, wire.Wish{Kind: plan.Put, World: "fen", Server: "north"})
	require.NoError(t, err)
	_, err = b.api.Act(ctx, draft.ID, "start")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		c, err := b.api.Changeover(ctx, draft.ID)
		return err == nil && c.Progress != nil && c.Progress.Asks.What == "stop"
	}, 30*time.Second, 100*time.Millisecond)
	out := b.must("changeovers", "show", fmt.Sprint(draft.ID))
	assert.Contains(t, out, "Stop north where you control it")
	assert.Contains(t, out, "reshard servers stopped north")
	require.NoError(t, b.daemon.Close())
	person.stop()
	b.start()
	person.hold(false)
	require.Eventually(t, func() bool {
		c, err := b.api.Changeover(ctx, draft.ID)
		return err == nil && c.State == plan.Done
	}, 60*time.Second, 200*time.Millisecond)
	assert.Equal(t, "fen", b.active("north"))
}
