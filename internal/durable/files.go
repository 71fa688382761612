package durable

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Files are small files by their names, wherever they are kept: in a folder, or where several machines have them. A name may have one folder in it.
type Files interface {
	// Read is what is in a file; [fs.ErrNotExist] says that there is none.
	Read(name string) ([]byte, error)
	// Write replaces a file whole, or makes it.
	Write(name string, data []byte) error
	// Replace is Write by whoever has the lock of the file and read it under that: it is refused where the file is another by now, since the lock was
	// lost. Was is nil where there was none.
	Replace(name string, was, data []byte) error
	// Remove takes a file away; [fs.ErrNotExist] says that there is none.
	Remove(name string) error
	// Names are the files in a folder, in order, without it.
	Names(folder string) ([]string, error)
	// Stamp says when a file was written last, and how long it is; [fs.ErrNotExist] says that there is none.
	Stamp(name string) (Stamp, error)
	// Lock has one at a time have a lock, of all that use the files; another waits, but no longer than patience. What is read under it is what was
	// written last.
	Lock(ctx context.Context, name string, patience time.Duration) (unlock func(), err error)
	// TryLock is Lock that does not wait: [ErrHeld] says that another has it.
	TryLock(ctx context.Context, name string) (unlock func(), err error)
	// Where says for people where a file is.
	Where(name string) string
}

// Stamp is how a file is told from what it was.
type Stamp struct {
	Changed time.Time
	Size    int64
}

// inFolder is files in a folder of this machine.
type inFolder string

// In is the files in a folder.
func In(dir string) Files { return inFolder(dir) }

func (f inFolder) path(name string) string { return filepath.Join(string(f), name) }

func (f inFolder) Read(name string) ([]byte, error) { return os.ReadFile(f.path(name)) }

func (f inFolder) Write(name string, data []byte) error {
	path := f.path(name)
	err := Write(path, data)
	if errors.Is(err, fs.ErrNotExist) { // the first in its folder
		if err = os.MkdirAll(filepath.Dir(path), FolderMode); err == nil {
			err = Write(path, data)
		}
	}
	return err
}

func (f inFolder) Replace(name string, _, data []byte) error { return f.Write(name, data) } // the lock goes with the process

func (f inFolder) Remove(name string) error { return os.Remove(f.path(name)) }

func (f inFolder) Names(folder string) ([]string, error) {
	entries, err := os.ReadDir(f.path(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries { // in the order of their names
		if e.Type().IsRegular() {
			out = append(out, e.Name())
		}
	}
	return out, err
}

func (f inFolder) Stamp(name string) (Stamp, error) {
	info, err := os.Stat(f.path(name))
	if err != nil {
		return Stamp{}, err
	}
	return Stamp{info.ModTime(), info.Size()}, nil
}

func (f inFolder) Lock(ctx context.Context, name string, patience time.Duration) (func(), error) {
	return Lock(ctx, f.path(name), patience)
}

func (f inFolder) TryLock(_ context.Context, name string) (func(), error) {
	return TryLock(f.path(name))
}

func (f inFolder) Where(name string) string { return f.path(name) }
