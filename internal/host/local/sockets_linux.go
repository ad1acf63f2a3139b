package local

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"reshard/internal/core/fault"
)

// tables are where the kernel keeps what listens (sock_diag(7), proc(5)).
var tables = []struct {
	family, protocol uint8
	state            uint8  // of a socket that listens
	file             string // below /proc/net
}{
	{unix.AF_INET, unix.IPPROTO_TCP, tcpListen, "tcp"}, {unix.AF_INET6, unix.IPPROTO_TCP, tcpListen, "tcp6"},
	{unix.AF_INET, unix.IPPROTO_UDP, udpOpen, "udp"}, {unix.AF_INET6, unix.IPPROTO_UDP, udpOpen, "udp6"},
}

const (
	tcpListen = 10 // TCP_LISTEN
	udpOpen   = 7  // TCP_CLOSE: what a datagram socket without a peer has
)

// bound gives the addresses on which something listens at a port. The kernel is asked for that port alone. Where it
// does not take the question its tables are read, which list every connection of the machine.
func bound(port uint16) ([]netip.Addr, error) {
	var out []netip.Addr
	read := 0
	for _, t := range tables {
		found, err := diagnose(t.family, t.protocol, t.state, port)
		if err != nil {
			found, err = tabled(t.file, t.state, port)
		}
		if err != nil {
			continue // without IPv6, say
		}
		read++
		for _, ip := range found {
			if !slices.Contains(out, ip) {
				out = append(out, ip)
			}
		}
	}
	if read == 0 {
		return nil, fault.New(fault.Refused, "look at", "/proc/net",
			"the kernel's tables of connections cannot be read")
	}
	return out, nil
}

// diagnose asks the kernel for sockets in a state at a port (sock_diag(7): inet_diag_req_v2, inet_diag_msg).
func diagnose(family, protocol, state uint8, port uint16) (out []netip.Addr, err error) {
	s, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, err
	}
	defer unix.Close(s) //nolint:errcheck // only asked
	const header, request = 16, 56
	ask := make([]byte, header+request)
	binary.NativeEndian.PutUint32(ask[0:], uint32(len(ask)))
	binary.NativeEndian.PutUint16(ask[4:], unix.SOCK_DIAG_BY_FAMILY)
	binary.NativeEndian.PutUint16(ask[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	ask[header], ask[header+1] = family, protocol
	binary.NativeEndian.PutUint32(ask[header+4:], 1<<state)
	binary.BigEndian.PutUint16(ask[header+8:], port)
	if err := unix.Sendto(s, ask, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, err
	}
	buf := make([]byte, 64<<10)
	for {
		n, _, err := unix.Recvfrom(s, buf, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return nil, err
		}
		messages, err := syscall.ParseNetlinkMessage(buf[:n])
		if err != nil {
			return nil, err
		}
		for _, m := range messages {
			switch {
			case m.Header.Type == unix.NLMSG_DONE:
				return out, nil
			case m.Header.Type == unix.NLMSG_ERROR || len(m.Data) < 24:
				return nil, unix.ENOTSUP
			case m.Data[1] != state || binary.BigEndian.Uint16(m.Data[4:]) != port:
			case family == unix.AF_INET:
				out = append(out, netip.AddrFrom4([4]byte(m.Data[8:12])))
			default:
				out = append(out, netip.AddrFrom16([16]byte(m.Data[8:24])).Unmap())
			}
		}
	}
}

// tabled reads the same out of a table for people.
func tabled(file string, state uint8, port uint16) (out []netip.Addr, err error) {
	f, err := os.Open("/proc/net/" + file)
	if err != nil {
		return nil, err
	}
	defer f.Close() //nolint:errcheck // only read
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || fields[3] != strings.ToUpper(hex.EncodeToString([]byte{state})) {
			continue
		}
		if ip, p, ok := kernelAddress(fields[1]); ok && p == port {
			out = append(out, ip)
		}
	}
	return out, lines.Err()
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
