package postgres

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"andamio/internal/core/fault"
	"andamio/internal/durable"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

// Files are the files of the workspace that is in the database. What was read is kept for a moment, and no longer than until somebody changes it.
func (s *Store) Files() durable.Files {
	s.files.once.Do(func() { s.files.s, s.files.kept = s, map[string]*keptFile{} })
	return &s.files
}

type files struct {
	once sync.Once
	s    *Store
	mu   sync.Mutex
	kept map[string]*keptFile
}

// keptFile is a file as it was read; absent says that there is none.
type keptFile struct {
	body    []byte
	stamp   durable.Stamp
	absent  bool
	read    time.Time
	changed <-chan struct{}
}

// keptFor is for how long what was read is taken for what is there where the database tells nothing.
const keptFor = 2 * time.Second

// filePatience is how long a reading or writing of a file may take in all: those who ask for files have no deadline of their own.
const filePatience = 30 * time.Second

func topicFile(name string) store.Topic { return store.Topic("file " + name) }

func within() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), filePatience)
}

// fresh reports that a file is what it was when it was read, as far as is known here.
func (k *keptFile) fresh() bool {
	select {
	case <-k.changed:
		return false
	default:
		return time.Since(k.read) < keptFor
	}
}

// get is a file as it is.
func (f *files) get(name string) (*keptFile, error) {
	f.mu.Lock()
	k := f.kept[name]
	f.mu.Unlock()
	if k != nil && k.fresh() {
		return k, nil
	}
	k = &keptFile{changed: f.s.Changed(topicFile(name)), read: time.Now()}
	ctx, cancel := within()
	defer cancel()
	var changed int64
	err := f.s.db.QueryRowContext(ctx, `SELECT body, changed FROM files WHERE name = ?`, name).Scan(&k.body, &changed)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		k.absent = true
	case err != nil:
		return nil, fmt.Errorf("%s: %w", f.Where(name), err)
	default:
		k.stamp = durable.Stamp{Changed: time.Unix(0, changed), Size: int64(len(k.body))}
	}
	f.mu.Lock()
	f.kept[name] = k
	f.mu.Unlock()
	return k, nil
}

// forget has what is asked for next be read.
func (f *files) forget() {
	f.mu.Lock()
	clear(f.kept)
	f.mu.Unlock()
}

func (f *files) none(name string) error {
	return &fs.PathError{Op: "read", Path: f.Where(name), Err: fs.ErrNotExist}
}

// Read is what is in a file.
func (f *files) Read(name string) ([]byte, error) {
	k, err := f.get(name)
	if err != nil {
		return nil, err
	}
	if k.absent {
		return nil, f.none(name)
	}
	return append([]byte{}, k.body...), nil // one that is empty is there
}

// Stamp says when a file was written last.
func (f *files) Stamp(name string) (durable.Stamp, error) {
	k, err := f.get(name)
	if err != nil {
		return durable.Stamp{}, err
	}
	if k.absent {
		return durable.Stamp{}, f.none(name)
	}
	return k.stamp, nil
}

// Write replaces a file whole, or makes it.
func (f *files) Write(name string, data []byte) error {
	return f.change(name, func(ctx context.Context, tx relational.Asked) error { return put(ctx, tx, name, data) })
}

// put keeps a file; each time it is written is later than the one before, whatever the clocks of machines say.
func put(ctx context.Context, tx relational.Asked, name string, data []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO files (name, body, changed) VALUES (?1, ?2, ?3)
		ON CONFLICT (name) DO UPDATE SET body = excluded.body, changed = greatest(excluded.changed, files.changed + 1)`, name, append([]byte{}, data...), time.Now().UnixNano())
	return err
}

// Replace is Write where the file is still what it was.
func (f *files) Replace(name string, was, data []byte) error {
	return f.change(name, func(ctx context.Context, tx relational.Asked) error {
		var now []byte
		err := tx.QueryRowContext(ctx, `SELECT body FROM files WHERE name = ?`, name).Scan(&now)
		there := err == nil
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if there != (was != nil) || !bytes.Equal(now, was) {
			return fault.Conflictf("%s was changed by somebody else meanwhile: nothing was changed, try again", f.Where(name))
		}
		return put(ctx, tx, name, data)
	})
}

// Remove takes a file away.
func (f *files) Remove(name string) error {
	return f.change(name, func(ctx context.Context, tx relational.Asked) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM files WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, f.none(name))
		}
		return nil
	})
}

func (f *files) change(name string, how func(context.Context, relational.Asked) error) error {
	ctx, cancel := within()
	defer cancel()
	defer f.forget()
	return f.s.db.Within(ctx, func(tx relational.Asked) error { return how(ctx, tx) })
}

// Names are the files in a folder.
func (f *files) Names(folder string) ([]string, error) {
	ctx, cancel := within()
	defer cancel()
	rows, err := f.s.db.QueryContext(ctx, `SELECT name FROM files WHERE substr(name, 1, ?1) = ?2 ORDER BY name`, len(folder)+1, folder+"/")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, strings.TrimPrefix(name, folder+"/"))
	}
	return out, rows.Err()
}

// Where says where a file is.
func (f *files) Where(name string) string { return name + " in " + f.s.db.name }

// Lock has one at a time have a lock, of all machines. It is held by a connection of its own, and is gone with that: whoever writes under it uses Replace.
func (f *files) Lock(ctx context.Context, name string, patience time.Duration) (func(), error) {
	wait, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		unlock, err := f.TryLock(wait, name)
		late := wait.Err() != nil // whatever it was asked at that moment
		if err == nil || !late && !errors.Is(err, durable.ErrHeld) && !reading(err) {
			return unlock, err
		}
		select {
		case <-wait.Done():
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, fmt.Errorf("another process has kept %s for %s: %w", f.Where(name), patience, err)
		case <-time.After(lockEvery):
		}
	}
}

// lockEvery is how often a lock is tried: whoever has one has it for a moment.
const lockEvery = 25 * time.Millisecond

// TryLock is Lock that does not wait.
func (f *files) TryLock(ctx context.Context, name string) (func(), error) {
	conn, err := pgx.ConnectConfig(ctx, f.s.changes.config.Copy())
	if err != nil {
		return nil, err
	}
	unlock := func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = conn.Close(ctx) // which gives it back
	}
	var got bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtext('file ' || current_schema()), hashtext($1))`, name).Scan(&got); err != nil {
		unlock()
		return nil, err
	}
	if !got {
		unlock()
		return nil, fmt.Errorf("%s: %w", f.Where(name), durable.ErrHeld)
	}
	f.forget() // what was read before may be old
	return unlock, nil
}
