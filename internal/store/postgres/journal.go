package postgres

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

// appender writes to the journal of one run.
type appender struct {
	run, epoch int64
	d          *database
}

// Appender writes to the journal of a run.
func (d *database) Appender(_ context.Context, runID, epoch int64) (relational.Appender, error) {
	return &appender{runID, epoch, d}, nil
}

// Close has nothing to free.
func (a *appender) Close() error { return nil }

// appendFor is for how long one writing may take before the connection is given up for another.
const appendFor = 15 * time.Second

// appendEvents shows that the worker lives and writes what happened, all or nothing: where another has taken the run over there is nothing to join to. It
// waits for whoever changes the run at this moment and sees what that did, which any isolation but this would refuse.
const appendEvents = `WITH mine AS (UPDATE runs SET beat = $1 WHERE id = $2 AND epoch = $3 RETURNING id)
	INSERT INTO events (run, seq, at, kind, step, resource, body) SELECT mine.id, e.seq, e.at, e.kind, e.step, e.resource, e.body
	FROM mine, unnest($4::bigint[], $5::bigint[], $6::text[], $7::text[], $8::text[], $9::text[]) AS e (seq, at, kind, step, resource, body)`

// Append writes events, in one statement.
func (a *appender) Append(events []run.Event, again bool) error {
	ctx, cancel := context.WithTimeout(context.Background(), appendFor)
	defer cancel()
	if again {
		if written, err := a.written(ctx, events[len(events)-1].Seq); err != nil || written {
			return err
		}
	}
	n := len(events)
	seqs, ats, kinds, steps, resources, bodies := make([]int64, n), make([]int64, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	for i := range events {
		e := &events[i]
		body, err := relational.EventBody(e)
		if err != nil {
			return err
		}
		seqs[i], ats[i], kinds[i], steps[i], resources[i], bodies[i] = e.Seq, e.At.UnixNano(), clean(string(e.Kind)), clean(e.Step), clean(e.Resource), body
	}
	done, err := a.d.plain.ExecContext(ctx, appendEvents, time.Now().UnixNano(), a.run, a.epoch, seqs, ats, kinds, steps, resources, bodies)
	if err != nil {
		return err
	}
	if wrote, err := done.RowsAffected(); err != nil || wrote != int64(n) {
		return errors.Join(store.ErrTaken, err)
	}
	return nil
}

// written reports that events up to a number are there: the connection broke after they were written. Only whoever has the run writes them.
func (a *appender) written(ctx context.Context, last int64) (bool, error) {
	var epoch, seq int64
	err := a.d.plain.QueryRowContext(ctx, `SELECT epoch, (SELECT coalesce(max(seq), 0) FROM events WHERE run = runs.id) FROM runs WHERE id = $1`, a.run).Scan(&epoch, &seq)
	if errors.Is(err, sql.ErrNoRows) || err == nil && epoch != a.epoch {
		return false, store.ErrTaken
	}
	return seq >= last, err
}
