package relational

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/store"
)

// TakeLease takes a lease that nobody has, or whose holder is silent or gone.
func (s *Store) TakeLease(ctx context.Context, name string, holder store.Worker, note string, now, silentSince time.Time, lives func(store.Lease) bool) (int64, error) {
	had, err := s.Lease(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	if err == nil && had.Beat.After(silentSince) && lives(had) {
		return 0, fmt.Errorf("%s has it: %w", had.Holder, store.ErrTaken)
	}
	// One statement looks and takes: of two that found it free one gets it.
	var epoch int64
	err = s.db.QueryRowContext(ctx, `INSERT INTO leases (name, holder, note, epoch, since, beat) VALUES (?1, ?2, ?3, 1, ?4, ?4)
		ON CONFLICT (name) DO UPDATE SET holder = ?2, note = ?3, epoch = leases.epoch + 1, since = ?4, beat = ?4 WHERE leases.epoch = ?5 RETURNING epoch`,
		name, string(holder), note, now.UnixNano(), had.Epoch).Scan(&epoch)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, fmt.Errorf("somebody took it at this moment: %w", store.ErrTaken)
	}
	return epoch, err
}

// HoldLease shows that the holder lives.
func (s *Store) HoldLease(ctx context.Context, name string, epoch int64, now time.Time) error {
	return s.one(ctx, store.ErrTaken, `UPDATE leases SET beat = ? WHERE name = ? AND epoch = ?`, now.UnixNano(), name, epoch)
}

// SayOfLease shows that the holder lives, and what it says of itself from now on.
func (s *Store) SayOfLease(ctx context.Context, name string, epoch int64, note string, now time.Time) error {
	return s.one(ctx, store.ErrTaken, `UPDATE leases SET beat = ?, note = ? WHERE name = ? AND epoch = ?`, now.UnixNano(), note, name, epoch)
}

// LeaveLease gives a lease back.
func (s *Store) LeaveLease(ctx context.Context, name string, epoch int64) error {
	return s.one(ctx, store.ErrTaken, `UPDATE leases SET beat = 0 WHERE name = ? AND epoch = ?`, name, epoch)
}

// one changes one row; none changes the error given.
func (s *Store) one(ctx context.Context, none error, change string, args ...any) error {
	r, err := s.db.ExecContext(ctx, change, args...)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(none, err)
	}
	return nil
}

// Lease is how a lease is.
func (s *Store) Lease(ctx context.Context, name string) (store.Lease, error) {
	l := store.Lease{Name: name}
	var since, beat int64
	err := s.db.QueryRowContext(ctx, `SELECT holder, note, epoch, since, beat FROM leases WHERE name = ?`, name).Scan(&l.Holder, &l.Note, &l.Epoch, &since, &beat)
	if errors.Is(err, sql.ErrNoRows) {
		return l, fmt.Errorf("lease %s: %w", name, store.ErrNotFound)
	}
	l.Since, l.Beat = at(since), at(beat)
	return l, err
}

// Leases are those whose names begin so.
func (s *Store) Leases(ctx context.Context, prefix string) ([]store.Lease, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name, holder, note, epoch, since, beat FROM leases WHERE substr(name, 1, ?1) = ?2 ORDER BY name`, len(prefix), prefix)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Lease
	for rows.Next() {
		var l store.Lease
		var since, beat int64
		if err := rows.Scan(&l.Name, &l.Holder, &l.Note, &l.Epoch, &since, &beat); err != nil {
			return nil, err
		}
		l.Since, l.Beat = at(since), at(beat)
		out = append(out, l)
	}
	return out, rows.Err()
}

// Register keeps something that is due.
func (s *Store) Register(ctx context.Context, d clock.Due) (int64, error) {
	if err := s.current(ctx); err != nil {
		return 0, err
	}
	var id int64
	err := s.db.QueryRowContext(ctx, `INSERT INTO dues (kind, subject, rule, zone, start, who, way, seen) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)
		ON CONFLICT (kind, subject) DO UPDATE SET
		seen = CASE WHEN dues.rule = ?3 AND dues.zone = ?4 AND dues.start = ?5 THEN dues.seen ELSE ?8 END, rule = ?3, zone = ?4, start = ?5, who = ?6, way = ?7 RETURNING id`,
		d.Kind, d.Subject, d.Rule, d.Zone, nano(d.Start), d.By.Name, string(d.By.Way), nano(d.Seen)).Scan(&id)
	return id, err
}

// nano is a time as the database has it; 0 is none.
func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// Unregister has something be due no more.
func (s *Store) Unregister(ctx context.Context, kind, subject string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM dues WHERE kind = ? AND subject = ?`, kind, subject)
	return err
}

