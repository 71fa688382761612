package relational

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"andamio/internal/store"
)

// Enlist keeps an event that a hook is to tell; false if it was kept before.
func (s *Store) Enlist(ctx context.Context, d store.Delivery) (bool, error) {
	body, err := json.Marshal(d.Event)
	if err != nil {
		return false, err
	}
	done, err := s.db.ExecContext(ctx, `INSERT INTO deliveries (hook, event, body, at, state, next) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		d.Hook, d.Event.ID, string(body), d.At.UnixNano(), string(store.DeliveryWaiting), d.At.UnixNano())
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n == 1, err
}

// TakeDelivery takes one up that waits and is due, or was being sent by somebody who is silent since a time; of several that want it one gets
// it. ErrNotFound says that none is.
func (s *Store) TakeDelivery(ctx context.Context, now, silent time.Time) (store.Delivery, error) {
	var all []store.Delivery
	err := s.within(ctx, func(tx Asked) (err error) {
		all, err = deliveries(ctx, tx, `UPDATE deliveries SET state = ?1, tries = tries + 1, next = ?2, note = CASE state WHEN ?1 THEN 'broke off' ELSE note END
		WHERE id = (SELECT id FROM deliveries WHERE state = ?3 AND next <= ?2 OR state = ?1 AND next < ?4 ORDER BY next, id LIMIT 1)
		RETURNING id, hook, body, at, state, tries, next, note`, string(store.DeliverySending), now.UnixNano(), string(store.DeliveryWaiting), silent.UnixNano())
		return err
	})
	if err != nil {
		return store.Delivery{}, err
	}
	if len(all) == 0 {
		return store.Delivery{}, store.ErrNotFound
	}
	return all[0], nil
}

// TakeDeliveriesOf takes up as many as there are of a hook that wait and are due, up to a number, in the order in which they were enlisted; each goes to one of several that
// want it.
func (s *Store) TakeDeliveriesOf(ctx context.Context, hook string, most int, now time.Time) ([]store.Delivery, error) {
	var all []store.Delivery
	err := s.within(ctx, func(tx Asked) (err error) {
		all, err = deliveries(ctx, tx, `UPDATE deliveries SET state = ?1, tries = tries + 1, next = ?2
		WHERE id IN (SELECT id FROM deliveries WHERE state = ?3 AND next <= ?2 AND hook = ?4 ORDER BY next, id LIMIT ?5)
		RETURNING id, hook, body, at, state, tries, next, note`, string(store.DeliverySending), now.UnixNano(), string(store.DeliveryWaiting), hook, most)
		return err
	})
	slices.SortFunc(all, func(a, b store.Delivery) int { return cmp.Compare(a.ID, b.ID) })
	return all, err
}

// SettleDelivery says what came of one that was taken up, unless somebody else has taken it up since.
func (s *Store) SettleDelivery(ctx context.Context, d store.Delivery) error {
	_, err := s.db.ExecContext(ctx, `UPDATE deliveries SET state = ?, next = ?, note = ? WHERE id = ? AND state = ? AND tries = ?`,
		string(d.State), d.Next.UnixNano(), d.Note, d.ID, string(store.DeliverySending), d.Tries)
	return err
}

// ResendDelivery has one wait again that was given up, or of which nobody knows; ErrNotFound if it is not so.
func (s *Store) ResendDelivery(ctx context.Context, id int64, now time.Time) error {
	done, err := s.db.ExecContext(ctx, `UPDATE deliveries SET state = ?, tries = 0, next = ?, note = '' WHERE id = ? AND state IN (?, ?)`,
		string(store.DeliveryWaiting), now.UnixNano(), id, string(store.DeliveryFailed), string(store.DeliveryUnsure))
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("a delivery %d that failed: %w", id, store.ErrNotFound))
	}
	return nil
}

// Deliveries lists the last, the newest first.
func (s *Store) Deliveries(ctx context.Context, limit int) ([]store.Delivery, error) {
	return deliveries(ctx, s.db, `SELECT id, hook, body, at, state, tries, next, note FROM deliveries ORDER BY id DESC LIMIT ?`, limit)
}

func deliveries(ctx context.Context, on Asked, query string, args ...any) ([]store.Delivery, error) {
	rows, err := on.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Delivery
	for rows.Next() {
		var d store.Delivery
		var body, state string
		var when, next int64
		if err := rows.Scan(&d.ID, &d.Hook, &body, &when, &state, &d.Tries, &next, &d.Note); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &d.Event); err != nil {
			return nil, err
		}
		d.At, d.Next, d.State = at(when), at(next), store.DeliveryState(state)
		out = append(out, d)
	}
	return out, rows.Err()
}

// SetHooks notes which hooks there are; each is there since it was noted first.
func (s *Store) SetHooks(ctx context.Context, names []string, now time.Time) error {
	had, err := s.HooksSince(ctx)
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		for name := range had {
			if slices.Contains(names, name) {
				continue
			}
			if _, err := tx.ExecContext(ctx, `DELETE FROM hooks WHERE name = ?`, name); err != nil {
				return err
			}
		}
		for _, name := range names {
			if _, err := tx.ExecContext(ctx, `INSERT INTO hooks (name, since) VALUES (?, ?) ON CONFLICT DO NOTHING`, name, now.UnixNano()); err != nil {
				return err
			}
		}
		return nil
	})
}

// HooksSince are the hooks that were noted, with since when.
func (s *Store) HooksSince(ctx context.Context) (map[string]time.Time, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name, since FROM hooks`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]time.Time{}
	for rows.Next() {
		var name string
		var ns int64
		if err := rows.Scan(&name, &ns); err != nil {
			return nil, err
		}
		out[name] = at(ns)
	}
	return out, rows.Err()
}
