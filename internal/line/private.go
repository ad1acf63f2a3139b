package line

import (
	"errors"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"
)

// ErrPrivate is the cause of an error for an address that only an administrator's word opens.
var ErrPrivate = errors.New("it is an address of a private network or of this machine")

// ErrNever is the cause of an error for an address that nothing opens.
var ErrNever = errors.New("it is an address of this link, or one at which a cloud gives machines their secrets")

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

var (
	// never are link-local addresses (RFC 3927, RFC 4291), and those of the metadata services of clouds beside them.
	never = prefixes("169.254.0.0/16", "fe80::/10", "fd00:ec2::254/128", "100.100.100.200/32")
	// private are addresses of which netip does not say that they are: this network (RFC 1122), between a provider and
	// its customers (RFC 6598), of measurements (RFC 2544), site-local (RFC 3879), and those that hold an address of
	// IPv4: compatible (RFC 4291), NAT64 (RFC 6052, RFC 8215) and 6to4 (RFC 3056).
	private = prefixes("0.0.0.0/8", "100.64.0.0/10", "198.18.0.0/15", "fec0::/10", "::/96", "64:ff9b::/96",
		"64:ff9b:1::/48", "2002::/16")
)

// MayReach refuses an address, with its port, that is not the world's, unless private ones are meant: what a name leads
// to may be a machine that only the service can reach. Some are refused whatever is meant. A dialer asks it once the
// name is resolved, and connects to that very address.
func MayReach(address string, privateToo bool) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap().WithZone("")
	in := func(p netip.Prefix) bool { return p.Contains(ip) }
	switch {
	case slices.ContainsFunc(never, in), ip.IsMulticast(), embeds(ip):
		return ErrNever
	case !privateToo && (!ip.IsGlobalUnicast() || ip.IsPrivate() || slices.ContainsFunc(private, in)):
		return ErrPrivate
	}
	return nil
}

// embeds reports whether an address of IPv6 leads to one of IPv4 that is never reached.
func embeds(ip netip.Addr) bool {
	b := ip.As16()
	var inner netip.Addr
	switch {
	case !ip.Is6():
		return false
	case netip.MustParsePrefix("2002::/16").Contains(ip):
		inner = netip.AddrFrom4([4]byte(b[2:6]))
	case netip.MustParsePrefix("64:ff9b::/96").Contains(ip), netip.MustParsePrefix("::/96").Contains(ip):
		inner = netip.AddrFrom4([4]byte(b[12:16]))
	default:
		return false
	}
	return slices.ContainsFunc(never, func(p netip.Prefix) bool { return p.Contains(inner) })
}

// Dialer reaches only what may be reached.
func Dialer(privateToo bool) *net.Dialer {
	return &net.Dialer{
		Timeout: DialPatience, KeepAlive: 15 * time.Second,
		Control: func(_, address string, _ syscall.RawConn) error { return MayReach(address, privateToo) },
	}
}
