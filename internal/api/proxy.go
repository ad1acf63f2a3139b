package api

import (
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// forwarded are the headers by which a proxy says what it was asked.
var forwarded = []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"}

// behindProxy takes from proxies that are trusted where a request comes from. What anybody else says of that does not
// count. The address that the proxy has seen itself stands last.
func behindProxy(proxies []netip.Prefix, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !trusted(proxies, r.RemoteAddr) {
			for _, name := range forwarded {
				r.Header.Del(name)
			}
			next.ServeHTTP(w, r)
			return
		}
		hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
		if last, err := netip.ParseAddr(strings.TrimSpace(hops[len(hops)-1])); err == nil {
			r.RemoteAddr = netip.AddrPortFrom(last, 0).String()
		}
		next.ServeHTTP(w, r)
	})
}

func trusted(proxies []netip.Prefix, address string) bool {
	from, err := netip.ParseAddrPort(address)
	if err != nil {
		return false
	}
	ip := from.Addr().Unmap().WithZone("")
	return slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(ip) })
}
