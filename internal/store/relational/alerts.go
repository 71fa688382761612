package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/store"
)

// KeepAlerts keeps alerts as they are now, all or none.
func (s *Store) KeepAlerts(ctx context.Context, all []alarm.Alert) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		for _, a := range all {
			a.Known, a.Muted = nil, nil // what is said of it is kept apart
			body, err := json.Marshal(a)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO alerts (id, since, ended, body) VALUES (?, ?, ?, ?)
				ON CONFLICT (id) DO UPDATE SET since = excluded.since, ended = excluded.ended, body = excluded.body`, a.ID, nano(a.Since), nano(a.Ended), string(body)); err != nil {
				return err
			}
		}
		return nil
	})
}

const alertColumns = `SELECT a.body, coalesce(k.body, ''), coalesce(m.body, '') FROM alerts a
	LEFT JOIN alert_words k ON k.alert = a.id AND k.word = 'acknowledged' LEFT JOIN alert_words m ON m.alert = a.id AND m.word = 'silenced' `

// OpenAlerts are those that go on, the oldest first.
func (s *Store) OpenAlerts(ctx context.Context) ([]alarm.Alert, error) {
	return s.alerts(ctx, alertColumns+`WHERE a.ended = 0 ORDER BY a.since, a.id`)
}

// AlertsSince are those that went on at a time or later, the newest first, at most so many.
func (s *Store) AlertsSince(ctx context.Context, since time.Time, most int) ([]alarm.Alert, error) {
	return s.alerts(ctx, alertColumns+`WHERE a.ended = 0 OR a.ended >= ? ORDER BY a.since DESC, a.id DESC LIMIT ?`, nano(since), most)
}

// Alert is one of them.
func (s *Store) Alert(ctx context.Context, id int64) (alarm.Alert, error) {
	all, err := s.alerts(ctx, alertColumns+`WHERE a.id = ?`, id)
	if err != nil {
		return alarm.Alert{}, err
	}
	if len(all) == 0 {
		return alarm.Alert{}, fmt.Errorf("alert %d: %w", id, store.ErrNotFound)
	}
	return all[0], nil
}

func (s *Store) alerts(ctx context.Context, query string, args ...any) ([]alarm.Alert, error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []alarm.Alert
	for rows.Next() {
		var body, known, muted string
		if err := rows.Scan(&body, &known, &muted); err != nil {
			return nil, err
		}
		var a alarm.Alert
		if err := json.Unmarshal([]byte(body), &a); err != nil {
			return nil, err
		}
		if a.Known, err = saidOf(known); err != nil {
			return nil, err
		}
		if a.Muted, err = saidOf(muted); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, rows.Err()
}

func saidOf(body string) (*alarm.Said, error) {
	if body == "" {
		return nil, nil
	}
	var said alarm.Said
	return &said, json.Unmarshal([]byte(body), &said)
}

// LastAlert is the last number that was given.
func (s *Store) LastAlert(ctx context.Context) (last int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) FROM alerts`).Scan(&last)
	return last, err
}

// SayOfAlert keeps what somebody says of an alert.
func (s *Store) SayOfAlert(ctx context.Context, id int64, word store.AlertWord, said *alarm.Said) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		var there int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM alerts WHERE id = ?`, id).Scan(&there); errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("alert %d: %w", id, store.ErrNotFound)
		} else if err != nil {
			return err
		}
		if said == nil {
			_, err := tx.ExecContext(ctx, `DELETE FROM alert_words WHERE alert = ? AND word = ?`, id, string(word))
			return err
		}
		body, err := json.Marshal(said)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, replacing("alert_words", "alert, word", "body"), id, string(word), string(body))
		return err
	})
}
