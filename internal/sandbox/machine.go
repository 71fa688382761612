package sandbox

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"

	"andamio/internal/nocloud"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/host"
	"andamio/internal/sandbox/qemu"
	"andamio/internal/site/occi/wire"
)

// machine is what runs of an instance that is on: one that package host makes believe, or the real one that is on its disk, when that came from
// where machines are real.
type machine interface {
	// User is the account under which one logs in, HostKey the public key of who answers there.
	User() string
	HostKey() string
	Plug(n host.Network) error
	// Attach puts a volume into it, at a folder if one is named, and Detach takes it out.
	Attach(volume, at string, d *disk.Disk) error
	Detach(volume string, d *disk.Disk) error
	// Sync puts on a disk what only its memory has of it.
	Sync(d *disk.Disk)
	// Suspend, Resume, Lead and Shut are as package host has them.
	Suspend() error
	Resume() error
	Lead(to func(port int) string)
	Shut()
	// Programs are what runs on it that can be kept, Start has them run, and Watch has somebody told of changes.
	Programs() []host.Program
	Start(all []host.Program) error
	Watch(told func())
	// Disconnect breaks the connections on which a program runs.
	Disconnect() int
	// Close switches it off at once.
	Close()
}

// simulated is a machine of package host.
type simulated struct{ *host.Host }

func (simulated) User() string { return host.User }

func (s simulated) Attach(_, at string, d *disk.Disk) error {
	if at == "" {
		return nil
	}
	return s.Mount(at, d)
}

func (s simulated) Detach(_ string, d *disk.Disk) error { return s.Unmount(d) }

// real is a machine whose system is on its disk. What runs on it is its own affair: it starts by itself, or over the shell.
type real struct{ *qemu.Machine }

var errMemory = errors.New("what a real machine has in its memory is not moved with its disks: stop it, or move it warm")

func (real) User() string { return qemu.User }

func (r real) Plug(n host.Network) error { return r.Machine.Plug(n.(qemu.Network)) }

func (r real) Attach(volume, _ string, d *disk.Disk) error {
	return r.Machine.Attach(qemu.Volume{Serial: serial(volume), Disk: d})
}

func (r real) Detach(volume string, _ *disk.Disk) error { return r.Machine.Detach(serial(volume)) }

func (real) Sync(*disk.Disk)            {}
func (real) Suspend() error             { return errMemory }
func (real) Resume() error              { return errMemory }
func (real) Lead(func(port int) string) {}
func (real) Shut()                      {}
func (real) Programs() []host.Program   { return nil }
func (real) Start([]host.Program) error { return nil }
func (real) Watch(func())               {}
func (real) Disconnect() int            { return 0 }
func isReal(t *thing) bool              { _, is := t.host.(real); return is }

// serial is the number by which a system knows a volume: at most 20 letters are seen of one.
func serial(volume string) string {
	sum := sha256.Sum256([]byte(volume))
	return hex.EncodeToString(sum[:10])
}

// bootReal starts what is on the disk of an instance. It is a new machine to its system: with a name and keys of its own.
func (c *Cloud) bootReal(t *thing, name string) *refusal {
	if t.seed == nil {
		var b [4]byte
		_, _ = rand.Read(b[:])
		s, err := nocloud.New(t.ID+"-"+hex.EncodeToString(b[:]), name, word(t.Attributes[wire.PublicKey]))
		if err != nil {
			return no(http.StatusInternalServerError, "%v", err)
		}
		t.seed = s
	}
	cfg := qemu.Config{Name: name, Cores: t.take.Cores, MemoryMiB: int(t.take.MemoryGiB * 1024), System: t.disk, Seed: t.seed}
	for _, x := range c.things {
		if volume := c.things[x.target]; x.term == "storagelink" && x.source == t.ID && volume != nil {
			cfg.Volumes = append(cfg.Volumes, qemu.Volume{Serial: serial(x.target), Disk: volume.disk})
			x.mountedFromWithin()
		}
	}
	m, err := qemu.New(c.ctx, cfg)
	if err != nil {
		return no(http.StatusConflict, "%v", err)
	}
	t.host = real{m}
	go c.untilOff(t, m)
	return nil
}

// mountedFromWithin says of a link to a real machine how its system finds the volume, and where whoever logs in there is to mount it: we do not reach
// inside.
func (t *thing) mountedFromWithin() {
	t.Attributes[wire.Device] = "/dev/disk/by-id/virtio-" + serial(t.target)
	t.Attributes[wire.OwnMountAt] = t.Attributes[wire.MountPoint]
}

// untilOff waits until a real machine is off, whoever switched it off, and says so.
func (c *Cloud) untilOff(t *thing, m *qemu.Machine) {
	<-m.Ended()
	c.mu.Lock()
	defer c.mu.Unlock()
	if now, is := t.host.(real); c.ended || c.things[t.ID] != t || !is || now.Machine != m || t.Attributes[wire.ComputeState] != "active" {
		return
	}
	m.Close()
	t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "inactive", "stopped"
	c.note(t)
}
