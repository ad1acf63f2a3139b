package service

import (
	"bufio"
	"encoding/hex"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"reshard/internal/core/settings"
)

// join is where players connect, and from where that works. It is seen on this
// machine: what its network lets through nobody here can know.
func (s *Service) join(l *live) (address, note string) {
	port := portOf(l)
	if port == "" {
		return "", ""
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return "127.0.0.1:" + port, ""
	}
	bound := listening(uint16(n))
	if len(bound) == 0 {
		return "127.0.0.1:" + port, "nothing listens there now"
	}
	for _, ip := range bound {
		if !ip.IsLoopback() {
			return outward(ip, port)
		}
	}
	return "127.0.0.1:" + port, "it listens on the host itself only: nobody can join from elsewhere"
}

// outward is the address that others use of a server that listens for them.
func outward(ip netip.Addr, port string) (address, note string) {
	if ip.IsUnspecified() {
		addresses, err := net.InterfaceAddrs()
		if err != nil {
			return "127.0.0.1:" + port, ""
		}
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLoopback() && p.Addr().Is4() {
				ip = p.Addr()
				break
			}
		}
	}
	switch {
	case ip.IsUnspecified():
		return "127.0.0.1:" + port, "the host has no address for others"
	case ip.IsPrivate() || ip.IsLinkLocalUnicast():
		return netip.AddrPortFrom(ip, 0).Addr().String() + ":" + port, "an address of the local network: from outside it works only if the router passes the port on"
	}
	return ip.String() + ":" + port, "reachable from outside if the firewall lets the port through"
}

// portOf is the port that the settings name, "" if none do.
func portOf(l *live) string {
	join := l.profile.Server.Join
	conf, ok := l.profile.Server.Settings[join.In]
	if !ok {
		return ""
	}
	file := conf.File.For(l.machine.System)
	data, err := fs.ReadFile(l.place.FS(), file)
	if err != nil {
		return ""
	}
	doc, err := settings.Parse(file, conf.Syntax(), data)
	if err != nil {
		return ""
	}
	e, ok := doc.Get(join.Key)
	if !ok {
		return ""
	}
	if _, port, err := net.SplitHostPort(e.Value); err == nil {
		return port
	}
	return e.Value
}

// listening gives the addresses on which something of this machine takes connections
// or packets on a port, out of the kernel's tables (proc(5), /proc/net/tcp).
func listening(port uint16) []netip.Addr {
	var out []netip.Addr
	for _, table := range []struct{ file, state string }{{"tcp", "0A"}, {"tcp6", "0A"}, {"udp", "07"}, {"udp6", "07"}} {
		f, err := os.Open("/proc/net/" + table.file)
		if err != nil {
			continue
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			fields := strings.Fields(lines.Text())
			if len(fields) < 4 || fields[3] != table.state {
				continue
			}
			if ip, p, ok := kernelAddress(fields[1]); ok && p == port {
				out = append(out, ip)
			}
		}
		_ = f.Close() // only read
	}
	return out
}

// kernelAddress reads "0100007F:1F90": words of 32 bits in the machine's own order,
// little-endian here, and a port.
func kernelAddress(text string) (netip.Addr, uint16, bool) {
	host, portText, ok := strings.Cut(text, ":")
	raw, err := hex.DecodeString(host)
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
