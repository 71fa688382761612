package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"
)

// Source is the files of a template, by path, and which of them is the template.
type Source struct {
	Root  string            `json:"root"`
	Files map[string][]byte `json:"files"`
}

// Digest is the same for the same files: the SHA-256 of their names and contents.
func (s Source) Digest() string {
	sum := sha256.New()
	for _, name := range append([]string{s.Root}, slices.Sorted(maps.Keys(s.Files))...) {
		fmt.Fprintf(sum, "%d %s %d\n", len(name), name, len(s.Files[name]))
		sum.Write(s.Files[name])
	}
	return "sha256:" + hex.EncodeToString(sum.Sum(nil))
}

// KeepSource keeps the files of a template under their digest; what is kept already stays.
func (s *Store) KeepSource(ctx context.Context, digest string, files Source) error {
	body, err := json.Marshal(files)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO sources (digest, created, body) VALUES (?, ?, ?) ON CONFLICT (digest) DO NOTHING`, digest, time.Now().UnixNano(), body)
	return err
}

// Source returns the files kept under a digest; nil if there are none.
func (s *Store) Source(ctx context.Context, digest string) (*Source, error) {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM sources WHERE digest = ?`, digest).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out Source
	if err := json.Unmarshal(body, &out); err != nil {
		return nil, fmt.Errorf("the files kept as %s cannot be read: %w", digest, err)
	}
	return &out, nil
}
