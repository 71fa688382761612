package shells

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/pkg/sftp"
)

// side is where files are copied from or to; paths have slashes.
type side interface {
	Lstat(name string) (fs.FileInfo, error)
	Readlink(name string) (string, error)
	ReadDir(name string) ([]fs.FileInfo, error)
	Open(name string) (io.ReadSeekCloser, error)
	// Write opens a file to be written from an offset on; from 0 it is made anew.
	Write(name string, from int64) (io.WriteCloser, error)
	MkdirAll(name string) error
	Symlink(text, name string) error
	Chmod(name string, mode fs.FileMode) error
	Chtimes(name string, at time.Time) error
	// Rename gives a file another name, in the place of what has that.
	Rename(from, to string) error
	Remove(name string) error
}

// here is a folder of this machine. Nothing that is read or written leads out of it, whatever links there are.
type here struct{ *os.Root }

func (h here) Lstat(name string) (fs.FileInfo, error) { return h.Root.Lstat(filepath.FromSlash(name)) }

func (h here) Readlink(name string) (string, error) { return h.Root.Readlink(filepath.FromSlash(name)) }

func (h here) ReadDir(name string) ([]fs.FileInfo, error) {
	dir, err := h.Root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.Readdir(-1)
}

func (h here) Open(name string) (io.ReadSeekCloser, error) {
	return h.Root.Open(filepath.FromSlash(name))
}

func (h here) Write(name string, from int64) (io.WriteCloser, error) {
	flags := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		flags |= os.O_TRUNC
	}
	f, err := h.OpenFile(filepath.FromSlash(name), flags, 0o600)
	if err != nil {
		return nil, err
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (h here) MkdirAll(name string) error { return h.Root.MkdirAll(filepath.FromSlash(name), 0o755) }

func (h here) Symlink(text, name string) error { return h.Root.Symlink(text, filepath.FromSlash(name)) }

func (h here) Chmod(name string, mode fs.FileMode) error {
	return h.Root.Chmod(filepath.FromSlash(name), mode)
}

func (h here) Chtimes(name string, at time.Time) error {
	return h.Root.Chtimes(filepath.FromSlash(name), at, at)
}

func (h here) Rename(from, to string) error {
	return h.Root.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

func (h here) Remove(name string) error { return h.Root.Remove(filepath.FromSlash(name)) }

// there is an instance, by SFTP.
type there struct{ c *sftp.Client }

func (t there) Lstat(name string) (fs.FileInfo, error)      { return t.c.Lstat(name) }
func (t there) Readlink(name string) (string, error)        { return t.c.ReadLink(name) }
func (t there) ReadDir(name string) ([]fs.FileInfo, error)  { return t.c.ReadDir(name) }
func (t there) Open(name string) (io.ReadSeekCloser, error) { return t.c.Open(name) }
func (t there) MkdirAll(name string) error                  { return t.c.MkdirAll(name) }
func (t there) Symlink(text, name string) error             { return t.c.Symlink(text, name) }
func (t there) Chmod(name string, mode fs.FileMode) error   { return t.c.Chmod(name, mode) }
func (t there) Chtimes(name string, at time.Time) error     { return t.c.Chtimes(name, at, at) }
func (t there) Remove(name string) error                    { return t.c.Remove(name) }

func (t there) Write(name string, from int64) (io.WriteCloser, error) {
	flags := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		flags |= os.O_TRUNC
	}
	f, err := t.c.OpenFile(name, flags)
	if err != nil {
		return nil, err
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Rename does so at once where the server can (posix-rename@openssh.com), else what has the name is removed before.
func (t there) Rename(from, to string) error {
	if _, can := t.c.HasExtension("posix-rename@openssh.com"); can {
		return t.c.PosixRename(from, to)
	}
	if err := t.c.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return t.c.Rename(from, to)
}
