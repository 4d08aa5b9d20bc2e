// Package api is the HTTP interface: routes, sign-in, problem details (RFC 9457)
// and the OpenAPI 3.1 document. It asks internal/service alone and holds no
// rules of its own.
package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/netip"
	"runtime/debug"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"adytum.example/internal/service"
)

// Version of the interface that the document states.
const Version = "1.0.0"

// Limits on requests.
const (
	maxBody        = 1 << 20
	maxChangeBody  = 16 << 20
	requestTimeout = 60 * time.Second
)

// server answers requests with one service.
type server struct {
	service *service.Service
	log     *slog.Logger
	secure  bool
	proxies []netip.Prefix
}

// Options are what a handler is made of.
type Options struct {
	Service *service.Service
	Console http.Handler // serves everything that is not the interface; nil for none
	Log     *slog.Logger
	Secure  bool // whether clients reach it over TLS
	// Proxies are those that say in X-Forwarded-For whom they have a request from.
	Proxies []netip.Prefix
}

// New returns the handler of a service.
func New(o Options) http.Handler {
	s := &server{service: o.Service, log: o.Log, secure: o.Secure, proxies: o.Proxies}
	router := chi.NewRouter()
	router.Use(s.recover, s.logged, secured, middleware.Compress(5, "application/json", "text/html", "text/css", "text/javascript"), timeout)
	protection := http.NewCrossOriginProtection()
	protection.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, http.StatusForbidden, "a request from another site was refused")
	}))
	router.Use(protection.Handler)
	router.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { writeStatus(w, http.StatusOK, "alive", "") })
	router.Get("/readyz", s.ready)
	router.Get("/.well-known/oauth-authorization-server", s.metadata)
	router.Post("/oauth/token", s.token)
	router.Post("/oauth/revoke", s.revoke)
	router.Post("/oauth/device", s.device)
	router.Get("/api/v1/console/providers/{provider}/begin", s.beginProvider)
	router.Get(callbackPath, s.endProvider)
	s.register(router)
	router.NotFound(func(w http.ResponseWriter, r *http.Request) {
		if o.Console != nil && (r.Method == http.MethodGet || r.Method == http.MethodHead) && !isAPI(r.URL.Path) {
			o.Console.ServeHTTP(w, r)
			return
		}
		writeProblem(w, http.StatusNotFound, "there is nothing at this path; the document at /api/openapi.json lists all paths")
	})
	router.MethodNotAllowed(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, http.StatusMethodNotAllowed, "this path does not take this method")
	})
	return router
}

func isAPI(path string) bool {
	return len(path) >= 5 && path[:5] == "/api/" || len(path) >= 7 && path[:7] == "/oauth/"
}

// Document returns the OpenAPI document without a service.
func Document() ([]byte, error) {
	s := &server{}
	return s.register(chi.NewRouter()).OpenAPI().MarshalJSON()
}

// register adds every operation of the interface to a router.
func (s *server) register(router chi.Router) huma.API {
	config := huma.DefaultConfig("Adytum", Version)
	config.OpenAPIPath = "/api/openapi"
	config.DocsPath = "" // the page that would stand there loads a script from elsewhere
	config.SchemasPath = ""
	config.CreateHooks = nil
	config.Formats = formats(config.Formats)
	config.Transformers = append(config.Transformers, withoutValues)
	config.Info.Description = "An encrypted, shared store of credentials and settings. Problems are RFC 9457 problem details."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"bearer": {Type: "http", Scheme: "bearer", Description: "A token from /oauth/token (workloads) or /api/v1/sessions (people)."},
	}
	a := humachi.New(router, config)
	s.sessions(a)
	s.directory(a)
	s.access(a)
	s.entries(a)
	s.changes(a)
	s.trail(a)
	return a
}

// operation describes one operation that needs a sign-in.
func operation(id, method, path, summary string, more ...func(*huma.Operation)) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Security: []map[string][]string{{"bearer": {}}}, MaxBodyBytes: maxBody,
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusServiceUnavailable}}
	for _, m := range more {
		m(&op)
	}
	return op
}

func created(op *huma.Operation) { op.DefaultStatus = http.StatusCreated }

func largeBody(op *huma.Operation) { op.MaxBodyBytes = maxChangeBody }

func tagged(tag string) func(*huma.Operation) {
	return func(op *huma.Operation) { op.Tags = []string{tag} }
}

// signedIn registers an operation whose handler gets the caller.
func signedIn[I, O any](s *server, a huma.API, op huma.Operation, handle func(context.Context, service.Caller, *I) (*O, error)) {
	op.Middlewares = append(op.Middlewares, s.authenticate(a))
	huma.Register(a, op, func(ctx context.Context, in *I) (*O, error) {
		caller, known := ctx.Value(callerKey{}).(service.Caller)
		if !known {
			return nil, errors.New("an operation was reached without a sign-in")
		}
		if reached, known := ctx.Value(reachedKey{}).(*bool); known {
			*reached = true
		}
		out, err := handle(ctx, caller, in)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
}

// secured sets the headers that every answer has.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

func timeout(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), requestTimeout)
		defer cancel()
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// recover answers a panic without its text, which may hold anything, and logs
// where it happened.
func (s *server) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				s.log.Error("a request panicked", "method", r.Method, "stack", string(debug.Stack()))
				writeProblem(w, http.StatusInternalServerError, "something went wrong in the service; its log says more")
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// logged writes one line per request: neither query nor body nor headers.
func (s *server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		start := time.Now()
		next.ServeHTTP(wrapped, r)
		level := slog.LevelDebug
		if wrapped.Status() >= 500 {
			level = slog.LevelWarn
		}
		pattern := chi.RouteContext(r.Context()).RoutePattern()
		s.log.Log(r.Context(), level, "request", "method", r.Method, "route", pattern, "status", wrapped.Status(), "ms", time.Since(start).Milliseconds())
	})
}
