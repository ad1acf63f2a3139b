// Package ssh is an account on another machine as a host: its files over SFTP, its servers by
// commands where those can be given.
package ssh

import (
	"context"
	"io"
	"net/netip"
	"path"
	"strings"
	"sync"
	"sync/atomic"

	"reshard/internal/control"
	"reshard/internal/control/commands"
	"reshard/internal/control/hand"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/sftp"
	"reshard/internal/line"
	"reshard/internal/sshlink"
)

// Kind is the name of the kind.
const Kind = "ssh"

// machine is an account in hand. Its line is shared by all servers on it.
type machine struct {
	link *sshlink.Link

	// doubted says that something has contradicted what the last check has found.
	doubted atomic.Bool

	hands hand.Hands

	mu   sync.Mutex // held for moments only
	spec host.Spec
}

// Open opens an account. Nothing is dialled yet.
func Open(_ context.Context, s host.Spec) (host.Driver, error) {
	if err := sshlink.Check(s.Account.Secrets); err != nil {
		return nil, err
	}
	return &machine{spec: s, link: sshlink.New(s.Account)}, nil
}

// Close implements host.Closer.
func (m *machine) Close() error { return m.link.Close() }

// Change implements host.Elsewhere. Servers that are open go on over the same line.
func (m *machine) Change(s host.Spec) error {
	if err := sshlink.Check(s.Account.Secrets); err != nil {
		return err
	}
	m.mu.Lock()
	same := m.spec.Account == s.Account
	m.spec = s
	m.mu.Unlock()
	if !same {
		m.link.Change(s.Account)
	}
	return nil
}

func (m *machine) now() host.Spec {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.spec
}

// Doubted implements host.Checker.
func (m *machine) Doubted() bool { return m.doubted.Load() }

// Fingerprint implements host.Elsewhere.
func (m *machine) Fingerprint() string { return sshlink.Fingerprint(m.link.Account().Key) }

// Shown implements host.Elsewhere.
func (m *machine) Shown(ctx context.Context, a account.Account) (account.Shown, error) {
	return sshlink.Shown(ctx, a)
}

// Account implements host.Elsewhere.
func (m *machine) Account() account.Account { return m.link.Account() }

// found is what the check has found, as the driver of files needs it.
func (m *machine) found() *sftp.Found {
	f := m.now().Found
	if f == nil {
		return nil
	}
	return &sftp.Found{
		Account: f.Set.Account, Blind: !f.Set.ExactCase && !f.ReadOnly, Commands: f.Set.Commands, Hash: f.Set.Hash,
		Strict: f.Strict,
		Unpack: f.Set.Unpack, Databases: f.Set.Databases, ReadOnly: f.ReadOnly, NoSync: f.NoSync, NoSpace: f.NoSpace,
		TimePrecision: f.Set.TimePrecision, AtOnce: f.Set.AtOnce, Doubt: func() { m.doubted.Store(true) },
	}
}

// Root implements host.Driver. A name that is not whole begins at the account's folder.
func (m *machine) Root(ctx context.Context, name string) (root string, others []string, err error) {
	name = m.now().Account.Path(name)
	root, err = sftp.Root(ctx, m.link, name)
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
	f := sftp.Open(m.link, root, m.found())
	info, err := f.Stat(ctx, ".")
	if err == nil && !info.IsDir() {
		err = fault.New(fault.NotFound, "open", root, "it is no folder")
	}
	if err != nil {
		return nil, nil, fault.Wrap(fault.NotFound, "open", root, err)
	}
	return f, f, nil
}

// Process implements host.Driver.
func (m *machine) Process(_ context.Context, s host.Server) (control.Driver, error) {
	spec := commands.Spec{Means: s.Means, Name: s.Name, Dir: s.Root, Program: s.Command, Env: s.Env}
	if spec.LogFile = s.LogFile; spec.LogFile != "" && !path.IsAbs(spec.LogFile) {
		spec.LogFile = path.Join(s.Root, spec.LogFile)
	}
	switch s.Means.By {
	case server.BySession, server.ByUnit, server.ByCommands:
	case server.ByHand:
		return m.hands.Of(s.ID, s.Name), nil
	case server.ByProcess, server.ByProvider, "":
		return nil, fault.New(fault.Invalid, "control", s.Name,
			"a server of this host is no process of the service's own")
	}
	return commands.New(m.link, spec), nil
}

// Means implements host.Elsewhere: what a server is controlled by when nobody says.
func (m *machine) Means(name string, s server.Means, command []string) (server.Means, error) {
	bad := func(format string, args ...any) (server.Means, error) {
		return s, fault.New(fault.Invalid, "control", name, format, args...)
	}
	found := m.now().Found
	commands := found != nil && found.Set.Commands
	if s.By == "" {
		switch {
		case s.Unit != "":
			s.By = server.ByUnit
		case s.State != "" || s.Start != "":
			s.By = server.ByCommands
		case commands && len(command) > 0:
			s.By = server.BySession
		default:
			s.By = server.ByHand
		}
	}
	if s.By != server.ByHand && s.By != server.ByProvider && found != nil && !commands {
		return bad("the host %s takes no commands: people start and stop its servers (by hand)", m.now().Name)
	}
	switch s.By {
	case server.BySession:
		if s.Session == "" {
			s.Session = "reshard-" + name
		}
		if len(command) == 0 {
			return bad("a session needs the command that starts the server")
		}
		if strings.ContainsAny(s.Session, ":.=*?[{\"'\\$# \t\n") {
			return bad("a session's name holds no %q", ":.=*?[{\"'\\$# ")
		}
	case server.ByUnit:
		if s.Unit == "" || strings.ContainsAny(s.Unit, " /*?[\n") {
			return bad("the unit %q is none", s.Unit)
		}
	case server.ByCommands:
		if s.State == "" || s.Start == "" {
			return bad("by commands needs at least one that starts it and one that tells its state")
		}
	case server.ByHand, server.ByProvider:
	case server.ByProcess:
		return bad("a server of another machine is no process of the service's own")
	default:
		return bad("there is no way of control %q", s.By)
	}
	return s, nil
}

// Addresses implements host.Net: the one by which the service reaches it, when it is a number.
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
