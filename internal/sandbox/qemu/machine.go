// Package qemu runs what is on the disks of a stand-in as the real machine that it is.
//
// In go disks that a system starts from and what a new machine reads (a seed, package nocloud); out comes a machine that is on, in plain
// emulation, with its ports where networks have them. What it writes passes through us ([nbd.Server]), so that a disk knows what was written
// when. It is with this process, and ends with it.
package qemu

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/digitalocean/go-qemu/qmp"

	"andamio/internal/nocloud"
	"andamio/internal/sandbox/nbd"
)

// User is the account under which one logs in.
const User = "root"

// program is what runs machines.
const program = "qemu-system-x86_64"

// Starts reports that a disk begins as those do that machines start from: with a boot sector.
func Starts(d nbd.Disk) bool {
	var end [2]byte
	if d.Size() < 512 {
		return false
	}
	_, err := d.ReadAt(end[:], 510)
	return err == nil && end == [2]byte{0x55, 0xaa}
}

// Volume is a disk beside the one that a machine starts from, and the serial number that its system knows it by.
type Volume struct {
	Serial string
	Disk   nbd.Disk
}

// Config is what a machine is made of.
type Config struct {
	Name      string
	Cores     int
	MemoryMiB int
	System    nbd.Disk
	Volumes   []Volume
	Seed      *nocloud.Seed
}

// The bounds of a machine: how many cores it is given of those that it asks for, how long it may take until its monitor answers, until a
// command to that is answered, until its system has let a volume go, and to end once its power button is pressed; and how often that is pressed.
// A system in plain emulation beside others takes seconds for what is done at once elsewhere.
const (
	mostCores = 2
	beginning = 30 * time.Second
	answering = 10 * time.Second
	lettingGo = 40 * time.Second
	halting   = 12 * time.Second
	pressing  = 2 * time.Second
)

// Machine is one that is on.
type Machine struct {
	cfg     Config
	dir     string
	disks   nbd.Server
	cmd     *exec.Cmd
	ended   chan struct{}
	monitor *qmp.SocketMonitor

	mu        sync.Mutex
	listeners []net.Listener
	// forwards are the ports on loopback that lead to the machine's own.
	forwards map[int]int
}

// New switches a machine on. It is on when New returns; its system has yet to start.
func New(ctx context.Context, cfg Config) (_ *Machine, err error) {
	path, err := exec.LookPath(program)
	if err != nil {
		return nil, fmt.Errorf("what is on its disk is a real system, and there is no %s here to run it", program)
	}
	seed, err := cfg.Seed.Image()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "andamio-machine-")
	if err != nil {
		return nil, err
	}
	m := &Machine{cfg: cfg, dir: dir, ended: make(chan struct{}), forwards: map[int]int{}}
	m.disks.Add("system", cfg.System, false)
	m.disks.Add("seed", fixed(seed), true)
	for _, v := range cfg.Volumes {
		m.disks.Add(v.Serial, v.Disk, false)
	}
	l, err := net.Listen("unix", m.file("disks"))
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	m.listeners = append(m.listeners, l)
	go m.disks.Serve(l)
	said, err := m.run(path)
	if err == nil {
		err = m.meet(ctx, said)
	}
	if err != nil {
		m.Close()
		return nil, err
	}
	return m, nil
}

// fixed is a disk that is only read.
type fixed []byte

func (f fixed) Size() int64 { return int64(len(f)) }

func (f fixed) ReadAt(p []byte, off int64) (int, error) { return copy(p, f[off:]), nil }

func (f fixed) WriteAt([]byte, int64) (int, error) { return 0, os.ErrPermission }

func (f fixed) Zero(int64, int64) error { return os.ErrPermission }

func (m *Machine) file(name string) string { return filepath.Join(m.dir, name) }

// args are the program's.
func (m *Machine) args() []string {
	out := []string{"-name", m.cfg.Name, "-nodefaults", "-no-user-config", "-display", "none", "-machine", "pc,accel=tcg", "-cpu", "max",
		"-smp", strconv.Itoa(min(max(m.cfg.Cores, 1), mostCores)), "-m", strconv.Itoa(max(m.cfg.MemoryMiB, 64)),
		"-serial", "file:" + m.file("console"), "-qmp", "unix:" + m.file("monitor") + ",server=on,wait=off",
		"-netdev", "user,id=" + netdev, "-device", "virtio-net-pci,netdev=" + netdev}
	disk := func(name, about string, boots bool) {
		device := "virtio-blk-pci,drive=" + node(name) + about
		if boots {
			device += ",bootindex=0"
		}
		out = append(out, "-blockdev", string(encoded(m.block(name, name == "seed"))), "-device", device)
	}
	disk("system", "", true)
	disk("seed", "", false)
	for _, v := range m.cfg.Volumes {
		disk(v.Serial, ",id="+device(v.Serial)+",serial="+v.Serial, false)
	}
	return out
}

