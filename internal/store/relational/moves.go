package relational

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"andamio/internal/store"
)

// CreateMove keeps a move.
func (s *Store) CreateMove(ctx context.Context, deployment int64, who string, body []byte, now time.Time) (int64, error) {
	var id int64
	err := s.db.QueryRowContext(ctx, `INSERT INTO moves (deployment, created, who, body) VALUES (?, ?, ?, ?) RETURNING id`,
		deployment, now.UnixNano(), who, string(body)).Scan(&id)
	return id, err
}

// KeepMove replaces what is kept of a move.
func (s *Store) KeepMove(ctx context.Context, id int64, body []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE moves SET body = ? WHERE id = ?`, string(body), id)
	return err
}

// AddMoveRun notes that a run does something for a move.
func (s *Store) AddMoveRun(ctx context.Context, move int64, r store.MoveRun) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO move_runs (move, wave, kind, run) VALUES (?, ?, ?, ?)`, move, r.Wave, r.Kind, r.Run)
	return err
}

// Moves lists all moves, the newest first.
func (s *Store) Moves(ctx context.Context) ([]store.Move, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, deployment, created, who, body FROM moves ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Move
	for rows.Next() {
		var m store.Move
		var created int64
		var body string
		if err := rows.Scan(&m.ID, &m.Deployment, &created, &m.Who, &body); err != nil {
			return nil, err
		}
		m.Created, m.Body = time.Unix(0, created), []byte(body)
		out = append(out, m)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].Runs, err = s.moveRuns(ctx, out[i].ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Move returns one.
func (s *Store) Move(ctx context.Context, id int64) (store.Move, error) {
	all, err := s.Moves(ctx)
	for _, m := range all {
		if m.ID == id {
			return m, err
		}
	}
	if err == nil {
		err = fmt.Errorf("move %d: %w", id, store.ErrNotFound)
	}
	return store.Move{}, err
}

func (s *Store) moveRuns(ctx context.Context, move int64) ([]store.MoveRun, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT wave, kind, run FROM move_runs WHERE move = ? ORDER BY run`, move)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.MoveRun
	for rows.Next() {
		var r store.MoveRun
		if err := rows.Scan(&r.Wave, &r.Kind, &r.Run); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// SetPair keeps what is known of a pair of sites; "" forgets it. The order of the two does not matter.
func (s *Store) SetPair(ctx context.Context, a, b string, body []byte) error {
	if a > b {
		a, b = b, a
	}
	if len(body) == 0 {
		_, err := s.db.ExecContext(ctx, `DELETE FROM pairs WHERE a = ? AND b = ?`, a, b)
		return err
	}
	_, err := s.db.ExecContext(ctx, `INSERT INTO pairs (a, b, body) VALUES (?, ?, ?) ON CONFLICT (a, b) DO UPDATE SET body = excluded.body`, a, b, string(body))
	return err
}

// Pairs lists what is known of all pairs.
func (s *Store) Pairs(ctx context.Context) ([][]byte, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT body FROM pairs ORDER BY a, b`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out [][]byte
	for rows.Next() {
		var body string
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		out = append(out, []byte(body))
	}
	return out, rows.Err()
}

// Pair is what is known of a pair; nil if the two are none.
func (s *Store) Pair(ctx context.Context, a, b string) ([]byte, error) {
	if a > b {
		a, b = b, a
	}
	var body string
	err := s.db.QueryRowContext(ctx, `SELECT body FROM pairs WHERE a = ? AND b = ?`, a, b).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return []byte(body), err
}
