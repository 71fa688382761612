package relational

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"andamio/internal/core/ledger"
	"andamio/internal/store"
)

// KeepBook keeps what was written down of the runs of a deployment, in the place of what was before.
func (s *Store) KeepBook(ctx context.Context, deployment int64, b store.Book) error {
	_, err := s.db.ExecContext(ctx, replacing("books", "deployment", "runs, body"), deployment, b.Runs, b.Body)
	return err
}

// Books are all books, by deployment.
func (s *Store) Books(ctx context.Context) (map[int64]store.Book, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT deployment, runs, body FROM books`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]store.Book{}
	for rows.Next() {
		var id int64
		var b store.Book
		if err := rows.Scan(&id, &b.Runs, &b.Body); err != nil {
			return nil, err
		}
		out[id] = b
	}
	return out, rows.Err()
}

// KeepPrices keeps what a site asks from a moment on, unless that is what it asked last.
func (s *Store) KeepPrices(ctx context.Context, l store.PriceList) error {
	return s.within(ctx, func(tx Asked) error {
		var last []byte
		err := tx.QueryRowContext(ctx, `SELECT body FROM price_lists WHERE site = ? ORDER BY at DESC LIMIT 1`, l.Site).Scan(&last)
		if err == nil && bytes.Equal(last, l.Body) {
			return nil
		}
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = tx.ExecContext(ctx, replacing("price_lists", "site, at", "body"), l.Site, l.From.UnixNano(), l.Body)
		return err
	})
}

// PriceLists are all that sites ever asked, the oldest first.
func (s *Store) PriceLists(ctx context.Context) ([]store.PriceList, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT site, at, body FROM price_lists ORDER BY at, site`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.PriceList
	for rows.Next() {
		var l store.PriceList
		var ns int64
		if err := rows.Scan(&l.Site, &ns, &l.Body); err != nil {
			return nil, err
		}
		l.From = at(ns)
		out = append(out, l)
	}
	return out, rows.Err()
}

// Owners are whose each deployment was from when on, the oldest first.
func (s *Store) Owners(ctx context.Context) (map[int64][]ledger.Owned, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT deployment, at, owner FROM owners ORDER BY deployment, at`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64][]ledger.Owned{}
	for rows.Next() {
		var id, ns int64
		var owner string
		if err := rows.Scan(&id, &ns, &owner); err != nil {
			return nil, err
		}
		o := ledger.Owned{From: at(ns)}
		if owner != "" {
			if err := json.Unmarshal([]byte(owner), &o.Owner); err != nil {
				return nil, err
			}
		}
		out[id] = append(out[id], o)
	}
	return out, rows.Err()
}

// owned notes whose a deployment is from now on.
var owned = replacing("owners", "deployment, at", "owner")

// own makes a deployment somebody's from a moment on, in one transaction.
func (s *Store) own(ctx context.Context, deployment int64, owner string, now time.Time) (found bool, err error) {
	err = s.within(ctx, func(tx Asked) error {
		done, err := tx.ExecContext(ctx, `UPDATE deployments SET owner = ? WHERE id = ?`, owner, deployment)
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		if found = n > 0; err != nil || !found {
			return err
		}
		_, err = tx.ExecContext(ctx, owned, deployment, now.UnixNano(), owner)
		return err
	})
	return found, err
}
