// Package relational is the store in a relational database, as [store.Store] is asked: it keeps plans, runs and their journals, and all else
// of a workspace. Packages sqlite and postgres are the databases that it is in.
//
// In go plans and events; out they come again, in this process or another: several processes may open one store, one
// of which runs a plan while the others watch. What Append has returned survives the end of the process, and of the power, at
// any moment.
package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Store is a store in a database.
type Store struct {
	db     Database
	schema int64
}

// Database is the database that the store is in.
func (s *Store) Database() Database { return s.db }

// On is the store in a database whose schema is of a version.
func On(db Database, schema int64) *Store { return &Store{db: db, schema: schema} }

// Schema is the version of the schema that this program knows.
func (s *Store) Schema() int64 { return s.schema }

// SavePlan keeps a plan and returns its number.
func (s *Store) SavePlan(ctx context.Context, p *plan.Plan) (int64, error) {
	if err := s.current(ctx); err != nil {
		return 0, err
	}
	body, err := p.Write()
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.db.QueryRowContext(ctx, `INSERT INTO plans (name, preset, cost, currency, created, body) VALUES (?, ?, ?, ?, ?, ?) RETURNING id`,
		p.Name, p.Preset, p.CostPerHour.Units(), p.Currency, time.Now().UnixNano(), body).Scan(&id)
	return id, err
}

// Plan returns a kept plan.
func (s *Store) Plan(ctx context.Context, id int64) (*plan.Plan, error) {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM plans WHERE id = ?`, id).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("plan %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return plan.Read(body)
}

// CreateRun makes a run that is not begun yet, of what is set of r: its plan, deployment, purpose, what is wanted, the
// number of steps, and limits.
func (s *Store) CreateRun(ctx context.Context, r store.Run) (int64, error) {
	var id int64
	err := s.db.QueryRowContext(ctx, `INSERT INTO runs (plan, state, created, steps, beat, deployment, purpose, wanted, limits, worker) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, '') RETURNING id`,
		r.Plan, string(run.Planned), time.Now().UnixNano(), r.Steps, time.Now().UnixNano(), r.Deployment, r.Purpose, r.Wanted, r.Limits).Scan(&id)
	return id, err
}

// Forget removes a run that never began, and its deployment if nothing else was made of that. What the run has of the sites' pools
// is the run's before it again, if there is one: what nobody needs of it is given back later.
func (s *Store) Forget(ctx context.Context, id int64) error {
	return s.within(ctx, func(tx Asked) error {
		var deployment, before int64
		err := tx.QueryRowContext(ctx, `SELECT deployment, coalesce((SELECT max(o.id) FROM runs o WHERE o.deployment = r.deployment AND o.id < r.id), 0)
			FROM runs r WHERE id = ? AND state = ?`, id, string(run.Planned)).Scan(&deployment, &before)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if before != 0 {
			if _, err := tx.ExecContext(ctx, `UPDATE reservations SET run = ? WHERE run = ?`, before, id); err != nil {
				return err
			}
		}
		for _, do := range []string{`DELETE FROM reservations WHERE run = ?`, `DELETE FROM runs WHERE id = ?`} {
			if _, err := tx.ExecContext(ctx, do, id); err != nil {
				return err
			}
		}
		for _, do := range []string{`DELETE FROM deployments WHERE id = ? AND NOT EXISTS (SELECT 1 FROM runs WHERE deployment = deployments.id)`,
			`DELETE FROM owners WHERE deployment = ? AND NOT EXISTS (SELECT 1 FROM deployments WHERE id = owners.deployment)`} {
			if _, err := tx.ExecContext(ctx, do, deployment); err != nil {
				return err
			}
		}
		return nil
	})
}

const runColumns = `SELECT r.id, r.plan, p.name, p.preset, p.cost, p.currency, r.state, r.created, r.ended, r.steps, r.worker, r.beat, r.cancel, r.deployment, r.purpose, r.epoch, r.limits, r."left", r.wanted, r.void
	FROM runs r JOIN plans p ON p.id = r.plan `

// Runs lists the runs, the newest first.
func (s *Store) Runs(ctx context.Context) ([]store.Run, error) {
	return s.runs(ctx, `ORDER BY r.id DESC`)
}

func (s *Store) runs(ctx context.Context, which string, args ...any) ([]store.Run, error) {
	rows, err := s.db.QueryContext(ctx, runColumns+which, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Run
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Run returns one run.
func (s *Store) Run(ctx context.Context, id int64) (store.Run, error) {
	r, err := scanRun(s.db.QueryRowContext(ctx, runColumns+`WHERE r.id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("run %d: %w", id, store.ErrNotFound)
	}
	return r, err
}

func scanRun(row interface{ Scan(...any) error }) (store.Run, error) {
	var r store.Run
	var created, ended, beat int64
	var units float64
	err := row.Scan(&r.ID, &r.Plan, &r.Name, &r.Preset, &units, &r.Currency, &r.State, &created, &ended, &r.Steps, &r.Worker, &beat, &r.Cancel,
		&r.Deployment, &r.Purpose, &r.Epoch, &r.Limits, &r.Left, &r.Wanted, &r.Void)
	r.CostPerHour = money.Of(units)
	r.Created, r.Ended, r.Beat = at(created), at(ended), at(beat)
	return r, err
}

