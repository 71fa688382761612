package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/guard"
)

// ProposalState is how far a proposal is.
type ProposalState string

// The states. One that is open and whose time is over is confirmed no more.
const (
	ProposalOpen      ProposalState = "open"
	ProposalConfirmed ProposalState = "confirmed"
	ProposalWithdrawn ProposalState = "withdrawn"
)

// Proposal is a plan that somebody proposed.
type Proposal struct {
	ID      int64       `json:"proposal"`
	Created time.Time   `json:"created"`
	Until   time.Time   `json:"until"`
	By      guard.Actor `json:"by"`
	// Deployment is what the plan changes, 0 for a new one; Name is its name, Template where its template was opened.
	Deployment int64  `json:"deployment,omitempty"`
	Name       string `json:"name"`
	Purpose    string `json:"purpose"`
	Template   string `json:"template,omitempty"`
	// Plan and Wanted are kept plans: what is done, and the whole design that it leads to, 0 for none.
	Plan   int64  `json:"-"`
	Wanted int64  `json:"-"`
	Limits string `json:"-"`
	// Ground is what it was worked out from, as JSON.
	Ground string        `json:"-"`
	State  ProposalState `json:"state"`
	// Run is the run that came of it.
	Run int64 `json:"run,omitempty"`
}

// Propose keeps a proposal, which is open.
func (s *Store) Propose(ctx context.Context, p Proposal) (int64, error) {
	if err := s.current(ctx); err != nil {
		return 0, err
	}
	r, err := s.db.ExecContext(ctx, `INSERT INTO proposals (created, until, who, way, deployment, name, purpose, template, plan, wanted, limits, ground, state)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, p.Created.UnixNano(), p.Until.UnixNano(), p.By.Name, string(p.By.Way), p.Deployment, p.Name, p.Purpose, p.Template,
		p.Plan, p.Wanted, p.Limits, p.Ground, string(ProposalOpen))
	if err != nil {
		return 0, err
	}
	return r.LastInsertId()
}

// SettleProposal brings a proposal from one state to another; false if it was not in that state, since somebody else did.
func (s *Store) SettleProposal(ctx context.Context, id int64, from, to ProposalState, run int64) (bool, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE proposals SET state = ?, run = ? WHERE id = ? AND state = ?`, string(to), run, id, string(from))
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

const proposalColumns = `SELECT id, created, until, who, way, deployment, name, purpose, template, plan, wanted, limits, ground, state, run FROM proposals `

// Proposals lists all proposals, the newest first.
func (s *Store) Proposals(ctx context.Context) ([]Proposal, error) {
	rows, err := s.db.QueryContext(ctx, proposalColumns+`ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Proposal
	for rows.Next() {
		p, err := scanProposal(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// Proposal returns one.
func (s *Store) Proposal(ctx context.Context, id int64) (Proposal, error) {
	p, err := scanProposal(s.db.QueryRowContext(ctx, proposalColumns+`WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("proposal %d: %w", id, ErrNotFound)
	}
	return p, err
}

func scanProposal(row interface{ Scan(...any) error }) (Proposal, error) {
	var p Proposal
	var created, until int64
	err := row.Scan(&p.ID, &created, &until, &p.By.Name, &p.By.Way, &p.Deployment, &p.Name, &p.Purpose, &p.Template, &p.Plan, &p.Wanted, &p.Limits, &p.Ground, &p.State, &p.Run)
	p.Created, p.Until = at(created), at(until)
	return p, err
}
