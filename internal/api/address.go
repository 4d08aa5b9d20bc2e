package api

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// address is the network address of the caller: that of the connection, or, where
// the connection comes from a proxy that is configured, the one that the proxy
// says it has the request from. Each proxy adds what it saw at the end of
// X-Forwarded-For, so that what a caller puts there stands before it: from the
// end, the first address that is no proxy's own is the caller's. What is no
// address is not looked behind: the caller's is not known then.
func (s *server) address(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	at, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Addr{}
	}
	at = at.Unmap()
	if !s.isProxy(at) {
		return at
	}
	said := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, text := range slices.Backward(said[max(0, len(said)-maxProxies):]) {
		if text = strings.TrimSpace(text); text == "" && len(said) == 1 {
			return at // the proxy itself asks
		}
		if at, err = netip.ParseAddr(text); err != nil || at.Zone() != "" {
			return netip.Addr{}
		}
		if at = at.Unmap(); !s.isProxy(at) {
			return at
		}
	}
	return at
}

// maxProxies is how many addresses are looked at, from the end.
const maxProxies = 20

func (s *server) isProxy(a netip.Addr) bool {
	return slices.ContainsFunc(s.proxies, func(p netip.Prefix) bool { return p.Contains(a) })
}
