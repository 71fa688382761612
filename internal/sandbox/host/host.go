// Package host is a stand-in instance: a small machine that is real on loopback. It has a file system of its own in
// memory, a shell that runs scripts against it, an SSH server, and the services that its scripts start, which listen on
// real ports.
//
// Nothing a script does reaches the real file system or starts a real program: every command is one of those in this
// package, and connections go to loopback addresses only.
package host

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// User is the account under which one logs in.
const User = "operator"

// Network is how a host is reached: it opens a listener for one of the host's ports, wherever the network maps it.
type Network interface {
	Listen(port int) (net.Listener, error)
}

// Host is one stand-in instance.
type Host struct {
	Name string
	// Pace scales sleeping: 0.1 makes "sleep 10" take a second.
	Pace float64

	fs     afero.Fs
	signer ssh.Signer
	key    ssh.PublicKey

	mu       sync.Mutex
	networks []Network
	services map[int]*service
	// peers are with whom connections were made.
	peers map[string]bool
	// busy are connections on which a program runs.
	busy   map[net.Conn]int
	cancel context.CancelFunc
	ctx    context.Context
}

// service is something that listens on a port of the host, on every network.
type service struct {
	port      int
	command   string
	serve     func(net.Listener)
	listeners []net.Listener
}

// New makes a host that is switched on. authorized is a public key in the form of an authorized_keys line; without one
// nobody can log in.
func New(name string, pace float64, authorized string) (*Host, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return nil, err
	}
	h := &Host{Name: name, Pace: pace, fs: afero.NewMemMapFs(), signer: signer, services: map[int]*service{}}
	h.ctx, h.cancel = context.WithCancel(context.Background())
	if authorized != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(authorized))
		if err != nil {
			return nil, fmt.Errorf("the public key cannot be read: %w", err)
		}
		h.key = key
	}
	for _, dir := range []string{"/tmp", "/etc", "/srv", "/opt", "/var/lib", "/var/log", "/home/" + User} {
		if err := h.fs.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
	}
	for file, text := range map[string]string{"/etc/hostname": name + "\n", "/dev/null": ""} {
		if err := afero.WriteFile(h.fs, file, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	for file, text := range systemFiles {
		if err := afero.WriteFile(h.fs, file, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	h.services[22] = &service{port: 22, command: "sshd", serve: h.serveSSH}
	return h, nil
}

// HostKey is the host's public key in the form of an authorized_keys line.
func (h *Host) HostKey() string { return string(ssh.MarshalAuthorizedKey(h.signer.PublicKey())) }

// Plug connects the host to a network: what runs on it begins to listen there.
func (h *Host) Plug(n Network) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.networks = append(h.networks, n)
	for _, s := range h.services {
		if err := h.open(s, n); err != nil {
			return err
		}
	}
	return nil
}

// hold counts the programs that run on a connection.
func (h *Host) hold(c net.Conn, n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy == nil {
		h.busy = map[net.Conn]int{}
	}
	if h.busy[c] += n; h.busy[c] <= 0 {
		delete(h.busy, c)
	}
}

// Disconnect breaks the connections on which a program runs, and returns how many there were; the programs run on.
func (h *Host) Disconnect() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	n := len(h.busy)
	for c := range h.busy {
		c.Close()
	}
	return n
}

// Mount makes the folder at which a volume is attached.
func (h *Host) Mount(location string) error { return h.fs.MkdirAll(location, 0o755) }

// Reboot is the host switched on again after Close: its disk and keys are the same, and nothing but the shell's server
// runs until something starts it.
func (h *Host) Reboot() *Host {
	again := &Host{Name: h.Name, Pace: h.Pace, fs: h.fs, signer: h.signer, key: h.key, services: map[int]*service{}}
	_ = h.fs.RemoveAll("/tmp") // as machines do when they start
	_ = h.fs.MkdirAll("/tmp", 0o755)
	again.ctx, again.cancel = context.WithCancel(context.Background())
	again.services[22] = &service{port: 22, command: "sshd", serve: again.serveSSH}
	return again
}

// Close switches the host off: everything stops listening.
func (h *Host) Close() {
	h.cancel()
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, s := range h.services {
		s.close()
	}
}

func (s *service) close() {
	for _, l := range s.listeners {
		l.Close()
	}
	s.listeners = nil
}

func (h *Host) open(s *service, n Network) error {
	l, err := n.Listen(s.port)
	if err != nil {
		return err
	}
	s.listeners = append(s.listeners, l)
	go s.serve(l)
	return nil
}

// start runs a service on a port until the host is closed or the service stopped.
func (h *Host) start(port int, command string, serve func(net.Listener)) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ctx.Err() != nil {
		return fmt.Errorf("the machine is off")
	}
	if s := h.services[port]; s != nil {
		return fmt.Errorf("port %d is in use by %s", port, s.command)
	}
	s := &service{port: port, command: command, serve: serve}
	for _, n := range h.networks {
		if err := h.open(s, n); err != nil {
			s.close()
			return err
		}
	}
	h.services[port] = s
	return nil
}

// stop ends the service on a port.
func (h *Host) stop(port int) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.services[port]
	if s == nil || port == 22 {
		return fmt.Errorf("nothing that may be stopped runs on port %d", port)
	}
	s.close()
	delete(h.services, port)
	return nil
}

// sleep waits for a nominal time at the host's pace.
func (h *Host) sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(time.Duration(float64(d) * h.Pace)):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-h.ctx.Done():
		return fmt.Errorf("the machine was switched off")
	}
}
