package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"time"

	"github.com/creack/pty"
)

// screen is the program in a terminal, of which the bytes it writes are read.
type screen struct {
	cmd *exec.Cmd
	tty *os.File

	mu    sync.Mutex
	seen  []byte
	wrote *sync.Cond
	ended bool
}

func open(args ...string) (*screen, error) {
	s := &screen{cmd: exec.Command(binary, args...)}
	s.wrote = sync.NewCond(&s.mu)
	s.cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	tty, err := pty.StartWithSize(s.cmd, &pty.Winsize{Cols: 160, Rows: 47})
	if err != nil {
		return nil, err
	}
	s.tty = tty
	go s.read()
	return s, nil
}

func (s *screen) read() {
	buffer := make([]byte, 64<<10)
	for {
		n, err := s.tty.Read(buffer)
		s.mu.Lock()
		s.seen = append(s.seen, buffer[:n]...)
		s.ended = err != nil
		s.wrote.Broadcast()
		s.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// forget drops what was written so far.
func (s *screen) forget() {
	s.mu.Lock()
	s.seen = s.seen[:0]
	s.mu.Unlock()
}

// wait returns when a text has been written, with the time it took from start.
func (s *screen) wait(text string, start time.Time) (time.Duration, error) {
	return s.waitFor(text, start, 20*time.Second)
}

func (s *screen) waitFor(text string, start time.Time, limit time.Duration) (time.Duration, error) {
	late := false
	alarm := time.AfterFunc(limit, func() {
		s.mu.Lock()
		late = true
		s.wrote.Broadcast()
		s.mu.Unlock()
	})
	defer alarm.Stop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for !bytes.Contains(s.seen, []byte(text)) {
		if s.ended || late {
			return 0, fmt.Errorf("the screen never showed %q", text)
		}
		s.wrote.Wait()
	}
	return time.Since(start), nil
}

func (s *screen) press(keys string) error {
	_, err := s.tty.WriteString(keys)
	return err
}

func (s *screen) close() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	s.tty.Close()
}

// firstFrame measures from the start of the process to the tabs on the screen.
func firstFrame(workspace string) (time.Duration, error) {
	start := time.Now()
	s, err := open("--workspace", workspace)
	if err != nil {
		return 0, err
	}
	defer s.close()
	return s.wait("Deploy", start)
}

// latencies presses a key that changes much of the screen, n times, and measures from the key to its frame.
func (s *screen) latencies(n int) ([]time.Duration, error) {
	var all []time.Duration
	lost := 0
	for len(all) < n {
		s.forget()
		start := time.Now()
		if err := s.press("?"); err != nil {
			return nil, err
		}
		d, err := s.waitFor("all keys", start, 2*time.Second)
		if err != nil { // it closed the list before, of which a frame of something else said that it was closed
			if lost++; lost > n/10 {
				return nil, err
			}
			continue
		}
		all = append(all, d)
		s.forget()
		if err := s.press("x"); err != nil { // any key closes the list
			return nil, err
		}
		if _, err := s.wait("\x1b", time.Now()); err != nil { // closed and drawn: else the next frame could be as the last, and none
			return nil, err
		}
		time.Sleep(35 * time.Millisecond)
	}
	return all, nil
}
