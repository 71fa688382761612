package sqlite

import (
	"context"
	"database/sql"
	"sync"
)

// database is a database whose questions are parsed once and asked often: parsing took a third of what a short question takes. Within
// transactions statements are not kept, since one that is still being read may be asked again there.
type database struct {
	*sql.DB
	mu   sync.Mutex
	kept map[string]*sql.Stmt
}

// mostKept bounds how many statements are kept; there are about a hundred, and those put together of parts.
const mostKept = 200

func parsedOnce(db *sql.DB) *database { return &database{DB: db, kept: map[string]*sql.Stmt{}} }

// statement is a question, parsed; nil where it is to be asked as it is.
func (d *database) statement(ctx context.Context, query string) *sql.Stmt {
	d.mu.Lock()
	s, full := d.kept[query], len(d.kept) >= mostKept
	d.mu.Unlock()
	if s != nil || full {
		return s
	}
	s, err := d.PrepareContext(ctx, query)
	if err != nil {
		return nil // whoever asks it as it is sees why
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if first := d.kept[query]; first != nil { // somebody asked the same meanwhile
		_ = s.Close()
		return first
	}
	d.kept[query] = s
	return s
}

// QueryContext is [sql.DB.QueryContext].
func (d *database) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := d.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return d.DB.QueryContext(ctx, query, args...)
}

// QueryRowContext is [sql.DB.QueryRowContext].
func (d *database) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if s := d.statement(ctx, query); s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return d.DB.QueryRowContext(ctx, query, args...)
}
