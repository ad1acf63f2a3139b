// Package host is a machine or account where game servers live: its files, its processes
// and its network, opened by kind. Outside the packages of the kinds nothing knows how a
// host is reached.
package host

import (
	"context"
	"io"
	"net/netip"
	"time"

	"reshard/internal/control"
	"reshard/internal/core/account"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/server"
	"reshard/internal/hostfs"
	"reshard/internal/wire"
)

// Driver is what a kind of host must be able to do. Its errors are classes of package
// fault, as in hostfs.Driver and control.Driver; a host that does not answer is
// Unreachable.
type Driver interface {
	// Root looks at a server's folder as a person named it and gives its name in the
	// host's own form, with others that logs and settings may use for it. Invalid: it is
	// no folder, or not named whole (and root is empty), or it is there and belongs to
	// the system or to the service itself (and root is its name).
	Root(ctx context.Context, name string) (root string, others []string, err error)
	// Files opens a server's folder. The closer gives it back. NotFound: the host answers
	// and has no such folder; Unreachable: it does not answer.
	Files(ctx context.Context, root string) (hostfs.Driver, io.Closer, error)
	// Process is the process of a server on this host. It starts nothing.
	Process(ctx context.Context, s Server) (control.Driver, error)
	Net
}

// Runner is a host on which programs can be looked for before they are run.
type Runner interface {
	// Program is Invalid for a start command that cannot be run in a server's folder.
	Program(ctx context.Context, root string, command []string) error
}

// Elsewhere is a host that is an account on another machine.
type Elsewhere interface {
	Account() account.Account
	// Fingerprint is of the accepted key; "" when none was.
	Fingerprint() string
	// Change has it be reached in another way from now on; what is under way meets a line that
	// broke.
	Change(s Spec) error
	// Shown asks the host at an address for its key. Nothing is signed in to.
	Shown(ctx context.Context, a account.Account) (account.Shown, error)
	// Listens reports whether something takes connections at a TCP port there; known is false when
	// that cannot be told. UDP tells nothing.
	Listens(ctx context.Context, port uint16) (listens, known bool)
	// Means completes and checks how a server there is to be controlled: by what the host
	// allows, when nobody says. command is what starts the server; it may be empty.
	Means(name string, s server.Means, command []string) (server.Means, error)
}

// Checker is a host that can be asked what can be done there.
type Checker interface {
	// Check tries, in a folder of its own that it removes, and says what it is doing. Where
	// nothing can be written in the account's folders it tries in others, those of the servers
	// there. What cannot be done is no error; a host that does not answer is.
	Check(ctx context.Context, others []string, say func(string)) (account.Findings, error)
	// Doubted reports whether something has contradicted what the last check has found.
	Doubted() bool
}

// Misbehaver is a host that may send without end, or more than it announced.
type Misbehaver interface {
	// Misbehaves gives what it did last, and since when it does such things; nil: it does not. A check that succeeds
	// ends it.
	Misbehaves() (since time.Time, err error)
}

// Closer is a host that has something to give back when it is not needed any more.
type Closer interface{ Close() error }

// Net is how players reach a server on a host.
type Net interface {
	// Bound gives the addresses on which something listens on a port.
	Bound(ctx context.Context, port uint16) ([]netip.Addr, error)
	// Addresses gives those of the host, the loopback among them.
	Addresses(ctx context.Context) ([]netip.Addr, error)
}

// Server is what a host needs to know of a server to run it.
type Server struct {
	ID      int64
	Name    string
	Root    string
	Means   server.Means
	Command []string
	Env     map[string]string
	LogFile string // from the root; "" when it is the output
}

// Spec is a host as it is recorded.
type Spec struct {
	Name string
	Kind string
	// Data is the service's data folder and Identity what that is known by, wherever it
	// stands.
	Data     string
	Identity string
	// Account is where it is, for a host that is elsewhere, and Found what a check has found
	// there; nil: none was made.
	Account account.Account
	Found   *account.Findings
}

// Kinds are the ways to open a host, by the name of the kind.
type Kinds map[string]func(ctx context.Context, s Spec) (Driver, error)

// Open opens a host of one of the kinds.
func (k Kinds) Open(ctx context.Context, s Spec) (Driver, error) {
	open, ok := k[s.Kind]
	if !ok {
		return nil, fault.New(fault.Unsupported, "open host", s.Name, "this build knows no hosts of the kind %q",
			s.Kind)
	}
	return open(ctx, s)
}

// Provider is a hosting provider's own interface, for servers whose files are reached in another way.
type Provider interface {
	// Title is the provider's name, as people write it.
	Title() string
	// Known is what is known of how it starts and stops servers.
	Known() fit.Provider
	// Process is the process of a server; machine is what the provider calls it. It asks nothing.
	Process(name, machine string) control.Driver
	// Page is what is set of a server on the provider's page, under the name that it has among the
	// server's files, and what the keys of game profiles are called there; nil: nothing is.
	Page(machine string) (page hostfs.Page, name string, fields map[string]string)
	// Archives unpacks archives that stand among a server's files; nil: nothing does.
	Archives(machine string) hostfs.Archives
	// Slots lists the provider's own backups of a server; MakeSlot makes one, within the allowance, and
	// RemoveSlot removes one: nothing does so by itself.
	Slots(ctx context.Context, machine string) (wire.Slots, error)
	MakeSlot(ctx context.Context, machine string) error
	RemoveSlot(ctx context.Context, machine, name string) error
	// Try looks whether a server can be seen there, and changes nothing.
	Try(ctx context.Context, machine string) []wire.Tried
	Closer
}

// ProviderSpec is a provider's interface as it is recorded for a host.
type ProviderSpec struct {
	Name string // of the host
	// Description is the provider description, Origin where the interface is.
	Description string
	Origin      string
	User        string
	Secret      string
	// Private: the origin may be an address of a private network or of the service's machine.
	Private bool
}
