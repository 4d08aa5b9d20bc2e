package api

import (
	"net"
	"net/http"
	"net/netip"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"adytum.example/internal/core/secret"
)

type callerKey struct{}

// authenticate finds the caller by a bearer token (RFC 6750) or the console's
// cookie, and puts them into the context.
func (s *server) authenticate(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		r, w := humachi.Unwrap(ctx)
		caller, err := s.service.Authenticate(r.Context(), presentedToken(r), address(r))
		if err != nil {
			w.Header().Set("WWW-Authenticate", `Bearer realm="adytum"`)
			s.writeError(w, r, err)
			return
		}
		next(huma.WithValue(ctx, callerKey{}, caller))
	}
}

func presentedToken(r *http.Request) secret.Value {
	if scheme, token, found := strings.Cut(r.Header.Get("Authorization"), " "); found && strings.EqualFold(scheme, "Bearer") {
		return secret.FromString(strings.TrimSpace(token))
	}
	for _, name := range []string{secureCookie, plainCookie} {
		if c, err := r.Cookie(name); err == nil {
			return secret.FromString(c.Value)
		}
	}
	return secret.Value{}
}

// address is the network address of the connection.
func address(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	addr, _ := netip.ParseAddr(host)
	return addr.Unmap()
}
