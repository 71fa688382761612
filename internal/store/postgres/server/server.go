// Package server runs a server of PostgreSQL of one's own in a folder, for tests and laboratories: as it is installed, and not as root, which it
// refuses.
package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Server is one that was made in a folder.
type Server struct {
	// Durable has what is committed survive the power, and not the process alone, which takes longer.
	Durable  bool
	dir, bin string
	port     int
	as       *syscall.Credential
	cmd      *exec.Cmd
	done     chan struct{}
	log      *os.File
}

// bins are where the programs are found, the newest last.
const bins = "/usr/lib/postgresql/*/bin"

// Installed is where the programs of the server are; "" if it is not installed.
func Installed() string {
	found, _ := filepath.Glob(bins)
	slices.Sort(found)
	for _, dir := range slices.Backward(found) {
		if _, err := os.Stat(filepath.Join(dir, "initdb")); err == nil {
			return dir
		}
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path)
	}
	return ""
}

// makePatience is how long making a server may take, startPatience how long it may take to answer.
const (
	makePatience  = 2 * time.Minute
	startPatience = time.Minute
)

// Make makes a server in a folder that is not there yet. Any user of this machine may do anything in it, which is why it hears this machine alone.
func Make(ctx context.Context, dir string) (*Server, error) {
	s := &Server{dir: dir, bin: Installed()}
	if s.bin == "" {
		return nil, errors.New("PostgreSQL is not installed (Debian: postgresql)")
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if os.Getuid() == 0 {
		if err := s.asSomebody(); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, makePatience)
	defer cancel()
	cmd := s.command(ctx, "initdb", "-D", s.data(), "-U", "andamio", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("a database cannot be made in %s, which whoever runs it (not root) must be able to enter: %w: %s", dir, err, bytes.TrimSpace(out))
	}
	port, err := freePort()
	s.port = port
	return s, err
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// asSomebody has root's server be somebody's who is nobody else.
func (s *Server) asSomebody() error {
	who, err := user.Lookup("postgres")
	if err != nil {
		if who, err = user.Lookup("nobody"); err != nil {
			return err
		}
	}
	uid, err := strconv.Atoi(who.Uid)
	if err != nil {
		return err
	}
	gid, err := strconv.Atoi(who.Gid)
	if err != nil {
		return err
	}
	s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return os.Chown(s.dir, uid, gid)
}

func (s *Server) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, program), args...)
	cmd.Dir = s.dir
	cmd.Env = []string{"PATH=" + s.bin + ":/usr/bin:/bin", "LC_ALL=C.UTF-8", "HOME=" + s.dir}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Pdeathsig: syscall.SIGQUIT}
	return cmd
}

func freePort() (int, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// errEnded says that a server that was started has ended by itself.
var errEnded = errors.New("the database ended")

// Start starts the server and returns when it answers. Where one that was killed has left something that is still going, it is started again when that has gone.
func (s *Server) Start(ctx context.Context) error {
	for until := time.Now().Add(startPatience); ; {
		err := s.start(ctx)
		if !errors.Is(err, errEnded) || time.Now().After(until) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (s *Server) start(ctx context.Context) error {
	log, err := os.OpenFile(filepath.Join(s.dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	s.cmd = s.command(context.WithoutCancel(ctx), "postgres", "-D", s.data(), "-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-k", "", "-c", "fsync="+map[bool]string{true: "on", false: "off"}[s.Durable],
		"-c", "max_connections=300", "-c", "shared_buffers=64MB", "-c", "autovacuum=on")
	s.cmd.Stdout, s.cmd.Stderr, s.log = log, log, log
	if err := s.cmd.Start(); err != nil {
		return errors.Join(err, log.Close())
	}
	cmd, done := s.cmd, make(chan struct{})
	s.done = done
	go func() { _ = cmd.Wait(); _ = log.Close(); close(done) }()
	return s.answers(ctx)
}

func (s *Server) answers(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	for {
		out, err := s.command(ctx, "pg_isready", "-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-d", "postgres").CombinedOutput()
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the database in %s does not answer: %s (see %s)", s.dir, strings.TrimSpace(string(out)), filepath.Join(s.dir, "server.log"))
		case <-s.done:
			return fmt.Errorf("in %s (see %s): %w", s.dir, filepath.Join(s.dir, "server.log"), errEnded)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Kill ends the server as a failure of its machine does, with all that it was at.
func (s *Server) Kill() {
	_ = s.each(syscall.SIGKILL) // its processes, too, which would notice after a while
	s.end(syscall.SIGKILL)
}

// Stop ends the server, and whoever asks it at this moment.
func (s *Server) Stop() { s.end(syscall.SIGINT) }

func (s *Server) end(how syscall.Signal) {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(how)
	<-s.done
	s.cmd = nil
}

// Freeze has the server answer nothing, until it is thawed.
func (s *Server) Freeze() error { return s.each(syscall.SIGSTOP) }

// Thaw has it go on.
func (s *Server) Thaw() error { return s.each(syscall.SIGCONT) }

// each signals the server and all of its processes.
func (s *Server) each(how syscall.Signal) error {
	if s.cmd == nil {
		return errors.New("the server does not run")
	}
	pid := s.cmd.Process.Pid
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		return err
	}
	for c := range strings.FieldsSeq(string(children)) {
		if n, err := strconv.Atoi(c); err == nil {
			_ = syscall.Kill(n, how)
		}
	}
	return syscall.Kill(pid, how)
}

// Address is that of a workspace in a schema of the server.
func (s *Server) Address(schema string) string {
	return fmt.Sprintf("postgres://andamio@127.0.0.1:%d/postgres?search_path=%s", s.port, schema)
}
