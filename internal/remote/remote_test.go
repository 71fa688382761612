package remote

import (
	"context"
	"crypto/ed25519"
	"io"
	"net"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"pgregory.net/rapid"
)

// peer is a machine that runs commands of three words: "exit" with a status, "echo" of its input, and "hang".
type peer struct {
	l     net.Listener
	key   ssh.Signer
	mu    sync.Mutex
	conns []net.Conn
	// mute answers no question whether it is there.
	mute bool
}

func serving(t *testing.T) *peer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &peer{l: l, key: key}
	t.Cleanup(func() {
		l.Close()
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, c := range p.conns {
			c.Close()
		}
	})
	go p.serve()
	return p
}

func (p *peer) serve() {
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(p.key)
	for {
		conn, err := p.l.Accept()
		if err != nil {
			return
		}
		p.mu.Lock()
		p.conns = append(p.conns, conn)
		p.mu.Unlock()
		go func() {
			_, channels, requests, err := ssh.NewServerConn(conn, config)
			if err != nil {
				return
			}
			go func() {
				for r := range requests {
					p.mu.Lock()
					mute := p.mute
					p.mu.Unlock()
					if !mute {
						_ = r.Reply(false, nil)
					}
				}
			}()
			for c := range channels {
				channel, requests, err := c.Accept()
				if err != nil {
					return
				}
				go p.session(channel, requests)
			}
		}()
	}
}

func (p *peer) session(c ssh.Channel, requests <-chan *ssh.Request) {
	for r := range requests {
		if r.Type != "exec" {
			_ = r.Reply(false, nil)
			continue
		}
		var v struct{ Command string }
		_ = ssh.Unmarshal(r.Payload, &v)
		_ = r.Reply(true, nil)
		go func() {
			status := uint32(0)
			switch v.Command {
			case "exit":
				status = 3
			case "echo":
				_, _ = io.Copy(c, c)
			case "hang":
				_, _ = io.Copy(io.Discard, c) // until it is closed
				return
			}
			_, _ = c.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{status}))
			c.Close()
		}()
	}
}

func (p *peer) silence() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = true
}

var short = Patience{Begin: 2 * time.Second, Answer: 50 * time.Millisecond, Every: 30 * time.Millisecond, Grace: 30 * time.Millisecond}

