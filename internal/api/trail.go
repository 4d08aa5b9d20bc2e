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
		func(ctx context.Context, c service.Caller, in *struct {
			From int64 `query:"from" minimum:"0" doc:"Only what follows the checkpoint of so many events."`
		}) (*body[wire.Verification], error) {
			out, err := s.service.VerifyTrail(ctx, c, in.From)
			return &body[wire.Verification]{out}, err
		})
	signedIn(s, a, operation("show-checkpoint", http.MethodGet, "/trail/checkpoint", "Show the newest checkpoint of the trail, to be kept elsewhere", tagged("trail")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[wire.Checkpoint], error) {
			out, err := s.service.Checkpoint(ctx, c)
			return &body[wire.Checkpoint]{out}, err
		})
	signedIn(s, a, operation("prove-growth", http.MethodGet, "/trail/growth", "Prove that the trail has only grown since it had so many events", tagged("trail")),
		func(ctx context.Context, c service.Caller, in *struct {
			From int64 `query:"from" required:"true" minimum:"1"`
		}) (*body[wire.Growth], error) {
			out, err := s.service.Growth(ctx, c, in.From)
			return &body[wire.Growth]{out}, err
		})
	signedIn(s, a, operation("prove-event", http.MethodGet, "/trail/lanes/{lane}/events/{seq}/proof", "Prove that one event stands in the trail", tagged("trail")),
		func(ctx context.Context, c service.Caller, in *struct {
			Lane string `path:"lane" maxLength:"64"`
			Seq  int64  `path:"seq" minimum:"1"`
		}) (*body[wire.EventProof], error) {
			out, err := s.service.ProveEvent(ctx, c, in.Lane, in.Seq)
			return &body[wire.EventProof]{out}, err
		})
	signedIn(s, a, operation("export-records", http.MethodGet, "/trail/records", "Write the whole trail in the form that proves itself: a line for each event, a checkpoint at the end", tagged("trail"), lines),
		func(ctx context.Context, c service.Caller, _ *empty) (*written, error) {
			stream, err := s.service.Records(ctx, c)
			if err != nil {
				return nil, err
			}
			return &written{func(w huma.Context) {
				w.SetHeader("Content-Type", "application/jsonl")
				if err := stream(w.BodyWriter()); err != nil {
					s.log.ErrorContext(ctx, "an export of the trail was cut off", "error", err)
				}
			}}, nil
		})
}
