package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/store"
)

// KeepSource keeps the files of a template under their digest; what is kept already stays.
func (s *Store) KeepSource(ctx context.Context, digest string, files store.Source) error {
	body, err := json.Marshal(files)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO sources (digest, created, body) VALUES (?, ?, ?) ON CONFLICT (digest) DO NOTHING`, digest, time.Now().UnixNano(), body)
	return err
}

// Source returns the files kept under a digest; nil if there are none.
func (s *Store) Source(ctx context.Context, digest string) (*store.Source, error) {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM sources WHERE digest = ?`, digest).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out store.Source
	if err := json.Unmarshal(body, &out); err != nil {
		return nil, fmt.Errorf("the files kept as %s cannot be read: %w", digest, err)
	}
	return &out, nil
}
