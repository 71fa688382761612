package session

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"andamio/internal/core/fault"
)

// Visit is a session where the workspace is: what somebody who is elsewhere has run.
type Visit struct {
	Asked Asked
	// From is where they came from.
	From string
	// In, Out and Err are the streams of the command.
	In       *Stream
	Out, Err *Stream

	mux     *yamux.Session
	control *control
	files   net.Conn
	dir     string
	was     map[string][sha256.Size]byte
	ctx     context.Context
	resized chan struct{}

	mu   sync.Mutex
	size Size
}

// Stream is one of the three of a command.
type Stream struct {
	conn     net.Conn
	terminal bool
	to       io.Writer
	flush    func() error
}

// IsTerminal reports that whoever is at the other end sits at a terminal.
func (s *Stream) IsTerminal() bool { return s.terminal }

// Read reads what is typed.
func (s *Stream) Read(b []byte) (int, error) { return s.conn.Read(b) }

// Write writes to the other end.
func (s *Stream) Write(b []byte) (int, error) { return s.to.Write(b) }

// end says that nothing more is written.
func (s *Stream) end() error {
	if s.flush == nil {
		return nil
	}
	return errors.Join(s.flush(), closeWrite(s.conn))
}

// Accept takes in what somebody has run, over the connection on which they came, with the files that it names: those are kept in a folder of their own, and are
// of at most so many bytes. It is closed by [Visit.End] or [Visit.Close].
func Accept(ctx context.Context, conn net.Conn, most int64) (v *Visit, err error) {
	mux, err := yamux.Server(conn, config(), nil)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	v = &Visit{mux: mux, resized: make(chan struct{}, 1)}
	context.AfterFunc(ctx, func() { mux.Close() }) // whose token holds no more sends nothing more, either
	defer func() {
		if err != nil {
			err = errors.Join(err, v.refuse(err), v.Close())
		}
	}()
	all, err := begin(mux)
	if err != nil {
		return v, err
	}
	v.control, v.files = newControl(all[streamControl]), all[streamFiles]
	if err := all[streamControl].SetReadDeadline(time.Now().Add(beginWithin)); err != nil {
		return v, err
	}
	if err := v.control.hear(&v.Asked); err != nil {
		return v, errors.Join(errNonsense, err)
	}
	if err := all[streamControl].SetReadDeadline(time.Time{}); err != nil {
		return v, err
	}
	v.size = v.Asked.Terminal.bounded()
	if err := v.receive(most); err != nil {
		return v, err
	}
	t := v.Asked.Terminal
	v.In = &Stream{conn: all[streamIn], terminal: t.In}
	v.Out, v.Err = v.shows(all[streamOut], t.Out), v.shows(all[streamErr], t.Err)
	var cancel context.CancelFunc
	v.ctx, cancel = context.WithCancel(ctx)
	go v.listen(cancel)
	return v, nil
}

// refuse says why a session does not begin, where that can be said, and gives whoever asked a moment to hear it.
func (v *Visit) refuse(why error) error {
	if v.control == nil {
		return nil
	}
	if err := v.control.say(said{Refused: why.Error(), Code: fault.CodeOf(why)}); err != nil {
		return nil //nolint:nilerr // nobody is there who would hear it
	}
	select {
	case <-v.mux.CloseChan():
	case <-time.After(hearWithin):
	}
	return nil
}

// shows is a stream that the command writes to: where a file is kept here is none of whoever named it.
func (v *Visit) shows(c net.Conn, terminal bool) *Stream {
	words := map[string]string{}
	for i := range v.Asked.Files {
		words[v.path(i)] = v.Asked.Files[i].Word
	}
	out := &renaming{to: patient{c}, names: words}
	return &Stream{conn: c, terminal: terminal, to: out, flush: out.flush}
}