// netdev is how the machine's network is called.
const netdev = "net"

func node(name string) string { return "disk-" + name }

func device(serial string) string { return "volume-" + serial }

// block describes a disk as the program has it.
func (m *Machine) block(name string, fixed bool) map[string]any {
	return map[string]any{"driver": "raw", "node-name": node(name), "read-only": fixed, "file": map[string]any{"driver": "nbd", "export": name,
		"server": map[string]string{"type": "unix", "path": m.file("disks")}}}
}

func encoded(v any) []byte {
	text, _ := json.Marshal(v) // of maps of texts alone
	return text
}

// run starts the program, which ends with this one.
func (m *Machine) run(path string) (said *strings.Builder, err error) {
	said = &strings.Builder{}
	m.cmd = exec.Command(path, m.args()...)
	m.cmd.Stderr = said
	began := make(chan error)
	go withParent(m.cmd, func() {
		err := m.cmd.Start()
		began <- err
		if err == nil {
			_ = m.cmd.Wait()
		}
		close(m.ended)
	})
	return said, <-began
}

// meet waits until the monitor answers.
func (m *Machine) meet(ctx context.Context, said *strings.Builder) error {
	ctx, cancel := context.WithTimeout(ctx, beginning)
	defer cancel()
	for {
		monitor, err := qmp.NewSocketMonitor("unix", m.file("monitor"), time.Second)
		if err == nil {
			m.monitor = monitor
			return within(ctx, monitor.Connect)
		}
		select {
		case <-m.ended:
			return fmt.Errorf("the machine does not start: %s", strings.TrimSpace(said.String()))
		case <-ctx.Done():
			return fmt.Errorf("the machine does not start: %w", err)
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// within waits for something no longer than a context lasts.
func within(ctx context.Context, do func() error) error {
	done := make(chan error, 1)
	go func() { done <- do() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// ask has the monitor do something, and returns what it says.
func (m *Machine) ask(command string, arguments any) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), answering)
	defer cancel()
	var out struct {
		Return json.RawMessage `json:"return"`
	}
	err := within(ctx, func() error {
		answer, err := m.monitor.Run(encoded(map[string]any{"execute": command, "arguments": arguments}))
		if err != nil {
			return err
		}
		return json.Unmarshal(answer, &out)
	})
	if err != nil {
		return "", fmt.Errorf("%s: %w", command, err)
	}
	return string(out.Return), nil
}

// HostKey is the machine's public key in the form of an authorized_keys line.
func (m *Machine) HostKey() string { return m.cfg.Seed.Public + "\n" }

// Ended is closed when the machine is off.
func (m *Machine) Ended() <-chan struct{} { return m.ended }

// Attach puts a disk into the machine.
func (m *Machine) Attach(v Volume) error {
	m.disks.Add(v.Serial, v.Disk, false)
	if _, err := m.ask("blockdev-add", m.block(v.Serial, false)); err != nil {
		return err
	}
	_, err := m.ask("device_add", map[string]any{"driver": "virtio-blk-pci", "drive": node(v.Serial), "id": device(v.Serial), "serial": v.Serial})
	return err
}

// Detach takes a disk out of the machine, once its system lets it go.
func (m *Machine) Detach(serial string) error {
	if _, err := m.ask("device_del", map[string]any{"id": device(serial)}); err != nil {
		return err
	}
	for end := time.Now().Add(lettingGo); ; time.Sleep(50 * time.Millisecond) {
		_, err := m.ask("blockdev-del", map[string]any{"node-name": node(serial)})
		if err == nil {
			m.disks.Drop(serial)
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("the system of %s does not let the volume go: %w", m.cfg.Name, err)
		}
	}
}

// Halt presses the power button until the machine is off; if its system does not mind, the plug is pulled.
func (m *Machine) Halt() {
	defer m.Close()
	for end := time.Now().Add(halting); time.Now().Before(end); {
		if _, err := m.ask("system_powerdown", map[string]any{}); err != nil {
			return
		}
		select {
		case <-m.ended:
			return
		case <-time.After(pressing):
		}
	}
}

// Close pulls the plug.
func (m *Machine) Close() {
	if m.cmd != nil && m.cmd.Process != nil {
		_ = m.cmd.Process.Kill()
		<-m.ended
	}
	if m.monitor != nil {
		go func() { _ = m.monitor.Disconnect() }() // which waits for what nobody says any more
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, l := range m.listeners {
		l.Close()
	}
	m.disks.Close()
	_ = os.RemoveAll(m.dir)
}
