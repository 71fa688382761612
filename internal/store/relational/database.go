package relational

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"andamio/internal/core/run"
)

// Database is a relational database as a store asks it, whatever its dialect: parameters are written ?, or ?1 where one is meant more than once, and
// what else is asked all of them understand.
type Database interface {
	Asked
	// Within does work in one transaction, as though nobody else did anything meanwhile. Where that cannot be, work is done once more: it
	// changes nothing but the database, and what it returns.
	Within(ctx context.Context, work func(Asked) error) error
	// InTurn is Within for work that many do at once, and each after what the one before did: they wait for each other.
	InTurn(ctx context.Context, what Turn, work func(Asked) error) error
	// Appender writes to the journal of a run.
	Appender(ctx context.Context, runID, epoch int64) (Appender, error)
	// Passing reports that an error is of something that passes, and is worth another try.
	Passing(err error) bool
	// TrailEver asks how many entries of the trail there ever were.
	TrailEver() string
	// Settle puts right what a database counts by itself, after rows were copied to it from another.
	Settle(ctx context.Context, from, to Asked, tables []string) error
	// Name says which database it is, without secrets.
	Name() string
	Close() error
}

// Asked is a database, or a transaction in it. The texts that are asked are few, and are parsed once.
type Asked interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) Row
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Ever is how many entries of the trail there ever were, in a database that is copied.
func Ever(ctx context.Context, from Asked) (n int64, err error) {
	of, ok := from.(interface{ TrailEver() string })
	if !ok {
		return 0, errors.New("what is copied does not say how many entries of the trail there ever were")
	}
	err = from.QueryRowContext(ctx, of.TrailEver()).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return n, err
}

// Row is the only row of an answer; Scan returns [sql.ErrNoRows] if there is none.
type Row interface{ Scan(into ...any) error }

// Turn is what is done by one at a time.
type Turn int

// Turns.
const (
	TurnTrail Turn = iota + 1
)

// Appender appends to the journal of a run for whoever claimed it at an epoch.
type Appender interface {
	// Append writes events, whose numbers follow one that is written, in one transaction, which also shows that the worker lives and still has the
	// run; [store.ErrTaken] says that it has not. Again says that it was tried before, and may have been written.
	Append(events []run.Event, again bool) error
	Close() error
}

// replacing is a statement that puts a row of a table in the place of the one with the same keys; columns are written with commas between them.
func replacing(table, keys, columns string) string {
	all := keys
	if columns != "" {
		all += ", " + columns
	}
	return `INSERT INTO ` + table + ` (` + all + `) VALUES (` + marks(strings.Count(all, ",")+1) + `) ` + onConflict(keys, columns)
}

// onConflict has a row that is inserted take the place of the one with the same keys.
func onConflict(keys, columns string) string {
	var set []string
	for c := range strings.SplitSeq(columns, ", ") {
		set = append(set, c+` = excluded.`+c)
	}
	return `ON CONFLICT (` + keys + `) DO UPDATE SET ` + strings.Join(set, ", ")
}

// marks are so many parameters.
func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?, ", n), ", ") }
