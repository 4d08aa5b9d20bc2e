package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Bounds of proposals.
const (
	proposalLife = 14 * 24 * time.Hour // after which nobody answers it any more
	maxProposals = 50                  // of one proposer at once
)

// proposed is what a proposal would do, as it is sealed: the steps of a change
// with their values, or an edit of an environment's policies.
type proposed struct {
	Action  string                `json:"action"`
	Steps   []proposedStep        `json:"steps,omitempty"`
	Effects []wire.Effect         `json:"effects,omitempty"`
	Edit    *wire.EnvironmentEdit `json:"edit,omitempty"`
	Was     *wire.Environment     `json:"was,omitempty"`
}

// proposedStep is a step with exported fields.
type proposedStep struct {
	Edit    layers.Edit   `json:"edit"`
	Value   []byte        `json:"value,omitempty"`
	Given   bool          `json:"given,omitempty"`
	From    *time.Time    `json:"from,omitempty"`
	Until   *time.Time    `json:"until,omitempty"`
	Details *wire.Details `json:"details,omitempty"`
	Source  layers.Source `json:"source,omitzero"`
}

func proposedSteps(steps []step) []proposedStep {
	out := make([]proposedStep, len(steps))
	for i, s := range steps {
		out[i] = proposedStep{s.edit, s.value.Expose(), s.given, s.from, s.until, s.details, s.source}
	}
	return out
}

func (p proposed) steps(now time.Time) (steps []step, details []string) {
	for _, s := range p.Steps {
		if s.Until != nil && !s.Until.After(now) {
			details = append(details, s.Edit.Name+": it would have expired meanwhile; propose it anew with a later end")
		}
		if s.From != nil && !s.From.After(now) {
			s.From = nil
		}
		steps = append(steps, step{edit: s.Edit, value: secret.New(slices.Clone(s.Value)), given: s.Given, from: s.From, until: s.Until, details: s.Details, source: s.Source})
	}
	return steps, details
}

// needsApproval tells whether what is set at a place can reach an environment of
// which changes need a second person's approval: there, in what it follows, in
// its project's common layer, or in the organization's.
func (d *directory) needsApproval(where access.Where) bool {
	for _, e := range d.environments {
		if !e.Approval || e.RemovedAt != nil || where.Project != 0 && e.ProjectID != where.Project {
			continue
		}
		if where.Environment == 0 {
			return true
		}
		for at, n := &e, 0; at != nil && n <= layers.MaxFollow; at, n = d.environmentByID[orZero(at.Follows)], n+1 {
			if at.ID == where.Environment {
				return true
			}
		}
	}
	return false
}

// proposal prepares the row of a proposal of the caller's.
func (op *operation) proposal(tx *storage.Tx, row storage.Proposal, of proposed) (int64, error) {
	s := op.service
	all, err := tx.Proposals()
	if err != nil {
		return 0, err
	}
	who, n := op.caller.Subject, 0
	for _, p := range all {
		if p.ProposerKind == string(who.Kind) && p.ProposerID == who.ID {
			n++
		}
	}
	if n >= maxProposals {
		return 0, problem(Conflict, "%d of your proposals wait here already; take one back first", n)
	}
	if row.ID, err = tx.NextProposalID(); err != nil {
		return 0, err
	}
	row.ProposerKind, row.ProposerID, row.Network = string(who.Kind), who.ID, op.caller.From.String()
	row.Reason, row.CreatedAt = op.event.Reason, s.now().UTC().Truncate(time.Microsecond)
	content, err := json.Marshal(of)
	if err != nil {
		return 0, fmt.Errorf("encode a proposal: %w", err)
	}
	defer clear(content)
	if row.Sealed, err = envelope.SealRecord(s.keys.records, "proposal", proposalData(s.keys, row), secret.New(content)); err != nil {
		return 0, err
	}
	op.event.Action = "proposal.add"
	return row.ID, tx.CreateProposal(row)
}

// proposalData binds what is sealed to everything else that a proposal says.
func proposalData(k *keyring, p storage.Proposal) string {
	data, _ := json.Marshal([]any{k.organization, p.ProjectID, p.ID, orZero(p.LayerID), p.EnvironmentID, p.Base, p.ProposerKind, p.ProposerID, p.Network, p.Reason, p.CreatedAt.UnixMicro()})
	return string(data)
}

func (k *keyring) openProposal(p storage.Proposal) (of proposed, err error) {
	value, err := envelope.OpenRecord(k.records, "proposal", proposalData(k, p), p.Sealed)
	if err != nil {
		return of, fmt.Errorf("the proposal %d was altered in the database: %w", p.ID, err)
	}
	return of, json.Unmarshal(value.Expose(), &of)
}

