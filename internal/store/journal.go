package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"sync"

	"andamio/internal/core/run"
)

// Journal appends to one run's journal. Only the run's worker has one, so it numbers the events itself.
type Journal struct {
	run    int64
	insert *sql.Stmt
	db     *sql.DB

	mu   sync.Mutex
	last int64
}

// Journal opens the journal of a run for appending.
func (s *Store) Journal(ctx context.Context, runID int64) (*Journal, error) {
	j := &Journal{run: runID, db: s.db}
	err := s.db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM events WHERE run = ?`, runID).Scan(&j.last)
	if err != nil {
		return nil, err
	}
	j.insert, err = s.db.PrepareContext(ctx, `INSERT INTO events (run, seq, at, kind, step, resource, body) VALUES (?, ?, ?, ?, ?, ?, ?)`)
	return j, err
}

// Close frees what the journal holds.
func (j *Journal) Close() error { return j.insert.Close() }

// Append writes the events in one transaction and numbers them.
func (j *Journal) Append(events ...run.Event) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	tx, err := j.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	insert := tx.Stmt(j.insert)
	for i := range events {
		e := &events[i]
		e.Seq = j.last + int64(i) + 1
		body, err := json.Marshal(eventBody{e.Text, e.Good, e.Attributes})
		if err != nil {
			return fmt.Errorf("event %d: %w", e.Seq, err)
		}
		if _, err := insert.Exec(j.run, e.Seq, e.At.UnixNano(), string(e.Kind), e.Step, e.Resource, string(body)); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	j.last += int64(len(events))
	return nil
}
