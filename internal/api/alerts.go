package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

type alertsInput struct {
	Open   bool   `query:"open" doc:"Only those that nobody has looked at."`
	Cursor string `query:"cursor" maxLength:"200"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type seenInput struct {
	Alert int64 `path:"alert" minimum:"1"`
	Body  wire.Seen
}

// ChannelPath names a channel. It is exported for huma to see its field.
type ChannelPath struct {
	Channel int64 `path:"channel" minimum:"1"`
}

// DecoyPath names a decoy. It is exported for huma to see its field.
type DecoyPath struct {
	Decoy int64 `path:"decoy" minimum:"1"`
}

type newChannel struct{ Body wire.NewChannel }
type newDecoy struct{ Body wire.NewDecoy }

// alerts registers what is out of the ordinary, whom to tell, and decoys.
func (s *server) alerts(a huma.API) {
	signedIn(s, a, operation("list-alerts", http.MethodGet, "/alerts", "List what was out of the ordinary, newest first", tagged("alerts")),
		func(ctx context.Context, c service.Caller, in *alertsInput) (*body[wire.Alerts], error) {
			out, err := s.service.Alerts(ctx, c, in.Open, in.Cursor, in.Limit)
			return &body[wire.Alerts]{out}, err
		})
	signedIn(s, a, operation("see-alert", http.MethodPost, "/alerts/{alert}/seen", "Say that one has looked at an alert", tagged("alerts")),
		func(ctx context.Context, c service.Caller, in *seenInput) (*empty, error) {
			return nil, s.service.SeeAlert(ctx, c, in.Alert, in.Body.Reason)
		})
	signedIn(s, a, operation("list-channels", http.MethodGet, "/channels", "List where alerts are sent, and whether they arrive", tagged("alerts")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Channel], error) {
			out, err := s.service.Channels(ctx, c)
			return &body[[]wire.Channel]{out}, err
		})
	signedIn(s, a, operation("add-channel", http.MethodPost, "/channels", "Send alerts to a webhook or a mail address", tagged("alerts"), created),
		func(ctx context.Context, c service.Caller, in *newChannel) (*body[wire.Channel], error) {
			out, err := s.service.AddChannel(ctx, c, in.Body)
			return &body[wire.Channel]{out}, err
		})
	signedIn(s, a, operation("remove-channel", http.MethodDelete, "/channels/{channel}", "Send alerts there no more", tagged("alerts")),
		func(ctx context.Context, c service.Caller, in *ChannelPath) (*empty, error) {
			return nil, s.service.RemoveChannel(ctx, c, in.Channel)
		})
	signedIn(s, a, operation("test-channel", http.MethodPost, "/channels/{channel}/test", "Send an alert that says that it is a test", tagged("alerts")),
		func(ctx context.Context, c service.Caller, in *ChannelPath) (*empty, error) {
			return nil, s.service.TestChannel(ctx, c, in.Channel)
		})
	signedIn(s, a, operation("list-decoys", http.MethodGet, "/decoys", "List what nobody needs, as far as the caller manages it", tagged("alerts")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Decoy], error) {
			out, err := s.service.Decoys(ctx, c)
			return &body[[]wire.Decoy]{out}, err
		})
	signedIn(s, a, operation("add-decoy", http.MethodPost, "/decoys", "Mark an entry or a workload as needed by nobody: its use is an alert at once", tagged("alerts"), created),
		func(ctx context.Context, c service.Caller, in *newDecoy) (*body[wire.Decoy], error) {
			out, err := s.service.AddDecoy(ctx, c, in.Body)
			return &body[wire.Decoy]{out}, err
		})
	signedIn(s, a, operation("remove-decoy", http.MethodDelete, "/decoys/{decoy}", "Mark something as needed again", tagged("alerts")),
		func(ctx context.Context, c service.Caller, in *DecoyPath) (*empty, error) {
			return nil, s.service.RemoveDecoy(ctx, c, in.Decoy)
		})
}
