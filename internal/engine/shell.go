package engine

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/reach"
	"andamio/internal/remote"
	"andamio/internal/site"
)

func publicKey(key ssh.Signer) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey())))
}

// script runs a step's script on its instance, over SSH: the text goes to the standard input of "sh -s", preceded by
// its inputs as exported variables, so that no value shows in a list of processes. Files it needs are put there before,
// and the variables it is to put out are printed when it ends. A script that ended is not run again for the same try of
// the step: its exit status and outputs lie on the instance. One that was broken off is run from its beginning.
func (e *Engine) script(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	if s.Script == nil {
		return site.Final(fmt.Errorf("%s is to run a script, and has none", s.ID))
	}
	_, tries, _ := e.known(s)
	name := fmt.Sprintf("%s/%s/%d", e.Run, s.ID, tries)
	instance := cmp.Or(s.On, r.On, r.ID)
	var env strings.Builder
	for _, in := range s.Script.Inputs {
		v, err := in.Value.Text(e)
		if err != nil {
			return fmt.Errorf("the input %s is not known: %w", in.Name, err)
		}
		if strings.ContainsRune(v, 0) {
			return site.Final(fmt.Errorf("the input %s has a NUL in it, which no variable of a script can have", in.Name))
		}
		env.WriteString(remote.Export(in.Name, v))
	}
	return e.call(ctx, s, func() error {
		out := newOutputs(s.Script.Outputs, e.Key, name)
		client, err := e.login(ctx, s, instance)
		if err == nil {
			err = e.mount(ctx, s, client, instance)
		}
		if err != nil {
			return err
		}
		for _, f := range s.Script.Files {
			if err := put(ctx, client, f.Path, e.Plan.Files[f.File]); err != nil {
				return fmt.Errorf("the file %s could not be put on %s: %w", f.Path, instance, err)
			}
		}
		// One stream keeps the order of what is printed.
		text := "exec 2>&1\n" + env.String() + out.wrap(name) + e.Plan.Scripts[s.Script.Path]
		if err := e.runScript(ctx, s, client, text, out); err != nil {
			return err
		}
		return e.keep(s, out)
	})
}

// login opens, or finds open, a connection to an instance, and notes that its shell answers.
func (e *Engine) login(ctx context.Context, s *plan.Step, instance string) (*remote.Client, error) {
	want, err := e.door(instance)
	if err != nil {
		return nil, site.Final(err)
	}
	if r := e.Plan.Resource(instance); r != nil {
		ctx = reach.At(ctx, r.Site)
	}
	if want.hostKey == "" {
		if want.hostKey, err = e.greet(ctx, instance, want); err != nil {
			return nil, err
		}
	}
	client, first, err := e.pool.open(ctx, want)
	if err == nil && first {
		text := fmt.Sprintf("shell open · ssh %s", net.JoinHostPort(want.address, want.port))
		err = e.record(run.Event{Kind: run.Answered, Resource: instance, Text: text, Good: true})
	}
	return client, err
}

// greet learns the host key of an instance whose site does not tell it: the one it shows the first time, to which it is held from then on.
func (e *Engine) greet(ctx context.Context, instance string, d door) (string, error) {
	var shown string
	config := remote.Meeting(func(key ssh.PublicKey) { shown = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) },
		ssh.ClientConfig{User: d.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(e.pool.key)}})
	client, err := remote.Usual.Dial(ctx, net.JoinHostPort(d.address, d.port), config)
	if err != nil {
		return "", err
	}
	client.Close()
	return shown, e.record(run.Event{Kind: run.Learned, Resource: e.ifaces[instance], Attributes: map[string]string{site.AttrHostKey: shown}})
}

// door is how one logs in to an instance, as its site told.
func (e *Engine) door(instance string) (door, error) {
	return doorOf(func(name string) (string, bool) { return e.Attribute(e.ifaces[instance], name) }, instance)
}

// doorOf is a door by what is known of it. Its host key is empty where the site does not tell it.
func doorOf(attribute func(name string) (string, bool), instance string) (door, error) {
	var want door
	want.hostKey, _ = attribute(site.AttrHostKey)
	for name, field := range map[string]*string{site.AttrAddress: &want.address, site.AttrSSHPort: &want.port, site.AttrSSHUser: &want.user} {
		v, ok := attribute(name)
		if !ok {
			return want, fmt.Errorf("the site did not say the %s of %s, so no shell can be opened", name, instance)
		}
		*field = v
	}
	return want, nil
}

// runScript runs the text and logs each line it prints; its exit status decides.
func (e *Engine) runScript(ctx context.Context, s *plan.Step, client *remote.Client, text string, put *outputs) error {
	out, in := io.Pipe()
	logged := make(chan string, 1)
	go func() { logged <- e.logLines(s, out, put) }()
	status, err := client.Run(ctx, "sh -s", func(session *ssh.Session) {
		session.Stdin, session.Stdout, session.Stderr = strings.NewReader(text), in, in
	})
	in.Close()
	last := <-logged
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return &site.Error{Site: s.Site, Doing: "run " + s.Script.Path, Class: site.Transient, Detail: "the connection broke off", Err: err}
	case status != 0:
		return site.Final(fmt.Errorf("%s exited with %d: %s", s.Script.Path, status, last))
	}
	return nil
}

// door is how one logs in to an instance.
type door struct{ address, port, user, hostKey string }

// shells keeps one connection to each instance.
type shells struct {
	key     ssh.Signer
	mu      sync.Mutex
	clients map[door]*remote.Client
}

func newShells(key ssh.Signer) *shells { return &shells{key: key, clients: map[door]*remote.Client{}} }

// open connects, checking the host's key against the one its site told; first says that it was not connected before.
func (p *shells) open(ctx context.Context, d door) (client *remote.Client, first bool, err error) {
	p.mu.Lock()
	client = p.clients[d]
	p.mu.Unlock()
	if client != nil {
		if client.Answers(ctx) {
			return client, false, nil
		}
		client.Close()
	}
	client, err = dial(ctx, d, p.key)
	if err != nil {
		return nil, false, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.clients[d] = client
	return client, true, nil
}

// dial connects to an instance.
func dial(ctx context.Context, d door, key ssh.Signer) (*remote.Client, error) {
	hostKey, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.hostKey))
	if err != nil {
		return nil, fmt.Errorf("the host key that the site told cannot be read: %w", err)
	}
	config := ssh.ClientConfig{User: d.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}}
	return remote.Usual.Dial(ctx, net.JoinHostPort(d.address, d.port), remote.KnownBy(hostKey, config))
}

// Dial opens a connection to an instance whose attributes are known.
func Dial(ctx context.Context, attribute func(name string) (string, bool), instance string, key ssh.Signer) (*remote.Client, error) {
	d, err := doorOf(attribute, instance)
	if err != nil {
		return nil, err
	}
	if d.hostKey == "" {
		return nil, fmt.Errorf("the site does not tell the host key of %s, and no run has logged in to it yet: who answers could be anybody", instance)
	}
	return dial(ctx, d, key)
}

func (p *shells) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.clients {
		c.Close()
	}
}
