package host

import (
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/spf13/afero"

	"andamio/internal/sandbox/disk"
)

// suspended is the file in which a suspended machine keeps what ran on it, so that it goes on wherever its disk is.
const suspended = "/var/lib/suspended.json"

// Program is something that listens, in a form that can be kept.
type Program struct {
	Kind string   `json:"kind"` // "httpd" serves the folder At, "nc" answers with the program At, "haproxy" hands out by the configuration At
	At   string   `json:"at"`
	Env  []string `json:"env,omitempty"`
	Port int      `json:"port"`
}

// gate is between the network and what runs on a machine: while it is shut, connections are accepted and nothing is read
// of them; when they are led elsewhere, they are, with what was read of them.
type gate struct {
	mu   sync.Mutex
	shut chan struct{} // nil when the gate is open
	lead func(port int) string
}

// close shuts the gate.
func (g *gate) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut == nil {
		g.shut = make(chan struct{})
	}
}

// open opens the gate; what waits goes on, or is led elsewhere if lead is given.
func (g *gate) open(lead func(port int) string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.lead = lead
	if g.shut != nil {
		close(g.shut)
		g.shut = nil
	}
}

// Nowhere is where connections lead that are not to be answered.
const Nowhere = "off"

// pass waits until the gate is open, and returns where a port's connections are led; "" is Nowhere else.
func (g *gate) pass(port int) string {
	g.mu.Lock()
	shut := g.shut
	g.mu.Unlock()
	if shut != nil {
		<-shut
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.lead == nil {
		return ""
	}
	return g.lead(port)
}

// gated is a listener behind the gate.
type gated struct {
	net.Listener
	g    *gate
	port int
}

// Accept returns the next connection that is for this machine.
func (l *gated) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if to := l.g.pass(l.port); to != "" {
			go relay(conn, to, nil)
			continue
		}
		return &held{Conn: conn, g: l.g, port: l.port}, nil
	}
}

// held is a connection behind the gate.
type held struct {
	net.Conn
	g    *gate
	port int
	mu   sync.Mutex
	led  bool
}

// Read waits at the gate with what has come.
func (c *held) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n == 0 {
		return n, err
	}
	if to := c.g.pass(c.port); to != "" {
		c.mu.Lock()
		c.led = true
		c.mu.Unlock()
		go relay(c.Conn, to, append([]byte(nil), p[:n]...))
		return 0, io.EOF
	}
	return n, err
}

// Close closes the connection unless it was led elsewhere.
func (c *held) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.led {
		return nil
	}
	return c.Conn.Close()
}

// SetDeadline and its like do nothing to a connection that was led elsewhere.
func (c *held) SetDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.led {
		return nil
	}
	return c.Conn.SetDeadline(t)
}

// SetReadDeadline does the same for reading, which servers use to end what they read beside.
func (c *held) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.led {
		return nil
	}
	return c.Conn.SetReadDeadline(t)
}

// relay joins a connection to another address on loopback.
func relay(conn net.Conn, to string, first []byte) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Time{})
	if to == Nowhere {
		return
	}
	other, err := net.DialTimeout("tcp", to, 5*time.Second)
	if err != nil {
		return
	}
	defer other.Close()
	if _, err := other.Write(first); err != nil {
		return
	}
	go func() {
		_, _ = io.Copy(other, conn)
		closeWrite(other)
	}()
	_, _ = io.Copy(conn, other)
}

func closeWrite(c net.Conn) {
	if half, ok := c.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
}

// Suspend stops the machine where it is: connections wait, nothing is written any more, and what runs is noted on its
// disk, so that a machine that starts from a copy goes on with it.
func (h *Host) Suspend() error {
	h.gate.close()
	time.Sleep(20 * time.Millisecond) // what has been read is answered
	data, err := json.Marshal(h.Programs())
	if err != nil {
		return err
	}
	if err := afero.WriteFile(h.fs, suspended, data, 0o600); err != nil {
		return err
	}
	h.fs.frozen.Lock()
	h.frozen = true
	return nil
}

// Resume lets a suspended machine go on.
func (h *Host) Resume() error {
	if !h.frozen {
		return errors.New("the machine is not suspended")
	}
	h.frozen = false
	h.fs.frozen.Unlock()
	_ = h.fs.Remove(suspended)
	h.gate.open(nil)
	return nil
}

// Lead has all connections to a suspended machine go elsewhere, port by port; a port that leads Nowhere stays shut off.
func (h *Host) Lead(to func(port int) string) { h.gate.open(to) }

// goOn starts what ran when the machine, or the one whose disk this was, was suspended.
func (h *Host) goOn() error {
	data, err := afero.ReadFile(h.fs, suspended)
	if err != nil {
		return nil
	}
	var all []Program
	if err := json.Unmarshal(data, &all); err != nil {
		return err
	}
	if err := h.Start(all); err != nil {
		return err
	}
	return h.fs.Remove(suspended)
}

// Programs are what runs on the machine and listens, by port.
func (h *Host) Programs() []Program {
	h.mu.Lock()
	defer h.mu.Unlock()
	var all []Program
	for _, port := range slices.Sorted(maps.Keys(h.services)) {
		if p := h.services[port].program; p.Kind != "" {
			all = append(all, p)
		}
	}
	return all
}

// Start has programs run that do not yet, without a word to who watches.
func (h *Host) Start(all []Program) error {
	for _, p := range all {
		h.mu.Lock()
		runs := h.services[p.Port] != nil && h.services[p.Port].program.Kind != ""
		h.mu.Unlock()
		if runs {
			continue
		}
		if err := h.begin(p); err != nil {
			return err
		}
	}
	return nil
}

// Watch has somebody told, from now on, when a program was started or stopped.
func (h *Host) Watch(told func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.watch = told
}

func (h *Host) tell() {
	h.mu.Lock()
	told := h.watch
	h.mu.Unlock()
	if told != nil {
		told()
	}
}

// Shut has connections wait, before the machine is plugged in: it was suspended when it was seen last.
func (h *Host) Shut() { h.gate.close() }

// Suspended reports that a disk is that of a suspended machine.
func Suspended(d *disk.Disk) bool {
	files, err := look(d)
	if err != nil {
		return false
	}
	there, _ := afero.Exists(files, suspended)
	return there
}

// Wake has a disk be that of a machine that was switched off, if it is that of one that was suspended: what was in its memory is dropped.
func Wake(d *disk.Disk) error {
	if !Suspended(d) {
		return nil
	}
	files := newFilesystem()
	if err := files.add("/", d); err != nil {
		return err
	}
	return files.Remove(suspended)
}
