package relational

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
)

// Tables are what a workspace is kept in, what is referred to before what refers to it. Who holds what at this moment is not copied: whoever does so does it there.
var Tables = []string{"plans", "deployments", "runs", "events", "reservations", "decisions", "durations", "records", "record_history", "surveys", "survey_parts", "staged",
	"observations", "coverage", "facts", "acts", "ignored", "identities", "trend", "heard", "moves", "move_runs", "pairs", "sources", "trail", "proposals", "dues", "firings",
	"offers", "accounts", "holds", "takes", "requests", "request_events", "books", "price_lists", "owners", "deliveries", "hooks", "promises", "address_leases", "alerts",
	"alert_words", "reaction_states", "reaction_file", "tokens", "once"}

// NotCopied are the tables that are of the moment.
var NotCopied = []string{"leases"}

// MeasuresTables are what measures are kept in.
var MeasuresTables = []string{"things", "measured", "tails"}

// rowsAtOnce is how many rows are written by one statement: as many as have fewer parameters than any database takes.
const rowsAtOnce = 200

// Copied is how many rows of each table were copied.
type Copied map[string]int

// Rows are all of them.
func (c Copied) Rows() (n int) {
	for _, of := range c {
		n += of
	}
	return n
}

// Copy copies tables from a database, as it is at one moment, to one in which they are empty, in one transaction, and reads back what is there then: it is as it was, or nothing is
// copied.
func Copy(ctx context.Context, from Asked, to Database, tables []string) (out Copied, err error) {
	err = to.Within(ctx, func(tx Asked) error {
		out = Copied{}
		for _, table := range tables {
			if out[table], err = copyTable(ctx, from, tx, table); err != nil {
				return fmt.Errorf("%s: %w", table, err)
			}
		}
		return to.Settle(ctx, from, tx, tables)
	})
	return out, err
}

func copyTable(ctx context.Context, from, to Asked, table string) (int, error) {
	var there int
	if err := to.QueryRowContext(ctx, `SELECT count(*) FROM `+table).Scan(&there); err != nil {
		return 0, err
	}
	if there > 0 {
		return 0, fmt.Errorf("there are %d rows already, and nothing is overwritten", there)
	}
	had := &sum{}
	var batch []any
	rows := 0
	columns, err := eachRow(ctx, from, table, func(columns []string, row []any) error {
		had.add(row)
		batch = append(batch, slices.Clone(row)...)
		if rows++; rows%rowsAtOnce != 0 {
			return nil
		}
		err := insert(ctx, to, table, columns, batch)
		batch = nil
		return err
	})
	if err == nil && len(batch) > 0 {
		err = insert(ctx, to, table, columns, batch)
	}
	if err != nil {
		return 0, err
	}
	has := &sum{}
	if _, err := eachRow(ctx, to, table, func(_ []string, row []any) error { has.add(row); return nil }); err != nil {
		return 0, err
	}
	if has.n != had.n || has.all.Cmp(&had.all) != 0 {
		return 0, fmt.Errorf("%d rows are not what the %d that were copied are", has.n, had.n)
	}
	return rows, nil
}

// eachRow goes through the rows of a table, in no order, with the columns in the order of their names.
func eachRow(ctx context.Context, from Asked, table string, do func(columns []string, row []any) error) ([]string, error) {
	columns, err := columnsOf(ctx, from, table)
	if err != nil {
		return nil, err
	}
	rows, err := from.QueryContext(ctx, `SELECT `+quoted(columns)+` FROM `+table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	row, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		if err := do(columns, row); err != nil {
			return nil, err
		}
	}
	return columns, rows.Err()
}

func columnsOf(ctx context.Context, from Asked, table string) ([]string, error) {
	rows, err := from.QueryContext(ctx, `SELECT * FROM `+table+` WHERE 1 = 0`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	slices.Sort(columns)
	return columns, err
}

func quoted(columns []string) string { return `"` + strings.Join(columns, `", "`) + `"` }

func insert(ctx context.Context, to Asked, table string, columns []string, values []any) error {
	row := "(" + marks(len(columns)) + ")"
	_, err := to.ExecContext(ctx, `INSERT INTO `+table+` (`+quoted(columns)+`) VALUES `+strings.TrimSuffix(strings.Repeat(row+", ", len(values)/len(columns)), ", "), values...)
	return err
}

// sum tells rows from others, in whatever order they come: how many there are, and the sum of their digests.
type sum struct {
	n   int
	all big.Int
}

func (s *sum) add(row []any) {
	h := sha256.New()
	for _, v := range row {
		text := valueText(v)
		h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(text))))
		h.Write([]byte(text))
	}
	s.n++
	s.all.Add(&s.all, new(big.Int).SetBytes(h.Sum(nil)))
}

// valueText is a value as any database has it: a text may be told as its bytes.
func valueText(v any) string {
	switch v := v.(type) {
	case nil:
		return "\x00none"
	case []byte:
		return string(v)
	case string:
		return v
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(v)
}
