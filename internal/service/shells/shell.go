package shells

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

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
		if r.Kind != kinds.Instance || r.AsInstance().Appliance != "" { // nobody logs in to what a site runs itself
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
	return engine.Dial(svc.workspace.At(ctx, h.Site), func(name string) (string, bool) { v, ok := h.attributes[name]; return v, ok }, h.ID, key)
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

// AtMost drops what is written beyond so many bytes, as if it had been taken: a machine may say anything.
func AtMost(w io.Writer, bytes int) io.Writer { return &atMost{w, bytes} }

type atMost struct {
	w    io.Writer
	left int
}

// Write implements io.Writer.
func (m *atMost) Write(p []byte) (int, error) {
	n := min(len(p), m.left)
	m.left -= n
	if _, err := m.w.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}

// thing is an instance as what something is done to.
func (h Host) thing() guard.Thing {
	return guard.Thing{Name: h.ID, Deployment: h.Deployment, Service: h.Service, Sites: []string{h.Site}}
}
