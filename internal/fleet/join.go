package fleet

import (
	"context"
	"net/netip"
	"strconv"

	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/observe"
)

// Join is where players connect to a server, and from where that works. It is seen on the
// host itself: what its network lets through nobody here can know.
func (fl *Fleet) Join(ctx context.Context, name string) (address, note string) {
	l, err := fl.Reach(ctx, name)
	if err != nil {
		return "", ""
	}
	// Far away each look costs seconds, and the port is not what a changeover changes.
	if s := fl.book.sightOf(name); s != nil && s.join != "" && l.Files.Distant() {
		return s.join, s.joinNote
	}
	h, err := l.Heads(ctx)
	if err != nil {
		return "", ""
	}
	return fl.joinOf(ctx, l, &h)
}

func (fl *Fleet) joinOf(ctx context.Context, l *Server, h *observe.Heads) (address, note string) {
	n, err := strconv.ParseUint(portOf(l.Observer, &h.Heads), 10, 16)
	if err != nil {
		return "", ""
	}
	if e, ok := l.host.Driver.(host.Elsewhere); ok {
		at := e.Account()
		at.Port = int(n)
		return at.Address(), "the address by which the service reaches its host; whether players get through cannot " +
			"be " +
			"seen from here"
	}
	return joinAt(ctx, l.host, uint16(n))
}

func joinAt(ctx context.Context, net host.Net, port uint16) (address, note string) {
	bound, err := net.Bound(ctx, port)
	addresses, aerr := net.Addresses(ctx)
	if err != nil || aerr != nil {
		return "", "on which address it listens cannot be seen"
	}
	inward := netip.AddrPortFrom(loopbackOf(addresses), port).String()
	if len(bound) == 0 {
		return inward, "nothing listens there now"
	}
	for _, ip := range bound {
		if !ip.IsLoopback() {
			return outward(ip, addresses, port)
		}
	}
	return inward, "it listens on the host itself only: nobody can join from elsewhere"
}

func loopbackOf(addresses []netip.Addr) netip.Addr {
	for _, a := range addresses {
		if a.IsLoopback() && a.Is4() {
			return a
		}
	}
	return netip.IPv6Loopback()
}

// outward is the address that others use of a server that listens for them.
func outward(ip netip.Addr, addresses []netip.Addr, port uint16) (address, note string) {
	for _, a := range addresses {
		if ip.IsUnspecified() && !a.IsLoopback() && a.Is4() {
			ip = a
		}
	}
	address = netip.AddrPortFrom(ip, port).String()
	switch {
	case ip.IsUnspecified():
		return netip.AddrPortFrom(loopbackOf(addresses), port).String(), "the host has no address for others"
	case ip.IsPrivate() || ip.IsLinkLocalUnicast():
		return address, "an address of the local network: from outside it works only if the router passes the port on"
	}
	return address, "reachable from outside if the firewall lets the port through"
}

// portOf is the port that the settings name, "" if none do.
func portOf(l *observe.Observer, h *server.Heads) string {
	join := l.Profile.Server.Join
	conf, ok := l.Profile.Server.Settings[join.In]
	if !ok {
		return ""
	}
	doc, read := h.Documents[conf.File.For(l.Machine.System)]
	if !read {
		return ""
	}
	e, ok := doc.Get(join.Key)
	if !ok {
		return ""
	}
	if at, err := netip.ParseAddrPort(e.Value); err == nil {
		return strconv.Itoa(int(at.Port()))
	}
	return portIn(e.Value)
}

// portIn is what stands behind the last colon of NAME:PORT, or the value itself.
func portIn(value string) string {
	for i := len(value) - 1; i >= 0; i-- {
		if value[i] == ':' {
			return value[i+1:]
		}
	}
	return value
}
