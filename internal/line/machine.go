package line

import (
	"net/netip"
	"strings"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
)

// systemFolders are no server's (hier(7)).
var systemFolders = []string{"/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/proc", "/sbin", "/sys", "/usr"}

// NotSystem is Invalid for a folder of another machine that belongs to its system.
func NotSystem(root string) error {
	for _, own := range systemFolders {
		if (root == own || strings.HasPrefix(root, own+"/")) && !strings.HasPrefix(root, "/dev/shm/") {
			return fault.New(fault.Invalid, "look at", root, "it belongs to the host's system")
		}
	}
	return nil
}

// AddressOf gives the address by which the service reaches an account's host, when it is a number.
func AddressOf(a account.Account) ([]netip.Addr, error) {
	ip, err := netip.ParseAddr(a.Host)
	if err != nil {
		return nil, fault.New(fault.Unsupported, "look for addresses of", a.Name, "it is known by its name")
	}
	return []netip.Addr{ip}, nil
}