// receive keeps the files that come along.
func (v *Visit) receive(most int64) error {
	files := v.Asked.Files
	if len(files) > mostFiles {
		return errNonsense
	}
	dir, err := os.MkdirTemp("", "andamio-visit-")
	if err != nil {
		return err
	}
	v.dir = dir
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for i := range files {
		f := &files[i]
		if !filepath.IsLocal(f.Name) || filepath.Clean(f.Name) == "." {
			return fault.Invalidf("%q is no name of a file", f.Name)
		}
		at := path.Join(strconv.Itoa(i), path.Dir(filepath.ToSlash(f.Name)))
		if f.Folder && !f.Sent {
			at = path.Join(strconv.Itoa(i), filepath.ToSlash(f.Name))
		}
		if err := root.MkdirAll(at, 0o700); err != nil {
			return err
		}
	}
	err = unpack(prompt{v.files}, root, most, func(name string) (string, error) {
		i, rest, err := below(name, files)
		if err == nil && (!files[i].Sent || !files[i].isOf(rest)) {
			err = fault.Invalidf("%q is no file that the command names", name)
		}
		return path.Join(strconv.Itoa(i), rest), err
	})
	if err != nil {
		return err
	}
	v.was, err = v.digests()
	return err
}

// path is where the file of a word is kept.
func (v *Visit) path(i int) string {
	return filepath.Join(v.dir, strconv.Itoa(i), v.Asked.Files[i].Name)
}

// File is where the file is that a word names; false if that word came with none.
func (v *Visit) File(word string) (string, bool) {
	for i := range v.Asked.Files {
		if v.Asked.Files[i].Word == word {
			return v.path(i), true
		}
	}
	return "", false
}

// Words is a text in which files go by the words that named them.
func (v *Visit) Words(text string) string {
	var pairs []string
	for i := range v.Asked.Files {
		pairs = append(pairs, v.path(i), v.Asked.Files[i].Word)
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// Env is a variable of whoever asked.
func (v *Visit) Env(name string) string { return v.Asked.Environment[name] }

// Context ends when whoever asked has had enough, or is gone.
func (v *Visit) Context() context.Context { return v.ctx }

// Size is how large the terminal is now.
func (v *Visit) Size() Size {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.size
}

// Resized says each time that the terminal may have another size.
func (v *Visit) Resized() <-chan struct{} { return v.resized }

// Raw has what is typed come as it is, key by key, or by lines again.
func (v *Visit) Raw(on bool) error { return v.control.say(said{Raw: &on}) }

// listen heeds what whoever asked says besides, until they are gone.
func (v *Visit) listen(cancel context.CancelFunc) {
	defer cancel()
	for {
		var s said
		if v.control.hear(&s) != nil || s.Interrupt {
			return
		}
		if s.Size == nil {
			continue
		}
		v.mu.Lock()
		v.size = s.Size.bounded()
		v.mu.Unlock()
		select {
		case v.resized <- struct{}{}:
		default:
		}
	}
}

// digests are those of the files of words that say that something is written there.
func (v *Visit) digests() (map[string][sha256.Size]byte, error) {
	out := map[string][sha256.Size]byte{}
	for i := range v.Asked.Files {
		if !v.Asked.Files[i].Written {
			continue
		}
		top := filepath.Join(v.dir, strconv.Itoa(i))
		err := filepath.WalkDir(top, func(name string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			rel, err := filepath.Rel(v.dir, name)
			if err == nil {
				out[filepath.ToSlash(rel)], err = digest(name)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func digest(name string) (sum [sha256.Size]byte, err error) {
	f, err := os.Open(name)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return sum, err
	}
	return [sha256.Size]byte(h.Sum(nil)), nil
}

// back sends what was written to where the words say.
func (v *Visit) back() error {
	now, err := v.digests()
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(v.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	w := tar.NewWriter(patient{v.files})
	for _, name := range sorted(now) {
		if was, known := v.was[name]; known && was == now[name] {
			continue
		}
		if err := packOne(w, root, name, name); err != nil {
			return err
		}
	}
	return w.Close()
}

// End sends what the command wrote and with which status it ended, waits until that has been heard, and closes the session.
func (v *Visit) End(status int) error {
	err := errors.Join(v.Out.end(), v.Err.end(), v.back(), closeWrite(v.files), v.control.say(said{Ended: &status}))
	select {
	case <-v.mux.CloseChan():
	case <-time.After(readWithin):
	}
	return errors.Join(err, v.Close())
}

// Close ends the session, and forgets its files.
func (v *Visit) Close() error {
	err := v.mux.Close()
	if v.dir != "" {
		err = errors.Join(err, os.RemoveAll(v.dir))
	}
	return err
}