// propose keeps a change that was looked at to the end as a proposal.
func (c *commit) propose() error {
	if c.steps == nil {
		return problem(Conflict, "changes of %s need a second person's approval, and this one cannot be proposed; copy the entries, and remove them where they were", c.at.place)
	}
	for i := range c.out.Effects {
		c.out.Effects[i].Same = false
	}
	id, err := c.op.proposal(c.tx, storage.Proposal{ProjectID: c.at.where.Project, LayerID: &c.layer.ID, EnvironmentID: c.at.where.Environment, Base: int64(c.layer.Revision)},
		proposed{Action: c.op.event.Action, Steps: proposedSteps(c.steps), Effects: c.out.Effects})
	c.out.Proposal, c.out.Revision = id, int64(c.layer.Revision)
	return err
}

// proposer is who made a proposal.
func proposer(p storage.Proposal) access.Subject {
	return access.Subject{Kind: access.SubjectKind(p.ProposerKind), ID: p.ProposerID}
}

// Proposals lists the changes that wait for approval: one's own, and those at
// places where one may list.
func (s *Service) Proposals(ctx context.Context, caller Caller) (out []wire.Proposal, err error) {
	op := s.begin(ctx, caller, "proposal.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Proposal{}
	err = s.eachProposal(op, func(_ *storage.Tx, p storage.Proposal) error {
		w, shown, err := op.wireProposal(p)
		if shown {
			out = append(out, w)
		}
		return err
	})
	return out, err
}

// eachProposal calls f with all proposals that can still be answered.
func (s *Service) eachProposal(op *operation, f func(*storage.Tx, storage.Proposal) error) error {
	return s.store.Snapshot(op.ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		d, err := s.currentDirectory(tx)
		if err != nil {
			return err
		}
		op.dir = d
		if err := tx.Widen(d.everyProject()); err != nil {
			return err
		}
		all, err := tx.Proposals()
		for _, p := range all {
			if err == nil && op.at.Before(p.CreatedAt.Add(proposalLife)) {
				err = f(tx, p)
			}
		}
		return err
	})
}

// everyProject is the scope of all projects.
func (d *directory) everyProject() storage.Scope {
	scope := storage.Scope{0}
	for _, p := range d.projects {
		scope = append(scope, p.ID)
	}
	return scope
}

// wireProposal shows a proposal to its proposer, and to who may list there: with
// the effects on what they may list.
func (op *operation) wireProposal(p storage.Proposal) (out wire.Proposal, shown bool, err error) {
	who := proposer(p)
	where := access.Where{Project: p.ProjectID, Environment: p.EnvironmentID}
	mine := op.caller.Subject == who
	if _, may := op.maySome(access.List, where); !may && !mine {
		return out, false, nil
	}
	of, err := op.service.keys.openProposal(p)
	if err != nil {
		return out, false, err
	}
	place := op.dir.placeOf(where)
	out = wire.Proposal{ID: p.ID, Who: op.dir.subjectName(who), Project: place.Project, Environment: place.Environment, Base: p.Base, Action: of.Action, Reason: p.Reason, At: p.CreatedAt,
		Mine: mine, Effects: []wire.Effect{}, Edit: of.Edit, Was: of.Was}
	for _, e := range of.Effects {
		_, may := op.mayName(access.List, where, e.Name)
		if may || mine {
			out.Effects = append(out.Effects, e)
		} else {
			out.Hidden++
		}
	}
	return out, true, nil
}

// AnswerProposal approves what was proposed, which does it, or declines it. To
// approve needs what the change needs, and to be another person than the one who
// proposed it; to decline, to be the proposer or to be able to approve. It is done
// once, and only if what it is based on has not moved.
func (s *Service) AnswerProposal(ctx context.Context, caller Caller, id int64, answer wire.ProposalAnswer) (out wire.Change, err error) {
	action := "proposal.decline"
	if answer.Approved {
		action = "proposal.approve"
	}
	op := s.begin(ctx, caller, action, organizationPlace)
	op.event.Reason = s.redact(answer.Reason)
	defer op.end(&err)
	row, of, err := s.findProposal(op, id)
	if err != nil {
		return out, err
	}
	who := proposer(row)
	op.event.Names = append([]string{who.String()}, effectNames(of.Effects)...)
	mine := who == caller.Subject
	if mine && answer.Approved {
		return out, op.refuse("somebody else approves what you have proposed")
	}
	if caller.Subject.Kind != access.Person {
		return out, op.refuse("a proposal is answered by a person")
	}
	if !mine {
		if err := op.mayApprove(row, of); err != nil {
			return out, err
		}
	}
	if !answer.Approved {
		return out, s.store.In(ctx, storage.Scope{0, row.ProjectID}, func(tx *storage.Tx) error {
			if _, err := tx.LockProposal(id); err != nil {
				return errAnswered(id, err)
			}
			return tx.DeleteProposal(id)
		})
	}
	return s.apply(op, row, of)
}

