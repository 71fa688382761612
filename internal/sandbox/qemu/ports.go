package qemu

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"
)

// Network is how a machine is reached: it opens a listener for one of the machine's ports, wherever the network has it.
type Network interface {
	Listen(port int) (net.Listener, error)
	// Ports are those of the machine that are reached.
	Ports() []int
}

// tries is how often a port is looked for that nobody else takes meanwhile.
const tries = 5

// Plug connects the machine to a network.
func (m *Machine) Plug(n Network) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, port := range n.Ports() {
		to, err := m.forward(port)
		if err != nil {
			return err
		}
		l, err := n.Listen(port)
		if err != nil {
			return err
		}
		m.listeners = append(m.listeners, l)
		go lead(l, fmt.Sprintf("127.0.0.1:%d", to))
	}
	return nil
}

// forward has a free port on loopback lead to one of the machine. The lock is held.
func (m *Machine) forward(port int) (int, error) {
	if to := m.forwards[port]; to != 0 {
		return to, nil
	}
	said := ""
	for range tries {
		to, err := free()
		if err != nil {
			return 0, err
		}
		said, err = m.ask("human-monitor-command", map[string]any{"command-line": fmt.Sprintf("hostfwd_add %s tcp:127.0.0.1:%d-:%d", netdev, to, port)})
		if err != nil {
			return 0, err
		}
		if strings.Trim(said, `"`) == "" {
			m.forwards[port] = to
			return to, nil
		}
	}
	return 0, fmt.Errorf("port %d is led nowhere: %s", port, said)
}

// free is a port that nobody has just now.
func free() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// lead joins whoever comes to a listener to an address, until it is closed.
func lead(l net.Listener, to string) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go join(conn, to)
	}
}

// dialing bounds how long it is waited for the other end.
const dialing = 5 * time.Second

func join(conn net.Conn, to string) {
	defer conn.Close()
	other, err := net.DialTimeout("tcp", to, dialing)
	if err != nil {
		return
	}
	defer other.Close()
	go func() {
		_, err := io.Copy(other, conn)
		_ = errors.Join(err, other.(*net.TCPConn).CloseWrite())
	}()
	_, _ = io.Copy(conn, other)
}
