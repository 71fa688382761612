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
	"encoding/pem"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"

	"andamio/internal/sandbox/disk"
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
	// Using says how much of it the machine uses; nil says nothing. It is set before anybody logs in.
	Using func() Use

	fs     *filesystem
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
	gate   gate
	frozen bool
	// watch is told of programs that were started or stopped.
	watch func()
}

// service is something that listens on a port of the host, on every network.
type service struct {
	port      int
	command   string
	program   Program
	serve     func(net.Listener)
	listeners []net.Listener
	// quit ends conversations when the program is stopped, which closing its listeners alone does not; nil where it ends by itself.
	quit func() error
	// balancer is what hands out to others; nil of anything else.
	balancer *balancer
}

// New makes a host that is switched on, with the disk it starts from and those that are attached, by folder. authorized
// is a public key in the form of an authorized_keys line; without one nobody can log in. A disk that a host was started
// from before brings its files, keys and name.
func New(name string, pace float64, authorized string, boot *disk.Disk, attached map[string]*disk.Disk) (*Host, error) {
	h := &Host{Name: name, Pace: pace, fs: newFilesystem(), services: map[int]*service{}}
	h.ctx, h.cancel = context.WithCancel(context.Background())
	if boot != nil {
		if err := h.fs.add("/", boot); err != nil {
			return nil, err
		}
	}
	if err := h.install(name, authorized); err != nil {
		return nil, err
	}
	for _, at := range slices.Sorted(maps.Keys(attached)) {
		if err := h.fs.add(at, attached[at]); err != nil {
			return nil, err
		}
	}
	if err := h.keys(); err != nil {
		return nil, err
	}
	h.services[22] = &service{port: 22, command: "sshd", serve: h.serveSSH}
	return h, h.goOn()
}

// Files that make a machine itself.
const (
	fileHostKey    = "/etc/ssh/host_key"
	fileAuthorized = "/home/" + User + "/.ssh/authorized_keys"
)

// install puts the files of a new machine on it; those that are there already stay.
func (h *Host) install(name, authorized string) error {
	for _, dir := range []string{"/tmp", "/etc/ssh", "/srv", "/opt", "/var/lib", "/var/log", "/home/" + User + "/.ssh"} {
		if err := h.fs.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	files := map[string]string{"/dev/null": "", fileAuthorized: authorized}
	maps.Copy(files, systemFiles)
	if name != "" { // a machine that was moved may be given another name
		if err := afero.WriteFile(h.fs, "/etc/hostname", []byte(name+"\n"), 0o644); err != nil {
			return err
		}
	}
	if there, _ := afero.Exists(h.fs, fileHostKey); !there {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			return err
		}
		files[fileHostKey] = string(pem.EncodeToMemory(block))
	}
	for file, text := range files {
		if there, _ := afero.Exists(h.fs, file); there {
			continue
		}
		if err := afero.WriteFile(h.fs, file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// keys reads the machine's own key and the one that opens it from its files.
func (h *Host) keys() error {
	private, err := afero.ReadFile(h.fs, fileHostKey)
	if err != nil {
		return err
	}
	if h.signer, err = ssh.ParsePrivateKey(private); err != nil {
		return fmt.Errorf("the host key cannot be read: %w", err)
	}
	text, err := afero.ReadFile(h.fs, fileAuthorized)
	if err != nil || len(strings.TrimSpace(string(text))) == 0 {
		return nil
	}
	if h.key, _, _, _, err = ssh.ParseAuthorizedKey(text); err != nil {
		return fmt.Errorf("the public key cannot be read: %w", err)
	}
	return nil
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

// Mount makes the folder at which a volume is attached, with the files that are on its disk.
func (h *Host) Mount(location string, d *disk.Disk) error { return h.fs.add(location, d) }

// Unmount takes a volume's files away; they stay on its disk.
func (h *Host) Unmount(d *disk.Disk) error { return h.fs.drop(d) }

// Sync puts everything on a disk that belongs there.
func (h *Host) Sync(d *disk.Disk) { h.fs.sync(d) }

// Reboot is the host switched on again after Close: its disk and keys are the same, and nothing but the shell's server
// runs until something starts it, unless it was suspended and not switched off.
func (h *Host) Reboot() (*Host, error) {
	again := &Host{Name: h.Name, Pace: h.Pace, Using: h.Using, fs: h.fs, signer: h.signer, key: h.key, services: map[int]*service{}}
	_ = h.fs.RemoveAll("/tmp") // as machines do when they start
	_ = h.fs.MkdirAll("/tmp", 0o755)
	again.ctx, again.cancel = context.WithCancel(context.Background())
	again.services[22] = &service{port: 22, command: "sshd", serve: again.serveSSH}
	return again, again.goOn()
}

// Close switches the host off: everything stops listening, and whoever waits for a program on it is cut off and told
// nothing, neither what it printed last nor how it ended, for no program ended by itself.
func (h *Host) Close() {
	h.Disconnect()
	h.cancel()
	if h.frozen {
		h.frozen = false
		h.fs.frozen.Unlock()
		_ = h.fs.Remove(suspended)
	}
	h.gate.open(func(int) string { return Nowhere })
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
	go s.serve(&gated{l, &h.gate, s.port})
	return nil
}

// start runs a program until the host is closed or the program stopped.
func (h *Host) start(p Program) error {
	err := h.begin(p)
	if err == nil {
		h.tell()
	}
	return err
}

func (h *Host) begin(p Program) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ctx.Err() != nil {
		return fmt.Errorf("the machine is off")
	}
	if s := h.services[p.Port]; s != nil {
		return fmt.Errorf("port %d is in use by %s", p.Port, s.command)
	}
	s := h.serving(p)
	for _, n := range h.networks {
		if err := h.open(s, n); err != nil {
			s.close()
			return err
		}
	}
	h.services[p.Port] = s
	return nil
}

// stop ends the service on a port.
func (h *Host) stop(port int) error {
	err := h.end(port)
	if err == nil {
		h.tell()
	}
	return err
}

func (h *Host) end(port int) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.services[port]
	if s == nil || port == 22 {
		return fmt.Errorf("nothing that may be stopped runs on port %d", port)
	}
	s.close()
	if s.quit != nil {
		_ = s.quit()
	}
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
