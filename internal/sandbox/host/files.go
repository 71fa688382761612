package host

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// serveFiles speaks SFTP on a channel, over the host's own files.
func (h *Host) serveFiles(channel ssh.Channel) {
	f := &files{h.fs}
	server := sftp.NewRequestServer(open{channel}, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f})
	_ = server.Serve()
	_ = server.Close()
}

// open stays open when the server of files ends: the session still says how that ended.
type open struct{ ssh.Channel }

// Close leaves it to the session.
func (open) Close() error { return nil }

// files answers requests of SFTP from a file system.
type files struct{ fs *filesystem }

// inTurn lets one request at a time at a file: clients ask for several parts at once, and a file in memory has but one
// place at which it is read.
type inTurn struct {
	mu sync.Mutex
	afero.File
}

// ReadAt and WriteAt take their turn. What ends before all that was asked for ends there, as io.ReaderAt says: files in memory say other things.
func (f *inTurn) ReadAt(p []byte, off int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n, err := f.File.ReadAt(p, off)
	if n < len(p) && (err == nil || errors.Is(err, io.ErrUnexpectedEOF)) {
		err = io.EOF
	}
	return n, err
}

func (f *inTurn) WriteAt(p []byte, off int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.File.WriteAt(p, off)
}

// Fileread and Filewrite open a file.
func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	file, err := f.fs.Open(r.Filepath)
	return &inTurn{File: file}, err
}

func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := r.Pflags()
	mode := os.O_WRONLY
	if flags.Creat {
		mode |= os.O_CREATE
	}
	if flags.Trunc {
		mode |= os.O_TRUNC
	}
	file, err := f.fs.OpenFile(r.Filepath, mode, 0o644)
	return &inTurn{File: file}, err
}

// Filecmd makes, moves and removes.
func (f *files) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Mkdir":
		return f.fs.MkdirAll(r.Filepath, 0o755)
	case "Remove", "Rmdir":
		return f.fs.Remove(r.Filepath)
	case "Rename", "PosixRename":
		return f.fs.Rename(r.Filepath, r.Target)
	case "Setstat":
		return f.set(r)
	case "Symlink": // the protocol's two names are the other way round in what everybody speaks
		if _, _, err := f.fs.LstatIfPossible(r.Target); err == nil {
			return os.ErrExist
		}
		return f.fs.SymlinkIfPossible(r.Filepath, r.Target)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// set gives a file a mode, times and a size; there are no owners here.
func (f *files) set(r *sftp.Request) error {
	flags, want := r.AttrFlags(), r.Attributes()
	var errs []error
	if flags.Size {
		errs = append(errs, f.resize(r.Filepath, int64(want.Size)))
	}
	if flags.Permissions {
		errs = append(errs, f.fs.Chmod(r.Filepath, want.FileMode().Perm()))
	}
	if flags.Acmodtime {
		errs = append(errs, f.fs.Chtimes(r.Filepath, time.Unix(int64(want.Atime), 0), time.Unix(int64(want.Mtime), 0)))
	}
	return errors.Join(errs...)
}

func (f *files) resize(name string, size int64) error {
	file, err := f.fs.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	return errors.Join(file.Truncate(size), file.Close())
}

// Filelist lists a folder or one file.
func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "List" {
		entries, err := afero.ReadDir(f.fs, r.Filepath)
		for i, e := range entries {
			if info, _, err := f.fs.LstatIfPossible(path.Join(r.Filepath, e.Name())); err == nil {
				entries[i] = info
			}
		}
		return listing(entries), err
	}
	info, err := f.fs.Stat(r.Filepath)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, os.ErrNotExist
	}
	return listing{info}, err
}

// Lstat implements sftp.LstatFileLister.
func (f *files) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	info, _, err := f.fs.LstatIfPossible(r.Filepath)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, os.ErrNotExist
	}
	return listing{info}, err
}

// Readlink implements sftp.ReadlinkFileLister.
func (f *files) Readlink(name string) (string, error) { return f.fs.ReadlinkIfPossible(name) }

// listing gives entries part by part.
type listing []fs.FileInfo

// ListAt implements sftp.ListerAt.
func (l listing) ListAt(out []fs.FileInfo, offset int64) (int, error) {
	if offset >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[offset:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
