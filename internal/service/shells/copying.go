package shells

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/pkg/sftp"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
)

// Copied says how far a copy is.
type Copied struct {
	File  string `json:"file,omitempty"`
	Done  int64  `json:"done"`
	Whole int64  `json:"whole"`
}

// Copy copies a file or folder to or from an instance by SFTP; one of from and to is INSTANCE:PATH, the other a path here. Modes, times and links are
// kept. Files that are there already, of the same size and time, are left as they are, and one that was broken off goes on where it was. Progress
// hears of every part.
func (svc *Service) Copy(ctx context.Context, from, to string, progress func(Copied)) (files int, err error) {
	err = svc.desk.Do(ctx, guard.CopyFiles, svc.copied(ctx, from, to), func() (err error) {
		files, err = svc.copyFiles(ctx, from, to, progress)
		return err
	})
	return files, err
}

func (svc *Service) copyFiles(ctx context.Context, from, to string, progress func(Copied)) (files int, err error) {
	fromHost, fromPath, isFrom := strings.Cut(from, ":")
	toHost, toPath, isTo := strings.Cut(to, ":")
	if isFrom == isTo {
		return 0, fault.Invalidf("one of the two is on an instance, as INSTANCE:PATH, and the other here")
	}
	name := fromHost
	if isTo {
		name = toHost
	}
	h, err := svc.FindHost(ctx, name)
	if err != nil {
		return 0, err
	}
	client, err := svc.connect(ctx, h)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	stop := client.Within(ctx, nil)
	defer stop()
	remote, err := sftp.NewClient(client.Client)
	if err != nil {
		return 0, err
	}
	defer remote.Close()
	if isTo {
		files, err = send(ctx, remote, from, toPath, progress)
	} else {
		files, err = fetch(ctx, remote, fromPath, to, progress)
	}
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return files, classed(err)
}

// classed gives a class to what either side says of a file.
func classed(err error) error {
	var said *sftp.StatusError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return fault.Default(fault.NotFound, err)
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.EISDIR), errors.As(err, &said):
		return fault.Default(fault.Refused, err)
	}
	return err
}

// send copies from here; a folder as the target takes the name of what is copied.
func send(ctx context.Context, remote *sftp.Client, from, to string, progress func(Copied)) (int, error) {
	from, err := filepath.EvalSymlinks(from) // what is named is meant, not a link to it
	if err != nil {
		return 0, err
	}
	if from, err = filepath.Abs(from); err != nil {
		return 0, err
	}
	root, err := os.OpenRoot(filepath.Dir(from))
	if err != nil {
		return 0, err
	}
	defer root.Close()
	if info, err := remote.Stat(to); err == nil && info.IsDir() || strings.HasSuffix(to, "/") {
		to = path.Join(to, filepath.Base(from))
	}
	if err := remote.MkdirAll(path.Dir(to)); err != nil {
		return 0, err
	}
	c := &copier{ctx: ctx, from: here{root}, to: there{remote}, progress: progress}
	return c.all(filepath.Base(from), to)
}

// fetch copies to here. An instance is not trusted: nothing of it is written outside the target.
func fetch(ctx context.Context, remote *sftp.Client, from, to string, progress func(Copied)) (int, error) {
	real, err := remote.RealPath(from) // what is named is meant, not a link to it
	if err != nil {
		return 0, fmt.Errorf("%s: %w", from, err)
	}
	if _, err := remote.Stat(real); err != nil {
		return 0, fmt.Errorf("%s: %w", from, err)
	}
	if info, err := os.Stat(to); err == nil && info.IsDir() {
		to = filepath.Join(to, path.Base(real))
	}
	root, err := os.OpenRoot(filepath.Dir(to))
	if err != nil {
		return 0, err
	}
	defer root.Close()
	c := &copier{ctx: ctx, from: there{remote}, to: here{root}, progress: progress}
	return c.all(real, filepath.Base(to))
}

// copier copies files one after another.
type copier struct {
	ctx      context.Context
	from, to side
	progress func(Copied)
	files    int
	// left are what could not be copied for what it is.
	left []string
}

// deepest bounds how deep folders lie in each other.
const deepest = 100

// all copies a file or folder, and says what was left out.
func (c *copier) all(from, to string) (int, error) {
	err := c.copy(from, to, 0)
	if err == nil && c.left != nil {
		err = fault.Refusedf("all else was copied, and not %s", strings.Join(c.left, ", "))
	}
	return c.files, err
}

func (c *copier) copy(from, to string, depth int) error {
	if err := context.Cause(c.ctx); err != nil {
		return err
	}
	if depth > deepest {
		return fault.Refusedf("%s lies deeper than %d folders", from, deepest)
	}
	info, err := c.from.Lstat(from)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	switch {
	case info.IsDir():
		err = c.folder(from, to, info, depth)
	case info.Mode().IsRegular():
		err = c.file(from, to, info)
	case info.Mode()&fs.ModeSymlink != 0:
		err = c.link(from, to)
	default:
		c.left = append(c.left, from+" (neither file, folder nor link)")
	}
	return err
}

