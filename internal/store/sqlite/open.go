// Package sqlite is the store in a database file of SQLite: what it has beside what any relational database has, which is the file itself, its
// copies, and what is told of one that is damaged.
package sqlite

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"andamio/internal/durable"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the store in an open database file.
type Store struct {
	*relational.Store
	db *database
	// copied is the copy that was made before the schema was brought up to date; "" if it was not.
	copied string
}

// lockPatience is how long another process may be at bringing a database up to date, and busyPatience how long it may be
// writing before a statement gives up; a journal tries on: see [Journal.Append].
const (
	lockPatience = 30 * time.Second
	busyPatience = 20 * time.Second
)

// mostIdle is how many connections stay open that nobody uses at the moment: to open one takes longer than most questions.
const mostIdle = 16

// Open opens the database file, making or bringing it up to date as needed. Before it is brought up to date a copy is made
// of it, which stays: see [Store.Copy].
func Open(ctx context.Context, path string) (*Store, error) {
	unlock, err := durable.Lock(ctx, path+".lock", lockPatience)
	if err != nil {
		return nil, fmt.Errorf("the database %s cannot be used: %w", path, err)
	}
	defer unlock()
	s, err := openFile(ctx, path, busyPatience)
	if err != nil {
		return nil, explained(path, err)
	}
	return s, nil
}

func openFile(ctx context.Context, path string, patience time.Duration) (*Store, error) {
	if err := makeFile(path); err != nil {
		return nil, err
	}
	db := connect(dsn(path, patience))
	db.SetMaxIdleConns(mostIdle)
	db.SetConnMaxIdleTime(time.Minute)
	s := &Store{db: parsedOnce(db, path)}
	schema, err := s.upToDate(ctx, path)
	if err != nil {
		db.Close()
		return nil, err
	}
	s.Store = relational.On(s.db, schema)
	return s, nil
}

// dsn names a database. What is committed survives the power with synchronous FULL, which costs a journal little: what
// several append at once is one commit.
func dsn(path string, patience time.Duration) string {
	q := url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(FULL)", fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds()), "foreign_keys(1)"},
		"_txlock": {"immediate"}}
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
}

// explained says of a database that cannot be opened what can be done.
func explained(path string, err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && (e.Code()&0xff == lib.SQLITE_CORRUPT || e.Code()&0xff == lib.SQLITE_NOTADB) {
		return fmt.Errorf("the database %s is damaged (%w): put the last backup back into another workspace (andamio restore FILE --workspace NEW)%s", path, err, lastCopy(path))
	}
	return fmt.Errorf("the database %s cannot be used: %w", path, err)
}

// lastCopy names the copy that was made before the database was brought up to date last.
func lastCopy(path string) string {
	copies, err := filepath.Glob(path + ".before-*")
	if err != nil || len(copies) == 0 {
		return ""
	}
	return ", or use the copy " + copies[len(copies)-1]
}

// Busy reports that somebody is writing at this moment, so that nobody else can.
func (s *Store) Busy(ctx context.Context) bool {
	db := connect(dsn(s.db.Name(), 0))
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil) // which takes the lock at once
	if err != nil {
		return busy(err)
	}
	_ = tx.Rollback()
	return false
}

// Changed is nil: SQLite tells no other process of what one of them changed.
func (s *Store) Changed(store.Topic) <-chan struct{} { return nil }

// CopiedTo is the copy that was made before the schema was brought up to date; "" if it was not.
func (s *Store) CopiedTo() string { return s.copied }

// busy reports that another process was writing for too long.
func busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == lib.SQLITE_BUSY
}

// upToDate brings the schema up to date, and returns which it is.
func (s *Store) upToDate(ctx context.Context, path string) (int64, error) {
	return bringUpToDate(ctx, s.db.DB, folder(migrations, "migrations"), func(now, ours int64) error {
		if err := s.copyBefore(ctx, fmt.Sprintf("%s.before-%04d", path, ours)); err != nil {
			return fmt.Errorf("no copy can be made before the schema is brought from %d to %d, so it stays as it is: %w", now, ours, err)
		}
		return nil
	})
}

// copyBefore makes the copy that stays when the schema changes, unless it was made by a try that broke off afterwards.
func (s *Store) copyBefore(ctx context.Context, name string) error {
	if _, err := os.Stat(name); err == nil {
		s.copied = name
		return nil
	}
	part := name + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := s.CopyTo(ctx, part); err != nil {
		return err
	}
	s.copied = name
	return errors.Join(os.Rename(part, name), durable.SyncFolder(filepath.Dir(name)))
}

// Snapshot has the database be read as it is at one moment, while others go on writing: a copy of it, which was found whole.
func (s *Store) Snapshot(ctx context.Context, work func(from relational.Asked) error) error {
	dir, err := os.MkdirTemp(filepath.Dir(s.db.name), ".snapshot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "copy.db")
	if err := s.CopyTo(ctx, name); err != nil {
		return err
	}
	if _, err := Verify(ctx, name); err != nil {
		return fmt.Errorf("the database is damaged, and a copy of it would be: %w", err)
	}
	copied := parsedOnce(connect(dsn(name, busyPatience)), name)
	return errors.Join(work(copied), copied.Close())
}

// CopyTo writes the database as it is at one moment to a file that is not there yet, while others go on writing.
func (s *Store) CopyTo(ctx context.Context, name string) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_RDWR, durable.FileMode)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := s.db.ExecContext(ctx, `VACUUM INTO ?`, name); err != nil {
		return err
	}
	return f.Sync()
}
