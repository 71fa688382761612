package relational

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"

	"andamio/internal/core/trail"
)

const trailColumns = `SELECT seq, at, who, way, act, target, plan, run, note, failed, before, digest FROM trail `

// Note adds an entry to the trail and returns it as it is kept. Several processes may do so at once.
func (s *Store) Note(ctx context.Context, e trail.Entry) (trail.Entry, error) {
	if err := s.current(ctx); err != nil {
		return e, err
	}
	given := e
	err := s.db.InTurn(ctx, TurnTrail, func(tx Asked) error {
		last, err := scanEntry(tx.QueryRowContext(ctx, trailColumns+`ORDER BY seq DESC LIMIT 1`))
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		e = given.After(last)
		_, err = tx.ExecContext(ctx, `INSERT INTO trail (seq, at, who, way, act, target, plan, run, note, failed, before, digest) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			e.Seq, e.At.UnixNano(), e.Name, string(e.Way), string(e.Act), e.On, e.Plan, e.Run, e.Note, e.Failed, e.Before, e.Digest)
		return err
	})
	return e, err
}

// Trail returns at most so many entries after one, oldest first.
func (s *Store) Trail(ctx context.Context, after int64, limit int) ([]trail.Entry, error) {
	return s.trail(ctx, `WHERE seq > ? ORDER BY seq LIMIT ?`, after, limit)
}

// trailPage is how many entries are read at once.
const trailPage = 1000

// EachOfTrail goes through all entries, the oldest first.
func (s *Store) EachOfTrail(ctx context.Context, do func(*trail.Entry) error) error {
	for after := int64(0); ; {
		page, err := s.Trail(ctx, after, trailPage)
		if err != nil {
			return err
		}
		for i := range page {
			if err := do(&page[i]); err != nil {
				return err
			}
			after = page[i].Seq
		}
		if len(page) < trailPage {
			return nil
		}
	}
}

// VerifyTrail looks whether any entry was changed, left out or put in, and whether one with an expected digest is there, if one is
// given.
func (s *Store) VerifyTrail(ctx context.Context, expect string) (*trail.Verifier, error) {
	v := &trail.Verifier{Expect: expect}
	if err := s.EachOfTrail(ctx, func(e *trail.Entry) error { v.Next(*e); return nil }); err != nil {
		return nil, err
	}
	ever, err := s.TrailEver(ctx)
	if err != nil {
		return nil, err
	}
	v.End(ever)
	return v, nil
}

// LastOfTrail returns the last entries, the newest first.
func (s *Store) LastOfTrail(ctx context.Context, limit int) ([]trail.Entry, error) {
	return s.trail(ctx, `ORDER BY seq DESC LIMIT ?`, limit)
}

func (s *Store) trail(ctx context.Context, which string, args ...any) ([]trail.Entry, error) {
	rows, err := s.db.QueryContext(ctx, trailColumns+which, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []trail.Entry
	for rows.Next() {
		e, err := scanEntry(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// TrailOfRun returns what was done about a run, oldest first.
func (s *Store) TrailOfRun(ctx context.Context, id int64) ([]trail.Entry, error) {
	return s.trail(ctx, `WHERE run = ? ORDER BY seq`, id)
}

// PlanDigest is the SHA-256 digest of a kept plan, as hexadecimal.
func (s *Store) PlanDigest(ctx context.Context, id int64) (string, error) {
	var body []byte
	if err := s.db.QueryRowContext(ctx, `SELECT body FROM plans WHERE id = ?`, id).Scan(&body); err != nil {
		return "", err
	}
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:]), nil
}

// TrailEver is how many entries there ever were.
func (s *Store) TrailEver(ctx context.Context) (int64, error) {
	var n int64
	err := s.db.QueryRowContext(ctx, s.db.TrailEver()).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return n, err
}

func scanEntry(row interface{ Scan(...any) error }) (trail.Entry, error) {
	var e trail.Entry
	var ns int64
	err := row.Scan(&e.Seq, &ns, &e.Name, &e.Way, &e.Act, &e.On, &e.Plan, &e.Run, &e.Note, &e.Failed, &e.Before, &e.Digest)
	e.At = at(ns)
	return e, err
}
