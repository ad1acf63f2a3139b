package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/sshlink"
	"reshard/internal/testdir"
	"reshard/internal/wire"
)

// rented starts a machine of a shape that needs root, and gives what a person was told by who
// rents it out.
func rented(t *testing.T, s farhost.Shape) (h *farhost.Host, address string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("accounts and roots of a machine's own need root")
	}
	dir := t.TempDir()
	reachable(t, dir)
	h, err := farhost.Start(dir, s)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	return h, fmt.Sprintf("sftp://%s@127.0.0.1:%d", h.User, h.Port)
}

// reachable lets other accounts come to a folder of a test.
func reachable(t *testing.T, dir string) {
	t.Helper()
	require.NoError(t, testdir.Open(dir))
}

// given gives a folder and all in it to an account.
func given(t *testing.T, dir string, id int) {
	t.Helper()
	require.NoError(t, filepath.Walk(dir, func(p string, _ os.FileInfo, err error) error {
		require.NoError(t, err)
		return os.Chown(p, id, id)
	}))
}

// An account as it is rented: a password, no commands, a root of its own, and the game knows the
// folder by another name. A world is put and taken back by a person's hands.
func TestARentedAccount(t *testing.T) {
	t.Parallel()
	b := setup(t)
	whole := filepath.Join(b.dir, "rented")
	root := filepath.Join(whole, "servers", "fen")
	require.NoError(t, os.MkdirAll(filepath.Dir(root), 0o755))
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1, 0))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "winter", Seed: 1}))
	given(t, root, farhost.TenantID)
	h, address := rented(t, farhost.Shape{FilesOnly: true, Root: whole, Tenant: true, Password: "seventeen sheep"})
	add := func(password string) (int, string, string) {
		return b.cliReading(password+"\n", "hosts", "add", "rented", address+"/servers", "--password-stdin",
			"--accept-key", sshlink.Fingerprint(h.HostKey))
	}
	code, _, errs := add("sixteen sheep")
	assert.Equal(t, 5, code)
	assert.Contains(t, errs, "does not accept tenant with password")
	code, out, errs := add("seventeen sheep")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "its own folder is tried")
	assert.NotContains(t, out+errs, "sheep")

	out = b.must("servers", "add", "fen", "--host", "rented", "--game", "quarrymoss", "--kind", "plain", "--root",
		"fen",
		"--game-root", root)
	assert.Contains(t, out, "winter")
	assert.Contains(t, b.must("hosts", "show", "rented"), "No commands can be given")
	b.must("servers", "stopped", "fen", "--yes")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Put, World: "fen", Server: "fen", Beside: true})
	require.NoError(t, err)
	c := b.carry(draft)
	require.Equal(t, plan.Done, c.State, c.Failure)
	info, err := os.Stat(filepath.Join(root, "worlds", "fen", "heart.cbor.gz"))
	require.NoError(t, err)
	assert.EqualValues(t, farhost.TenantID, info.Sys().(*syscall.Stat_t).Uid)
	require.Equal(t, plan.Done, b.undo(c.ID).State)
	assert.NoDirExists(t, filepath.Join(root, "worlds", "fen"))
}

// Where the account may write in the worlds folder only, and the server's folder is all that it
// sees: the working folder is among the worlds, is none of them, and what cannot be written beside
// is told before anything is stopped.
func TestAnAccountOfTheWorldsAlone(t *testing.T) {
	t.Parallel()
	b := setup(t)
	root := filepath.Join(b.dir, "rented")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1, 0))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "winter", Seed: 1}))
	given(t, filepath.Join(root, "worlds"), farhost.TenantID)
	h, address := rented(t, farhost.Shape{FilesOnly: true, Root: root, Tenant: true})
	key := h.ClientKey
	_, err := b.api.AddHost(context.Background(), wire.NewHost{
		Name: "rented", Address: address, SignIn: wire.SignIn{PrivateKey: &key},
		AcceptKey: sshlink.Fingerprint(h.HostKey),
	})
	require.NoError(t, err)
	b.must("servers", "add", "fen", "--host", "rented", "--game", "quarrymoss", "--kind", "plain", "--root", "/",
		"--game-root", root)
	b.must("hosts", "check", "rented")
	b.must("servers", "stopped", "fen", "--yes")
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	code, out, _ := b.cli("fit", "fen", "fen")
	assert.Equal(t, 3, code)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "the account may not make a file in its folder")
	draft, err := b.api.Draft(context.Background(),
		wire.Wish{Kind: plan.Put, World: "fen", Server: "fen", Beside: true})
	require.NoError(t, err)
	assert.Regexp(t, fmt.Sprintf("^worlds/.reshard/%d-[0-9a-f]{8}$", draft.ID), draft.Plan.Work)
	c := b.carry(draft)
	require.Equal(t, plan.Done, c.State, c.Failure)
	assert.FileExists(t, filepath.Join(root, "worlds", "fen", "heart.cbor.gz"))
	s, err := b.api.Server(context.Background(), "fen")
	require.NoError(t, err)
	var names []string
	for _, w := range s.Facts.Worlds {
		names = append(names, w.Folder)
	}
	assert.ElementsMatch(t, []string{"fen", "winter"}, names)
	back := b.undo(c.ID)
	require.Equal(t, plan.Done, back.State, back.Failure)
	assert.DirExists(t, filepath.Join(root, back.Plan.Work, "aside", "fen"))
	list, err := b.api.Aside(context.Background(), "fen")
	require.NoError(t, err)
	assert.NotEmpty(t, list)
}