// Dues is all that is registered.
func (s *Store) Dues(ctx context.Context) ([]clock.Due, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, kind, subject, rule, zone, start, who, way, seen FROM dues ORDER BY kind, subject`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []clock.Due
	for rows.Next() {
		var d clock.Due
		var start, seen int64
		if err := rows.Scan(&d.ID, &d.Kind, &d.Subject, &d.Rule, &d.Zone, &start, &d.By.Name, &d.By.Way, &seen); err != nil {
			return nil, err
		}
		d.Start, d.Seen = at(start), at(seen)
		out = append(out, d)
	}
	return out, rows.Err()
}

// Fire notes that something is begun or was missed.
func (s *Store) Fire(ctx context.Context, lease string, epoch int64, f store.Firing) (bool, error) {
	mine := false
	err := s.within(ctx, func(tx Asked) error {
		var holds int64
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM leases WHERE name = ? AND epoch = ? AND beat <> 0`, lease, epoch).Scan(&holds); err != nil {
			return err
		}
		if holds == 0 {
			return store.ErrTaken
		}
		// Only one that failed or was held and is to be tried again is begun once more.
		r, err := tx.ExecContext(ctx, `INSERT INTO firings (due, at, kind, subject, state, missed, tries, began) VALUES (?1, ?2, ?3, ?4, ?5, ?6, 1, ?7)
			ON CONFLICT (due, at) DO UPDATE SET state = ?5, tries = firings.tries + 1, again = 0, began = ?7 WHERE firings.state IN (?8, ?9) AND firings.again <> 0`,
			f.Due, nano(f.At), f.Kind, f.Subject, string(f.State), f.Missed, nano(f.Began), string(store.FiringFailed), string(store.FiringHeld))
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		if err != nil {
			return err
		}
		mine = n == 1
		_, err = tx.ExecContext(ctx, `UPDATE dues SET seen = CASE WHEN seen < ?1 THEN ?1 ELSE seen END WHERE id = ?2`, nano(f.At), f.Due)
		return err
	})
	return mine && err == nil, err
}

// EndFiring notes what became of it.
func (s *Store) EndFiring(ctx context.Context, f store.Firing) error {
	return s.one(ctx, store.ErrNotFound, `UPDATE firings SET state = ?, ended = ?, again = ?, note = ? WHERE due = ? AND at = ?`,
		string(f.State), nano(f.Ended), nano(f.Again), f.Note, f.Due, nano(f.At))
}

// Firings are the last, the newest first.
func (s *Store) Firings(ctx context.Context, limit int) ([]store.Firing, error) {
	return s.firings(ctx, `ORDER BY began DESC, at DESC LIMIT ?`, limit)
}

// firings are those of a condition, in an order.
func (s *Store) firings(ctx context.Context, which string, args ...any) ([]store.Firing, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT due, at, kind, subject, state, missed, tries, began, ended, again, note FROM firings `+which, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Firing
	for rows.Next() {
		var f store.Firing
		var due, began, ended, again int64
		if err := rows.Scan(&f.Due, &due, &f.Kind, &f.Subject, &f.State, &f.Missed, &f.Tries, &began, &ended, &again, &f.Note); err != nil {
			return nil, err
		}
		f.At, f.Began, f.Ended, f.Again = at(due), at(began), at(ended), at(again)
		out = append(out, f)
	}
	return out, rows.Err()
}
