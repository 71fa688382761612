// Package remote holds conversations with machines over SSH (RFC 4251 to 4254) that end: with their context, politely first
// and then by hanging up; and by themselves when the other side has fallen silent, however far the conversation was.
package remote

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/reach"
)

// Patience is how long the other side may be silent: until the conversation has begun, and then before it answers to a
// question that costs it nothing. A script may print nothing for as long as it likes.
type Patience struct {
	Begin, Answer time.Duration
	// Every is the time between two such questions, Grace how long a conversation that is to end is given to do so.
	Every, Grace time.Duration
}

// Usual is the patience where no other is asked for.
var Usual = Patience{Begin: 15 * time.Second, Answer: 15 * time.Second, Every: 15 * time.Second, Grace: 2 * time.Second}

// ErrSilent says that the other side does not answer any more.
var ErrSilent = errors.New("the machine has fallen silent")

// Client is a connection to a machine.
type Client struct {
	*ssh.Client
	patience Patience
}

// Dial connects to a machine at HOST:PORT.
func (p Patience) Dial(ctx context.Context, where string, config *ssh.ClientConfig) (*Client, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, p.Begin, ErrSilent)
	defer cancel()
	conn, err := reach.Dial(ctx, "tcp", where)
	if err != nil {
		return nil, cause(ctx, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	c, channels, requests, err := ssh.NewClientConn(conn, where, config)
	if !stop() || err != nil {
		conn.Close()
		return nil, cause(ctx, err)
	}
	client := &Client{ssh.NewClient(c, channels, requests), p}
	go client.listen()
	return client, nil
}

// KnownBy has a configuration hold to the key that a machine is known by. It asks for that key: a machine has several, and would show another.
func KnownBy(key ssh.PublicKey, config ssh.ClientConfig) *ssh.ClientConfig {
	config.HostKeyCallback, config.HostKeyAlgorithms = ssh.FixedHostKey(key), []string{key.Type()}
	if key.Type() == ssh.KeyAlgoRSA { // a key of RSA signs in several ways
		config.HostKeyAlgorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return &config
}

// Meeting has a configuration take whatever key a machine shows, and give it: of one that nobody told the key of, who answers the first time is who it
// is from then on.
func Meeting(met func(ssh.PublicKey), config ssh.ClientConfig) *ssh.ClientConfig {
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		met(key)
		return nil
	}
	return &config
}

// cause is why a context ended, if it has; else the error.
func cause(ctx context.Context, err error) error {
	if why := context.Cause(ctx); why != nil {
		return why
	}
	return err
}

// listen asks again and again whether the other side is there, and hangs up when it is not, which ends whatever waits for
// it.
func (c *Client) listen() {
	ended := make(chan struct{})
	go func() { _ = c.Wait(); close(ended) }()
	tick := time.NewTicker(c.patience.Every)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
		}
		if !c.Answers(context.Background()) {
			c.Close()
			return
		}
	}
}

// Answers asks whether the other side is there.
func (c *Client) Answers(ctx context.Context) bool {
	answered := make(chan error, 1)
	go func() {
		_, _, err := c.SendRequest("keepalive@andamio.example", true, nil)
		answered <- err
	}()
	timer := time.NewTimer(c.patience.Answer)
	defer timer.Stop()
	select {
	case err := <-answered:
		return err == nil
	case <-timer.C:
	case <-ctx.Done():
	}
	return false
}

// Within has what is done over the connection end with a context: politely says so, and if that does not help in time, or
// there is nothing polite to do, the connection is hung up. Call stop when it is done.
func (c *Client) Within(ctx context.Context, politely func()) (stop func()) {
	done := make(chan struct{})
	unwatch := context.AfterFunc(ctx, func() {
		if politely != nil {
			go politely() // which may itself wait for the other side
			timer := time.NewTimer(c.patience.Grace)
			defer timer.Stop()
			select {
			case <-done:
				return
			case <-timer.C:
			}
		}
		c.Close()
	})
	return func() {
		unwatch()
		close(done)
	}
}

// Run runs a command until it ends or the context does, and returns its exit status.
func (c *Client) Run(ctx context.Context, command string, set func(*ssh.Session)) (status int, err error) {
	stop := c.Within(ctx, nil)
	session, err := c.NewSession()
	stop()
	if err != nil {
		return 0, cause(ctx, fmt.Errorf("no session was opened: %w", err))
	}
	defer func() { go session.Close() }() //nolint:errcheck // which waits for the other side if that is silent
	set(session)
	stop = c.Within(ctx, func() { session.Close() })
	defer stop()
	var exit *ssh.ExitError
	switch err = c.wait(ctx, func() error { return session.Run(command) }); {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case errors.As(err, &exit):
		return exit.ExitStatus(), nil
	}
	return 0, err
}

// wait waits for what is done, and when the context has ended no longer than it takes to hang up: what is read from may be
// a pipe that nobody writes to.
func (c *Client) wait(ctx context.Context, do func() error) error {
	done := make(chan error, 1)
	go func() { done <- do() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	timer := time.NewTimer(2 * c.patience.Grace)
	defer timer.Stop()
	select {
	case err := <-done:
		return err
	case <-timer.C:
		return context.Cause(ctx)
	}
}
