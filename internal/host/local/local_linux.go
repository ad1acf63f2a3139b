// Package local is the service's own machine as a host.
package local

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
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

// Bound implements host.Net, out of the kernel's tables (proc(5), /proc/net/tcp).
func (machine) Bound(_ context.Context, port uint16) ([]netip.Addr, error) {
	var out []netip.Addr
	read := 0
	for _, table := range []struct{ file, state string }{{"tcp", "0A"}, {"tcp6", "0A"}, {"udp", "07"}, {"udp6", "07"}} {
		f, err := os.Open("/proc/net/" + table.file)
		if err != nil {
			continue
		}
		read++
		for lines := bufio.NewScanner(f); lines.Scan(); {
			fields := strings.Fields(lines.Text())
			if len(fields) < 4 || fields[3] != table.state {
				continue
			}
			if ip, p, ok := kernelAddress(fields[1]); ok && p == port && !slices.Contains(out, ip) {
				out = append(out, ip)
			}
		}
		_ = f.Close() // only read
	}
	if read == 0 {
		return nil, fault.New(fault.Refused, "look at", "/proc/net",
			"the kernel's tables of connections cannot be read")
	}
	return out, nil
}

// kernelAddress reads "0100007F:1F90": words of 32 bits in the machine's own order,
// little-endian here, and a port.
func kernelAddress(text string) (netip.Addr, uint16, bool) {
	hostText, portText, ok := strings.Cut(text, ":")
	raw, err := hex.DecodeString(hostText)
	port, perr := strconv.ParseUint(portText, 16, 16)
	if !ok || err != nil || perr != nil || len(raw)%4 != 0 {
		return netip.Addr{}, 0, false
	}
	for i := 0; i < len(raw); i += 4 {
		raw[i], raw[i+1], raw[i+2], raw[i+3] = raw[i+3], raw[i+2], raw[i+1], raw[i]
	}
	ip, ok := netip.AddrFromSlice(raw)
	return ip.Unmap(), uint16(port), ok
}
