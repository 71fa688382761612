package cli

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/charmbracelet/x/term"
)

// isTerminal reports that a stream is a terminal's: of this machine, or of whoever has a command run here.
func isTerminal(stream any) bool {
	switch s := stream.(type) {
	case *os.File:
		return term.IsTerminal(s.Fd())
	case interface{ IsTerminal() bool }:
		return s.IsTerminal()
	}
	return false
}

// env is a variable of the environment of whoever asks.
func (s *shared) env(name string) string {
	if s.visit != nil {
		return s.visit.Env(name)
	}
	return os.Getenv(name)
}

// size is that of the terminal, 80x24 where there is none.
func (s *shared) size() (cols, rows int) {
	if s.visit != nil {
		at := s.visit.Size()
		return at.W, at.H
	}
	if f, is := s.in.(*os.File); is && isTerminal(f) {
		if w, h, err := term.GetSize(f.Fd()); err == nil {
			return w, h
		}
	}
	return 80, 24
}

// raw has what is typed come key by key until it is restored.
func (s *shared) raw() (restore func(), err error) {
	if s.visit != nil {
		return func() { _ = s.visit.Raw(false) }, s.visit.Raw(true)
	}
	f, is := s.in.(*os.File)
	if !is {
		return nil, errors.New("what is typed comes from no terminal")
	}
	old, err := term.MakeRaw(f.Fd())
	if err != nil {
		return nil, err
	}
	return func() { _ = term.Restore(f.Fd(), old) }, nil
}

// resized tells each time that the terminal has another size, until it is stopped.
func (s *shared) resized(tell func(cols, rows int)) (stop func()) {
	done := make(chan struct{})
	if s.visit != nil {
		go func() {
			for {
				select {
				case <-done:
					return
				case <-s.visit.Resized():
					tell(s.size())
				}
			}
		}()
		return func() { close(done) }
	}
	changes := make(chan os.Signal, 1)
	signal.Notify(changes, syscall.SIGWINCH)
	go func() {
		for {
			select {
			case <-done:
				return
			case <-changes:
				tell(s.size())
			}
		}
	}()
	return func() { signal.Stop(changes); close(done) }
}

// hidden reads a line that is not shown while it is typed.
func (s *shared) hidden() (string, error) {
	if f, is := s.in.(*os.File); is {
		data, err := term.ReadPassword(f.Fd())
		return string(data), err
	}
	restore, err := s.raw()
	if err != nil {
		return "", err
	}
	defer restore()
	return typedLine(s.in)
}

// The keys that end or mend a line that is typed where nobody else sees to it.
const (
	keyInterrupt = 0x03
	keyEnd       = 0x04
	keyBack      = 0x08
	keyDelete    = 0x7f
)

// errInterrupted is said where somebody had enough.
var errInterrupted = errors.New("it was interrupted")

// mostTyped bounds a line that is typed.
const mostTyped = 64 << 10

// typedLine reads a line as it is typed, key by key.
func typedLine(from interface{ Read([]byte) (int, error) }) (string, error) {
	var line strings.Builder
	key := make([]byte, 1)
	for line.Len() < mostTyped {
		if _, err := from.Read(key); err != nil {
			return line.String(), err
		}
		switch key[0] {
		case '\r', '\n', keyEnd:
			return line.String(), nil
		case keyInterrupt:
			return "", errInterrupted
		case keyBack, keyDelete:
			text := []rune(line.String())
			line.Reset()
			line.WriteString(string(text[:max(0, len(text)-1)]))
		default:
			line.WriteByte(key[0])
		}
	}
	return "", fmt.Errorf("what is typed has no end within %d bytes", mostTyped)
}
