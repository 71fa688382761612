// Package server runs a NATS server with streams of one's own as a process, for tests and laboratories: the program is built of the module that the bus is made with.
package server

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// The user who may do anything there, with the password.
const User, Password = "andamio", "r1ver"

// Server is one whose streams are in a folder.
type Server struct {
	program, dir string
	port         int
	cmd          *exec.Cmd
	done         chan struct{}
}

// module is the program's package.
const module = "github.com/nats-io/nats-server/v2"

// buildPatience is how long building the program may take, startPatience how long it may take to answer.
const (
	buildPatience = 5 * time.Minute
	startPatience = time.Minute
)

// Make makes a server in a folder, which is made if it is not there. It is to be called where the module of this program is.
func Make(ctx context.Context, dir string) (*Server, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	s := &Server{program: filepath.Join(dir, "nats-server"), dir: dir}
	ctx, cancel := context.WithTimeout(ctx, buildPatience)
	defer cancel()
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", s.program, module).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%s is not built: %w: %s", module, err, out)
	}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.port = l.Addr().(*net.TCPAddr).Port
	return s, l.Close()
}

// URL is where it is.
func (s *Server) URL() string { return "nats://" + s.address() }

func (s *Server) address() string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)) }

// Start starts the server, over what its streams kept, and returns when it answers.
func (s *Server) Start(ctx context.Context) error {
	log, err := os.OpenFile(filepath.Join(s.dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	config := filepath.Join(s.dir, "server.conf") // what is in arguments is seen by all
	text := fmt.Sprintf("listen: %q\njetstream { store_dir: %q }\nauthorization { user: %q, password: %q }\n", s.address(), s.dir, User, Password)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		return err
	}
	s.cmd = exec.Command(s.program, "--config", config)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	cmd, done := s.cmd, make(chan struct{})
	s.done = done
	go func() { _ = cmd.Wait(); close(done) }()
	return s.answers(ctx)
}

func (s *Server) answers(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	for {
		c, err := net.DialTimeout("tcp", s.address(), time.Second)
		if err == nil {
			return c.Close()
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the bus in %s does not answer: %w (see server.log there)", s.dir, err)
		case <-s.done:
			return fmt.Errorf("the bus in %s ended by itself (see server.log there)", s.dir)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Kill ends the server as a failure of its machine does.
func (s *Server) Kill() { s.end(syscall.SIGKILL) }

// Stop ends the server.
func (s *Server) Stop() { s.end(syscall.SIGTERM) }

func (s *Server) end(how syscall.Signal) {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGCONT) // one that is frozen ends only once it is killed
	_ = s.cmd.Process.Signal(how)
	<-s.done
	s.cmd = nil
}

// Freeze has the server answer nothing, until it is thawed.
func (s *Server) Freeze() error { return s.signal(syscall.SIGSTOP) }

// Thaw has it go on.
func (s *Server) Thaw() error { return s.signal(syscall.SIGCONT) }

func (s *Server) signal(how syscall.Signal) error {
	if s.cmd == nil {
		return errors.New("the server does not run")
	}
	return s.cmd.Process.Signal(how)
}
