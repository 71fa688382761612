package source

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// regular are the files and folders of a file system, and nothing else of it: a pipe, a socket or a device would be waited
// for, or never end.
type regular struct{ root *os.Root }

// errNotRegular is the error of what is neither file nor folder.
var errNotRegular = errors.New("it is no regular file: pipes, sockets and devices are not read")

// Open implements fs.FS. What is opened is not waited for, and looked at before it is read: between a look at the name and
// opening it, it may become something else.
func (r regular) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	f, err := r.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		err = errNotRegular
	}
	if err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return f, nil
}

// Stat implements fs.StatFS.
func (r regular) Stat(name string) (fs.FileInfo, error) { return r.root.Stat(name) }

// ReadDir implements fs.ReadDirFS.
func (r regular) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(r.root.FS(), name) }
