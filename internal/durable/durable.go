// Package durable writes files that are there, whole, after the power fails, and that their owner alone can read; and it
// has one process at a time change them.
package durable

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"

	"andamio/internal/core/fault"
)

// Modes of what is somebody's own, whatever the umask.
const (
	FileMode   fs.FileMode = 0o600
	FolderMode fs.FileMode = 0o700
)

// Write replaces a file whole: the new one is written beside it, put on the disk, and takes its name, which is put on the
// disk too. After any failure the file is what it was.
func Write(name string, data []byte) error {
	dir := filepath.Dir(name)
	t, err := renameio.NewPendingFile(name, renameio.WithTempDir(dir), renameio.WithPermissions(FileMode), renameio.IgnoreUmask())
	if err != nil {
		return err
	}
	defer t.Cleanup() //nolint:errcheck // after it took the name there is nothing to clean up
	if _, err := t.Write(data); err != nil {
		return err
	}
	if err := t.CloseAtomicallyReplace(); err != nil { // which puts the bytes on the disk before
		return err
	}
	return SyncFolder(dir)
}

// SyncFolder puts the names in a folder on the disk.
func SyncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// WriteJSON replaces a file by what v is as JSON.
func WriteJSON(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return Write(name, append(data, '\n'))
}

// Folder makes a folder that is its owner's alone.
func Folder(dir string) error {
	if err := os.MkdirAll(dir, FolderMode); err != nil {
		return err
	}
	return os.Chmod(dir, FolderMode)
}

// Tighten takes away what others may do with the files and folders of a folder, and returns those it found looser. What is
// no file or folder is left as it is, and no link is followed.
func Tighten(dir string) ([]string, error) {
	var loose []string
	err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil // it went meanwhile
			}
			return err
		}
		if !d.IsDir() && !d.Type().IsRegular() {
			return nil
		}
		info, err := d.Info()
		if err != nil || info.Mode().Perm()&0o077 == 0 {
			return nil
		}
		loose = append(loose, name)
		return os.Chmod(name, info.Mode().Perm()&0o700)
	})
	return loose, err
}

// lookEvery is how often a lock is tried.
const lookEvery = 10 * time.Millisecond

// Lock has one process, and one part of it, at a time have a lock file; another waits, but no longer than patience. The
// lock goes with the process.
func Lock(ctx context.Context, name string, patience time.Duration) (unlock func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	l := flock.New(name, flock.SetPermissions(FileMode))
	got, err := l.TryLockContext(ctx, lookEvery)
	if errors.Is(err, context.DeadlineExceeded) {
		return nil, fmt.Errorf("another process has kept %s for %s: %w", name, patience, err)
	}
	if err != nil || !got {
		return nil, errors.Join(err, ctx.Err())
	}
	return func() { _ = l.Close() }, nil
}

// ErrHeld says that another process has a lock.
var ErrHeld = fault.Conflictf("another process has it")

// TryLock is Lock that does not wait: [ErrHeld] says that another has it.
func TryLock(name string) (unlock func(), err error) {
	l := flock.New(name, flock.SetPermissions(FileMode))
	got, err := l.TryLock()
	if err != nil {
		return nil, err
	}
	if !got {
		return nil, fmt.Errorf("%s: %w", name, ErrHeld)
	}
	return func() { _ = l.Close() }, nil
}
