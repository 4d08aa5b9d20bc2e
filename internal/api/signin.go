package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"adytum.example/client/wire"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
)

// The cookies of a sign-in through a provider: the one that goes on with it, and
// the one that holds it while it is on its way. A browser comes back from the
// provider by a link, with which it sends no cookie that is Strict.
const (
	secureRefreshCookie = "__Host-adytum-refresh"
	plainRefreshCookie  = "adytum_refresh"
	pendingCookie       = "adytum_pending"
	callbackPath        = "/api/v1/console/callback"
)

type refreshInput struct{ from *http.Request }

// Resolve implements [huma.Resolver].
func (i *refreshInput) Resolve(ctx huma.Context) []error {
	i.from, _ = humachi.Unwrap(ctx)
	return nil
}

type cookiesOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Who
}

type deviceCode struct{ Body wire.DeviceCode }
type deviceAnswer struct{ Body wire.DeviceAnswer }
type newProvider struct{ Body wire.NewProvider }

// ProviderPath names a provider. It is exported for huma to see its field.
type ProviderPath struct {
	Provider string `path:"provider" maxLength:"63"`
}

// signingIn registers what goes on with sign-ins: devices, providers, refreshing
// the console's.
func (s *server) signingIn(a huma.API) {
	huma.Register(a, huma.Operation{OperationID: "list-sign-in-providers", Method: http.MethodGet, Path: "/api/v1/console/providers", Summary: "The names of the providers that people can sign in through", Tags: []string{"sessions"}},
		func(ctx context.Context, _ *empty) (*body[[]string], error) {
			out, err := s.service.ProviderNames(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &body[[]string]{out}, nil
		})
	huma.Register(a, huma.Operation{OperationID: "refresh-console", Method: http.MethodPost, Path: "/api/v1/console/session/refresh", Summary: "Go on with the console's sign-in through a provider", Tags: []string{"sessions"},
		Errors: []int{http.StatusUnauthorized, http.StatusServiceUnavailable}},
		func(ctx context.Context, in *refreshInput) (*cookiesOutput, error) {
			out, err := s.service.Refresh(ctx, secret.FromString(s.cookieValue(in.from, secureRefreshCookie, plainRefreshCookie)), s.address(in.from))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &cookiesOutput{SetCookie: s.goingOn(out), Body: out.Who}, nil
		})
	signedIn(s, a, operation("show-device", http.MethodPost, "/devices/lookup", "Show the device that waits to be let in with a code", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *deviceCode) (*body[wire.Device], error) {
			out, err := s.service.Device(ctx, c, in.Body.Code)
			return &body[wire.Device]{out}, err
		})
	signedIn(s, a, operation("answer-device", http.MethodPost, "/devices/answer", "Let a device in as oneself, or do not; needs a sign-in of the last five minutes", tagged("sessions")),
		func(ctx context.Context, c service.Caller, in *deviceAnswer) (*empty, error) {
			return nil, s.service.AnswerDevice(ctx, c, in.Body)
		})
	signedIn(s, a, operation("list-providers", http.MethodGet, "/providers", "List the identity providers that people sign in through", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Provider], error) {
			out, err := s.service.Providers(ctx, c)
			return &body[[]wire.Provider]{out}, err
		})
	signedIn(s, a, operation("add-provider", http.MethodPost, "/providers", "Let people sign in through an identity provider", tagged("access"), created),
		func(ctx context.Context, c service.Caller, in *newProvider) (*body[wire.Provider], error) {
			out, err := s.service.AddProvider(ctx, c, in.Body)
			return &body[wire.Provider]{out}, err
		})
	signedIn(s, a, operation("remove-provider", http.MethodDelete, "/providers/{provider}", "Let nobody sign in through a provider any more", tagged("access")),
		func(ctx context.Context, c service.Caller, in *ProviderPath) (*empty, error) {
			return nil, s.service.RemoveProvider(ctx, c, in.Provider)
		})
}

type organizationEdit struct{ Body wire.OrganizationEdit }

// organization registers what the organization asks of everybody.
func (s *server) organization(a huma.API) {
	signedIn(s, a, operation("show-organization", http.MethodGet, "/organization", "Show the organization and what it asks of everybody", tagged("access")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[wire.Organization], error) {
			out, err := s.service.Organization(ctx, c)
			return &body[wire.Organization]{out}, err
		})
	signedIn(s, a, operation("edit-organization", http.MethodPatch, "/organization", "Change what the organization asks of everybody", tagged("access")),
		func(ctx context.Context, c service.Caller, in *organizationEdit) (*body[wire.Organization], error) {
			out, err := s.service.EditOrganization(ctx, c, in.Body)
			return &body[wire.Organization]{out}, err
		})
}

func (s *server) cookieValue(r *http.Request, names ...string) string {
	for _, name := range names {
		if c, err := r.Cookie(name); err == nil {
			return c.Value
		}
	}
	return ""
}

// goingOn are the cookies of a session that goes on.
func (s *server) goingOn(out wire.Session) []http.Cookie {
	refresh := s.cookie(out.Refresh, time.Now().Add(service.FamilyLife))
	refresh.Name = plainRefreshCookie
	if s.secure {
		refresh.Name = secureRefreshCookie
	}
	// What the console may know: that there is something to go on with.
	marker := http.Cookie{Name: "adytum_goes_on", Value: "1", Path: "/", Expires: refresh.Expires, Secure: s.secure, SameSite: http.SameSiteStrictMode}
	return []http.Cookie{s.cookie(out.Token, out.ExpiresAt), refresh, marker}
}

// within is a page of the console to go to, and never another site.
func within(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.HasPrefix(to, "/\\") || strings.ContainsFunc(to, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "/"
	}
	return to
}

// beginProvider sends a browser to a provider.
func (s *server) beginProvider(w http.ResponseWriter, r *http.Request) {
	address, pending, err := s.service.BeginProvider(r.Context(), chi.URLParam(r, "provider"), s.origin(r)+callbackPath, within(r.URL.Query().Get("to")), s.address(r))
	if err != nil {
		s.refuseProvider(w, r, err)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: pendingCookie, Value: pending, Path: callbackPath, MaxAge: int(service.PendingLife.Seconds()), HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteLaxMode})
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, address, http.StatusSeeOther)
}

// endProvider takes a browser that comes back from a provider.
func (s *server) endProvider(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	http.SetCookie(w, &http.Cookie{Name: pendingCookie, Path: callbackPath, MaxAge: -1, HttpOnly: true, Secure: s.secure, SameSite: http.SameSiteLaxMode})
	w.Header().Set("Cache-Control", "no-store")
	out, to, err := s.service.EndProvider(r.Context(), s.cookieValue(r, pendingCookie), query.Get("state"), query.Get("code"), s.origin(r)+callbackPath, s.address(r))
	if err != nil {
		s.refuseProvider(w, r, err)
		return
	}
	for _, c := range s.goingOn(out) {
		http.SetCookie(w, &c)
	}
	http.Redirect(w, r, within(to), http.StatusSeeOther)
}

// refuseProvider sends a browser back to the page for signing in, which says that
// it did not work and no more.
func (s *server) refuseProvider(w http.ResponseWriter, r *http.Request, err error) {
	why := "refused"
	var answer huma.StatusError
	if errors.As(s.problem(r.Context(), err), &answer) && answer.GetStatus() == http.StatusServiceUnavailable {
		why = "away"
	}
	http.Redirect(w, r, "/sign-in?provider="+why, http.StatusSeeOther)
}
