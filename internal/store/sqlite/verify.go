package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"

	"andamio/internal/core/plan"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

// Verified is what was found whole in a database.
type Verified struct {
	Plans       int   `json:"plans"`
	Runs        int   `json:"runs"`
	Events      int   `json:"events"`
	Deployments int   `json:"deployments"`
	Schema      int64 `json:"schema"`
}

// Since which schema there is what is looked at: a copy may be older.
const (
	sinceReservations = 2
	sinceDeployments  = 3
	sinceSources      = 6
	sinceTrail        = 7
	sinceProposals    = 8
)

// references are what must not be without what it refers to, each as a query for what is.
var references = []struct {
	since       int64
	what, query string
}{
	{1, "run %d is of a plan that is not there", `SELECT id FROM runs WHERE plan NOT IN (SELECT id FROM plans)`},
	{sinceDeployments, "run %d leads to a plan that is not there", `SELECT id FROM runs WHERE wanted <> 0 AND wanted NOT IN (SELECT id FROM plans)`},
	{sinceDeployments, "run %d is of a deployment that is not there", `SELECT id FROM runs WHERE deployment <> 0 AND deployment NOT IN (SELECT id FROM deployments)`},
	{1, "the journal of run %d is there without its run", `SELECT DISTINCT run FROM events WHERE run NOT IN (SELECT id FROM runs)`},
	{1, "the journal of run %d has a hole", `SELECT run FROM events GROUP BY run HAVING count(*) <> max(seq)`},
	{sinceProposals, "proposal %d is of a plan that is not there", `SELECT id FROM proposals WHERE plan NOT IN (SELECT id FROM plans)`},
	{sinceReservations, "an address is reserved for run %d, which is not there", `SELECT run FROM reservations WHERE run NOT IN (SELECT id FROM runs)`},
}

// Verify looks whether a database file is whole: its pages and indices, what refers to what, that plans can be read, and
// that the files of templates have the digests they are kept under. The file is not changed.
func Verify(ctx context.Context, path string) (*Verified, error) {
	db := connect("file:" + (&url.URL{Path: path}).EscapedPath() + "?mode=ro&_pragma=query_only(1)")
	defer db.Close()
	out := &Verified{}
	if err := db.QueryRowContext(ctx, `SELECT coalesce(max(version_id), 0) FROM goose_db_version`).Scan(&out.Schema); err != nil {
		return nil, fmt.Errorf("it is no database of a workspace: %w", err)
	}
	errs := []error{integrity(ctx, db)}
	for _, r := range references {
		if out.Schema >= r.since {
			errs = append(errs, none(ctx, db, r.what, r.query))
		}
	}
	errs = append(errs, plansRead(ctx, db))
	if out.Schema >= sinceSources {
		errs = append(errs, sourcesMatch(ctx, db))
	}
	if out.Schema >= sinceTrail {
		errs = append(errs, trailWhole(ctx, db))
	}
	for table, into := range map[string]*int{`plans`: &out.Plans, `runs`: &out.Runs, `events`: &out.Events, `deployments`: &out.Deployments} {
		if table != `deployments` || out.Schema >= sinceDeployments {
			errs = append(errs, db.QueryRowContext(ctx, `SELECT count(*) FROM `+table).Scan(into))
		}
	}
	return out, errors.Join(errs...)
}

func integrity(ctx context.Context, db *sql.DB) error {
	var errs []error
	for _, pragma := range []string{`PRAGMA integrity_check(20)`, `PRAGMA foreign_key_check`} {
		rows, err := db.QueryContext(ctx, pragma)
		if err != nil {
			return err
		}
		columns, err := rows.Columns()
		for err == nil && rows.Next() {
			var first sql.NullString
			into := []any{&first}
			for range columns[1:] {
				into = append(into, new(sql.RawBytes))
			}
			if err = rows.Scan(into...); err == nil && first.String != "ok" {
				errs = append(errs, fmt.Errorf("%s: %s", pragma, first.String))
			}
		}
		errs = append(errs, err, rows.Err(), rows.Close())
	}
	return errors.Join(errs...)
}

// none is an error for each row of a query, whose one column is a number.
func none(ctx context.Context, db *sql.DB, what, query string) error {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	var errs []error
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return err
		}
		errs = append(errs, fmt.Errorf(what, n))
	}
	return errors.Join(append(errs, rows.Err())...)
}

func plansRead(ctx context.Context, db *sql.DB) error {
	return each(ctx, db, `SELECT id, body FROM plans`, func(id string, body []byte) error {
		if _, err := plan.Read(body); err != nil {
			return fmt.Errorf("plan %s cannot be read: %w", id, err)
		}
		return nil
	})
}

func sourcesMatch(ctx context.Context, db *sql.DB) error {
	return each(ctx, db, `SELECT digest, body FROM sources`, func(digest string, body []byte) error {
		var files store.Source
		if err := json.Unmarshal(body, &files); err != nil {
			return fmt.Errorf("the files of the template %s cannot be read: %w", digest, err)
		}
		if got := files.Digest(); got != digest {
			return fmt.Errorf("the template %s is kept with files of the digest %s", digest, got)
		}
		return nil
	})
}

// trailWhole says what is wrong with the trail of what was done.
func trailWhole(ctx context.Context, db *sql.DB) error {
	v, err := relational.On(parsedOnce(db, ""), 0).VerifyTrail(ctx, "")
	if err != nil {
		return err
	}
	var errs []error
	for _, w := range v.Wrong {
		errs = append(errs, fmt.Errorf("of the trail of what was done, %s", w))
	}
	return errors.Join(errs...)
}

func each(ctx context.Context, db *sql.DB, query string, check func(name string, body []byte) error) error {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	var errs []error
	for rows.Next() {
		var name string
		var body []byte
		if err := rows.Scan(&name, &body); err != nil {
			return err
		}
		errs = append(errs, check(name, body))
	}
	return errors.Join(append(errs, rows.Err())...)
}
