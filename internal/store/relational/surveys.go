package relational

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/mapping"
	"andamio/internal/store"
)

// BeginSurvey makes a survey of some regions.
func (s *Store) BeginSurvey(ctx context.Context, site string, deep bool, regions []string, now time.Time) (int64, error) {
	var id int64
	err := s.within(ctx, func(tx Asked) error {
		err := tx.QueryRowContext(ctx, `INSERT INTO surveys (site, deep, started, beat, state) VALUES (?, ?, ?, ?, ?) RETURNING id`,
			site, deep, now.UnixNano(), now.UnixNano(), store.SurveyGoing).Scan(&id)
		if err != nil {
			return err
		}
		for _, region := range regions {
			if _, err := tx.ExecContext(ctx, `INSERT INTO survey_parts (survey, region, state) VALUES (?, ?, ?)`, id, region, store.SurveyGoing); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// within does work in one transaction.
func (s *Store) within(ctx context.Context, work func(Asked) error) error {
	return s.db.Within(ctx, work)
}

// exec does one statement that writes.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	if err := s.current(ctx); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, query, args...)
	return err
}

// Stage keeps a page of what a survey saw, and how far it got, together: what is staged is not observed yet.
func (s *Store) Stage(ctx context.Context, survey int64, p store.SurveyPart, seen []mapping.Observation) error {
	return s.within(ctx, func(tx Asked) error {
		for i := range seen {
			body, err := json.Marshal(seen[i])
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, replacing("staged", "survey, region, id", "body"), survey, p.Region, seen[i].ID, body); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE surveys SET beat = ? WHERE id = ?`, time.Now().UnixNano(), survey); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE survey_parts SET kind = ?, cursor = ?, found = (SELECT count(*) FROM staged WHERE survey = ? AND region = ?) WHERE survey = ? AND region = ?`,
			p.Kind, p.Cursor, survey, p.Region, survey, p.Region)
		return err
	})
}

// EndRegion ends a region of a survey. If all of it was listed, that takes the place of what was observed there before,
// in one transaction; if not, what was observed stays as it is.
func (s *Store) EndRegion(ctx context.Context, survey int64, site, region string, failed error, now time.Time) error {
	return s.within(ctx, func(tx Asked) error {
		state, why := store.SurveyDone, ""
		if failed != nil {
			state, why = store.SurveyFailed, failed.Error()
		}
		do := func(q string, args ...any) error { _, err := tx.ExecContext(ctx, q, args...); return err }
		if failed == nil {
			if err := errors.Join(
				do(`DELETE FROM observations WHERE site = ? AND region = ? AND id NOT IN (SELECT id FROM staged WHERE survey = ? AND region = ?)`, site, region, survey, region),
				do(`INSERT INTO observations (site, id, region, seen, body) SELECT CAST(? AS TEXT), id, region, CAST(? AS BIGINT), body FROM staged WHERE survey = ? AND region = ? `+onConflict("site, id", "region, seen, body"), site, now.UnixNano(), survey, region),
				do(`INSERT INTO coverage (site, region, seen, tried) VALUES (?, ?, ?, ?) ON CONFLICT (site, region) DO UPDATE SET seen = excluded.seen, tried = excluded.tried, error = ''`,
					site, region, now.UnixNano(), now.UnixNano())); err != nil {
				return err
			}
		} else if err := do(`INSERT INTO coverage (site, region, seen, tried, error) VALUES (?, ?, 0, ?, ?) ON CONFLICT (site, region) DO UPDATE SET tried = excluded.tried, error = excluded.error`,
			site, region, now.UnixNano(), why); err != nil {
			return err
		}
		return errors.Join(
			do(`UPDATE survey_parts SET state = ?, error = ? WHERE survey = ? AND region = ?`, state, why, survey, region),
			do(`DELETE FROM staged WHERE survey = ? AND region = ?`, survey, region))
	})
}

// EndSurvey ends a survey. What is staged of one that was stopped stays, so that it can go on.
func (s *Store) EndSurvey(ctx context.Context, id int64, state store.SurveyState, now time.Time) error {
	return s.within(ctx, func(tx Asked) error {
		_, err := tx.ExecContext(ctx, `UPDATE surveys SET state = ?, ended = ? WHERE id = ?`, state, now.UnixNano(), id)
		if err == nil && state != store.SurveyStopped {
			_, err = tx.ExecContext(ctx, `DELETE FROM staged WHERE survey = ?`, id)
		}
		return err
	})
}

// Surveys lists the last surveys, the newest first.
func (s *Store) Surveys(ctx context.Context, limit int) ([]store.Survey, error) {
	return s.surveys(ctx, `ORDER BY id DESC LIMIT ?`, limit)
}

func (s *Store) surveys(ctx context.Context, which string, arg any) ([]store.Survey, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, site, deep, started, ended, beat, state FROM surveys `+which, arg)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Survey
	for rows.Next() {
		var v store.Survey
		var started, ended, beat int64
		if err := rows.Scan(&v.ID, &v.Site, &v.Deep, &started, &ended, &beat, &v.State); err != nil {
			return nil, err
		}
		v.Started, v.Ended, v.Beat = at(started), at(ended), at(beat)
		out = append(out, v)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].Parts, err = s.parts(ctx, out[i].ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Store) parts(ctx context.Context, survey int64) ([]store.SurveyPart, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT region, kind, cursor, found, state, error FROM survey_parts WHERE survey = ? ORDER BY region`, survey)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.SurveyPart
	for rows.Next() {
		var p store.SurveyPart
		if err := rows.Scan(&p.Region, &p.Kind, &p.Cursor, &p.Found, &p.State, &p.Error); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// Survey returns one.
func (s *Store) Survey(ctx context.Context, id int64) (store.Survey, error) {
	all, err := s.surveys(ctx, `WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("survey %d: %w", id, store.ErrNotFound)
	}
	if err != nil {
		return store.Survey{}, err
	}
	return all[0], nil
}

// LastSurvey is the last survey of a site, ErrNotFound if there is none.
func (s *Store) LastSurvey(ctx context.Context, site string) (store.Survey, error) {
	all, err := s.surveys(ctx, `WHERE site = ? ORDER BY id DESC LIMIT 1`, site)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("a survey of %s: %w", site, store.ErrNotFound)
	}
	if err != nil {
		return store.Survey{}, err
	}
	return all[0], nil
}

// Observations are what surveys and notices saw last.
func (s *Store) Observations(ctx context.Context) ([]mapping.Observation, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT seen, body FROM observations ORDER BY site, id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []mapping.Observation
	for rows.Next() {
		var seen int64
		var body []byte
		if err := rows.Scan(&seen, &body); err != nil {
			return nil, err
		}
		var o mapping.Observation
		if err := json.Unmarshal(body, &o); err != nil {
			return nil, err
		}
		o.Seen = at(seen)
		out = append(out, o)
	}
	return out, rows.Err()
}

// Observed keeps what some things are now, in one transaction, and returns how many notices were taken for the first
// time. Where something was seen before it stays in the region it was seen in.
func (s *Store) Observed(ctx context.Context, all []store.Sight, now time.Time) (int, error) {
	first := 0
	err := s.within(ctx, func(tx Asked) error {
		first = 0
		for i := range all {
			n, err := sight(ctx, tx, &all[i], now)
			if err != nil {
				return err
			}
			first += n
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM heard WHERE at < ?`, now.Add(-remembered).UnixNano())
		return err
	})
	return first, err
}

// remembered is for how long a notice is known to have been taken; older ones are refused by their time.
const remembered = time.Hour

func sight(ctx context.Context, tx Asked, x *store.Sight, now time.Time) (int, error) {
	first := 0
	for _, id := range x.Notices {
		r, err := tx.ExecContext(ctx, `INSERT INTO heard (id, at) VALUES (?, ?) ON CONFLICT DO NOTHING`, id, now.UnixNano())
		if err != nil {
			return 0, err
		}
		if n, _ := r.RowsAffected(); n > 0 {
			first++
		}
	}
	if first == 0 {
		return 0, nil
	}
	if x.Observation == nil {
		_, err := tx.ExecContext(ctx, `DELETE FROM observations WHERE site = ? AND id = ?`, x.Site, x.ID)
		return first, err
	}
	var region string
	err := tx.QueryRowContext(ctx, `SELECT region FROM observations WHERE site = ? AND id = ?`, x.Site, x.ID).Scan(&region)
	if err == nil {
		x.Observation.Region = region
	} else if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	body, err := json.Marshal(x.Observation)
	if err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, replacing("observations", "site, id", "region, seen, body"),
		x.Site, x.ID, x.Observation.Region, now.UnixNano(), body)
	return first, err
}

