package api

import (
	"net/http"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheCallersAddressIsThatOfTheConnectionUnlessAProxySaysIt(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24"), netip.MustParsePrefix("2001:db8:1::/64")}
	for _, c := range []struct {
		what, connection string
		said             []string
		want             string
	}{
		{"no proxy", "192.0.2.7:4711", nil, "192.0.2.7"},
		{"a header of one who is no proxy", "192.0.2.7:4711", []string{"198.51.100.1"}, "192.0.2.7"},
		{"a proxy", "10.0.0.3:4711", []string{"198.51.100.1"}, "198.51.100.1"},
		{"a proxy, by IPv6", "[2001:db8:1::9]:4711", []string{"2001:db8:7::1"}, "2001:db8:7::1"},
		{"a proxy, as IPv6 writes IPv4", "[::ffff:10.0.0.3]:4711", []string{"::ffff:198.51.100.1"}, "198.51.100.1"},
		{"what the caller put there stands before", "10.0.0.3:4711", []string{"203.0.113.9, 198.51.100.1"}, "198.51.100.1"},
		{"in a header of its own", "10.0.0.3:4711", []string{"203.0.113.9", "198.51.100.1"}, "198.51.100.1"},
		{"behind two proxies", "10.0.0.3:4711", []string{"203.0.113.9, 198.51.100.1, 10.0.0.4"}, "198.51.100.1"},
		{"proxies alone", "10.0.0.3:4711", []string{"10.0.0.9, 10.0.0.4"}, "10.0.0.9"},
		{"the proxy itself", "10.0.0.3:4711", nil, "10.0.0.3"},
		{"nonsense from the proxy", "10.0.0.3:4711", []string{"198.51.100.1, unknown"}, "invalid IP"},
		{"nonsense from the caller", "10.0.0.3:4711", []string{"unknown, 198.51.100.1"}, "198.51.100.1"},
		{"nonsense behind a proxy", "10.0.0.3:4711", []string{"198.51.100.1, , 10.0.0.4"}, "invalid IP"},
		{"an address with a port", "10.0.0.3:4711", []string{"198.51.100.1:80"}, "invalid IP"},
		{"an address with a zone", "10.0.0.3:4711", []string{"fe80::1%eth0"}, "invalid IP"},
		{"no connection", "@", nil, "invalid IP"},
	} {
		r := &http.Request{RemoteAddr: c.connection, Header: http.Header{"X-Forwarded-For": c.said}}
		s := &server{proxies: proxies}
		assert.Equal(t, c.want, s.address(r).String(), c.what)
		s.proxies = nil
		if got := s.address(r); c.connection != "@" {
			require.True(t, got.IsValid())
			assert.Contains(t, c.connection, got.String(), "without proxies a header says nothing: %s", c.what)
		}
	}
}

func FuzzAddress(f *testing.F) {
	f.Add("203.0.113.9, 198.51.100.1")
	f.Add(",,,")
	f.Fuzz(func(t *testing.T, said string) {
		s := &server{proxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}}
		got := s.address(&http.Request{RemoteAddr: "10.0.0.3:1", Header: http.Header{"X-Forwarded-For": {said}}})
		require.Empty(t, got.Zone())
	})
}
