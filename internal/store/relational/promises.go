package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/clock"
	"andamio/internal/core/promise"
	"andamio/internal/store"
)

// SetPromise keeps a promise with what is due for it.
func (s *Store) SetPromise(ctx context.Context, p promise.Promise, was *promise.Promise) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		if err := still(ctx, tx, p.Deployment, p.Kind, was); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, replacing("promises", "deployment, kind", "body, changed"), p.Deployment, string(p.Kind), string(body), nano(p.Since)); err != nil {
			return err
		}
		dues := p.Dues(p.Since)
		if was != nil {
			if dues, err = goOn(ctx, tx, was.Dues(was.Since), dues); err != nil {
				return err
			}
		} else if err := undue(ctx, tx, p.Deployment, p.Kind); err != nil {
			return err
		}
		return register(ctx, tx, dues)
	})
}

// register has something be due that was not.
func register(ctx context.Context, tx Asked, dues []clock.Due) error {
	for _, d := range dues {
		if _, err := tx.ExecContext(ctx, `INSERT INTO dues (kind, subject, rule, zone, start, who, way, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			d.Kind, d.Subject, d.Rule, d.Zone, nano(d.Start), d.By.Name, string(d.By.Way), nano(d.Seen)); err != nil {
			return err
		}
	}
	return nil
}

// of is the condition of what is due, or was, for a promise, with its values.
func of(deployment int64, kind promise.Kind) (string, []any) {
	kinds := promise.DueKindsOf(kind)
	args := []any{fmt.Sprint(deployment), fmt.Sprintf("%d %%", deployment)}
	for _, k := range kinds {
		args = append(args, k)
	}
	return `(subject = ? OR subject LIKE ?) AND kind IN (` + strings.TrimSuffix(strings.Repeat("?,", len(kinds)), ",") + `)`, args
}

// still says that what is kept is not any more what it was thought to be; a was of no kind is nothing, and nil thinks nothing.
func still(ctx context.Context, tx Asked, deployment int64, kind promise.Kind, was *promise.Promise) error {
	if was == nil {
		return nil
	}
	var now, before string
	if was.Kind != "" {
		body, err := json.Marshal(was)
		if err != nil {
			return err
		}
		before = string(body)
	}
	err := tx.QueryRowContext(ctx, `SELECT body FROM promises WHERE deployment = ? AND kind = ?`, deployment, string(kind)).Scan(&now)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if now != before {
		return fmt.Errorf("what is promised was changed meanwhile: %w", store.ErrTaken)
	}
	return nil
}

// goOn has what is due as it was before be due as it was, up to when it was seen to, and nothing else of that; it returns what is due anew.
func goOn(ctx context.Context, tx Asked, was, now []clock.Due) ([]clock.Due, error) {
	for _, d := range was {
		i := slices.IndexFunc(now, func(n clock.Due) bool {
			return n.Kind == d.Kind && n.Subject == d.Subject && n.Rule == d.Rule && n.Zone == d.Zone && n.Start.Equal(d.Start)
		})
		if i < 0 {
			if _, err := tx.ExecContext(ctx, `DELETE FROM dues WHERE kind = ? AND subject = ?`, d.Kind, d.Subject); err != nil {
				return nil, err
			}
			continue
		}
		changed, err := tx.ExecContext(ctx, `UPDATE dues SET who = ?, way = ? WHERE kind = ? AND subject = ?`, now[i].By.Name, string(now[i].By.Way), d.Kind, d.Subject)
		if err != nil {
			return nil, err
		}
		if n, err := changed.RowsAffected(); err != nil {
			return nil, err
		} else if n > 0 {
			now = slices.Delete(now, i, i+1)
		}
	}
	return now, nil
}

func undue(ctx context.Context, tx Asked, deployment int64, kind promise.Kind) error {
	where, args := of(deployment, kind)
	_, err := tx.ExecContext(ctx, `DELETE FROM dues WHERE `+where, args...)
	return err
}

// DropPromise has nothing be promised of a kind any more.
func (s *Store) DropPromise(ctx context.Context, deployment int64, kind promise.Kind, was *promise.Promise) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		if err := still(ctx, tx, deployment, kind, was); err != nil {
			return err
		}
		gone, err := tx.ExecContext(ctx, `DELETE FROM promises WHERE deployment = ? AND kind = ?`, deployment, string(kind))
		if err != nil {
			return err
		}
		if n, err := gone.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("nothing is promised of it: %w", store.ErrNotFound)
		}
		return undue(ctx, tx, deployment, kind)
	})
}

// Promises are all, by deployment and kind.
func (s *Store) Promises(ctx context.Context) ([]promise.Promise, error) {
	return bodies[promise.Promise](ctx, s, `SELECT body FROM promises ORDER BY deployment, kind`)
}

// bodies are what the only column of a query holds as JSON.
func bodies[T any](ctx context.Context, s *Store, query string) ([]T, error) {
	rows, err := s.db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		var body string
		var one T
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}

// PromiseFirings are the last times at which something was due for a promise.
func (s *Store) PromiseFirings(ctx context.Context, deployment int64, kind promise.Kind, limit int) ([]store.Firing, error) {
	where, args := of(deployment, kind)
	return s.firings(ctx, `WHERE `+where+` ORDER BY at DESC LIMIT ?`, append(args, limit)...)
}
