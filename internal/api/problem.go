package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

// statuses are the HTTP codes of the service's kinds of problem.
var statuses = map[service.Kind]int{
	service.Invalid:         http.StatusUnprocessableEntity,
	service.Unauthenticated: http.StatusUnauthorized,
	service.Forbidden:       http.StatusForbidden,
	service.NotFound:        http.StatusNotFound,
	service.Conflict:        http.StatusConflict,
	service.Unavailable:     http.StatusServiceUnavailable,
}

// retryAfter is what a 503 asks clients to wait, in seconds.
const retryAfter = "2"

// problem makes an error of the service into an answer. What is not meant for
// callers is logged, and answered without its text.
func (s *server) problem(ctx context.Context, err error) error {
	var p *service.Problem
	if !errors.As(err, &p) {
		if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
			return unavailable("the request took too long; try again")
		}
		s.log.ErrorContext(ctx, "a request failed", "error", err)
		return huma.NewError(http.StatusInternalServerError, "something went wrong in the service; its log says more")
	}
	if p.Kind == service.Unavailable {
		return unavailable(p.Message)
	}
	details := make([]error, len(p.Details))
	for i, d := range p.Details {
		details[i] = &huma.ErrorDetail{Message: d}
	}
	return huma.NewError(statuses[p.Kind], p.Message, details...)
}

// withoutValues takes out of a problem what huma repeats of the request: it may
// be a secret that was sent in the wrong form.
func withoutValues(_ huma.Context, _ string, v any) (any, error) {
	if p, isProblem := v.(*huma.ErrorModel); isProblem {
		for _, detail := range p.Errors {
			detail.Value = nil
		}
	}
	return v, nil
}

func unavailable(message string) error {
	return huma.ErrorWithHeaders(huma.NewError(http.StatusServiceUnavailable, message), http.Header{"Retry-After": {retryAfter}})
}

// writeProblem answers outside huma's operations.
func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(wire.Problem{Title: http.StatusText(status), Status: status, Detail: detail})
}

// writeError answers an error of the service outside huma's operations.
func (s *server) writeError(w http.ResponseWriter, r *http.Request, err error) {
	var p *service.Problem
	if !errors.As(err, &p) {
		s.log.ErrorContext(r.Context(), "a request failed", "error", err)
		writeProblem(w, http.StatusInternalServerError, "something went wrong in the service; its log says more")
		return
	}
	writeProblem(w, statuses[p.Kind], p.Message)
}

func writeStatus(w http.ResponseWriter, code int, status, detail string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(wire.Status{Status: status, Detail: detail})
}

// ready tells whether requests can be answered now.
func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.service.Ready(r.Context()); err != nil {
		w.Header().Set("Retry-After", retryAfter)
		writeStatus(w, http.StatusServiceUnavailable, "not ready", "the database cannot be reached")
		return
	}
	writeStatus(w, http.StatusOK, "ready", "")
}