func effectNames(effects []wire.Effect) []string {
	names := make([]string, len(effects))
	for i, e := range effects {
		names[i] = e.Name
	}
	return names
}

func errAnswered(id int64, err error) error {
	if errors.Is(err, storage.ErrNotFound) {
		return problem(NotFound, "there is no proposal %d that waits for you", id)
	}
	return err
}

func (s *Service) findProposal(op *operation, id int64) (row storage.Proposal, of proposed, err error) {
	err = s.eachProposal(op, func(_ *storage.Tx, p storage.Proposal) error {
		if p.ID != id {
			return nil
		}
		_, shown, err := op.wireProposal(p)
		if err != nil || !shown {
			return err
		}
		row = p
		of, err = s.keys.openProposal(p)
		return err
	})
	if err == nil && row.ID == 0 {
		op.event.Outcome = trail.Refused
		err = errAnswered(id, storage.ErrNotFound)
	}
	place := op.dir.placeOf(access.Where{Project: row.ProjectID, Environment: row.EnvironmentID})
	op.event.Project, op.event.Environment = place.Project, place.Environment
	return row, of, err
}

// mayApprove checks that the caller could have made the change themselves.
func (op *operation) mayApprove(row storage.Proposal, of proposed) error {
	l, err := op.find(op.dir.placeOf(access.Where{Project: row.ProjectID, Environment: row.EnvironmentID}))
	if err != nil {
		return err
	}
	if of.Edit != nil {
		return op.allow(access.Manage, l)
	}
	for _, s := range of.Steps {
		if err := op.allowEdit(s.Edit.Act, l, s.Edit.Name, s.Edit.To); err != nil {
			return err
		}
	}
	for _, e := range of.Effects { // a going back names what it touches here alone
		if err := op.allowName(access.Write, l, e.Name); err != nil {
			return err
		}
	}
	return nil
}

// apply does what was proposed, in the name of its proposer, who must still be
// allowed to.
func (s *Service) apply(op *operation, row storage.Proposal, of proposed) (wire.Change, error) {
	approver := op.caller
	op.approved = &row
	op.caller.Subject = proposer(row)
	if from, err := netip.ParseAddr(row.Network); err == nil {
		op.caller.From = from
	}
	taken := func(tx *storage.Tx) error {
		if _, err := tx.LockProposal(row.ID); err != nil {
			return errAnswered(row.ID, err)
		}
		return tx.DeleteProposal(row.ID)
	}
	place := op.dir.placeOf(access.Where{Project: row.ProjectID, Environment: row.EnvironmentID})
	if of.Edit != nil {
		out := wire.Change{Layer: place.String(), Effects: []wire.Effect{}, Reason: row.Reason, Author: op.dir.subjectName(proposer(row))}
		_, err := s.editEnvironment(op, place, *of.Edit, of.Was, func(tx *storage.Tx) (err error) {
			// The one who approves must be allowed to at this moment as well.
			if op.as(approver, func() { err = op.mayApprove(row, of) }); err != nil {
				return err
			}
			return taken(tx)
		})
		op.caller = approver
		out.Approver = approver.Name()
		return out, err
	}
	reason := op.event.Reason
	op.event.Reason = row.Reason
	if reason != "" {
		op.event.Reason = row.Reason + " (approved: " + reason + ")"
	}
	find := func(op *operation, place layers.Place) (l located, err error) {
		op.as(approver, func() { l, err = op.find(place) })
		return l, err
	}
	out, err := s.changeLayer(op, place, CommitOptions{Base: row.Base}, nil, find, func(c *commit) error {
		for _, edit := range of.Steps {
			if err := op.allowEdit(edit.Edit.Act, c.at, edit.Edit.Name, edit.Edit.To); err != nil {
				return stillAllowed(op, err)
			}
		}
		// The one who approves must be allowed to at this moment, not only when they asked.
		var err error
		op.as(approver, func() { err = op.mayApprove(row, of) })
		if err != nil {
			return err
		}
		if err := taken(c.tx); err != nil {
			return err
		}
		steps, details := of.steps(s.now())
		return c.take(steps, details)
	})
	op.caller = approver
	out.Approver = approver.Name()
	return out, err
}

// as runs f as another caller.
func (op *operation) as(other Caller, f func()) {
	caller := op.caller
	op.caller = other
	defer func() { op.caller = caller }()
	f()
}

// stillAllowed says of whom a refusal speaks.
func stillAllowed(op *operation, err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return problem(Conflict, "%s, who proposed it, is not allowed to do it any more: %s", op.caller.Name(), p.Message)
	}
	return err
}
