package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5/pgconn"

	"andamio/internal/store/relational"
)

// database asks a database of PostgreSQL. What only reads asks as it is; what writes does so as though nobody else did anything meanwhile
// (serializable, see PostgreSQL 15, section 13.2.3), and again where two met.
type database struct {
	// plain sees what others committed, statement by statement; serial is as though it were alone.
	plain, serial *sql.DB
	name          string
	// texts are questions as PostgreSQL writes parameters, by how they are written here.
	texts sync.Map
}

var _ relational.Database = (*database)(nil)

// patience is for how long something is tried again that met others, or found no database, as while that is started again.
const patience = 20 * time.Second

// Codes of SQLSTATE (PostgreSQL 15, appendix A).
const (
	codeSerialization = "40001"
	codeDeadlock      = "40P01"
	codeUnique        = "23505"
	codeTooMany       = "53300"
	// classOperator are those of a database that is stopped, is started, or ended what asked.
	classOperator = "57P"
)

// met reports that what was done in a transaction met what others did, and left nothing.
func met(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && (e.Code == codeSerialization || e.Code == codeDeadlock)
}

// uncommitted is a connection that broke within a transaction, before it was to be committed: nothing of it was done.
type uncommitted struct{ error }

func (u uncommitted) Unwrap() error { return u.error }

// before says of an error within a transaction that nothing was done, where the connection broke.
func before(err error) error {
	if cutOff(err) {
		return uncommitted{err}
	}
	return err
}

// absent reports that the database was not there, and that nothing of what was asked was done.
func absent(err error) bool {
	var e *pgconn.PgError
	if errors.As(err, new(uncommitted)) {
		return true
	}
	if errors.As(err, &e) {
		return e.Code == codeTooMany || strings.HasPrefix(e.Code, classOperator)
	}
	var c *pgconn.ConnectError
	return errors.As(err, &c) || pgconn.SafeToRetry(err)
}

// cutOff reports that the connection broke while something was asked: nobody knows whether it was done.
func cutOff(err error) bool {
	var e *pgconn.PgError
	return err != nil && !errors.As(err, &e) && !errors.Is(err, sql.ErrNoRows) && !pgconn.Timeout(err) && broken(err)
}

// broken reports that an error is one of a connection.
func broken(err error) bool {
	text := err.Error()
	for _, sign := range []string{"unexpected EOF", "connection reset", "broken pipe", "conn closed", "bad connection", "use of closed network connection", "connection timed out", "EOF"} {
		if strings.Contains(text, sign) {
			return true
		}
	}
	return false
}

// Passing reports that an error is of something that passes: a journal finds out whether it was written.
func (d *database) Passing(err error) bool {
	var e *pgconn.PgError
	there := errors.As(err, &e) && e.Code == codeUnique // what was given up was done in the end
	return err != nil && (there || met(err) || absent(err) || cutOff(err) || pgconn.Timeout(err))
}

// again does something until it is done, where it met others or found no database, for as long as patience lasts. One that breaks a rule
// of the database may have met another that did the same, which is told so only then: it is done once more to see.
func again(ctx context.Context, worth func(error) bool, do func() error) error {
	until := time.Now().Add(patience)
	unique := false
	for pause := time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		err := do()
		var e *pgconn.PgError
		first := errors.As(err, &e) && e.Code == codeUnique && !unique
		if err == nil || !worth(err) && !first || time.Now().After(until) || ctx.Err() != nil {
			return err
		}
		unique = unique || first
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause/2 + rand.N(pause)):
		}
	}
}

func metOrAbsent(err error) bool { return met(err) || absent(err) }

// reading reports that a reading is worth another try: it changes nothing, whatever became of it.
func reading(err error) bool { return absent(err) || cutOff(err) }

// reads reports that a question changes nothing.
func reads(query string) bool { return strings.HasPrefix(strings.TrimSpace(query), "SELECT") }

// text is a question as PostgreSQL has it: with $1 for ?1, and for the first ?.
func (d *database) text(query string) string {
	if t, ok := d.texts.Load(query); ok {
		return t.(string)
	}
	t := numbered(query)
	d.texts.Store(query, t)
	return t
}

func numbered(query string) string {
	var b strings.Builder
	n := 0
	for i := 0; i < len(query); i++ {
		if query[i] != '?' {
			b.WriteByte(query[i])
			continue
		}
		b.WriteByte('$')
		if i+1 == len(query) || query[i+1] < '0' || query[i+1] > '9' { // else the number follows
			n++
			b.WriteString(strconv.Itoa(n))
		}
	}
	return b.String()
}

// values are what is asked with, as PostgreSQL takes it: truths are numbers here, and a text holds no byte that is none of it.
func values(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case bool:
			out[i] = int64(0)
			if v {
				out[i] = int64(1)
			}
		case string:
			out[i] = clean(v)
		default:
			out[i] = a
		}
	}
	return out
}

