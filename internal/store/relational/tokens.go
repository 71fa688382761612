package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/token"
	"andamio/internal/store"
)

// AddToken keeps one that was made.
func (s *Store) AddToken(ctx context.Context, t token.Token, secrets token.Secrets) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	done, err := s.db.ExecContext(ctx, `INSERT INTO tokens (id, made, body, secret) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, t.ID, t.Made.UnixNano(), string(body), secrets.Now)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("a token %s: %w", t.ID, store.ErrTaken))
	}
	return nil
}

// columnsOfTokens are what [scanToken] reads.
const columnsOfTokens = `body, secret, before, until, revoked, revoked_by, used, used_from`

func scanToken(scan func(...any) error) (t token.Token, s token.Secrets, err error) {
	var body string
	var until, revoked, used int64
	if err := scan(&body, &s.Now, &s.Before, &until, &revoked, &t.RevokedBy, &used, &t.UsedFrom); err != nil {
		return t, s, err
	}
	by, from := t.RevokedBy, t.UsedFrom
	if err := json.Unmarshal([]byte(body), &t); err != nil {
		return t, s, err
	}
	t.Revoked, t.RevokedBy, t.Used, t.UsedFrom, t.Until = moment(revoked), by, moment(used), from, moment(until)
	s.Until = t.Until
	return t, s, nil
}

// moment is a time that was kept; 0 is none.
func moment(nanos int64) time.Time {
	if nanos == 0 {
		return time.Time{}
	}
	return time.Unix(0, nanos).UTC()
}

// Tokens are all, the newest first.
func (s *Store) Tokens(ctx context.Context) ([]token.Token, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+columnsOfTokens+` FROM tokens ORDER BY made DESC, id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []token.Token
	for rows.Next() {
		t, _, err := scanToken(rows.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// Token is one with the digests of its secrets.
func (s *Store) Token(ctx context.Context, id string) (token.Token, token.Secrets, error) {
	t, secrets, err := scanToken(s.db.QueryRowContext(ctx, `SELECT `+columnsOfTokens+` FROM tokens WHERE id = ?`, id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return t, secrets, fmt.Errorf("a token %s: %w", id, store.ErrNotFound)
	}
	return t, secrets, err
}

// RotateToken gives one that is not revoked another secret.
func (s *Store) RotateToken(ctx context.Context, id, digest string, until time.Time) error {
	return s.tokenChanged(ctx, id, `UPDATE tokens SET before = secret, until = ?, secret = ? WHERE id = ? AND revoked = 0`, until.UnixNano(), digest, id)
}

// RevokeToken has one be none any more.
func (s *Store) RevokeToken(ctx context.Context, id, by string, at time.Time) error {
	return s.tokenChanged(ctx, id, `UPDATE tokens SET revoked_by = CASE revoked WHEN 0 THEN ?1 ELSE revoked_by END, revoked = CASE revoked WHEN 0 THEN ?2 ELSE revoked END WHERE id = ?3`, by, at.UnixNano(), id)
}

// UseToken notes when it was used, and from where.
func (s *Store) UseToken(ctx context.Context, id string, at time.Time, from string) error {
	return s.tokenChanged(ctx, id, `UPDATE tokens SET used = ?, used_from = ? WHERE id = ?`, at.UnixNano(), from, id)
}

func (s *Store) tokenChanged(ctx context.Context, id, statement string, args ...any) error {
	done, err := s.db.ExecContext(ctx, statement, args...)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("a token %s that holds: %w", id, store.ErrNotFound))
	}
	return nil
}
