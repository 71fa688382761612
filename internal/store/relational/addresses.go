package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"andamio/internal/core/promise"
	"andamio/internal/store"
)

// LeaseAddress keeps an address that nothing has, or has its lease be another.
func (s *Store) LeaseAddress(ctx context.Context, l promise.AddressLease, again bool) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	body, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		if err := s.leasable(ctx, tx, l, again); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, replacing("address_leases", "site, value", "body, changed"), l.Site, l.Value, string(body), nano(l.Since)); err != nil {
			return err
		}
		if err := addressUndue(ctx, tx, l.Subject()); err != nil {
			return err
		}
		return register(ctx, tx, l.Dues())
	})
}

// leasable says who has an address already.
func (s *Store) leasable(ctx context.Context, tx Asked, l promise.AddressLease, again bool) error {
	var holder int64
	err := tx.QueryRowContext(ctx, `SELECT run FROM reservations WHERE site = ? AND value = ?`, l.Site, l.Value).Scan(&holder)
	switch {
	case err == nil:
		return fmt.Errorf("%s at %s is held by run %d: %w", l.Value, l.Site, holder, store.ErrTaken)
	case !errors.Is(err, sql.ErrNoRows):
		return err
	}
	was, err := leaseOf(ctx, tx, l.Site, l.Value)
	switch {
	case err != nil:
		return err
	case again && was == nil:
		return fmt.Errorf("%s at %s is leased to nobody: %w", l.Value, l.Site, store.ErrNotFound)
	case !again && was != nil:
		return fmt.Errorf("%s is leased already: %w", was.Words(), store.ErrTaken)
	}
	return nil
}

// leaseOf is the lease of an address; nil if it has none.
func leaseOf(ctx context.Context, tx Asked, site, value string) (*promise.AddressLease, error) {
	var body string
	err := tx.QueryRowContext(ctx, `SELECT body FROM address_leases WHERE site = ? AND value = ?`, site, value).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var l promise.AddressLease
	return &l, json.Unmarshal([]byte(body), &l)
}

// addressUndue has nothing be due for an address.
func addressUndue(ctx context.Context, tx Asked, subject string) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM dues WHERE kind IN (?, ?) AND (subject = ? OR substr(subject, 1, ?) = ?)`,
		promise.DueAddressEnd, promise.DueAddressNotice, subject, len([]rune(subject))+1, subject+",")
	return err
}

// ReturnAddress has an address be nobody's again.
func (s *Store) ReturnAddress(ctx context.Context, site, value string) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	return s.within(ctx, func(tx Asked) error {
		gone, err := tx.ExecContext(ctx, `DELETE FROM address_leases WHERE site = ? AND value = ?`, site, value)
		if err != nil {
			return err
		}
		if n, err := gone.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%s at %s is leased to nobody: %w", value, site, store.ErrNotFound))
		}
		l := promise.AddressLease{Site: site, Value: value}
		return addressUndue(ctx, tx, l.Subject())
	})
}

// AddressLeases are all, by site and address.
func (s *Store) AddressLeases(ctx context.Context) ([]promise.AddressLease, error) {
	return bodies[promise.AddressLease](ctx, s, `SELECT body FROM address_leases ORDER BY site, value`)
}
