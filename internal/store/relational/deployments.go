package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/history"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// CreateDeployment makes a deployment of which nothing stands yet.
func (s *Store) CreateDeployment(ctx context.Context, name, template string, of guard.Owner) (int64, error) {
	now := time.Now()
	owner, err := ownerText(of)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.within(ctx, func(tx Asked) error { // one without its mark would be nobody's at the sites
		err := tx.QueryRowContext(ctx, `INSERT INTO deployments (name, mark, template, owner, created) VALUES (?, '', ?, ?, ?) RETURNING id`, name, template, owner, now.UnixNano()).Scan(&id)
		if err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, `UPDATE deployments SET mark = ? WHERE id = ?`, fmt.Sprintf("d%d-%d", id, now.UnixNano()/1e6), id); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, owned, id, now.UnixNano(), owner)
		return err
	})
	return id, err
}

// Deployments lists all, the newest first.
func (s *Store) Deployments(ctx context.Context) ([]store.Deployment, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, name, mark, template, owner, created FROM deployments ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Deployment
	for rows.Next() {
		d, err := scanDeployment(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

// Deployment returns one.
func (s *Store) Deployment(ctx context.Context, id int64) (store.Deployment, error) {
	d, err := scanDeployment(s.db.QueryRowContext(ctx, `SELECT id, name, mark, template, owner, created FROM deployments WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return d, fmt.Errorf("deployment %d: %w", id, store.ErrNotFound)
	}
	return d, err
}

func scanDeployment(row interface{ Scan(...any) error }) (store.Deployment, error) {
	var d store.Deployment
	var created int64
	var owner string
	err := row.Scan(&d.ID, &d.Name, &d.Mark, &d.Template, &owner, &created)
	d.Created = at(created)
	if err == nil && owner != "" {
		err = json.Unmarshal([]byte(owner), &d.Owner)
	}
	return d, err
}

// ownerText is an owner as it is kept; "" for nobody in particular.
func ownerText(o guard.Owner) (string, error) {
	if o.Nobody() {
		return "", nil
	}
	data, err := json.Marshal(o)
	return string(data), err
}

// Own makes a deployment somebody's.
func (s *Store) Own(ctx context.Context, deployment int64, of guard.Owner) error {
	owner, err := ownerText(of)
	if err != nil {
		return err
	}
	found, err := s.own(ctx, deployment, owner, time.Now())
	if err == nil && !found {
		err = fmt.Errorf("deployment %d: %w", deployment, store.ErrNotFound)
	}
	return err
}

// RunsOf lists the runs of a deployment, the oldest first.
func (s *Store) RunsOf(ctx context.Context, deployment int64) ([]store.Run, error) {
	return s.runs(ctx, `WHERE r.deployment = ? ORDER BY r.id`, deployment)
}

// Decide keeps a decision for the run's worker.
func (s *Store) Decide(ctx context.Context, runID int64, d store.Decision) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO decisions (run, step, verb, at) VALUES (?, ?, ?, ?)`, runID, d.Step, d.Verb, time.Now().UnixNano())
	return err
}

// Decisions are those that the worker has not taken yet.
func (s *Store) Decisions(ctx context.Context, runID int64) ([]store.Decision, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, step, verb FROM decisions WHERE run = ? AND taken = 0 ORDER BY id`, runID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Decision
	for rows.Next() {
		var d store.Decision
		if err := rows.Scan(&d.ID, &d.Step, &d.Verb); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

// Taken says that the worker has journalled a decision.
func (s *Store) Taken(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE decisions SET taken = 1 WHERE id = ?`, id)
	return err
}

// Leave settles that what failed in a run stays as it is.
func (s *Store) Leave(ctx context.Context, runID int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE runs SET "left" = 1 WHERE id = ? AND state NOT IN (?, ?)`, runID, string(run.UnderWay), string(run.Planned))
	return err
}

// Learn keeps how long the steps of a run took.
func (s *Store) Learn(ctx context.Context, runID int64, all []store.Took) error {
	return s.within(ctx, func(tx Asked) error {
		for _, t := range all {
			if _, err := tx.ExecContext(ctx, replacing("durations", "key, run, step", "seconds, at"), t.Key, runID, t.Step, t.Seconds, t.At.UnixNano()); err != nil {
				return err
			}
		}
		return nil
	})
}

// Durations are the kept durations of the last runs, in the order of the runs.
func (s *Store) Durations(ctx context.Context, runs int) ([]history.Sample, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT key, run, seconds FROM durations WHERE run > (SELECT coalesce(max(run), 0) FROM durations) - ? ORDER BY run, step`, runs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []history.Sample
	for rows.Next() {
		var s history.Sample
		if err := rows.Scan(&s.Key, &s.Run, &s.Seconds); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}
