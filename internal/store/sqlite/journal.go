package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Journal appends to one run's journal. Only the run's worker has one, so it numbers the events itself. What several
// goroutines append at once is written in one transaction, which is what makes it fast.
type Journal struct {
	run, epoch int64
	// name is the database's.
	name   string
	insert *sql.Stmt
	db     *sql.DB

	mu      sync.Mutex
	waiting []*entry
	writing bool
	last    int64
	broken  error
}

// entry is what one call appends.
type entry struct {
	events []run.Event
	done   chan error
}

// Journal opens the journal of a run for appending, for the worker that claimed it at that epoch.
func (s *Store) Journal(ctx context.Context, runID, epoch int64) (store.Journal, error) {
	j := &Journal{run: runID, epoch: epoch, db: s.db.DB, name: s.name}
	err := s.db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM events WHERE run = ?`, runID).Scan(&j.last)
	if err != nil {
		return nil, err
	}
	j.insert, err = s.db.PrepareContext(ctx, `INSERT INTO events (run, seq, at, kind, step, resource, body) VALUES (?, ?, ?, ?, ?, ?, ?)`)
	return j, err
}

// Close frees what the journal holds.
func (j *Journal) Close() error { return j.insert.Close() }

// Append numbers the events and returns when they will survive the process, and the power. The first goroutine to come writes for all
// that came while it wrote.
func (j *Journal) Append(events ...run.Event) error {
	e := &entry{events, make(chan error, 1)}
	j.mu.Lock()
	j.waiting = append(j.waiting, e)
	if j.writing {
		j.mu.Unlock()
		return <-e.done
	}
	j.writing = true
	for len(j.waiting) > 0 {
		batch := j.waiting
		j.waiting = nil
		j.mu.Unlock()
		err := j.write(batch)
		for _, x := range batch {
			x.done <- err
		}
		j.mu.Lock()
	}
	j.writing = false
	j.mu.Unlock()
	return <-e.done
}

// busyFor is how long a journal tries on while another process is writing, which is longer than any work of ours takes.
const busyFor = 2 * time.Minute

// write writes entries in one transaction, which also shows that the worker lives and still has the run. After an error
// nothing more is written: a journal with a hole in it would be no truth.
func (j *Journal) write(batch []*entry) error {
	if j.broken != nil {
		return j.broken
	}
	err := j.transact(batch)
	for until := time.Now().Add(busyFor); busy(err) && time.Now().Before(until); { // each try waits for busyPatience
		err = j.transact(batch)
	}
	if busy(err) {
		err = fmt.Errorf("another process has been writing to the workspace for %s: see which one has %s open, end it, and go on with andamio resume %d: %w", busyFor, j.name, j.run, err)
	}
	if err != nil {
		j.broken = err
	}
	return err
}

func (j *Journal) transact(batch []*entry) error {
	tx, err := j.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	r, err := tx.Exec(`UPDATE runs SET beat = ? WHERE id = ? AND epoch = ?`, time.Now().UnixNano(), j.run, j.epoch)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(store.ErrTaken, err)
	}
	insert := tx.Stmt(j.insert)
	seq := j.last
	for _, entry := range batch {
		for i := range entry.events {
			e := &entry.events[i]
			seq++
			e.Seq = seq
			body, err := json.Marshal(eventBody{e.Text, e.Good, e.Attributes})
			if err != nil {
				return fmt.Errorf("event %d: %w", e.Seq, err)
			}
			if _, err := insert.Exec(j.run, e.Seq, e.At.UnixNano(), string(e.Kind), e.Step, e.Resource, string(body)); err != nil {
				return err
			}
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	j.last = seq
	return nil
}