// folder copies all that is in one; its own mode and time are set when nothing is written there any more.
func (c *copier) folder(from, to string, info fs.FileInfo, depth int) error {
	if err := c.to.MkdirAll(to); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	all, err := c.from.ReadDir(from)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	for _, x := range all {
		if name := x.Name(); name == "." || name == ".." || strings.ContainsAny(name, "/\x00") || !filepath.IsLocal(name) {
			return fault.Refusedf("%q leads out of the folder, and is not copied", path.Join(from, name))
		}
		if err := c.copy(path.Join(from, x.Name()), path.Join(to, x.Name()), depth+1); err != nil {
			return err
		}
	}
	return c.like(to, info)
}

// link makes a link that says the same; whether it leads anywhere there is nobody's to judge.
func (c *copier) link(from, to string) error {
	text, err := c.from.Readlink(from)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	if has, err := c.to.Readlink(to); err == nil {
		if has == text {
			c.files++
			return nil
		}
		if err := c.to.Remove(to); err != nil {
			return err
		}
	}
	if err := c.to.Symlink(text, to); err != nil {
		c.left = append(c.left, fmt.Sprintf("%s (a link: %v)", from, err))
		return nil
	}
	c.files++
	return nil
}

// like gives a copy the mode and time of what it is of. Files that run as somebody else stay that where they are.
func (c *copier) like(to string, info fs.FileInfo) error {
	if err := c.to.Chmod(to, info.Mode().Perm()); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	if err := c.to.Chtimes(to, info.ModTime()); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	return nil
}

// partOf is the name of a file as long as not all of it is there: another, if what it is of was changed meanwhile.
func partOf(from, to string, info fs.FileInfo) string {
	h := fnv.New64a()
	fmt.Fprint(h, from, info.Size(), info.ModTime().Unix())
	return path.Join(path.Dir(to), fmt.Sprintf(".%.100s.%x.part", path.Base(to), h.Sum64()))
}

// file copies one, beside what is there, in the place of which it comes when it is whole.
func (c *copier) file(from, to string, info fs.FileInfo) error {
	if is, err := c.to.Lstat(to); err == nil && is.Mode().IsRegular() && is.Size() == info.Size() && is.ModTime().Unix() == info.ModTime().Unix() {
		c.files++
		c.progress(Copied{from, info.Size(), info.Size()})
		return c.like(to, info)
	}
	part, begun := partOf(from, to, info), int64(0)
	if is, err := c.to.Lstat(part); err == nil && is.Mode().IsRegular() && is.Size() <= info.Size() {
		begun = is.Size()
	}
	if err := c.pour(from, part, begun, info.Size()); err != nil {
		return err
	}
	if err := c.like(part, info); err != nil {
		return err
	}
	if err := c.to.Rename(part, to); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	c.files++
	return nil
}

// part is how much is copied between two words of progress.
const part = 256 << 10

// pour copies what is in a file from an offset on. One that is another size in the end than it was in the beginning was changed meanwhile.
func (c *copier) pour(from, to string, begun, size int64) error {
	in, err := c.from.Open(from)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	defer in.Close()
	if _, err := in.Seek(begun, io.SeekStart); err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	out, err := c.to.Write(to, begun)
	if err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	done, err := c.parts(from, in, out, begun, size)
	if err = errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	if done != size {
		_ = c.to.Remove(to) // it is no part of what there is now
		return fault.Conflictf("%s was changed while it was copied: it has %d bytes and had %d", from, done, size)
	}
	return nil
}

// parts copies part by part, and says how much is there then. A file that grows without end is left at its size.
func (c *copier) parts(name string, in io.Reader, out io.Writer, done, size int64) (int64, error) {
	buf := make([]byte, part)
	c.progress(Copied{name, done, size})
	for {
		if err := context.Cause(c.ctx); err != nil {
			return done, err
		}
		n, err := in.Read(buf)
		if done+int64(n) > size {
			return done + int64(n), nil
		}
		if n > 0 {
			if _, err := out.Write(buf[:n]); err != nil {
				return done, err
			}
			done += int64(n)
			c.progress(Copied{name, done, size})
		}
		if err == io.EOF {
			return done, nil
		}
		if err != nil {
			return done, err
		}
	}
}

// copied is the instance that files are copied from or to, as what something is done to.
func (svc *Service) copied(ctx context.Context, from, to string) guard.Thing {
	out := guard.Named(from + " to " + to)
	for _, end := range []string{from, to} {
		if name, _, is := strings.Cut(end, ":"); is {
			if h, err := svc.FindHost(ctx, name); err == nil { // what is wrong with it, copying says
				of := h.thing()
				of.Name = out.Name
				return of
			}
		}
	}
	return out
}