func at(ns int64) time.Time {
	if ns == 0 {
		return time.Time{}
	}
	return time.Unix(0, ns).UTC()
}

// Claim makes a process the worker of a run, and returns the epoch of its work. It does so only if the run stands at the
// given epoch, so that of several that want it one gets it, and no other run of the same deployment goes on by a worker
// that lives; lives decides that of the other runs. ErrTaken says that it does not.
func (s *Store) Claim(ctx context.Context, id, epoch int64, worker store.Worker, lives func(store.Run) bool) (int64, error) {
	if err := s.current(ctx); err != nil {
		return 0, err
	}
	me, err := s.Run(ctx, id)
	if err != nil {
		return 0, err
	}
	others, err := s.RunsOf(ctx, me.Deployment)
	if err != nil {
		return 0, err
	}
	for _, o := range others {
		if o.ID != id && o.State == run.UnderWay && lives(o) {
			return 0, fmt.Errorf("run %d of the same deployment is under way: %w", o.ID, store.ErrTaken)
		}
	}
	// One statement looks and takes: two claims of two runs of a deployment at one moment cannot both pass.
	r, err := s.db.ExecContext(ctx, `UPDATE runs SET state = ?1, worker = ?2, beat = ?3, epoch = epoch + 1, cancel = 0, ended = 0, "left" = 0
		WHERE id = ?4 AND epoch = ?5 AND NOT EXISTS (SELECT 1 FROM runs o WHERE o.deployment = runs.deployment AND o.id <> runs.id
		AND o.state = ?1 AND o.beat > ?6)`,
		string(run.UnderWay), string(worker), time.Now().UnixNano(), id, epoch, beatOfOthers(id, others))
	if err != nil {
		return 0, err
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return 0, errors.Join(fmt.Errorf("run %d: %w", id, store.ErrTaken), err)
	}
	return epoch + 1, nil
}

// beatOfOthers is the last sign of life of the runs that were looked at: one that shows a later one lives.
func beatOfOthers(id int64, others []store.Run) int64 {
	last := int64(0)
	for _, o := range others {
		if o.ID != id {
			last = max(last, o.Beat.UnixNano())
		}
	}
	return last
}

// Beat says that a run's worker lives, and returns whether a cancel is asked for. ErrTaken says that another worker has
// the run.
func (s *Store) Beat(ctx context.Context, id, epoch int64) (cancel bool, err error) {
	err = s.db.QueryRowContext(ctx, `UPDATE runs SET beat = ? WHERE id = ? AND epoch = ? RETURNING cancel`, time.Now().UnixNano(), id, epoch).Scan(&cancel)
	if errors.Is(err, sql.ErrNoRows) {
		err = store.ErrTaken
	}
	return cancel, err
}

// Finish says how a run ended, unless another worker has taken it over.
func (s *Store) Finish(ctx context.Context, id, epoch int64, state run.Status) error {
	_, err := s.db.ExecContext(ctx, `UPDATE runs SET state = ?, ended = ? WHERE id = ? AND epoch = ?`, string(state), time.Now().UnixNano(), id, epoch)
	return err
}

// Cancel asks the worker of a run to stop.
func (s *Store) Cancel(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE runs SET cancel = 1 WHERE id = ?`, id)
	return err
}

// Events returns at most limit events of a run after a number, in order.
func (s *Store) Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT seq, at, kind, step, resource, body FROM events WHERE run = ? AND seq > ? ORDER BY seq LIMIT ?`,
		runID, after, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []run.Event
	for rows.Next() {
		var e run.Event
		var ns int64
		var body string
		if err := rows.Scan(&e.Seq, &ns, &e.Kind, &e.Step, &e.Resource, &body); err != nil {
			return nil, err
		}
		var rest eventBody
		if err := json.Unmarshal([]byte(body), &rest); err != nil {
			return nil, fmt.Errorf("event %d of run %d cannot be read: %w", e.Seq, runID, err)
		}
		e.At, e.Text, e.Good, e.Attributes = at(ns), rest.Text, rest.Good, rest.Attributes
		out = append(out, e)
	}
	return out, rows.Err()
}

// eventBody is what of an event is not a column.
type eventBody struct {
	Text       string            `json:"text,omitempty"`
	Good       bool              `json:"good,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
}

// current says of a store that was opened long ago that the database is still what this program knows.
func (s *Store) current(ctx context.Context) error {
	var now int64
	if err := s.db.QueryRowContext(ctx, `SELECT coalesce(max(version_id), 0) FROM goose_db_version`).Scan(&now); err != nil {
		return err
	}
	if now != s.schema {
		return fmt.Errorf("the workspace was brought to schema %d meanwhile, and this program knows %d: %w", now, s.schema, store.ErrNewer)
	}
	return nil
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }
