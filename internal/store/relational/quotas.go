package relational

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/quota"
	"andamio/internal/store"
)

// HoldQuota takes from accounts for something, all or nothing, and returns the hold. *quota.Overrun says of which account there is not enough.
func (s *Store) HoldQuota(ctx context.Context, h store.Hold, takes []quota.Take) (int64, error) {
	owner, err := json.Marshal(h.Owner)
	if err != nil {
		return 0, err
	}
	parts, err := json.Marshal(h.Parts)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.within(ctx, func(tx Asked) error {
		err := tx.QueryRowContext(ctx, `INSERT INTO holds (request, deployment, owner, parts, state, at) VALUES (?, ?, ?, ?, ?, ?) RETURNING id`,
			h.Request, h.Deployment, string(owner), string(parts), string(h.State), h.At.UnixNano()).Scan(&id)
		if err != nil {
			return err
		}
		return retake(ctx, tx, id, takes, false)
	})
	if err != nil {
		return 0, err
	}
	return id, nil
}

// ChangeHold puts other takes in the place of a hold's, all or nothing: what is more has to be there, what is less is given back. A hold
// of no parts and without takes is gone. By force more is taken than there is.
func (s *Store) ChangeHold(ctx context.Context, h store.Hold, takes []quota.Take, force bool) error {
	parts, err := json.Marshal(h.Parts)
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error { return changeHold(ctx, tx, h, string(parts), takes, force) })
}

func changeHold(ctx context.Context, tx Asked, h store.Hold, parts string, takes []quota.Take, force bool) error {
	done, err := tx.ExecContext(ctx, `UPDATE holds SET request = ?, deployment = ?, parts = ?, state = ?, at = ? WHERE id = ?`, h.Request, h.Deployment, parts, string(h.State), h.At.UnixNano(), h.ID)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("hold %d: %w", h.ID, store.ErrNotFound))
	}
	if err := retake(ctx, tx, h.ID, takes, force); err != nil {
		return err
	}
	if len(takes) == 0 && len(h.Parts) == 0 {
		if _, err := tx.ExecContext(ctx, `DELETE FROM holds WHERE id = ?`, h.ID); err != nil {
			return err
		}
	}
	return nil
}

// taken is an account and measure.
type taken struct {
	account string
	measure quota.Measure
}

// retake puts the takes of a hold in the place of those that it has.
func retake(ctx context.Context, tx Asked, hold int64, takes []quota.Take, force bool) error {
	had, err := takesOf(ctx, tx, hold)
	if err != nil {
		return err
	}
	for _, t := range takes {
		key := taken{t.Account, t.Measure}
		if err := take(ctx, tx, t, t.Amount-had[key], force); err != nil {
			return err
		}
		delete(had, key)
	}
	for key, amount := range had {
		if _, err := tx.ExecContext(ctx, `UPDATE accounts SET taken = taken - ? WHERE account = ? AND measure = ?`, amount, key.account, string(key.measure)); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM takes WHERE hold = ?`, hold); err != nil {
		return err
	}
	for _, t := range takes {
		if _, err := tx.ExecContext(ctx, `INSERT INTO takes (hold, account, measure, amount) VALUES (?, ?, ?, ?)`, hold, t.Account, string(t.Measure), t.Amount); err != nil {
			return err
		}
	}
	return nil
}

func takesOf(ctx context.Context, tx Asked, hold int64) (map[taken]int64, error) {
	rows, err := tx.QueryContext(ctx, `SELECT account, measure, amount FROM takes WHERE hold = ?`, hold)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[taken]int64{}
	for rows.Next() {
		var key taken
		var amount int64
		if err := rows.Scan(&key.account, &key.measure, &amount); err != nil {
			return nil, err
		}
		out[key] = amount
	}
	return out, rows.Err()
}

// take takes so much more, or gives so much back, from an account, whose limit is what it is now. By force its limit is what is taken, until
// somebody takes from it again.
func take(ctx context.Context, tx Asked, t quota.Take, more int64, force bool) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO accounts (account, measure, most) VALUES (?, ?, ?) ON CONFLICT (account, measure) DO UPDATE SET most = excluded.most`,
		t.Account, string(t.Measure), t.Most); err != nil {
		return err
	}
	if force {
		_, err := tx.ExecContext(ctx, `UPDATE accounts SET most = CASE WHEN most < taken + ?1 THEN taken + ?1 ELSE most END, taken = taken + ?1 WHERE account = ?2 AND measure = ?3`, more, t.Account, string(t.Measure))
		return err
	}
	done, err := tx.ExecContext(ctx, `UPDATE accounts SET taken = taken + ?1 WHERE account = ?2 AND measure = ?3 AND (?1 <= 0 OR taken + ?1 <= most)`, more, t.Account, string(t.Measure))
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 1 {
		return err
	}
	out := &quota.Overrun{Take: t}
	out.Amount = more
	if err := tx.QueryRowContext(ctx, `SELECT taken FROM accounts WHERE account = ? AND measure = ?`, t.Account, string(t.Measure)).Scan(&out.Taken); err != nil {
		return err
	}
	return out
}

// Holds lists what everybody has of quotas, the oldest first.
func (s *Store) Holds(ctx context.Context) ([]store.Hold, error) {
	return s.holds(ctx, `ORDER BY id`)
}

// HoldOf is what is held for a deployment; where that is 0, for a request of which nothing is built. Nil if nothing is.
func (s *Store) HoldOf(ctx context.Context, request, deployment int64) (*store.Hold, error) {
	all, err := s.holds(ctx, `WHERE deployment = ?1 AND (?1 <> 0 OR request = ?2) ORDER BY id`, deployment, request)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

func (s *Store) holds(ctx context.Context, which string, args ...any) ([]store.Hold, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, request, deployment, owner, parts, state, at FROM holds `+which, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Hold
	for rows.Next() {
		var h store.Hold
		var owner, parts, state string
		var when int64
		if err := rows.Scan(&h.ID, &h.Request, &h.Deployment, &owner, &parts, &state, &when); err != nil {
			return nil, err
		}
		h.State, h.At = quota.State(state), time.Unix(0, when)
		if err := errors.Join(json.Unmarshal([]byte(owner), &h.Owner), json.Unmarshal([]byte(parts), &h.Parts)); err != nil {
			return nil, fmt.Errorf("hold %d cannot be read: %w", h.ID, err)
		}
		out = append(out, h)
	}
	return out, rows.Err()
}

// TakesOf are what one hold has.
func (s *Store) TakesOf(ctx context.Context, hold int64) ([]quota.Take, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT t.account, t.measure, t.amount, a.most FROM takes t JOIN accounts a ON a.account = t.account AND a.measure = t.measure
		WHERE t.hold = ? ORDER BY t.account, t.measure`, hold)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []quota.Take
	for rows.Next() {
		var t quota.Take
		if err := rows.Scan(&t.Account, &t.Measure, &t.Amount, &t.Most); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// Takes are how much everybody has of which account.
func (s *Store) Takes(ctx context.Context) ([]quota.Taken, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT t.account, t.measure, t.amount, a.most, h.state FROM takes t JOIN holds h ON h.id = t.hold
		JOIN accounts a ON a.account = t.account AND a.measure = t.measure ORDER BY t.account, t.measure, t.hold`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []quota.Taken
	for rows.Next() {
		var t quota.Taken
		if err := rows.Scan(&t.Account, &t.Measure, &t.Amount, &t.Most, &t.State); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}
