package host

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"
	"mvdan.cc/sh/v3/syntax"
)

// serveSSH serves shells on a listener.
func (h *Host) serveSSH(l net.Listener) {
	config := &ssh.ServerConfig{PublicKeyCallback: h.authorize, MaxAuthTries: 3}
	config.AddHostKey(h.signer)
	accept(l, func(conn net.Conn) {
		defer conn.Close()
		server, channels, requests, err := ssh.NewServerConn(conn, config)
		if err != nil {
			return
		}
		defer server.Close()
		go ssh.DiscardRequests(requests)
		for c := range channels {
			if c.ChannelType() != "session" {
				_ = c.Reject(ssh.UnknownChannelType, "only sessions are served")
				continue
			}
			channel, requests, err := c.Accept()
			if err != nil {
				return
			}
			go (&session{h: h, conn: conn, channel: channel}).serve(requests)
		}
	})
}

func (h *Host) authorize(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	if h.key == nil || meta.User() != User || !bytes.Equal(key.Marshal(), h.key.Marshal()) {
		return nil, errors.New("not an authorized key")
	}
	return nil, nil
}

// session is one SSH session (RFC 4254, section 6).
type session struct {
	h       *Host
	conn    net.Conn
	channel ssh.Channel
	env     []string
	pty     bool
	started bool
}

func (s *session) serve(requests <-chan *ssh.Request) {
	defer s.channel.Close()
	done := make(chan struct{})
	for {
		select {
		case <-done:
			return
		case r, open := <-requests:
			if !open {
				return
			}
			ok := s.request(r, done)
			if r.WantReply {
				_ = r.Reply(ok, nil)
			}
		}
	}
}

func (s *session) request(r *ssh.Request, done chan struct{}) bool {
	switch r.Type {
	case "env":
		var v struct{ Name, Value string }
		if ssh.Unmarshal(r.Payload, &v) == nil && len(s.env) < 200 {
			s.env = append(s.env, v.Name+"="+v.Value)
		}
		return true
	case "pty-req":
		s.pty = true
		return true
	case "window-change":
		return true
	case "exec":
		var c struct{ Command string }
		if ssh.Unmarshal(r.Payload, &c) != nil {
			return false
		}
		return s.start(done, func() int { return s.exec(c.Command) })
	case "shell":
		return s.start(done, s.shell)
	case "subsystem":
		var c struct{ Name string }
		if ssh.Unmarshal(r.Payload, &c) != nil || c.Name != "sftp" {
			return false
		}
		return s.start(done, func() int { s.h.serveFiles(s.channel); return 0 })
	}
	return false
}

// start runs the session's one program and reports its exit status, unless the host was switched off meanwhile: then
// the program did not end, and the connection breaks.
func (s *session) start(done chan struct{}, run func() int) bool {
	if s.started {
		return false
	}
	s.started = true
	go func() {
		defer close(done)
		s.h.hold(s.conn, 1)
		code := run()
		s.h.hold(s.conn, -1)
		if s.h.ctx.Err() != nil {
			s.conn.Close()
			return
		}
		_, _ = s.channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(code)}))
	}()
	return true
}

// exec runs a command line; "sh -s" takes the script from standard input, as sh does.
func (s *session) exec(command string) int {
	if command == "sh -s" {
		script, err := io.ReadAll(io.LimitReader(s.channel, 4<<20))
		if err != nil {
			return 1
		}
		return s.h.Run(s.h.ctx, string(script), s.env, nil, s.channel, s.channel.Stderr())
	}
	return s.h.Run(s.h.ctx, command, s.env, s.channel, s.channel, s.channel.Stderr())
}

// shell reads commands line by line until exit or the end of input; on a terminal with a prompt and line editing.
func (s *session) shell() int {
	next, out := s.lines()
	runner, err := s.h.runner(s.env, nil, out, out)
	if err != nil {
		return 126
	}
	for code := 0; ; {
		text, err := next()
		if err != nil {
			return code
		}
		file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
		if err != nil {
			fmt.Fprintln(out, err)
			code = 2
			continue
		}
		code = status(runner.Run(s.h.ctx, file))
		if runner.Exited() {
			return code
		}
	}
}

// lines returns a function that reads the next line, and where output goes.
func (s *session) lines() (func() (string, error), io.Writer) {
	if s.pty {
		t := term.NewTerminal(s.channel, fmt.Sprintf("%s@%s $ ", User, s.h.Name))
		return t.ReadLine, t
	}
	scan := bufio.NewScanner(s.channel)
	return func() (string, error) {
		if !scan.Scan() {
			return "", io.EOF
		}
		return scan.Text(), nil
	}, s.channel
}
