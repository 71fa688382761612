package relational

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	"andamio/internal/store"
)

// Reserve gives a run what it asks for, all or nothing; what another run of its deployment has becomes its own. The error
// names the run that has some of it already.
func (s *Store) Reserve(ctx context.Context, runID int64, all []store.Reservation) error {
	return s.within(ctx, func(tx Asked) error { return reserve(ctx, tx, runID, all) })
}

func reserve(ctx context.Context, tx Asked, runID int64, all []store.Reservation) error {
	for _, r := range all {
		var holder int64
		err := tx.QueryRowContext(ctx, `SELECT v.run FROM reservations v JOIN runs h ON h.id = v.run JOIN runs me ON me.id = ?
			WHERE v.site = ? AND v.value = ? AND h.deployment <> me.deployment`, runID, r.Site, r.Value).Scan(&holder)
		if err == nil {
			return fmt.Errorf("%s at %s is held by run %d; plan anew, or give it back with andamio estate release %d", r.Value, r.Site, holder, holder)
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		switch l, err := leaseOf(ctx, tx, r.Site, r.Value); {
		case err != nil:
			return err
		case l != nil:
			return fmt.Errorf("%s is leased; plan anew, or have it returned", l.Words())
		}
		if _, err := tx.ExecContext(ctx, replacing("reservations", "site, value", "run"), r.Site, r.Value, runID); err != nil {
			return err
		}
	}
	return nil
}

// Keep gives back what the runs of a deployment have beside what is to be kept.
func (s *Store) Keep(ctx context.Context, deployment int64, keep []store.Reservation) error {
	held, err := s.Reservations(ctx)
	if err != nil {
		return err
	}
	runs, err := s.RunsOf(ctx, deployment)
	if err != nil {
		return err
	}
	for _, h := range held {
		mine := slices.ContainsFunc(runs, func(r store.Run) bool { return r.ID == h.Run })
		needed := slices.ContainsFunc(keep, func(k store.Reservation) bool { return k.Site == h.Site && k.Value == h.Value })
		if !mine || needed {
			continue
		}
		if _, err := s.db.ExecContext(ctx, `DELETE FROM reservations WHERE site = ? AND value = ?`, h.Site, h.Value); err != nil {
			return err
		}
	}
	return nil
}

// Release gives back what a run has, and returns how much that was.
func (s *Store) Release(ctx context.Context, runID int64) (int64, error) {
	r, err := s.db.ExecContext(ctx, `DELETE FROM reservations WHERE run = ?`, runID)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// Reservations lists what is held, by site.
func (s *Store) Reservations(ctx context.Context) ([]store.Reservation, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT site, value, run FROM reservations ORDER BY site, value`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Reservation
	for rows.Next() {
		var r store.Reservation
		if err := rows.Scan(&r.Site, &r.Value, &r.Run); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
