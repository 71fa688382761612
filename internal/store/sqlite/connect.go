package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"

	"andamio/internal/durable"
	"andamio/internal/store"
)

// connector opens connections to a database by what it is called, its settings included.
type connector string

// opens opens a connection; what tests put in its place fails when it is to.
var opens = (&sqlite.Driver{}).Open

// Connect opens one.
func (c connector) Connect(context.Context) (driver.Conn, error) { return opens(string(c)) }

// Driver is SQLite's.
func (connector) Driver() driver.Driver { return &sqlite.Driver{} }

// connect has a database be used; what is wrong with it is said by whoever asks it first.
func connect(dsn string) *sql.DB { return sql.OpenDB(connector(dsn)) }

// makeFile makes a database's file if it is not there. SQLite would make it readable by others; the files beside it are made like it.
func makeFile(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, durable.FileMode)
	if err != nil {
		return err
	}
	return f.Close()
}

// bringUpToDate brings the schema of a database to the last of some files, and returns which it is. One that is newer is left as it is. before is called with both
// versions where there is something that is about to change.
func bringUpToDate(ctx context.Context, db *sql.DB, files fs.FS, before func(now, ours int64) error) (int64, error) {
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return 0, err
	}
	now, ours, err := p.GetVersions(ctx)
	switch {
	case err != nil:
		return 0, err
	case now > ours:
		return 0, fmt.Errorf("its schema is %d, and this program knows %d: %w", now, ours, store.ErrNewer)
	case now == ours:
		return ours, nil
	case now > 0:
		if err := before(now, ours); err != nil {
			return 0, err
		}
	}
	_, err = p.Up(ctx)
	return ours, err
}

// folder is a folder of what the program brings along, which is there.
func folder(of fs.FS, name string) fs.FS {
	out, err := fs.Sub(of, name)
	if err != nil {
		panic(errors.Join(errors.New("the program was built without its schemas"), err))
	}
	return out
}
