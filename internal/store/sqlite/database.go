package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

// database is a database whose questions are parsed once and asked often: parsing took a third of what a short question takes. Within
// transactions statements are not kept, since one that is still being read may be asked again there. Whoever writes in it does so alone.
type database struct {
	*sql.DB
	name string
	mu   sync.Mutex
	kept map[string]*sql.Stmt
}

var _ relational.Database = (*database)(nil)

// mostKept bounds how many statements are kept; there are about a hundred, and those put together of parts.
const mostKept = 200

func parsedOnce(db *sql.DB, name string) *database {
	return &database{DB: db, name: name, kept: map[string]*sql.Stmt{}}
}

// statement is a question, parsed; nil where it is to be asked as it is.
func (d *database) statement(ctx context.Context, query string) *sql.Stmt {
	d.mu.Lock()
	s, full := d.kept[query], len(d.kept) >= mostKept
	d.mu.Unlock()
	if s != nil || full {
		return s
	}
	s, err := d.PrepareContext(ctx, query)
	if err != nil {
		return nil // whoever asks it as it is sees why
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if first := d.kept[query]; first != nil { // somebody asked the same meanwhile
		_ = s.Close()
		return first
	}
	d.kept[query] = s
	return s
}

// QueryContext is [sql.DB.QueryContext].
func (d *database) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := d.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return d.DB.QueryContext(ctx, query, args...)
}

// QueryRowContext is [sql.DB.QueryRowContext].
func (d *database) QueryRowContext(ctx context.Context, query string, args ...any) relational.Row {
	if s := d.statement(ctx, query); s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return d.DB.QueryRowContext(ctx, query, args...)
}

// asked is a transaction.
type asked struct{ *sql.Tx }

// QueryRowContext is [sql.Tx.QueryRowContext].
func (a asked) QueryRowContext(ctx context.Context, query string, args ...any) relational.Row {
	return a.Tx.QueryRowContext(ctx, query, args...)
}

// Within does work in one transaction, which nobody else writes during.
func (d *database) Within(ctx context.Context, work func(relational.Asked) error) error {
	tx, err := d.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := work(asked{tx}); err != nil {
		return err
	}
	return tx.Commit()
}

// InTurn is Within: whoever writes waits for the others in any case.
func (d *database) InTurn(ctx context.Context, _ relational.Turn, work func(relational.Asked) error) error {
	return d.Within(ctx, work)
}

// Passing reports that another process was writing for too long.
func (d *database) Passing(err error) bool { return busy(err) }

// TrailEver asks what the database itself remembers.
func (d *database) TrailEver() string { return `SELECT seq FROM sqlite_sequence WHERE name = 'trail'` }

// Settle takes over how many entries of the trail there ever were: the last may be missing, and that is found.
func (d *database) Settle(ctx context.Context, from, to relational.Asked, tables []string) error {
	if !slices.Contains(tables, "trail") {
		return nil
	}
	ever, err := relational.Ever(ctx, from)
	if err != nil || ever == 0 {
		return err
	}
	done, err := to.ExecContext(ctx, `UPDATE sqlite_sequence SET seq = ? WHERE name = 'trail'`, ever)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n > 0 {
		return err
	}
	_, err = to.ExecContext(ctx, `INSERT INTO sqlite_sequence (name, seq) VALUES ('trail', ?)`, ever)
	return err
}

// Name is the file's.
func (d *database) Name() string { return d.name }

// appender writes to the journal of one run.
type appender struct {
	run, epoch int64
	db         *sql.DB
	insert     *sql.Stmt
}

// Appender writes to the journal of a run.
func (d *database) Appender(ctx context.Context, runID, epoch int64) (relational.Appender, error) {
	insert, err := d.PrepareContext(ctx, `INSERT INTO events (run, seq, at, kind, step, resource, body) VALUES (?, ?, ?, ?, ?, ?, ?)`)
	return &appender{runID, epoch, d.DB, insert}, err
}

// Close frees its statement.
func (a *appender) Close() error { return a.insert.Close() }

// Append writes events. A transaction that failed has written nothing, so that trying it again is trying it first.
func (a *appender) Append(events []run.Event, _ bool) error {
	tx, err := a.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	r, err := tx.Exec(`UPDATE runs SET beat = ? WHERE id = ? AND epoch = ?`, time.Now().UnixNano(), a.run, a.epoch)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(store.ErrTaken, err)
	}
	insert := tx.Stmt(a.insert)
	for i := range events {
		e := &events[i]
		body, err := relational.EventBody(e)
		if err != nil {
			return err
		}
		if _, err := insert.Exec(a.run, e.Seq, e.At.UnixNano(), string(e.Kind), e.Step, e.Resource, body); err != nil {
			return err
		}
	}
	return tx.Commit()
}
