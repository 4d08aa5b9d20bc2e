package api

import (
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
)

// callerKey and reachedKey are the context's keys for the caller, and for
// whether their request has reached its operation.
type (
	callerKey  struct{}
	reachedKey struct{}
)

// checkpointHeader carries the newest checkpoint of the trail with every answer,
// so that whoever asks can keep it.
const checkpointHeader = "Adytum-Checkpoint"

// authenticate finds the caller by a bearer token (RFC 6750) or the console's
// cookie, and puts them into the context.
func (s *server) authenticate(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		r, w := humachi.Unwrap(ctx)
		caller, err := s.caller(ctx.Operation().OperationID, r)
		if err != nil {
			w.Header().Set("WWW-Authenticate", `Bearer realm="adytum"`)
			s.writeError(w, r, err)
			return
		}
		if !withoutCodes[ctx.Operation().OperationID] {
			if err := s.service.MayAct(r.Context(), caller); err != nil {
				s.writeError(w, r, err)
				return
			}
		}
		if checkpoint := s.service.NewestCheckpoint(); checkpoint != "" {
			w.Header()[checkpointHeader] = []string{checkpoint}
		}
		reached := false
		ctx = huma.WithValue(huma.WithValue(ctx, callerKey{}, caller), reachedKey{}, &reached)
		next(ctx)
		// What does not even reach its operation leaves its event as well.
		if !reached {
			s.service.NoteInvalid(r.Context(), caller, ctx.Operation().OperationID)
		}
	}
}

// withoutCodes are the operations for one who has yet to set up the codes that the
// organization asks everybody for.
var withoutCodes = map[string]bool{"who": true, "sign-out": true, "sign-out-console": true, "begin-code": true, "confirm-code": true}

// compared are the operations whose answer the service compares with the true
// state before it is given, so that the caller may be found in memory.
var compared = map[string]bool{"value": true, "value-common": true, "value-organization": true, "resolve": true}

func (s *server) caller(operation string, r *http.Request) (service.Caller, error) {
	token, from := presentedToken(r), s.address(r)
	if compared[operation] {
		if caller, known := s.service.Recognize(token, from); known {
			return caller, nil
		}
	}
	return s.service.Authenticate(r.Context(), token, from)
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