func (p *peer) dial(t *testing.T, patience Patience) *Client {
	t.Helper()
	c, err := patience.Dial(t.Context(), p.l.Addr().String(), &ssh.ClientConfig{User: "u", HostKeyCallback: ssh.FixedHostKey(p.key.PublicKey())})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func TestACommandsStatusAndOutput(t *testing.T) {
	c := serving(t).dial(t, Usual)
	status, err := c.Run(t.Context(), "exit", func(*ssh.Session) {})
	require.NoError(t, err)
	assert.Equal(t, 3, status)
	var out strings.Builder
	status, err = c.Run(t.Context(), "echo", func(s *ssh.Session) { s.Stdin, s.Stdout = strings.NewReader("level"), &out })
	require.NoError(t, err)
	assert.Zero(t, status)
	assert.Equal(t, "level", out.String())
	assert.True(t, c.Answers(t.Context()))
	require.NoError(t, c.Close())
	assert.False(t, c.Answers(t.Context()))
	_, err = c.Run(t.Context(), "exit", func(*ssh.Session) {})
	require.ErrorContains(t, err, "no session was opened")
}

// TestACommandEndsWithItsContext has one that hangs, whose input never ends either.
func TestACommandEndsWithItsContext(t *testing.T) {
	p := serving(t)
	c := p.dial(t, Patience{Begin: time.Minute, Answer: time.Minute, Every: time.Minute, Grace: 30 * time.Millisecond})
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	in, feed := io.Pipe()
	defer feed.Close()
	begun := time.Now()
	_, err := c.Run(ctx, "hang", func(s *ssh.Session) { s.Stdin = in })
	require.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Less(t, time.Since(begun), 10*time.Second)
	ended, end := context.WithCancel(t.Context())
	end()
	_, err = c.Run(ended, "echo", func(*ssh.Session) {})
	require.ErrorIs(t, err, context.Canceled)
}

// TestASilentMachineIsHungUpOn has a machine answer no more: what waits for it ends, though nobody ends it.
func TestASilentMachineIsHungUpOn(t *testing.T) {
	p := serving(t)
	c := p.dial(t, short)
	done := make(chan error, 1)
	go func() { _, err := c.Run(t.Context(), "hang", func(*ssh.Session) {}); done <- err }()
	select {
	case err := <-done:
		t.Fatalf("it was hung up on although it answers: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	p.silence()
	select {
	case err := <-done:
		require.Error(t, err)
	case <-time.After(time.Minute):
		t.Fatal("it is waited for for ever")
	}
	assert.False(t, c.Answers(t.Context()))
}

func TestWhatIsDoneEndsPolitelyOrIsHungUp(t *testing.T) {
	p := serving(t)
	patience := Patience{Begin: time.Minute, Answer: time.Minute, Every: time.Minute, Grace: 100 * time.Millisecond}
	polite := p.dial(t, patience)
	ctx, cancel := context.WithCancel(t.Context())
	said := make(chan struct{})
	stop := polite.Within(ctx, func() { close(said) })
	cancel()
	<-said
	stop()
	assert.True(t, polite.Answers(t.Context()), "what ended politely is not hung up")
	stubborn := p.dial(t, patience)
	ctx, cancel = context.WithCancel(t.Context())
	stop = stubborn.Within(ctx, func() {})
	cancel()
	require.Eventually(t, func() bool { return !stubborn.Answers(t.Context()) }, 2*time.Minute, 10*time.Millisecond)
	stop()
	over := p.dial(t, patience)
	ctx, cancel = context.WithCancel(t.Context())
	over.Within(ctx, nil)()
	cancel()
	assert.True(t, over.Answers(t.Context()), "what is over ends nothing")
	asking, end := context.WithCancel(t.Context())
	end()
	p.silence()
	assert.False(t, over.Answers(asking))
}

func TestNobodyIsWaitedForToBegin(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0") // and says nothing
	require.NoError(t, err)
	defer l.Close()
	config := &ssh.ClientConfig{User: "u", HostKeyCallback: ssh.InsecureIgnoreHostKey()}
	_, err = Patience{Begin: 50 * time.Millisecond}.Dial(t.Context(), l.Addr().String(), config)
	require.ErrorIs(t, err, ErrSilent)
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(30*time.Millisecond, cancel)
	_, err = Usual.Dial(ctx, l.Addr().String(), config)
	require.ErrorIs(t, err, context.Canceled)
	where := l.Addr().String()
	l.Close()
	_, err = Usual.Dial(t.Context(), where, config)
	require.ErrorContains(t, err, "refused")
	p := serving(t)
	_, err = Usual.Dial(t.Context(), p.l.Addr().String(), &ssh.ClientConfig{User: "u", HostKeyCallback: ssh.FixedHostKey(otherKey(t))})
	require.ErrorContains(t, err, "host key mismatch")
}

func otherKey(t *testing.T) ssh.PublicKey {
	t.Helper()
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return key
}

// TestAWordOfTheShellIsOne has a real shell say what it read.
func TestAWordOfTheShellIsOne(t *testing.T) {
	sh, err := exec.LookPath("sh")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		value := string(rapid.SliceOf(rapid.ByteRange(1, 255)).Draw(t, "value"))
		out, err := exec.Command(sh, "-c", Export("V", value)+`printf '%s' "$V"`).Output()
		require.NoError(t, err)
		require.Equal(t, value, string(out))
		out, err = exec.Command(sh, "-c", "printf '%s' "+Quote(value)).Output()
		require.NoError(t, err)
		require.Equal(t, value, string(out))
	})
}
