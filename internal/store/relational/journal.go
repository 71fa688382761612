package relational

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Journal appends to one run's journal. Only the run's worker has one, so it numbers the events itself. What several
// goroutines append at once is written in one transaction, which is what makes it fast.
type Journal struct {
	run int64
	db  Database
	to  Appender

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
	j := &Journal{run: runID, db: s.db}
	err := s.db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM events WHERE run = ?`, runID).Scan(&j.last)
	if err != nil {
		return nil, err
	}
	j.to, err = s.db.Appender(ctx, runID, epoch)
	return j, err
}

// Close frees what the journal holds.
func (j *Journal) Close() error { return j.to.Close() }

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

// busyFor is how long a journal tries on while it cannot write: another process is writing, which takes less in all that we do, or the database is
// not there, as while it is started again.
const busyFor = 2 * time.Minute

// pauseBetween is between two tries of what failed at once.
const pauseBetween = 100 * time.Millisecond

// write writes entries in one transaction, which also shows that the worker lives and still has the run. After an error
// nothing more is written: a journal with a hole in it would be no truth.
func (j *Journal) write(batch []*entry) error {
	if j.broken != nil {
		return j.broken
	}
	var all []run.Event
	for _, entry := range batch {
		for i := range entry.events {
			entry.events[i].Seq = j.last + int64(len(all)) + 1
			all = append(all, entry.events[i])
		}
	}
	err := j.to.Append(all, false)
	for until := time.Now().Add(busyFor); j.db.Passing(err) && time.Now().Before(until); {
		<-time.After(pauseBetween)
		err = j.to.Append(all, true)
	}
	if j.db.Passing(err) {
		err = fmt.Errorf("nothing could be written to the workspace for %s: see which process has %s open and end it, or have it answer again, and go on with andamio resume %d: %w", busyFor, j.db.Name(), j.run, err)
	}
	if err != nil {
		j.broken = err
		return err
	}
	j.last += int64(len(all))
	return nil
}

// EventBody is what of an event has no column of its own, as JSON.
func EventBody(e *run.Event) (string, error) {
	body, err := json.Marshal(eventBody{e.Text, e.Good, e.Attributes})
	if err != nil {
		return "", fmt.Errorf("event %d: %w", e.Seq, err)
	}
	return string(body), nil
}
