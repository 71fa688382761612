package sqlite

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"

	"github.com/pressly/goose/v3"

	"andamio/internal/core/measure"
	"andamio/internal/durable"
	"andamio/internal/store"
)

//go:embed measures/*.sql
var measureMigrations embed.FS

// Measures is an open database of what was measured. It is a file of its own: there is much of it, whoever writes to it keeps no journal waiting, and a backup
// of the workspace goes without.
type Measures struct{ db *database }

var _ store.MeasuresStore = (*Measures)(nil)

// pageSize is that of the database of measures: rows are of some thousand bytes, of which a smaller page would hold one or two and leave the rest empty.
const pageSize = 32 << 10

// OpenMeasures opens the database of measures, making it as needed. A power failure may lose the last seconds of it, and nothing else.
func OpenMeasures(ctx context.Context, path string) (*Measures, error) {
	unlock, err := durable.Lock(ctx, path+".lock", lockPatience)
	if err != nil {
		return nil, fmt.Errorf("the database %s cannot be used: %w", path, err)
	}
	defer unlock()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, durable.FileMode)
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	q := url.Values{"_pragma": {fmt.Sprintf("page_size(%d)", pageSize), "journal_mode(WAL)", "synchronous(NORMAL)", fmt.Sprintf("busy_timeout(%d)", busyPatience.Milliseconds())}, "_txlock": {"immediate"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
	if err != nil {
		return nil, err
	}
	m := &Measures{parsedOnce(db)}
	if err := m.upToDate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("the measures in %s cannot be used: %w; whoever needs none of them removes the file", path, err), db.Close())
	}
	return m, nil
}

func (m *Measures) upToDate(ctx context.Context) error {
	files, err := fs.Sub(measureMigrations, "measures")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, m.db.DB, files, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	now, ours, err := p.GetVersions(ctx)
	if err == nil && now > ours {
		err = fmt.Errorf("its schema is %d, and this program knows %d: %w", now, ours, store.ErrNewer)
	}
	if err == nil && now < ours {
		_, err = p.Up(ctx)
	}
	return err
}

// Close closes the database.
func (m *Measures) Close() error { return m.db.Close() }

// KeepThings keeps what is known of things, by their keys.
func (m *Measures) KeepThings(ctx context.Context, all []measure.Thing) ([]measure.Thing, error) {
	out := make([]measure.Thing, len(all))
	err := within(ctx, m.db, func(tx *sql.Tx) error {
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
	return within(ctx, m.db, func(tx *sql.Tx) error {
		for i := range tails {
			t := &tails[i]
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO tails (grp, first, slot, body) VALUES (?, ?, ?, ?)`, t.Group, t.First, t.From, t.Body); err != nil {
				return err
			}
		}
		return nil
	})
}

// Tails are those of a group, or of all groups where that is below 0.
func (m *Measures) Tails(ctx context.Context, group int64) ([]measure.Tail, error) {
	rows, err := m.db.QueryContext(ctx, `SELECT grp, first, slot, body FROM tails WHERE ?1 < 0 OR grp = ?1 ORDER BY slot, grp`, group)
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
	return within(ctx, m.db, func(tx *sql.Tx) error {
		for i := range all {
			r := &all[i]
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO measured (thing, level, first, body) VALUES (?, ?, ?, ?)`, r.Thing, int(r.Level), r.First, r.Body); err != nil {
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

// Size is how many bytes the pages in use take.
func (m *Measures) Size(ctx context.Context) (int64, error) {
	var pages, free, size int64
	for pragma, into := range map[string]*int64{"page_count": &pages, "freelist_count": &free, "page_size": &size} {
		if err := m.db.DB.QueryRowContext(ctx, "PRAGMA "+pragma).Scan(into); err != nil {
			return 0, err
		}
	}
	return (pages - free) * size, nil
}

// Oldest is the slot at which the oldest row of a level begins.
func (m *Measures) Oldest(ctx context.Context, level measure.Level) (int64, bool, error) {
	var first sql.NullInt64
	err := m.db.QueryRowContext(ctx, `SELECT min(first) FROM measured WHERE level = ?`, int(level)).Scan(&first)
	return first.Int64, first.Valid, err
}
