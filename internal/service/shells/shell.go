package shells

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/engine"
	"andamio/internal/remote"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
)

// Host is an instance that stands, by the name people use of it.
type Host struct {
	Deployment int64  `json:"deployment"`
	Name       string `json:"deployment_name"`
	ID         string `json:"instance"`
	Site       string `json:"site"`
	Service    string `json:"service,omitempty"`
	Off        bool   `json:"off,omitempty"`

	attributes map[string]string
	// id is the site's own.
	id string
}

// HostsOf are the instances of a deployment that stand.
func HostsOf(d *deployments.Deployment) []Host {
	var out []Host
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		if r.Kind != kinds.Instance {
			continue
		}
		h := Host{Deployment: d.ID, Name: d.Name, ID: r.ID, Site: r.Site, Service: r.Service, Off: r.Off, id: d.Stand.Plan.Known[r.ID]["site.id"]}
		for k := range d.Stand.Plan.Resources {
			if x := &d.Stand.Plan.Resources[k]; x.Kind == kinds.Interface && x.AsInterface().Instance == r.ID {
				h.attributes = d.Stand.Plan.Known[x.ID]
				break
			}
		}
		out = append(out, h)
	}
	return out
}

// FindHost finds an instance by name among what stands: [DEPLOYMENT/]INSTANCE, where the deployment goes by number or
// name. What could be several is refused.
func (svc *Service) FindHost(ctx context.Context, name string) (Host, error) {
	all, err := svc.deployments.At(svc.desk).Deployments(ctx) // no name is told of what they may not see
	if err != nil {
		return Host{}, err
	}
	where, id, both := strings.Cut(name, "/")
	if !both {
		where, id = "", name
	}
	var known, places []string
	var exact, near []Host
	for i := range all {
		d := &all[i]
		if where != "" && where != d.Name && where != fmt.Sprint(d.ID) {
			continue
		}
		for _, h := range HostsOf(d) {
			switch h.ID {
			case id:
				exact = append(exact, h)
				places = append(places, d.Name+"/"+h.ID)
			case id + "-1":
				near = append(near, h)
			}
			known = append(known, h.ID)
		}
	}
	switch {
	case len(exact) == 1:
		return exact[0], nil
	case len(exact) > 1:
		return Host{}, fault.Invalidf("there are several instances %q: say which, %s", id, strings.Join(places, " or "))
	case len(near) == 1:
		return near[0], nil
	case len(near) > 1:
		return Host{}, fault.Invalidf("there are several instances %q: say which, as DEPLOYMENT/%s-1", id, id)
	}
	if len(known) == 0 {
		return Host{}, fault.NotFoundf("there is no instance %q: nothing stands", name)
	}
	slices.Sort(known)
	return Host{}, fault.NotFoundf("there is no instance %q; there are %s", name, strings.Join(slices.Compact(known), ", "))
}

// Shell is an open shell on an instance, or its serial console.
type Shell struct {
	Host Host
	In   io.WriteCloser
	Out  io.Reader

	client  *remote.Client
	session *ssh.Session
	// console is the serial console; nil for a shell.
	console io.ReadWriteCloser
}

// Serial reports that it is the serial console: it has no size and no end of its own.
func (s *Shell) Serial() bool { return s.console != nil }

// connect opens a connection to an instance.
func (svc *Service) connect(ctx context.Context, h Host) (*remote.Client, error) {
	if h.Off {
		return nil, fault.Conflictf("%s is switched off", h.ID)
	}
	key, err := svc.workspace.Key()
	if err != nil {
		return nil, err
	}
	return engine.Dial(ctx, func(name string) (string, bool) { v, ok := h.attributes[name]; return v, ok }, h.ID, key)
}

// OpenShell opens a shell on an instance, for a terminal of the given kind and size.
func (svc *Service) OpenShell(ctx context.Context, h Host, term string, cols, rows int) (out *Shell, err error) {
	err = svc.desk.Do(ctx, guard.EnterHost, h.thing(), func() (err error) {
		out, err = svc.openShell(ctx, h, term, cols, rows)
		return err
	}, acting.Saying("a shell"))
	return out, err
}

func (svc *Service) openShell(ctx context.Context, h Host, term string, cols, rows int) (*Shell, error) {
	client, err := svc.connect(ctx, h)
	if err != nil {
		return nil, err
	}
	s := &Shell{Host: h, client: client}
	stop := client.Within(ctx, nil)
	defer stop()
	if s.session, err = client.NewSession(); err == nil {
		err = s.session.RequestPty(term, rows, cols, ssh.TerminalModes{ssh.ECHO: 1})
	}
	if err == nil {
		s.In, err = s.session.StdinPipe()
	}
	if err == nil {
		s.Out, err = s.session.StdoutPipe()
	}
	if err == nil {
		err = s.session.Shell()
	}
	if err != nil {
		client.Close()
		return nil, err
	}
	return s, nil
}

// Resize tells the shell the terminal's size.
func (s *Shell) Resize(cols, rows int) error {
	if s.Serial() {
		return nil
	}
	return s.session.WindowChange(rows, cols)
}

// Wait waits until the shell ends.
func (s *Shell) Wait() error {
	if s.Serial() {
		return nil
	}
	err := s.session.Wait()
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		return nil
	}
	return err
}

