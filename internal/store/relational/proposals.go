package relational

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"andamio/internal/store"
)

// Propose keeps a proposal, which is open.
func (s *Store) Propose(ctx context.Context, p store.Proposal) (int64, error) {
	if err := s.current(ctx); err != nil {
		return 0, err
	}
	var id int64
	err := s.db.QueryRowContext(ctx, `INSERT INTO proposals (created, until, who, way, deployment, name, purpose, template, plan, wanted, limits, ground, state, kind, body)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`, p.Created.UnixNano(), p.Until.UnixNano(), p.By.Name, string(p.By.Way), p.Deployment, p.Name, p.Purpose, p.Template,
		p.Plan, p.Wanted, p.Limits, p.Ground, string(store.ProposalOpen), string(p.Kind), p.Body).Scan(&id)
	return id, err
}

// SettleProposal brings a proposal from one state to another; false if it was not in that state, since somebody else did.
func (s *Store) SettleProposal(ctx context.Context, id int64, from, to store.ProposalState, out store.Outcome) (bool, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE proposals SET state = ?, run = ?, act = ? WHERE id = ? AND state = ?`, string(to), out.Run, out.Act, id, string(from))
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

const proposalColumns = `SELECT id, created, until, who, way, deployment, name, purpose, template, plan, wanted, limits, ground, state, run, kind, body, act FROM proposals `

// Proposals lists all proposals, the newest first.
func (s *Store) Proposals(ctx context.Context) ([]store.Proposal, error) {
	rows, err := s.db.QueryContext(ctx, proposalColumns+`ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Proposal
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
func (s *Store) Proposal(ctx context.Context, id int64) (store.Proposal, error) {
	p, err := scanProposal(s.db.QueryRowContext(ctx, proposalColumns+`WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("proposal %d: %w", id, store.ErrNotFound)
	}
	return p, err
}

func scanProposal(row interface{ Scan(...any) error }) (store.Proposal, error) {
	var p store.Proposal
	var created, until int64
	err := row.Scan(&p.ID, &created, &until, &p.By.Name, &p.By.Way, &p.Deployment, &p.Name, &p.Purpose, &p.Template, &p.Plan, &p.Wanted, &p.Limits, &p.Ground, &p.State, &p.Run, &p.Kind, &p.Body, &p.Act)
	p.Created, p.Until = at(created), at(until)
	return p, err
}
