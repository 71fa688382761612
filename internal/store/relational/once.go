package relational

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/store"
)

// KeepOnce keeps a request that was not asked before, and returns true; or returns the one of its key that was.
func (s *Store) KeepOnce(ctx context.Context, o store.Once) (store.Once, bool, error) {
	done, err := s.db.ExecContext(ctx, `INSERT INTO once (who, key, digest, at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, o.Who, o.Key, o.Digest, o.At.UnixNano())
	if err != nil {
		return store.Once{}, false, err
	}
	if n, err := done.RowsAffected(); err != nil || n == 1 {
		return o, err == nil, err
	}
	kept := store.Once{Who: o.Who, Key: o.Key}
	var at int64
	err = s.db.QueryRowContext(ctx, `SELECT digest, at, status, type, body FROM once WHERE who = ? AND key = ?`, o.Who, o.Key).Scan(&kept.Digest, &at, &kept.Status, &kept.Type, &kept.Body)
	kept.At = time.Unix(0, at).UTC()
	return kept, false, err
}

// AnswerOnce keeps how it was answered.
func (s *Store) AnswerOnce(ctx context.Context, o store.Once) error {
	done, err := s.db.ExecContext(ctx, `UPDATE once SET status = ?, type = ?, body = ? WHERE who = ? AND key = ?`, o.Status, o.Type, o.Body, o.Who, o.Key)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("what was asked with the key %s: %w", o.Key, store.ErrNotFound)
	}
	return nil
}

// ForgetOnce forgets those that were asked before a time.
func (s *Store) ForgetOnce(ctx context.Context, before time.Time) error {
	return s.exec(ctx, `DELETE FROM once WHERE at < ?`, before.UnixNano())
}