// Close ends the shell.
func (s *Shell) Close() error {
	if s.Serial() {
		return s.console.Close()
	}
	return s.client.Close()
}

// OpenConsole opens the serial console of an instance: the only way in where its network is broken, or its system does not start.
func (svc *Service) OpenConsole(ctx context.Context, h Host) (out *Shell, err error) {
	err = svc.desk.Do(ctx, guard.EnterHost, h.thing(), func() error {
		if h.Off {
			return fault.Conflictf("%s is switched off", h.ID)
		}
		c, err := svc.workspace.Connection(h.Site)
		if err != nil {
			return err
		}
		serial, err := c.Console(ctx, h.id)
		if err != nil {
			return err
		}
		out = &Shell{Host: h, In: serial, Out: serial, console: serial}
		return nil
	}, acting.Saying("its serial console"))
	return out, err
}

// Command runs one command on an instance and returns its exit status.
func (svc *Service) Command(ctx context.Context, h Host, command string, in io.Reader, out, errOut io.Writer) (code int, err error) {
	err = svc.desk.Do(ctx, guard.EnterHost, h.thing(), func() (err error) {
		code, err = svc.Inside(ctx, h, command, in, out, errOut)
		return err
	}, acting.Saying("a command"))
	return code, err
}

// Inside runs a command in an instance for somebody who was let and noted, and returns its exit status.
func (svc *Service) Inside(ctx context.Context, h Host, command string, in io.Reader, out, errOut io.Writer) (int, error) {
	client, err := svc.connect(ctx, h)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	return client.Run(ctx, command, func(session *ssh.Session) { session.Stdin, session.Stdout, session.Stderr = in, out, errOut })
}

// Copied says how far a copy is.
type Copied struct {
	File  string `json:"file,omitempty"`
	Done  int64  `json:"done"`
	Whole int64  `json:"whole"`
}

// Copy copies a file or folder to or from an instance by SFTP; one of from and to is INSTANCE:PATH, the other a path here.
// Progress hears of every part.
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
	there, err := sftp.NewClient(client.Client)
	if err != nil {
		return 0, err
	}
	defer there.Close()
	c := &copier{remote: there, progress: progress}
	if isTo {
		err = c.send(from, toPath)
	} else {
		err = c.fetch(fromPath, to)
	}
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return c.files, err
}

// copier copies files one after another.
type copier struct {
	remote   *sftp.Client
	progress func(Copied)
	files    int
}

// send copies from here; a folder as the target takes the name of what is copied.
func (c *copier) send(from, to string) error {
	if info, err := c.remote.Stat(to); err == nil && info.IsDir() || strings.HasSuffix(to, "/") {
		to = path.Join(to, filepath.Base(from))
	}
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		target := path.Join(to, filepath.ToSlash(rel))
		switch {
		case d.IsDir():
			return c.remote.MkdirAll(target)
		case !d.Type().IsRegular():
			return nil
		}
		in, err := os.Open(name)
		if err != nil {
			return err
		}
		defer in.Close()
		info, err := in.Stat()
		if err != nil {
			return err
		}
		if err := c.remote.MkdirAll(path.Dir(target)); err != nil {
			return err
		}
		out, err := c.remote.Create(target)
		if err != nil {
			return err
		}
		return c.pour(name, info.Size(), in, out)
	})
}

// fetch copies to here. Names that lead out of the target are refused: an instance is not trusted.
func (c *copier) fetch(from, to string) error {
	root, err := c.remote.Stat(from)
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	if info, err := os.Stat(to); err == nil && info.IsDir() {
		to = filepath.Join(to, path.Base(from))
	}
	if !root.IsDir() {
		return c.fetchFile(from, to, root.Size())
	}
	walk := c.remote.Walk(from)
	for walk.Step() {
		if walk.Err() != nil {
			return walk.Err()
		}
		rel := strings.TrimPrefix(strings.TrimPrefix(walk.Path(), from), "/")
		if rel != "" && !filepath.IsLocal(rel) {
			return fault.Refusedf("%q leads out of the folder, and is not copied", walk.Path())
		}
		target := filepath.Join(to, filepath.FromSlash(rel))
		var err error
		switch {
		case walk.Stat().IsDir():
			err = os.MkdirAll(target, 0o755)
		case walk.Stat().Mode().IsRegular():
			err = c.fetchFile(walk.Path(), target, walk.Stat().Size())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (c *copier) fetchFile(from, to string, size int64) error {
	in, err := c.remote.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	return c.pour(from, size, in, out)
}

// part is how much is copied between two words of progress.
const part = 256 << 10

func (c *copier) pour(name string, size int64, in io.Reader, out io.WriteCloser) error {
	done := int64(0)
	buf := make([]byte, part)
	for {
		n, err := in.Read(buf)
		if n > 0 {
			if _, err := out.Write(buf[:n]); err != nil {
				return errors.Join(err, out.Close())
			}
			done += int64(n)
			c.progress(Copied{name, done, size})
		}
		if err == io.EOF {
			c.files++
			return out.Close()
		}
		if err != nil {
			return errors.Join(err, out.Close())
		}
	}
}

// thing is an instance as what something is done to.
func (h Host) thing() guard.Thing {
	return guard.Thing{Name: h.ID, Deployment: h.Deployment, Service: h.Service, Sites: []string{h.Site}}
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
