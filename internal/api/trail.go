package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/service"
)

// Chosen chooses among events. It is exported for huma to see its fields.
type Chosen struct {
	Kind        string    `query:"kind" enum:"person,workload" default:"person"`
	Who         string    `query:"who" maxLength:"200" doc:"A login, or a workload's name."`
	Action      string    `query:"action" maxLength:"64" doc:"noun.verb, or a noun alone."`
	Outcome     string    `query:"outcome" enum:"allowed,refused,failed"`
	Project     string    `query:"project" maxLength:"63"`
	Environment string    `query:"environment" maxLength:"63"`
	Name        string    `query:"name" maxLength:"1000" doc:"Of an entry, or of what else the event names."`
	From        string    `query:"from" maxLength:"64" doc:"A network address."`
	Since       time.Time `query:"since"`
	Until       time.Time `query:"until"`
}

func (c Chosen) query() service.TrailQuery {
	return service.TrailQuery{Kind: c.Kind, Who: c.Who, Filter: trail.Filter{Action: c.Action, Outcome: trail.Outcome(c.Outcome), Project: c.Project,
		Environment: c.Environment, Name: c.Name, From: c.From, Since: c.Since, Until: c.Until}}
}

type trailInput struct {
	Chosen
	Cursor string `query:"cursor" maxLength:"200"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

func (s *server) trail(a huma.API) {
	signedIn(s, a, operation("list-trail", http.MethodGet, "/trail", "List events, newest first", tagged("trail")),
		func(ctx context.Context, c service.Caller, in *trailInput) (*body[wire.Events], error) {
			out, err := s.service.Trail(ctx, c, in.query(), in.Cursor, in.Limit)
			return &body[wire.Events]{out}, err
		})
	signedIn(s, a, operation("export-trail", http.MethodGet, "/trail/export", "Write events, oldest first, as JSON lines; the last line says how many there are", tagged("trail"), lines),
		func(ctx context.Context, c service.Caller, in *Chosen) (*written, error) {
			stream, err := s.service.ExportTrail(ctx, c, in.query())
			if err != nil {
				return nil, err
			}
			return &written{func(w huma.Context) {
				w.SetHeader("Content-Type", "application/jsonl")
				n, out := 0, json.NewEncoder(w.BodyWriter())
				err := stream(func(e wire.Event) error { n++; return out.Encode(e) })
				if err == nil {
					err = out.Encode(wire.TrailEnd{End: n})
				}
				if err != nil {
					s.log.ErrorContext(ctx, "an export of the trail was cut off", "error", err)
				}
			}}, nil
		})
	signedIn(s, a, operation("verify-trail", http.MethodGet, "/trail/verification", "Check that the trail is whole", tagged("trail")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[wire.Verification], error) {
			out, err := s.service.VerifyTrail(ctx, c)
			return &body[wire.Verification]{out}, err
		})
}
