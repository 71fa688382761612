package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/store"
)

// AddRequest keeps a request with the beginning of its thread, and returns its number.
func (s *Store) AddRequest(ctx context.Context, r store.Request, events ...store.RequestEvent) (int64, error) {
	body, err := requestBody(r)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.within(ctx, func(tx Asked) error {
		err := tx.QueryRowContext(ctx, `INSERT INTO requests (offer, person, team, state, run, deployment, body, created, changed, name) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO NOTHING RETURNING id`,
			r.Offer, r.Person, r.Owner.Team, string(r.State), r.Run, r.Deployment, body, r.Created.UnixNano(), r.Created.UnixNano(), r.Name).Scan(&id)
		if errors.Is(err, sql.ErrNoRows) {
			return store.ErrNameTaken
		}
		if err != nil {
			return err
		}
		return addEvents(ctx, tx, id, events)
	})
	if err != nil {
		return 0, err
	}
	return id, nil
}

// kept is what of a request is kept as JSON.
type kept struct {
	store.RequestBody
	Owner guard.Owner `json:"owner"`
}

func requestBody(r store.Request) (string, error) {
	body, err := json.Marshal(kept{r.RequestBody, r.Owner})
	return string(body), err
}

func addEvents(ctx context.Context, tx Asked, request int64, events []store.RequestEvent) error {
	for _, e := range events {
		_, err := tx.ExecContext(ctx, `INSERT INTO request_events (request, seq, at, who, way, stage, rule, text)
			VALUES (?1, (SELECT coalesce(max(seq), 0) + 1 FROM request_events WHERE request = ?1), ?2, ?3, ?4, ?5, ?6, ?7)`,
			request, e.At.UnixNano(), e.By.Name, string(e.By.Way), e.Stage, e.Rule, e.Text)
		if err != nil {
			return err
		}
	}
	return nil
}

// ChangeRequest changes a request that is in a state, with what that adds to its thread; false if it was not, since somebody else changed it.
func (s *Store) ChangeRequest(ctx context.Context, r store.Request, from store.RequestState, events ...store.RequestEvent) (bool, error) {
	body, err := requestBody(r)
	if err != nil {
		return false, err
	}
	changed := false
	err = s.within(ctx, func(tx Asked) error {
		done, err := tx.ExecContext(ctx, `UPDATE requests SET state = ?, run = ?, deployment = ?, body = ?, changed = ? WHERE id = ? AND state = ? AND changed = ?`,
			string(r.State), r.Run, r.Deployment, body, max(time.Now().UnixNano(), r.Changed.UnixNano()+1), r.ID, string(from), r.Changed.UnixNano())
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		if changed = n > 0; err != nil || !changed {
			return err
		}
		return addEvents(ctx, tx, r.ID, events)
	})
	return changed && err == nil, err
}

const requestColumns = `SELECT id, offer, person, state, run, deployment, body, created, changed FROM requests `

// Requests lists all requests, the newest first.
func (s *Store) Requests(ctx context.Context) ([]store.Request, error) {
	rows, err := s.db.QueryContext(ctx, requestColumns+`ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Request
	for rows.Next() {
		r, err := scanRequest(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Request returns one.
func (s *Store) Request(ctx context.Context, id int64) (store.Request, error) {
	r, err := scanRequest(s.db.QueryRowContext(ctx, requestColumns+`WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("request %d: %w", id, store.ErrNotFound)
	}
	return r, err
}

func scanRequest(row interface{ Scan(...any) error }) (store.Request, error) {
	var r store.Request
	var state, body string
	var created, changed int64
	if err := row.Scan(&r.ID, &r.Offer, &r.Person, &state, &r.Run, &r.Deployment, &body, &created, &changed); err != nil {
		return r, err
	}
	r.State, r.Created, r.Changed = store.RequestState(state), at(created), at(changed)
	var k kept
	if err := json.Unmarshal([]byte(body), &k); err != nil {
		return r, fmt.Errorf("request %d cannot be read: %w", r.ID, err)
	}
	r.RequestBody, r.Owner = k.RequestBody, k.Owner
	return r, nil
}

// RequestThread is what was done and said about a request, the oldest first.
func (s *Store) RequestThread(ctx context.Context, id int64) ([]store.RequestEvent, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT seq, at, who, way, stage, rule, text FROM request_events WHERE request = ? ORDER BY seq`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.RequestEvent
	for rows.Next() {
		var e store.RequestEvent
		var when int64
		var way string
		if err := rows.Scan(&e.Seq, &when, &e.By.Name, &way, &e.Stage, &e.Rule, &e.Text); err != nil {
			return nil, err
		}
		e.At, e.By.Way = at(when), guard.Way(way)
		out = append(out, e)
	}
	return out, rows.Err()
}
