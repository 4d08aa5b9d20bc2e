package storage

import "time"

// Proposal is a change that waits for a second person's approval.
type Proposal struct {
	ProjectID     int64
	ID            int64
	LayerID       *int64 // nil: of an environment's policies
	EnvironmentID int64
	Base          int64 // the layer's revision that it is for
	ProposerKind  string
	ProposerID    int64
	Network       string // address that it came from
	Reason        string
	CreatedAt     time.Time
	Sealed        []byte
}

// NextProposalID reserves the id of a proposal that is about to be sealed.
func (tx *Tx) NextProposalID() (int64, error) {
	var id int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.proposals', 'id'))").Scan(&id).Error
	return id, classify(err)
}

// CreateProposal writes a proposal under its reserved id.
func (tx *Tx) CreateProposal(p Proposal) error {
	return classify(tx.db.Exec(`INSERT INTO proposals (project_id, id, layer_id, environment_id, base, proposer_kind, proposer_id, network, reason, created_at, sealed)
		OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		p.ProjectID, p.ID, p.LayerID, p.EnvironmentID, p.Base, p.ProposerKind, p.ProposerID, p.Network, p.Reason, p.CreatedAt, p.Sealed).Error)
}

// Proposals reads the proposals in the transaction's scope, oldest first.
func (tx *Tx) Proposals() ([]Proposal, error) {
	var all []Proposal
	return all, classify(tx.db.Order("id").Find(&all).Error)
}

// LockProposal reads a proposal and keeps others from answering it.
func (tx *Tx) LockProposal(id int64) (p Proposal, err error) {
	return p, classify(tx.db.Raw("SELECT * FROM proposals WHERE id = ? FOR UPDATE", id).Take(&p).Error)
}

// DeleteProposal deletes a proposal.
func (tx *Tx) DeleteProposal(id int64) error {
	return classify(tx.db.Exec("DELETE FROM proposals WHERE id = ?", id).Error)
}

// DropProposals deletes the proposals of before a moment, in the transaction's scope.
func (tx *Tx) DropProposals(before time.Time) error {
	return classify(tx.db.Exec("DELETE FROM proposals WHERE created_at < ?", before).Error)
}
