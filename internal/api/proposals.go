package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
	"adytum.example/internal/service"
)

type proposalAnswer struct {
	Proposal int64 `path:"proposal" minimum:"1"`
	Body     wire.ProposalAnswer
}

// proposals registers changes that wait for a second person's approval.
func (s *server) proposals(a huma.API) {
	signedIn(s, a, operation("list-proposals", http.MethodGet, "/proposals", "List the changes that wait for approval: one's own, and those at places where the caller may list", tagged("changes")),
		func(ctx context.Context, c service.Caller, _ *empty) (*body[[]wire.Proposal], error) {
			out, err := s.service.Proposals(ctx, c)
			return &body[[]wire.Proposal]{out}, err
		})
	signedIn(s, a, operation("answer-proposal", http.MethodPost, "/proposals/{proposal}/answer", "Approve what another person proposed, which does it once, or decline it; the proposer takes it back by declining", tagged("changes")),
		func(ctx context.Context, c service.Caller, in *proposalAnswer) (*body[wire.Change], error) {
			out, err := s.service.AnswerProposal(ctx, c, in.Proposal, in.Body)
			return &body[wire.Change]{out}, err
		})
}
