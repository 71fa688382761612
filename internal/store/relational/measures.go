package relational

import (
	"context"
	"database/sql"
	"encoding/json"

	"andamio/internal/core/measure"
)

// Measures is what was measured, in a database.
type Measures struct {
	db Database
	// size asks how many bytes it takes.
	size func(ctx context.Context) (int64, error)
}

// MeasuresIn is what was measured, in a database that says how large it is.
func MeasuresIn(db Database, size func(ctx context.Context) (int64, error)) *Measures {
	return &Measures{db, size}
}

// Database is the database that they are in.
func (m *Measures) Database() Database { return m.db }

// Size is how many bytes it takes.
func (m *Measures) Size(ctx context.Context) (int64, error) { return m.size(ctx) }

// Close closes the database.
func (m *Measures) Close() error { return m.db.Close() }

// KeepThings keeps what is known of things, by their keys.
func (m *Measures) KeepThings(ctx context.Context, all []measure.Thing) ([]measure.Thing, error) {
	out := make([]measure.Thing, len(all))
	err := m.db.Within(ctx, func(tx Asked) error {
		for i, t := range all {
			body, err := json.Marshal(t)
			if err != nil {
				return err
			}
			err = tx.QueryRowContext(ctx, `INSERT INTO things (key, body) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET body = excluded.body RETURNING id`, t.Key, string(body)).Scan(&t.ID)
			if err != nil {
				return err
			}
			out[i] = t
		}
		return nil
	})
	return out, err
}

// Things are all that were ever measured, by their numbers.
func (m *Measures) Things(ctx context.Context) ([]measure.Thing, error) {
	rows, err := m.db.QueryContext(ctx, `SELECT id, body FROM things ORDER BY id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []measure.Thing
	for rows.Next() {
		var id int64
		var body string
		if err := rows.Scan(&id, &body); err != nil {
			return nil, err
		}
		var t measure.Thing
		if err := json.Unmarshal([]byte(body), &t); err != nil {
			return nil, err
		}
		t.ID = id
		out = append(out, t)
	}
	return out, rows.Err()
}

// KeepTails keeps what is in no row yet.
func (m *Measures) KeepTails(ctx context.Context, tails []measure.Tail) error {
	return m.db.Within(ctx, func(tx Asked) error {
		for i := range tails {
			t := &tails[i]
			if _, err := tx.ExecContext(ctx, replacing("tails", "grp, slot", "first, body"), t.Group, t.From, t.First, t.Body); err != nil {
				return err
			}
		}
		return nil
	})
}

// Tails are those of a group, or of all groups where that is below 0.
func (m *Measures) Tails(ctx context.Context, group int64) ([]measure.Tail, error) {
	rows, err := m.db.QueryContext(ctx, `SELECT grp, first, slot, body FROM tails WHERE grp = ?1 OR ?1 < 0 ORDER BY slot, grp`, group)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []measure.Tail
	for rows.Next() {
		var t measure.Tail
		if err := rows.Scan(&t.Group, &t.First, &t.From, &t.Body); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// KeepRows keeps rows, and has the tails be no more that are of rows that begin at that slot or before.
func (m *Measures) KeepRows(ctx context.Context, all []measure.Row, upTo int64) error {
	return m.db.Within(ctx, func(tx Asked) error {
		for i := range all {
			r := &all[i]
			if _, err := tx.ExecContext(ctx, replacing("measured", "thing, level, first", "body"), r.Thing, int(r.Level), r.First, r.Body); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM tails WHERE first <= ?`, upTo)
		return err
	})
}

// Rows are those of a thing of one level that begin at a slot or later, and before another.
func (m *Measures) Rows(ctx context.Context, thing int64, level measure.Level, from, to int64) ([]measure.Row, error) {
	rows, err := m.db.QueryContext(ctx, `SELECT first, body FROM measured WHERE thing = ? AND level = ? AND first >= ? AND first < ? ORDER BY first`, thing, int(level), from, to)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []measure.Row
	for rows.Next() {
		r := measure.Row{Thing: thing, Level: level}
		if err := rows.Scan(&r.First, &r.Body); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Unrolled are things that have rows of a level in a time, and none of the next level that begins at a slot.
func (m *Measures) Unrolled(ctx context.Context, level measure.Level, from, to, next int64, most int) ([]int64, error) {
	rows, err := m.db.QueryContext(ctx, `SELECT DISTINCT thing FROM measured f WHERE level = ?1 AND first >= ?2 AND first < ?3
		AND NOT EXISTS (SELECT 1 FROM measured n WHERE n.thing = f.thing AND n.level = ?1 + 1 AND n.first = ?4) LIMIT ?5`, int(level), from, to, next, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, rows.Err()
}

// Drop has the rows of a level be no more that begin before a slot.
func (m *Measures) Drop(ctx context.Context, level measure.Level, before int64) error {
	_, err := m.db.ExecContext(ctx, `DELETE FROM measured WHERE level = ? AND first < ?`, int(level), before)
	return err
}

// Oldest is the slot at which the oldest row of a level begins.
func (m *Measures) Oldest(ctx context.Context, level measure.Level) (int64, bool, error) {
	var first sql.NullInt64
	err := m.db.QueryRowContext(ctx, `SELECT min(first) FROM measured WHERE level = ?`, int(level)).Scan(&first)
	return first.Int64, first.Valid, err
}