func clean(s string) string {
	if utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 {
		return s
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// QueryContext asks for what is there; what writes is asked for within a transaction.
func (d *database) QueryContext(ctx context.Context, query string, args ...any) (rows *sql.Rows, err error) {
	if !reads(query) {
		return nil, fmt.Errorf("what changes something is asked for within a transaction: %s", query)
	}
	err = again(ctx, reading, func() error {
		rows, err = d.plain.QueryContext(ctx, d.text(query), values(args)...) //nolint:sqlclosecheck // whoever asked closes them
		return err
	})
	return rows, err
}

// one is the row of an answer that is asked for when it is scanned, and as often as that takes.
type one func(into ...any) error

// Scan asks.
func (o one) Scan(into ...any) error { return o(into...) }

// QueryRowContext asks for one row.
func (d *database) QueryRowContext(ctx context.Context, query string, args ...any) relational.Row {
	on, worth := d.serial, metOrAbsent
	if reads(query) {
		on, worth = d.plain, reading
	}
	return one(func(into ...any) error {
		return again(ctx, worth, func() error { return on.QueryRowContext(ctx, d.text(query), values(args)...).Scan(into...) })
	})
}

// ExecContext does one statement.
func (d *database) ExecContext(ctx context.Context, query string, args ...any) (done sql.Result, err error) {
	err = again(ctx, metOrAbsent, func() error {
		done, err = d.serial.ExecContext(ctx, d.text(query), values(args)...)
		return err
	})
	return done, err
}

// asked is a transaction.
type asked struct {
	d  *database
	tx *sql.Tx
}

// TrailEver asks what the database itself remembers.
func (a asked) TrailEver() string { return a.d.TrailEver() }

func (a asked) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return a.tx.QueryContext(ctx, a.d.text(query), values(args)...)
}

func (a asked) QueryRowContext(ctx context.Context, query string, args ...any) relational.Row {
	return a.tx.QueryRowContext(ctx, a.d.text(query), values(args)...)
}

func (a asked) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return a.tx.ExecContext(ctx, a.d.text(query), values(args)...)
}

// Snapshot has the database be read as it is at one moment, while others go on writing.
func (s *Store) Snapshot(ctx context.Context, work func(from relational.Asked) error) error {
	return again(ctx, absent, func() error {
		tx, err := s.db.plain.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		return work(asked{s.db, tx})
	})
}

// Within does work in one transaction, as though nobody else did anything meanwhile.
func (d *database) Within(ctx context.Context, work func(relational.Asked) error) error {
	return again(ctx, metOrAbsent, func() error { return d.transact(ctx, sql.LevelSerializable, work) })
}

// InTurn has those who do the same wait for each other, instead of trying until nobody is met: each sees what the one before did.
func (d *database) InTurn(ctx context.Context, what relational.Turn, work func(relational.Asked) error) error {
	return again(ctx, metOrAbsent, func() error {
		return d.transact(ctx, sql.LevelReadCommitted, func(tx relational.Asked) error {
			if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext(current_schema()), ?)`, int(what)); err != nil {
				return err
			}
			return work(tx)
		})
	})
}

func (d *database) transact(ctx context.Context, level sql.IsolationLevel, work func(relational.Asked) error) error {
	tx, err := d.serial.BeginTx(ctx, &sql.TxOptions{Isolation: level})
	if err != nil {
		return before(err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := work(asked{d, tx}); err != nil {
		return before(err)
	}
	return tx.Commit()
}

// TrailEver asks what the database itself remembers.
func (d *database) TrailEver() string { return `SELECT seq FROM trail_ever` }

// Settle has numbers go on after those that were copied, and takes over how many entries of the trail there ever were: the last may be missing, and that is found.
func (d *database) Settle(ctx context.Context, from, to relational.Asked, tables []string) error {
	for _, table := range tables {
		var counts sql.NullString
		if err := to.QueryRowContext(ctx, `SELECT a.attname FROM pg_attribute a WHERE a.attrelid = CAST(? AS regclass) AND a.attidentity <> ''`, table).Scan(&counts); errors.Is(err, sql.ErrNoRows) {
			continue
		} else if err != nil {
			return err
		}
		if _, err := to.ExecContext(ctx, `SELECT setval(pg_get_serial_sequence('`+table+`', '`+counts.String+`'), (SELECT coalesce(max(`+counts.String+`), 0) + 1 FROM `+table+`), false)`); err != nil {
			return err
		}
	}
	if !slices.Contains(tables, "trail") {
		return nil
	}
	ever, err := relational.Ever(ctx, from)
	if err == nil {
		_, err = to.ExecContext(ctx, `UPDATE trail_ever SET seq = ?`, ever)
	}
	return err
}

// Name is where the database is, without who asks it and with what.
func (d *database) Name() string { return d.name }

// Close closes the database.
func (d *database) Close() error { return errors.Join(d.plain.Close(), d.serial.Close()) }
