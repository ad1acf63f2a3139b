package line

import (
	"errors"
	"net/netip"
)

// ErrPrivate is the cause of an error for an address that only an administrator's word opens.
var ErrPrivate = errors.New("it is an address of a private network or of this machine")

// shared are addresses between a provider and its customers (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// MayReach refuses an address, with its port, that is not the world's, unless private ones are meant: what
// a name leads to may be a machine that only the service can reach. A dialer asks it once the name is
// resolved.
func MayReach(address string, private bool) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if !private && (!ip.IsGlobalUnicast() || ip.IsPrivate() || shared.Contains(ip)) {
		return ErrPrivate
	}
	return nil
}
