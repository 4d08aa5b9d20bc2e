package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"adytum.example/client/wire"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
)

// The console's cookie. Browsers take the prefix __Host- only over TLS, so plain
// loopback has a name without it.
const (
	secureCookie = "__Host-adytum"
	plainCookie  = "adytum_session"
)

type empty struct{}

// body is an output that has nothing but a body.
type body[T any] struct{ Body T }

// signInInput takes the caller's address from the connection.
type signInInput struct {
	Body wire.SignIn
	from *http.Request
}

// Resolve implements [huma.Resolver].
func (i *signInInput) Resolve(ctx huma.Context) []error {
	i.from, _ = humachi.Unwrap(ctx)
	return nil
}

type cookieOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Who
}

type clearOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
}

func (s *server) sessions(a huma.API) {
	open := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodPost, Path: "/api/v1" + path, Summary: summary, Tags: []string{"sessions"},
			MaxBodyBytes: 64 << 10, Errors: []int{http.StatusUnauthorized, http.StatusServiceUnavailable}}
	}
	signIn := func(ctx context.Context, in *signInInput) (wire.Session, error) {
		out, err := s.service.SignIn(ctx, in.Body.Login, secret.FromString(in.Body.Password), in.Body.Code, in.Body.GoesOn, s.address(in.from))
		if err != nil {
			return out, s.problem(ctx, err)
		}
		return out, nil
	}
	huma.Register(a, open("sign-in", "/sessions", "Sign a person in with a password"), func(ctx context.Context, in *signInInput) (*body[wire.Session], error) {
		out, err := signIn(ctx, in)
		return &body[wire.Session]{out}, err
	})
	huma.Register(a, open("sign-in-console", "/console/session", "Sign a person in to the console: the token goes into a cookie"), func(ctx context.Context, in *signInInput) (*cookieOutput, error) {
		out, err := signIn(ctx, in)
		if err != nil {
			return nil, err
		}
		return &cookieOutput{SetCookie: s.cookie(out.Token, out.ExpiresAt), Body: out.Who}, nil
	})
	signedIn(s, a, operation("sign-out-console", http.MethodDelete, "/console/session", "Sign out of the console", tagged("sessions")),
		func(ctx context.Context, caller service.Caller, _ *empty) (*clearOutput, error) {
			cleared := s.goingOn(wire.Session{})
			for i := range cleared {
				cleared[i].Expires = time.Unix(1, 0)
			}
			return &clearOutput{cleared}, s.service.SignOut(ctx, caller)
		})
	signedIn(s, a, operation("sign-out", http.MethodDelete, "/sessions/current", "Revoke the token that is presented", tagged("sessions")),
		func(ctx context.Context, caller service.Caller, _ *empty) (*empty, error) {
			return nil, s.service.SignOut(ctx, caller)
		})
	signedIn(s, a, operation("who", http.MethodGet, "/sessions/current", "Who the caller is, where they may do what, and until when", tagged("sessions")),
		func(ctx context.Context, caller service.Caller, _ *empty) (*body[wire.Who], error) {
			out, err := s.service.Who(ctx, caller)
			return &body[wire.Who]{out}, err
		})
}

func (s *server) cookie(token string, expires time.Time) http.Cookie {
	c := http.Cookie{Name: plainCookie, Value: token, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode}
	if s.secure {
		c.Name, c.Secure = secureCookie, true
	}
	return c
}
