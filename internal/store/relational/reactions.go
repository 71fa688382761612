package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"andamio/internal/core/guard"
	"andamio/internal/core/react"
)

// ReactionStates are those of all reactions to all deployments, by deployment and name.
func (s *Store) ReactionStates(ctx context.Context) ([]react.Kept, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT reaction, deployment, body FROM reaction_states ORDER BY deployment, reaction`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []react.Kept
	for rows.Next() {
		var k react.Kept
		var body string
		if err := rows.Scan(&k.Reaction, &k.Deployment, &body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &k.State); err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, rows.Err()
}

// KeepReactionState keeps one, in the place of what was kept of the same.
func (s *Store) KeepReactionState(ctx context.Context, k react.Kept) error {
	body, err := json.Marshal(k.State)
	if err != nil {
		return err
	}
	return s.exec(ctx, replacing("reaction_states", "reaction, deployment", "body"), k.Reaction, k.Deployment, string(body))
}

// DropReactionState forgets one.
func (s *Store) DropReactionState(ctx context.Context, reaction string, deployment int64) error {
	return s.exec(ctx, `DELETE FROM reaction_states WHERE reaction = ? AND deployment = ?`, reaction, deployment)
}

// SetReactor notes who set the file of reactions that has a digest.
func (s *Store) SetReactor(ctx context.Context, digest string, by guard.Actor) error {
	return s.exec(ctx, replacing("reaction_file", "one", "digest, who, way"), 1, digest, by.Name, string(by.Way))
}

// Reactor is who set the file of reactions that has a digest.
func (s *Store) Reactor(ctx context.Context, digest string) (by guard.Actor, err error) {
	var way string
	err = s.db.QueryRowContext(ctx, `SELECT who, way FROM reaction_file WHERE digest = ?`, digest).Scan(&by.Name, &way)
	if errors.Is(err, sql.ErrNoRows) {
		return guard.Actor{}, nil
	}
	by.Way = guard.Way(way)
	return by, err
}
