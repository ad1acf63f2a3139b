// Package local is the service's own machine as a host.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"reshard/internal/control"
	"reshard/internal/control/child"
	"reshard/internal/core/fault"
	"reshard/internal/host"
	"reshard/internal/hostfs"
	files "reshard/internal/hostfs/local"
)

// Kind is the name of the kind.
const Kind = "local"

type machine struct{ spec host.Spec }

// Open opens the service's own machine.
func Open(_ context.Context, s host.Spec) (host.Driver, error) {
	data, err := filepath.Abs(s.Data)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open host", s.Name, err)
	}
	s.Data = data
	return machine{s}, nil
}

// Identity is what tells this machine from others (machine-id(5)); "" where there is
// none.
func Identity() string {
	for _, file := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		if data, err := os.ReadFile(file); err == nil && len(strings.TrimSpace(string(data))) > 0 {
			return strings.TrimSpace(string(data))
		}
	}
	return ""
}

// Root implements host.Driver. A log may name the folder with links resolved.
func (m machine) Root(_ context.Context, name string) (root string, others []string, err error) {
	if info, err := os.Stat(name); !filepath.IsAbs(name) || err != nil || !info.IsDir() {
		return "", nil, fault.New(fault.Invalid, "look at", name, "%q is not an absolute path of a folder on this host",
			name)
	}
	root = filepath.Clean(name)
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return "", nil, fault.New(fault.Refused, "look at", name, "where it leads cannot be told")
	}
	if real != root {
		others = append(others, real)
	}
	return root, others, m.mayBeRoot(real)
}

// Files implements host.Driver.
func (machine) Files(_ context.Context, root string) (hostfs.Driver, io.Closer, error) {
	f, err := files.Open(root)
	if err != nil {
		code := fault.NotFound
		if errors.Is(err, fs.ErrPermission) {
			code = fault.Refused
		}
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return nil, nil, fault.New(code, "open", root, "%v", err)
	}
	return f, f, nil
}

// Process implements host.Driver.
func (m machine) Process(_ context.Context, s host.Server) (control.Driver, error) {
	return child.New(child.Spec{
		Command:  child.Command{Args: s.Command, Dir: s.Root, Env: s.Env},
		State:    filepath.Join(m.spec.Data, "servers", strconv.FormatInt(s.ID, 10)),
		Mark:     fmt.Sprintf("%s/%d", m.spec.Identity, s.ID),
		Formerly: child.Former{Number: strconv.FormatInt(s.ID, 10), Data: m.spec.Data},
		LogFile:  s.LogFile,
	})
}

// Program implements host.Runner.
func (machine) Program(_ context.Context, root string, command []string) error {
	_, err := child.Command{Args: command, Dir: root}.Program()
	return err
}

// Addresses implements host.Net.
func (machine) Addresses(context.Context) ([]netip.Addr, error) {
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return nil, fault.Wrap(fault.Refused, "look for", "the machine's addresses", err)
	}
	var out []netip.Addr
	for _, a := range addresses {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			out = append(out, p.Addr().Unmap())
		}
	}
	return out, nil
}

// Bound implements host.Net.
func (machine) Bound(_ context.Context, port uint16) ([]netip.Addr, error) { return bound(port) }
