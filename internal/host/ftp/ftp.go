// Package ftp is an account on another machine that is reached over FTP: its files, and servers that
// people start and stop.
package ftp

import (
	"context"
	"io"
	"net/netip"
	"path"
	"sync"

	"reshard/internal/control"
	"reshard/internal/control/hand"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/ftplink"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/ftp"
	"reshard/internal/line"
)

// Kind is the name of the kind.
const Kind = "ftp"

// machine is an account in hand. Its connections are shared by all servers on it.
type machine struct {
	link  *ftplink.Link
	hands hand.Hands

	mu   sync.Mutex // held for moments only
	spec host.Spec
}

// Open opens an account. Nothing is dialled yet.
func Open(_ context.Context, s host.Spec) (host.Driver, error) {
	if err := ftplink.Check(s.Account); err != nil {
		return nil, err
	}
	return &machine{spec: s, link: ftplink.New(reached(s))}, nil
}

// reached is the account with as many connections as a check has found, where nobody has said.
func reached(s host.Spec) account.Account {
	a := s.Account
	if a.Sessions == 0 && s.Found != nil {
		a.Sessions = s.Found.Connections
	}
	return a
}

// Close implements host.Closer.
func (m *machine) Close() error { return m.link.Close() }

// Change implements host.Elsewhere.
func (m *machine) Change(s host.Spec) error {
	if err := ftplink.Check(s.Account); err != nil {
		return err
	}
	m.mu.Lock()
	same := m.spec.Account == s.Account
	m.spec = s
	m.mu.Unlock()
	if !same {
		m.link.Change(reached(s))
	}
	return nil
}

func (m *machine) now() host.Spec {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.spec
}

// Account implements host.Elsewhere.
func (m *machine) Account() account.Account { return m.now().Account }

// Fingerprint implements host.Elsewhere.
func (m *machine) Fingerprint() string { return ftplink.Fingerprint(m.now().Account.Key) }

// Shown implements host.Elsewhere.
func (m *machine) Shown(ctx context.Context, a account.Account) (account.Shown, error) {
	return ftplink.Shown(ctx, a)
}

// found is what the check has found, as the driver of files needs it.
func (m *machine) found() *ftp.Found {
	f := m.now().Found
	if f == nil {
		return nil
	}
	return &ftp.Found{
		AtomicReplace: f.Set.AtomicReplace, RenameFolders: f.Set.RenameFolders, NoRename: f.Set.NoRename,
		Blind: !f.Set.ExactCase && !f.ReadOnly, Strict: f.Strict, ReadOnly: f.ReadOnly,
		TimePrecision: f.Set.TimePrecision, AtOnce: f.Set.AtOnce,
	}
}

// Root implements host.Driver. A name that is not whole begins at the account's folder.
func (m *machine) Root(ctx context.Context, name string) (root string, others []string, err error) {
	name = m.now().Account.Path(name)
	root, err = ftp.Root(ctx, m.link, name)
	if err != nil {
		return "", nil, err
	}
	if clean := path.Clean(name); clean != root && path.IsAbs(clean) {
		others = append(others, clean)
	}
	return root, others, line.NotSystem(root)
}

// Files implements host.Driver.
func (m *machine) Files(ctx context.Context, root string) (hostfs.Driver, io.Closer, error) {
	f := ftp.Open(m.link, root, m.found())
	if _, err := f.Stat(ctx, "."); err != nil {
		return nil, nil, fault.Wrap(fault.NotFound, "open", root, err)
	}
	return f, f, nil
}

// Process implements host.Driver.
func (m *machine) Process(_ context.Context, s host.Server) (control.Driver, error) {
	if s.Means.By != server.ByHand {
		return nil, fault.New(fault.Invalid, "control", s.Name,
			"a server that is reached over FTP is in people's hands")
	}
	return m.hands.Of(s.ID, s.Name), nil
}

// Means implements host.Elsewhere: FTP gives files alone.
func (m *machine) Means(name string, s server.Means, _ []string) (server.Means, error) {
	switch s.By {
	case "":
		s.By = server.ByHand
	case server.ByHand, server.ByProvider:
	case server.BySession, server.ByUnit, server.ByCommands, server.ByProcess:
		return s, fault.New(fault.Invalid, "control", name,
			"the host %s takes no commands: people start and stop its servers (by hand)", m.now().Name)
	default:
		return s, fault.New(fault.Invalid, "control", name, "there is no way of control %q", s.By)
	}
	return s, nil
}

// Addresses implements host.Net.
func (m *machine) Addresses(context.Context) ([]netip.Addr, error) {
	return line.AddressOf(m.now().Account)
}

// Listens implements host.Elsewhere.
func (m *machine) Listens(ctx context.Context, port uint16) (listens, known bool) {
	return line.Listens(ctx, m.now().Account.Host, port)
}

// Bound implements host.Net.
func (m *machine) Bound(context.Context, uint16) ([]netip.Addr, error) {
	return nil, fault.New(fault.Unsupported, "look at ports of", m.now().Name,
		"its connections cannot be seen from here")
}
