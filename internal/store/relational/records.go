package relational

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/store"
)

// Records are all records, by id.
func (s *Store) Records(ctx context.Context) (inventory.Records, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT body FROM records ORDER BY id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := inventory.Records{}
	for rows.Next() {
		var body []byte
		var r inventory.Record
		if err := errors.Join(rows.Scan(&body), json.Unmarshal(body, &r)); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Revise changes records, each with what it was before, in one transaction; act is what they belong to, 0 for none. It
// also does more within that transaction, if that is not nil.
func (s *Store) Revise(ctx context.Context, act int64, who string, now time.Time, changes []store.RecordChange) error {
	return s.within(ctx, func(tx Asked) error { return revise(ctx, tx, act, who, now, changes) })
}

func revise(ctx context.Context, tx Asked, act int64, who string, now time.Time, changes []store.RecordChange) error {
	for _, c := range changes {
		before, err := bodyOf(c.Before)
		if err != nil {
			return err
		}
		after, err := bodyOf(c.After)
		if err != nil {
			return err
		}
		if c.After == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM records WHERE id = ?`, c.ID)
		} else {
			_, err = tx.ExecContext(ctx, replacing("records", "id", "class, site, body"), c.ID, c.After.Class, c.After.Site, after)
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO record_history (record, at, who, why, before, after, act) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			c.ID, now.UnixNano(), who, c.Why, before, after, act); err != nil {
			return err
		}
	}
	return nil
}

func bodyOf(r *inventory.Record) (string, error) {
	if r == nil {
		return "", nil
	}
	body, err := json.Marshal(r.Normal())
	return string(body), err
}

// Touch says of records that they were just seen: no change, and no entry in their history.
func (s *Store) Touch(ctx context.Context, records []inventory.Record) error {
	return s.within(ctx, func(tx Asked) error {
		for i := range records {
			body, err := bodyOf(&records[i])
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE records SET body = ? WHERE id = ?`, body, records[i].ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// History is what became of a record, the newest first.
func (s *Store) History(ctx context.Context, record string) ([]store.RecordChange, error) {
	return s.changes(ctx, `WHERE record = ? ORDER BY id DESC LIMIT 200`, record)
}

// ChangesOf are the changes of records that belong to an act, in order.
func (s *Store) ChangesOf(ctx context.Context, act int64) ([]store.RecordChange, error) {
	return s.changes(ctx, `WHERE act = ? ORDER BY id`, act)
}

func (s *Store) changes(ctx context.Context, which string, arg any) ([]store.RecordChange, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT record, at, who, why, before, after, act FROM record_history `+which, arg)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.RecordChange
	for rows.Next() {
		var c store.RecordChange
		var ns int64
		var before, after string
		if err := rows.Scan(&c.ID, &ns, &c.Who, &c.Why, &before, &after, &c.Act); err != nil {
			return nil, err
		}
		c.At = at(ns)
		for text, into := range map[*string]**inventory.Record{&before: &c.Before, &after: &c.After} {
			if *text == "" {
				continue
			}
			*into = &inventory.Record{}
			if err := json.Unmarshal([]byte(*text), *into); err != nil {
				return nil, err
			}
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// RecordSettlement keeps an act with all that it does to the inventory.
func (s *Store) RecordSettlement(ctx context.Context, who string, now time.Time, d store.SettlementChanges) (int64, error) {
	var id int64
	err := s.within(ctx, func(tx Asked) error {
		if err := tx.QueryRowContext(ctx, `INSERT INTO acts (at, who, body) VALUES (?, ?, ?) RETURNING id`, now.UnixNano(), who, d.Body).Scan(&id); err != nil {
			return err
		}
		for _, i := range d.Ignore {
			until := int64(0)
			if !i.Until.IsZero() {
				until = i.Until.UnixNano()
			}
			if _, err := tx.ExecContext(ctx, replacing("ignored", "finding", "until, reason, act"), i.Finding, until, i.Reason, id); err != nil {
				return err
			}
		}
		for _, x := range d.Decide {
			if _, err := tx.ExecContext(ctx, replacing("identities", "site, provider, record", "same, act"), x.Site, x.Provider, x.Record, x.Same, id); err != nil {
				return err
			}
		}
		return revise(ctx, tx, id, who, now, d.Changes)
	})
	return id, err
}

// UndoSettlement takes back what an act did to the inventory: its records are what they were before it, and what it ignored or
// decided is so no more. One that was undone is refused.
func (s *Store) UndoSettlement(ctx context.Context, id int64, who string, now time.Time) error {
	changes, err := s.ChangesOf(ctx, id)
	if err != nil {
		return err
	}
	var back []store.RecordChange
	for i := len(changes) - 1; i >= 0; i-- {
		c := changes[i]
		back = append(back, store.RecordChange{ID: c.ID, Before: c.After, After: c.Before, Why: fmt.Sprintf("act %d was undone", id)})
	}
	return s.within(ctx, func(tx Asked) error {
		r, err := tx.ExecContext(ctx, `UPDATE acts SET undone = ? WHERE id = ? AND undone = 0`, now.UnixNano(), id)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return fmt.Errorf("act %d is not there or was undone already: %w", id, store.ErrNotFound)
		}
		for _, q := range []string{`DELETE FROM ignored WHERE act = ?`, `DELETE FROM identities WHERE act = ?`} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		return revise(ctx, tx, 0, who, now, back)
	})
}

// Settlements lists what persons did, the newest first.
func (s *Store) Settlements(ctx context.Context, limit int) ([]store.Settlement, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, at, who, undone, body FROM acts ORDER BY id DESC LIMIT ?`, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Settlement
	for rows.Next() {
		var a store.Settlement
		var ns, undone int64
		if err := rows.Scan(&a.ID, &ns, &a.Who, &undone, &a.Body); err != nil {
			return nil, err
		}
		a.At, a.Undone = at(ns), undone != 0
		out = append(out, a)
	}
	return out, rows.Err()
}

// Ignored are the findings that are let be.
func (s *Store) Ignored(ctx context.Context) ([]store.Ignoring, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT finding, until, reason, act FROM ignored`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Ignoring
	for rows.Next() {
		var i store.Ignoring
		var until int64
		if err := rows.Scan(&i.Finding, &until, &i.Reason, &i.Act); err != nil {
			return nil, err
		}
		i.Until = at(until)
		out = append(out, i)
	}
	return out, rows.Err()
}

// Identities are what persons said of identity.
func (s *Store) Identities(ctx context.Context) ([]inventory.Decision, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT site, provider, record, same FROM identities`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []inventory.Decision
	for rows.Next() {
		var d inventory.Decision
		if err := rows.Scan(&d.Site, &d.Provider, &d.Record, &d.Same); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

// Void takes back a run that only took note of things. Only the last run of a deployment that counts can be.
func (s *Store) Void(ctx context.Context, id int64) error {
	r, err := s.db.ExecContext(ctx, `UPDATE runs SET void = 1 WHERE id = ?1 AND void = 0 AND NOT EXISTS
		(SELECT 1 FROM runs o WHERE o.deployment = runs.deployment AND o.id > ?1 AND o.void = 0)`, id)
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return fmt.Errorf("run %d cannot be taken back: a later run of its deployment builds on it", id)
	}
	return nil
}