// Coverage says how old what is known of each region is.
func (s *Store) Coverage(ctx context.Context) ([]store.Covered, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT site, region, seen, tried, error FROM coverage ORDER BY site, region`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.Covered
	for rows.Next() {
		var c store.Covered
		var seen, tried int64
		if err := rows.Scan(&c.Site, &c.Region, &seen, &tried, &c.Error); err != nil {
			return nil, err
		}
		c.Seen, c.Tried = at(seen), at(tried)
		out = append(out, c)
	}
	return out, rows.Err()
}

// ForgetSite drops what was observed at a site; records stay.
func (s *Store) ForgetSite(ctx context.Context, site string) error {
	return s.within(ctx, func(tx Asked) error {
		for _, q := range []string{`DELETE FROM observations WHERE site = ?`, `DELETE FROM coverage WHERE site = ?`,
			`DELETE FROM staged WHERE survey IN (SELECT id FROM surveys WHERE site = ?)`} {
			if _, err := tx.ExecContext(ctx, q, site); err != nil {
				return err
			}
		}
		return nil
	})
}

// KeepTrend keeps how many findings of each sort there are at a time.
func (s *Store) KeepTrend(ctx context.Context, now time.Time, counts map[inventory.Type]int) error {
	body, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, replacing("trend", "at", "body"), now.UnixNano(), body)
	return err
}

// Trend is how findings went since a time, the oldest first.
func (s *Store) Trend(ctx context.Context, since time.Time) ([]store.TrendPoint, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT at, body FROM trend WHERE at >= ? ORDER BY at`, since.UnixNano())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []store.TrendPoint
	for rows.Next() {
		var ns int64
		var body []byte
		var p store.TrendPoint
		if err := errors.Join(rows.Scan(&ns, &body), json.Unmarshal(body, &p.Counts)); err != nil {
			return nil, err
		}
		p.At = at(ns)
		out = append(out, p)
	}
	return out, rows.Err()
}

