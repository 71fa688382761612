package host

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/spf13/afero"
)

// links are files in memory, with symbolic links among them. A link is a file that holds where it leads, and is known to be one.
type links struct {
	afero.Fs

	mu sync.Mutex
	to map[string]string
}

func newLinks() *links { return &links{Fs: afero.NewMemMapFs(), to: map[string]string{}} }

// mostLinks is how many links a name may lead through, as on most systems.
const mostLinks = 40

var errLoop = errors.New("too many levels of symbolic links")

// resolved is what a name is when all links in it are followed, the last one only if it is to be.
func (l *links) resolved(name string, last bool) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	name = path.Clean("/" + name)
	if len(l.to) == 0 {
		return name, nil
	}
	for range mostLinks {
		next, through := l.step(name, last)
		if !through {
			return name, nil
		}
		name = next
	}
	return "", &fs.PathError{Op: "open", Path: name, Err: errLoop}
}

// step follows the first link in a name.
func (l *links) step(name string, last bool) (string, bool) {
	for end := 1; end <= len(name); end++ {
		if end < len(name) && name[end] != '/' {
			continue
		}
		to, is := l.to[name[:end]]
		if !is || end == len(name) && !last {
			continue
		}
		if !path.IsAbs(to) {
			to = path.Join(path.Dir(name[:end]), to)
		}
		return path.Join(to, name[end:]), true
	}
	return name, false
}

// SymlinkIfPossible implements afero.Linker.
func (l *links) SymlinkIfPossible(to, name string) error {
	at, err := l.resolved(name, false)
	if err != nil {
		return err
	}
	if _, err := l.Fs.Stat(at); err == nil {
		return &os.LinkError{Op: "symlink", Old: to, New: name, Err: fs.ErrExist}
	}
	if err := afero.WriteFile(l.Fs, at, []byte(to), 0o777); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.to[at] = to
	return nil
}

// ReadlinkIfPossible implements afero.LinkReader.
func (l *links) ReadlinkIfPossible(name string) (string, error) {
	at, err := l.resolved(name, false)
	if err != nil {
		return "", err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if to, is := l.to[at]; is {
		return to, nil
	}
	return "", &fs.PathError{Op: "readlink", Path: name, Err: fs.ErrInvalid}
}

// LstatIfPossible implements afero.Lstater.
func (l *links) LstatIfPossible(name string) (fs.FileInfo, bool, error) {
	at, err := l.resolved(name, false)
	if err != nil {
		return nil, true, err
	}
	info, err := l.Fs.Stat(at)
	return l.marked(at, info), true, err
}

// marked is what is known of a name, with it being a link.
func (l *links) marked(at string, info fs.FileInfo) fs.FileInfo {
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, is := l.to[at]; is && info != nil {
		return linkInfo{info}
	}
	return info
}

// linkInfo is what is known of a link.
type linkInfo struct{ fs.FileInfo }

// Mode implements fs.FileInfo.
func (i linkInfo) Mode() fs.FileMode { return fs.ModeSymlink | 0o777 }

// follow does something with what a name leads to.
func (l *links) follow(name string, do func(at string) error) error {
	at, err := l.resolved(name, true)
	if err != nil {
		return err
	}
	return do(at)
}

// itself does something with what a name is, be it a link.
func (l *links) itself(name string, do func(at string) error) error {
	at, err := l.resolved(name, false)
	if err != nil {
		return err
	}
	return do(at)
}

// forget has what is below a name be no link any more.
func (l *links) forget(at string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name := range l.to {
		if name == at || strings.HasPrefix(name, at+"/") {
			delete(l.to, name)
		}
	}
}

// Create implements afero.Fs.
func (l *links) Create(name string) (f afero.File, err error) {
	err = l.follow(name, func(at string) (err error) { f, err = l.Fs.Create(at); return err })
	return f, err
}

// Open implements afero.Fs.
func (l *links) Open(name string) (f afero.File, err error) {
	err = l.follow(name, func(at string) (err error) { f, err = l.Fs.Open(at); return err })
	return f, err
}

// OpenFile implements afero.Fs.
func (l *links) OpenFile(name string, flag int, perm os.FileMode) (f afero.File, err error) {
	err = l.follow(name, func(at string) (err error) { f, err = l.Fs.OpenFile(at, flag, perm); return err })
	return f, err
}

// Stat implements afero.Fs.
func (l *links) Stat(name string) (info fs.FileInfo, err error) {
	err = l.follow(name, func(at string) (err error) { info, err = l.Fs.Stat(at); return err })
	return info, err
}

// Mkdir implements afero.Fs.
func (l *links) Mkdir(name string, perm os.FileMode) error {
	return l.follow(name, func(at string) error { return l.Fs.Mkdir(at, perm) })
}

// MkdirAll implements afero.Fs.
func (l *links) MkdirAll(name string, perm os.FileMode) error {
	return l.follow(name, func(at string) error { return l.Fs.MkdirAll(at, perm) })
}

// Chmod implements afero.Fs.
func (l *links) Chmod(name string, mode os.FileMode) error {
	return l.follow(name, func(at string) error { return l.Fs.Chmod(at, mode) })
}

// Chtimes implements afero.Fs.
func (l *links) Chtimes(name string, a, m time.Time) error {
	return l.follow(name, func(at string) error { return l.Fs.Chtimes(at, a, m) })
}

// Remove implements afero.Fs.
func (l *links) Remove(name string) error {
	return l.itself(name, func(at string) error {
		err := l.Fs.Remove(at)
		if err == nil {
			l.forget(at)
		}
		return err
	})
}

// RemoveAll implements afero.Fs.
func (l *links) RemoveAll(name string) error {
	return l.itself(name, func(at string) error {
		l.forget(at)
		return l.Fs.RemoveAll(at)
	})
}

// Rename implements afero.Fs.
func (l *links) Rename(from, to string) error {
	return l.itself(from, func(from string) error {
		return l.itself(to, func(to string) error {
			if err := l.Fs.Rename(from, to); err != nil {
				return err
			}
			l.renamed(from, to)
			return nil
		})
	})
}

// renamed has links go with their names.
func (l *links) renamed(from, to string) {
	l.forget(to)
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, where := range l.to {
		if rest, below := strings.CutPrefix(name, from); below && (rest == "" || rest[0] == '/') {
			delete(l.to, name)
			l.to[to+rest] = where
		}
	}
}
