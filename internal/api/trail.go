package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

type trailInput struct {
	Cursor string `query:"cursor" maxLength:"100"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (s *server) trail(a huma.API) {
	signedIn(s, a, operation("list-trail", http.MethodGet, "/trail", "List events, newest first", tagged("trail")),
		func(ctx context.Context, c service.Caller, in *trailInput) (*body[wire.Events], error) {
			out, err := s.service.Trail(ctx, c, in.Cursor, in.Limit)
			return &body[wire.Events]{out}, err
		})
	signedIn(s, a, operation("verify-trail", http.MethodGet, "/trail/verification", "Check that the trail is whole", tagged("trail")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[wire.Verification], error) {
			out, err := s.service.VerifyTrail(ctx, c)
			return &body[wire.Verification]{out}, err
		})
}