// KeepFacts keeps what a site says that it offers.
func (s *Store) KeepFacts(ctx context.Context, site string, body []byte, now time.Time) error {
	_, err := s.db.ExecContext(ctx, replacing("facts", "site", "seen, body"), site, now.UnixNano(), body)
	return err
}

// Facts are what sites said that they offer, as JSON by site.
func (s *Store) Facts(ctx context.Context) (map[string][]byte, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT site, body FROM facts`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]byte{}
	for rows.Next() {
		var site string
		var body []byte
		if err := rows.Scan(&site, &body); err != nil {
			return nil, err
		}
		out[site] = body
	}
	return out, rows.Err()
}

// InventoryStamp changes whenever anything does that a reconciliation looks at.
func (s *Store) InventoryStamp(ctx context.Context) (string, error) {
	var stamp string
	err := s.db.QueryRowContext(ctx, `SELECT (SELECT count(*) || '/' || coalesce(max(seen), 0) FROM observations) || ' ' || (SELECT coalesce(max(id), 0) FROM record_history)
		|| ' ' || (SELECT coalesce(max(id), 0) || '/' || coalesce(max(undone), 0) FROM acts) || ' ' || (SELECT coalesce(max(tried), 0) FROM coverage)
		|| ' ' || (SELECT coalesce(string_agg(id || state || void || epoch || ended, ',' ORDER BY id), '') FROM runs)`).Scan(&stamp)
	return stamp, err
}
