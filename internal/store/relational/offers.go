package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"andamio/internal/core/guard"
	"andamio/internal/store"
)

// PublishOffer keeps a version of an offer, which takes the place of the one that is published, and returns its number.
func (s *Store) PublishOffer(ctx context.Context, o store.Offer) (int64, error) {
	body, err := json.Marshal(o.Offer)
	if err != nil {
		return 0, err
	}
	var number int64
	err = s.within(ctx, func(tx Asked) error {
		if _, err := tx.ExecContext(ctx, `UPDATE offers SET state = ? WHERE name = ? AND state = ?`, string(store.OfferSuperseded), o.Name, string(store.OfferPublished)); err != nil {
			return err
		}
		return tx.QueryRowContext(ctx, `INSERT INTO offers (name, number, body, source, who, way, at, state)
		VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM offers WHERE name = ?1), ?2, ?3, ?4, ?5, ?6, ?7) RETURNING number`,
			o.Name, string(body), o.Source, o.By.Name, string(o.By.Way), o.Published.UnixNano(), string(store.OfferPublished)).Scan(&number)
	})
	return number, err
}

// WithdrawOffer takes the published version of an offer back; ErrNotFound if none is.
func (s *Store) WithdrawOffer(ctx context.Context, name string) error {
	done, err := s.db.ExecContext(ctx, `UPDATE offers SET state = ? WHERE name = ? AND state = ?`, string(store.OfferWithdrawn), name, string(store.OfferPublished))
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("a published offer %s: %w", name, store.ErrNotFound))
	}
	return nil
}

const offerColumns = `SELECT name, number, body, source, who, way, at, state FROM offers `

// Offers lists the newest version of every offer, by name.
func (s *Store) Offers(ctx context.Context) ([]store.Offer, error) {
	return s.offers(ctx, `WHERE number = (SELECT max(number) FROM offers AS o WHERE o.name = offers.name) ORDER BY name`)
}

// OfferVersions lists the versions of an offer, the newest first.
func (s *Store) OfferVersions(ctx context.Context, name string) ([]store.Offer, error) {
	return s.offers(ctx, `WHERE name = ? ORDER BY number DESC`, name)
}

// Offer returns a version of an offer.
func (s *Store) Offer(ctx context.Context, name string, number int64) (store.Offer, error) {
	o, err := scanOffer(s.db.QueryRowContext(ctx, offerColumns+`WHERE name = ? AND number = ?`, name, number))
	if errors.Is(err, sql.ErrNoRows) {
		return o, fmt.Errorf("version %d of the offer %s: %w", number, name, store.ErrNotFound)
	}
	return o, err
}

func (s *Store) offers(ctx context.Context, which string, args ...any) ([]store.Offer, error) {
	rows, err := s.db.QueryContext(ctx, offerColumns+which, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Offer
	for rows.Next() {
		o, err := scanOffer(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, rows.Err()
}

func scanOffer(row interface{ Scan(...any) error }) (store.Offer, error) {
	var o store.Offer
	var name, body, way, state string
	var when int64
	if err := row.Scan(&name, &o.Number, &body, &o.Source, &o.By.Name, &way, &when, &state); err != nil {
		return o, err
	}
	o.By.Way, o.Published, o.State = guard.Way(way), at(when), store.OfferState(state)
	if err := json.Unmarshal([]byte(body), &o.Offer); err != nil {
		return o, fmt.Errorf("version %d of the offer %s cannot be read: %w", o.Number, name, err)
	}
	return o, nil
}