// A password that has run out, and an account that may only read, are told in words before
// anything is stopped.
func TestAccountsThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	b := setup(t)
	t.Run("a password that has run out", func(t *testing.T) {
		h, address := rented(t, farhost.Shape{FilesOnly: true, Tenant: true, Password: "old one", Expired: true})
		text := "old one"
		_, err := b.api.AddHost(context.Background(), wire.NewHost{
			Name: "expired", Address: address, SignIn: wire.SignIn{Password: &text},
			AcceptKey: sshlink.Fingerprint(h.HostKey),
		})
		require.Error(t, err)
		assert.Contains(t, err.Error(), "ends each session at once")
		assert.Contains(t, err.Error(), "the password may have to be changed first")
	})
	t.Run("a password that has run out, with commands", func(t *testing.T) {
		h, address := rented(t, farhost.Shape{Tenant: true, Password: "old one", Expired: true})
		text := "old one"
		_, err := b.api.AddHost(context.Background(), wire.NewHost{
			Name: "changed", Address: address, SignIn: wire.SignIn{Password: &text},
			AcceptKey: sshlink.Fingerprint(h.HostKey),
		})
		require.ErrorIs(t, err, fault.Refused.As())
		assert.Contains(t, err.Error(), "wants the password to be changed first")
	})
	root := filepath.Join(b.dir, "servers", "fen")
	require.NoError(t, quarrymoss.MakeServer(root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1, 0))
	require.NoError(t, quarrymoss.Make(filepath.Join(root, "worlds", "winter"),
		quarrymoss.Options{Title: "winter", Seed: 1}))
	b.send("fen", quarrymoss.Options{Title: "Fen", Seed: 13})
	reachable(t, b.dir)
	for name, shape := range map[string]farhost.Shape{
		"read only":                {ReadOnly: true},
		"not the account's folder": {Tenant: true},
	} {
		t.Run(name, func(t *testing.T) {
			h, address := rented(t, shape)
			key := h.ClientKey
			host := strings.Fields(name)[0]
			_, err := b.api.AddHost(context.Background(), wire.NewHost{
				Name: host, Address: address, Folder: b.dir, SignIn: wire.SignIn{PrivateKey: &key},
				AcceptKey: sshlink.Fingerprint(h.HostKey),
			})
			require.NoError(t, err)
			found, err := b.api.CheckHost(context.Background(), host)
			require.NoError(t, err)
			require.NotNil(t, found.Found)
			t.Log(found.Found.Says(account.Provided{}))
			b.must("servers", "add", host+"-fen", "--host", host, "--game", "quarrymoss", "--kind", "plain", "--root",
				root,
				"--by", "hand")
			b.must("servers", "stopped", host+"-fen", "--yes")
			code, out, errs := b.cli("fit", "fen", host+"-fen")
			t.Log(out)
			assert.Equal(t, 3, code, errs)
			assert.Contains(t, strings.Join(strings.Fields(out), " "), "The account may not write there.")
			_, err = b.api.Draft(context.Background(), wire.Wish{Kind: plan.Put, World: "fen", Server: host + "-fen"})
			require.Error(t, err)
		})
	}
}
